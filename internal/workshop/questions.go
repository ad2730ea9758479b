package workshop

import (
	"database/sql"
	"database/sql/driver"
	"fmt"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite"

	"calmdawn/internal/core/elsewhere"
)

// median is an aggregate that SQLite lacks: the lower middle of whole numbers.
type median struct{ all []int64 }

func init() {
	sqlite.MustRegisterFunction("lower_median", &sqlite.FunctionImpl{
		NArgs: 1, Deterministic: true,
		MakeAggregate: func(sqlite.FunctionContext) (sqlite.AggregateFunction, error) {
			return new(median), nil
		},
	})
}

func (m *median) Step(_ *sqlite.FunctionContext, values []driver.Value) error {
	if n, ok := values[0].(int64); ok {
		m.all = append(m.all, n)
	}
	return nil
}

func (m *median) WindowInverse(*sqlite.FunctionContext, []driver.Value) error {
	return fmt.Errorf("lower_median moves over no window")
}

func (m *median) WindowValue(*sqlite.FunctionContext) (driver.Value, error) {
	if len(m.all) == 0 {
		return nil, nil
	}
	slices.Sort(m.all)
	return m.all[(len(m.all)-1)/2], nil
}

func (*median) Final(*sqlite.FunctionContext) {}

// A query asks a store, or one of its transactions.
type query func(words string, values ...any) (*sql.Rows, error)

// ask asks a question in the words of the store's engine.
func (s *Store) ask(words string, values ...any) (*sql.Rows, error) {
	return s.db.Query(s.words(words), values...)
}

// all reads the rows of an answer.
func all[T any](
	ask query,
	scan func(*sql.Rows, *T) error,
	words string,
	values ...any,
) ([]T, error) {
	rows, err := ask(words, values...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := []T{}
	for rows.Next() {
		var one T
		if err := scan(rows, &one); err != nil {
			return nil, err
		}
		found = append(found, one)
	}
	return found, rows.Err()
}

// A figure is a duration that a row may not have.
type figure struct{ to **time.Duration }

func (f figure) Scan(value any) error {
	if n, ok := value.(int64); ok {
		d := time.Duration(n)
		*f.to = &d
	}
	return nil
}

// A moment is an instant that a row may not have.
type moment struct{ to *time.Time }

func (m moment) Scan(value any) error {
	if n, ok := value.(int64); ok && n != 0 {
		*m.to = time.Unix(n, 0).UTC()
	}
	return nil
}

// pattern finds a text anywhere, whatever its case; an empty one finds all.
func pattern(text string) string {
	escaped := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(strings.ToLower(text))
	return "%" + escaped + "%"
}

// Who tells which machines have items whose title, name or maker has a text in
// it, by items and machines.
func (s *Store) Who(text string) ([]elsewhere.Holding, error) {
	return all(s.ask, func(r *sql.Rows, h *elsewhere.Holding) error {
		return r.Scan(&h.Title, &h.Maker, &h.Machine, &h.Owner, &h.State, &h.Version,
			figure{&h.Wait}, moment{&h.Taken}, &h.By)
	}, `SELECT i.title, i.maker, m.name, l.owner, l.state, l.version, l.wait, m.taken, m.added_by
		FROM item i JOIN launched l ON l.item = i.item JOIN machine m ON m.machine = l.machine
		WHERE i.find LIKE $1 ESCAPE '\'
		ORDER BY i.title, i.maker, i.family, i.item, m.name, l.owner`, pattern(text))
}

// Costs tells what costs most over all machines, the costliest first. On each
// machine the owner counts who waits longest for it.
func (s *Store) Costs() ([]elsewhere.Expense, error) {
	return all(s.ask, func(r *sql.Rows, e *elsewhere.Expense) error {
		err := r.Scan(&e.Title, &e.Maker, &e.Family, &e.Machines, &e.Measured, &e.Sum,
			figure{&e.Median})
		if e.Measured < elsewhere.Enough {
			e.Median = nil
		}
		return err
	}, `SELECT i.title, i.maker, i.family, o.machines, o.measured, o.total, o.middle FROM (
			SELECT item, count(*) AS machines, count(wait) AS measured,
				CAST(coalesce(sum(wait), 0) AS BIGINT) AS total, lower_median(wait) AS middle
			FROM (
				SELECT item, machine, max(wait) AS wait FROM launched
				WHERE state IN ('on', 'delayed') GROUP BY item, machine
			) AS each GROUP BY item
		) AS o JOIN item i ON i.item = o.item
		WHERE o.total > 0
		ORDER BY o.total DESC, i.title, i.item`)
}

// Effects tells what decisions on items brought, the surest first.
func (s *Store) Effects(text string) ([]elsewhere.Effect, error) {
	const alone = "CASE WHEN d.others = 0 THEN d.saved END"
	var overall *time.Duration
	err := s.db.QueryRow(s.words("SELECT lower_median(saved) FROM decision WHERE others = 0 AND " +
		"verb IN ('disable', 'delay')")).Scan(figure{&overall})
	if err != nil {
		return nil, err
	}
	return all(s.ask, func(r *sql.Rows, e *elsewhere.Effect) error {
		err := r.Scan(&e.Title, &e.Maker, &e.Family, &e.Verb, &e.Machines, &e.Measured,
			figure{&e.Saved}, &e.Joint, &e.Back)
		if e.Measured < elsewhere.Enough {
			e.Saved = nil
		}
		if e.Saved != nil {
			likely := elsewhere.Shrunk(*e.Saved, e.Measured, *overall)
			e.Likely = &likely
		}
		return err
	}, `SELECT i.title, i.maker, i.family, o.verb, o.machines, o.measured, o.middle, o.joint,
			o.back FROM (
			SELECT d.item, d.verb, count(DISTINCT d.machine) AS machines,
				count(`+alone+`) AS measured, lower_median(`+alone+`) AS middle,
				count(CASE WHEN d.others > 0 THEN d.saved END) AS joint,
				count(DISTINCT CASE WHEN d.undone IS NOT NULL THEN d.machine END) AS back
			FROM decision d WHERE d.verb IN ('disable', 'delay') GROUP BY d.item, d.verb
		) AS o JOIN item i ON i.item = o.item
		WHERE i.find LIKE $1 ESCAPE '\'
		ORDER BY o.measured DESC, o.machines DESC, i.title, i.item, o.verb`, pattern(text))
}

// Returned tells what came back on.
func (s *Store) Returned() ([]elsewhere.Return, error) {
	return all(s.ask, func(r *sql.Rows, b *elsewhere.Return) error {
		return r.Scan(&b.Machine, &b.Title, &b.Maker, moment{&b.Off}, moment{&b.Taken})
	}, `SELECT m.name, i.title, i.maker, max(d.made), m.taken
		FROM decision d JOIN machine m ON m.machine = d.machine JOIN item i ON i.item = d.item
		WHERE d.verb = 'disable' AND d.undone IS NULL AND m.taken > d.made
			AND EXISTS (SELECT 1 FROM launched l WHERE l.machine = d.machine AND l.item = d.item
				AND l.state = 'on')
			AND NOT EXISTS (SELECT 1 FROM decision e WHERE e.machine = d.machine
				AND e.item = d.item AND e.made >= d.made AND e.verb <> 'disable')
		GROUP BY m.name, i.title, i.maker, m.taken, i.item, m.machine
		ORDER BY m.name, i.title, i.item`)
}

// Visits tells which machines have most that could go, the most first.
func (s *Store) Visits() ([]elsewhere.Call, error) {
	return all(s.ask, func(r *sql.Rows, c *elsewhere.Call) error {
		return r.Scan(&c.Machine, &c.Model, &c.Items, figure{&c.Sum}, figure{&c.Ready},
			figure{&c.Usable}, moment{&c.Taken})
	}, `SELECT m.name, m.model, o.items, o.total, m.ready, m.usable, m.taken FROM (
			SELECT machine, count(*) AS items, CAST(sum(wait) AS BIGINT) AS total
			FROM (
				SELECT machine, item, max(wait) AS wait FROM launched
				WHERE state = 'on' AND advice = 'can go' GROUP BY machine, item
			) AS each GROUP BY machine
		) AS o JOIN machine m ON m.machine = o.machine
		ORDER BY coalesce(o.total, 0) DESC, o.items DESC, m.name, m.machine`)
}

// Bounds of what is told of machines that became slower.
const (
	slowedBoots = 3               // on each side, at least
	slowedBy    = 2 * time.Second // and a tenth
	mostSlowed  = 1000            // machines and suspects that are told
)

// Slower tells which machines take longer until ready since a day, and what
// changed on them then that did not on others. Only machines with boots on both
// sides count. A machine is slower by two seconds and a tenth, or more.
func (s *Store) Slower(since time.Time) (
	slower []elsewhere.Slowed,
	suspects []elsewhere.Suspect,
	others int,
	err error,
) {
	day := since.Unix()
	const sides = `SELECT machine, lower_median(CASE WHEN began < $1 THEN ready END) AS before,
			lower_median(CASE WHEN began >= $1 THEN ready END) AS after,
			count(CASE WHEN began < $1 THEN ready END) AS boots,
			count(CASE WHEN began >= $1 THEN ready END) AS since
		FROM boot WHERE odd = 0 AND ready IS NOT NULL GROUP BY machine`
	const verdict = `SELECT machine, before, after, boots, since,
			CASE WHEN after - before >= $2 AND (after - before) * 10 >= before THEN 1 ELSE 0 END
			AS slower FROM (` + sides + `) AS b WHERE boots >= $3 AND since >= $3`
	values := []any{day, int64(slowedBy), slowedBoots}
	slower, err = all(s.ask, func(r *sql.Rows, m *elsewhere.Slowed) error {
		return r.Scan(&m.Machine, &m.Before, &m.After, &m.Boots, &m.Since)
	}, `SELECT m.name, v.before, v.after, v.boots, v.since FROM (`+verdict+`) AS v
		JOIN machine m ON m.machine = v.machine WHERE v.slower = 1
		ORDER BY v.after - v.before DESC, m.name, m.machine LIMIT $4`,
		append(values, mostSlowed)...)
	if err != nil {
		return nil, nil, 0, err
	}
	of, err := s.sides(verdict, values)
	if err != nil {
		return nil, nil, 0, err
	}
	for _, side := range of {
		others += side.others
	}
	suspects, err = all(s.ask, func(r *sql.Rows, c *elsewhere.Suspect) error {
		err := r.Scan(&c.Title, &c.Maker, &c.Family, &c.Version, &c.Have, &c.OthersHave)
		c.Of, c.Others = of[c.Family].slower, of[c.Family].others
		return err
	}, `SELECT i.title, i.maker, i.family, c.version, sum(v.slower), sum(1 - v.slower) FROM (
			SELECT DISTINCT p.machine, p.item, p.version FROM past p
			JOIN machine m ON m.machine = p.machine
			WHERE p.taken >= $1 AND m.first < $1 AND NOT EXISTS (SELECT 1 FROM past q
				WHERE q.machine = p.machine AND q.item = p.item AND q.taken < $1
				AND q.version = p.version)
		) AS c JOIN (`+verdict+`) AS v ON v.machine = c.machine JOIN item i ON i.item = c.item
		GROUP BY c.item, i.title, i.maker, i.family, c.version HAVING sum(v.slower) > 0
		ORDER BY sum(v.slower) DESC, i.title, c.version LIMIT $4`, append(values, mostSlowed)...)
	if err != nil {
		return nil, nil, 0, err
	}
	suspects = slices.DeleteFunc(suspects, func(c elsewhere.Suspect) bool {
		return c.Have < elsewhere.Enough
	})
	slices.SortStableFunc(suspects, func(a, b elsewhere.Suspect) int {
		switch x, y := a.Chance(), b.Chance(); {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	return slower, suspects, others, nil
}

// A side is how many machines of a family became slower, and how many did not.
type side struct{ slower, others int }

// sides counts the machines of each family: what one launches, those of another
// cannot have.
func (s *Store) sides(verdict string, values []any) (map[string]side, error) {
	type row struct {
		family string
		side
	}
	rows, err := all(s.ask, func(r *sql.Rows, c *row) error {
		return r.Scan(&c.family, &c.slower, &c.others)
	}, `SELECT m.family, sum(v.slower), sum(1 - v.slower) FROM (`+verdict+`) AS v
		JOIN machine m ON m.machine = v.machine GROUP BY m.family`, values...)
	of := map[string]side{}
	for _, r := range rows {
		of[r.family] = r.side
	}
	return of, err
}

// Standing counts what the store holds.
func (s *Store) Standing() (st elsewhere.Standing, err error) {
	err = s.db.QueryRow("SELECT (SELECT count(*) FROM machine), (SELECT count(*) FROM item), "+
		"(SELECT count(*) FROM boot), (SELECT count(*) FROM decision), (SELECT count(*) FROM "+
		"machine WHERE simulated = 1)").Scan(&st.Machines, &st.Items, &st.Boots, &st.Decisions,
		&st.Simulated)
	return st, err
}
