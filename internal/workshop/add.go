package workshop

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/elsewhere"
)

// An Added is what became of a delivery.
type Added struct {
	Name  string // what the machine is called in the store
	Known bool   // the store had it already
	// Clone: another machine has the same id, and is not this one.
	Clone bool
	// Sent: it waits in the inbox for who may take it in.
	Sent bool
	New  int // rows that came, or differ from what was there
}

// Add keeps a delivery, all of it or nothing, under the name of who adds it. A
// second time it changes nothing. Of an older survey than the store has, only
// what it tells of that time is kept.
func (s *Store) Add(d Delivery, now time.Time, by string) (a Added, err error) {
	const clocksDiffer = 24 * time.Hour
	if d.Taken.After(now.Add(clocksDiffer)) {
		return a, fmt.Errorf("it says that it was taken on %s, which is yet to come; have its "+
			"machine's clock set right", d.Taken.Format(time.DateOnly))
	}
	if d, err = d.checked(); err != nil {
		return a, err
	}
	if s.onlyAdds {
		return s.send(d)
	}
	err = s.transact(func(tx *sql.Tx) error {
		l := loader{
			tx: tx, s: s, d: d, now: now.Unix(), by: short(by),
			items: map[elsewhere.Key]bool{}, prepared: map[string]*sql.Stmt{},
		}
		a, err = l.load()
		return err
	})
	return a, err
}

// Named is the error of a delivery without names, of a machine that the store
// has by its name.
type Named struct{ Name string }

func (n *Named) Error() string { return "it is in the workshop by name, as " + n.Name }

// A loader adds one delivery within one transaction. Its first error stands.
type loader struct {
	tx      *sql.Tx
	s       *Store
	d       Delivery
	now     int64
	by      string
	machine int64
	added   Added
	err     error
	items   map[elsewhere.Key]bool // that were made sure of
	// prepared are statements by their words
	prepared map[string]*sql.Stmt
}

func (l *loader) exec(words string, values ...any) (rows int64) {
	if l.err != nil {
		return 0
	}
	stmt := l.prepared[words]
	if stmt == nil {
		if stmt, l.err = l.tx.Prepare(words); l.err != nil {
			return 0
		}
		l.prepared[words] = stmt // closed with the transaction
	}
	res, err := stmt.Exec(values...)
	if err != nil {
		l.err = err
		return 0
	}
	rows, l.err = res.RowsAffected()
	return rows
}

func (l *loader) load() (Added, error) {
	latest, err := l.find()
	if err != nil {
		return l.added, err
	}
	taken := l.d.Taken.Unix()
	if !l.d.Taken.IsZero() {
		items := l.lots()
		l.addPast(items, taken)
		l.exec("UPDATE machine SET first = $1 WHERE machine = $2 AND (first = 0 OR first > $1)",
			taken, l.machine)
		if taken > latest {
			l.addItems(items)
		}
	}
	if l.d.Simulated {
		l.exec("UPDATE machine SET simulated = 1 WHERE machine = $1", l.machine)
	}
	for _, b := range l.d.Boots {
		l.addBoot(b)
	}
	for _, d := range l.d.Decisions {
		l.addDecision(d)
	}
	if l.added.New > 0 {
		l.measure()
	}
	return l.added, l.err
}

// sameMachine is what the store knows of a machine with the delivery's id.
type sameMachine struct {
	machine, hardware, taken, anonymous int64
	name                                string
}

// find tells which machine of the store the delivery is of, or makes it one. It
// returns when that was surveyed last.
func (l *loader) find() (latest int64, err error) {
	identity, hardware := l.s.key("id", l.d.MachineID), int64(0)
	if l.d.HardwareID != "" {
		hardware = l.s.key("hardware", l.d.HardwareID)
	}
	same, err := all(l.tx.Query, func(r *sql.Rows, m *sameMachine) error {
		return r.Scan(&m.machine, &m.hardware, &m.taken, &m.anonymous, &m.name)
	}, "SELECT machine, hardware, taken, anonymous, name FROM machine WHERE identity = $1 "+
		"ORDER BY machine", identity)
	if err != nil {
		return 0, err
	}
	for _, m := range same {
		if m.hardware != 0 && hardware != 0 && m.hardware != hardware {
			continue
		}
		other, err := l.otherBoots(m.machine)
		if err != nil {
			return 0, err
		}
		if other {
			continue
		}
		if l.d.Nameless && m.anonymous == 0 {
			return 0, &Named{m.name}
		}
		if m.anonymous == 1 { // it stays so, whoever adds it
			l.d = l.d.Anonymous()
		}
		l.machine, l.added.Name, l.added.Known = m.machine, m.name, true
		if hardware != 0 && m.hardware == 0 {
			l.exec("UPDATE machine SET hardware = $1 WHERE machine = $2", hardware, m.machine)
		}
		return m.taken, l.err
	}
	return 0, l.enter(identity, hardware, len(same))
}

// enter makes the delivery's a machine of the store, beside so many others of
// its id.
func (l *loader) enter(identity, hardware int64, others int) error {
	l.machine = l.s.key("machine", l.d.MachineID, l.d.HardwareID, fmt.Sprint(others))
	name := l.d.Host
	if name == "" {
		name = fmt.Sprintf("machine %04x", l.machine>>47)
	}
	if others > 0 {
		l.added.Clone = true
		name = fmt.Sprintf("%s (%d)", name, others+1)
	}
	l.added.Name, l.added.New = name, 1
	l.exec("INSERT INTO machine(machine, identity, hardware, name, family, os, model, first, "+
		"taken, added, added_by, anonymous, simulated) VALUES($1, $2, $3, $4, $5, $6, $7, 0, 0, "+
		"$8, $9, $10, 0)", l.machine, identity, hardware, name, l.d.Family, l.d.OS, l.d.Model,
		l.now, l.by, bit(l.d.Nameless))
	return l.err
}

// otherBoots reports whether the boots of a machine in the store are of another
// one. Both tell of one stretch of time then, and have no boot in common.
func (l *loader) otherBoots(machine int64) (bool, error) {
	if len(l.d.Boots) == 0 {
		return false, nil
	}
	mine := map[int64]bool{}
	first, last := l.d.Boots[0].Began.Unix(), l.d.Boots[len(l.d.Boots)-1].Began.Unix()
	for _, b := range l.d.Boots {
		mine[l.s.key("boot", b.ID)] = true
	}
	type known struct{ boot, began int64 }
	theirs, err := all(l.tx.Query, func(r *sql.Rows, b *known) error {
		return r.Scan(&b.boot, &b.began)
	}, "SELECT boot, began FROM boot WHERE machine = $1 ORDER BY began", machine)
	if err != nil || len(theirs) == 0 {
		return false, err
	}
	shared := slices.ContainsFunc(theirs, func(b known) bool { return mine[b.boot] })
	overlap := max(theirs[0].began, first) <= min(theirs[len(theirs)-1].began, last)
	return overlap && !shared, nil
}

func (l *loader) addItem(like elsewhere.Likeness, maker, title, role string) int64 {
	key := like.Key()
	if l.items[key] {
		return int64(key)
	}
	l.items[key] = true
	find := strings.ToLower(strings.Join([]string{title, like.Name, maker}, "\n"))
	l.exec("INSERT INTO item(item, family, kind, name, maker, title, role, find) "+
		"VALUES($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT(item) DO NOTHING", int64(key),
		like.Family, string(like.Kind), like.Name, maker, title, role, find)
	return int64(key)
}

// A lot is an item of one owner: items of a machine that share it are one.
type lot struct {
	key   elsewhere.Key
	owner string
}

// lots are the items of the delivery; of several that are the same, the one
// that is launched and costs most.
func (l *loader) lots() map[lot]Launched {
	all := map[lot]Launched{}
	for _, it := range l.d.Items {
		at := lot{it.Key(), it.Owner}
		had, there := all[at]
		better := it.State.Launched() && !had.State.Launched() ||
			it.State.Launched() == had.State.Launched() && longer(it.Wait, had.Wait)
		if !there || better {
			all[at] = it
		}
	}
	return all
}

func longer(a, b *time.Duration) bool { return a != nil && (b == nil || *a > *b) }

// A past is how an item was at the time of a survey.
type past struct {
	state, version  string
	installed, wait sql.NullInt64
}

func pastOf(it Launched) past {
	p := past{state: string(it.State), version: it.Version}
	if !it.Installed.IsZero() {
		p.installed = sql.NullInt64{Int64: it.Installed.Unix(), Valid: true}
	}
	if it.Wait != nil {
		p.wait = sql.NullInt64{Int64: int64(*it.Wait), Valid: true}
	}
	return p
}

// addPast keeps how items were at the time of the survey, where that differs
// from how they were before.
func (l *loader) addPast(items map[lot]Launched, taken int64) {
	type row struct {
		lot
		past
	}
	rows, err := all(l.tx.Query, func(r *sql.Rows, p *row) error {
		return r.Scan(&p.key, &p.owner, &p.state, &p.version, &p.installed, &p.wait)
	}, "SELECT item, owner, state, version, installed, wait FROM past WHERE machine = $1 AND "+
		"taken <= $2 ORDER BY taken", l.machine, taken)
	if err != nil {
		l.err = err
		return
	}
	last := map[lot]past{}
	for _, r := range rows {
		last[r.lot] = r.past
	}
	for at, it := range items {
		now := pastOf(it)
		if before, there := last[at]; there && before == now {
			continue
		}
		l.added.New += int(l.exec("INSERT INTO past(machine, item, owner, taken, state, version, "+
			"installed, wait) VALUES($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT DO NOTHING",
			l.machine, l.addItem(it.Likeness, it.MadeBy, it.Title, it.Role), at.owner, taken,
			now.state, now.version, now.installed, now.wait))
	}
}

// addItems puts what the survey found in the place of what an older one did. Of
// places that could not be read, what was known stays.
func (l *loader) addItems(items map[lot]Launched) {
	if !l.d.Partly {
		had := l.exec("DELETE FROM launched WHERE machine = $1", l.machine)
		if int(had) != len(items) {
			l.added.New++
		}
	}
	for at, it := range items {
		key := l.addItem(it.Likeness, it.MadeBy, it.Title, it.Role)
		if l.d.Partly {
			l.exec("DELETE FROM launched WHERE machine = $1 AND item = $2 AND owner = $3",
				l.machine, key, at.owner)
		}
		l.exec("INSERT INTO launched(machine, item, owner, state, moment, advice, version, "+
			"installed, wait, cpu, disk_read, memory) VALUES($1, $2, $3, $4, $5, $6, $7, $8, $9, "+
			"$10, $11, $12)", l.machine, key, it.Owner, string(it.State), string(it.When),
			string(it.Advice), it.Version, instant(it.Installed), number(it.Wait), number(it.CPU),
			number(it.DiskRead), number(it.Memory))
	}
	l.exec("UPDATE machine SET os = $1, model = $2, family = $3, taken = $4, added = $5, "+
		"added_by = $6 WHERE machine = $7", l.d.OS, l.d.Model, l.d.Family, l.d.Taken.Unix(), l.now,
		l.by, l.machine)
}

func (l *loader) addBoot(b Boot) {
	l.added.New += int(l.exec("INSERT INTO boot(machine, boot, began, ready, usable, kind, odd) "+
		"VALUES($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING", l.machine,
		l.s.key("boot", b.ID), b.Began.Unix(), number(b.Ready), number(b.Usable), b.Kind,
		bit(b.Odd)))
}

func (l *loader) addDecision(d Decision) {
	key := l.addItem(d.Likeness, d.Maker, d.Name, "")
	l.added.New += int(l.exec("INSERT INTO decision(machine, change, item, verb, made, undone, "+
		"others, figure, saved) VALUES($1, $2, $3, $4, $5, $6, $7, $8, $9) "+
		"ON CONFLICT(machine, change, item) DO UPDATE SET undone = excluded.undone, "+
		"figure = excluded.figure, saved = excluded.saved "+
		"WHERE coalesce(decision.undone, 0) <> coalesce(excluded.undone, 0) "+
		"OR coalesce(decision.saved, 0) <> coalesce(excluded.saved, 0)", l.machine, d.Change, key,
		string(d.Verb), d.Made.Unix(), instant(d.Undone), d.Others, d.Of, number(d.Saved)))
}

// lastBoots is how many of the newest comparable boots a machine's own figures
// are the medians of.
const lastBoots = 10

// measure works out the machine's own figures anew.
func (l *loader) measure() {
	for _, figure := range []string{"ready", "usable"} {
		last, err := all(l.tx.Query, func(r *sql.Rows, d *time.Duration) error {
			return r.Scan(d)
		}, "SELECT "+figure+" FROM boot WHERE machine = $1 AND odd = 0 AND "+figure+
			" IS NOT NULL ORDER BY began DESC LIMIT $2", l.machine, lastBoots)
		if err != nil {
			l.err = err
			return
		}
		if len(last) > 0 {
			slices.Sort(last)
			l.exec("UPDATE machine SET "+figure+" = $1 WHERE machine = $2",
				int64(boot.Median(last)), l.machine)
		}
	}
}

// bit is how a store keeps what is so or not.
func bit(so bool) int64 {
	if so {
		return 1
	}
	return 0
}

func instant(at time.Time) any {
	if at.IsZero() {
		return nil
	}
	return at.Unix()
}

func number[N ~int64](n *N) any {
	if n == nil {
		return nil
	}
	return int64(*n)
}

// Forget takes machines out, with all that is known of them: those of a name,
// or all that somebody added. It returns how many they were.
func (s *Store) Forget(name string) (n int64, err error) {
	err = s.transact(func(tx *sql.Tx) error {
		const which = "(SELECT machine FROM machine WHERE name = $1 OR added_by = $1)"
		for _, table := range []string{"launched", "past", "boot", "decision"} {
			if _, err := tx.Exec("DELETE FROM "+table+" WHERE machine IN "+which,
				name); err != nil {
				return err
			}
		}
		res, err := tx.Exec("DELETE FROM machine WHERE machine IN "+which, name)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err != nil {
			return err
		}
		_, err = tx.Exec("DELETE FROM item WHERE NOT EXISTS (SELECT 1 FROM launched l WHERE " +
			"l.item = item.item) AND NOT EXISTS (SELECT 1 FROM decision d WHERE d.item = " +
			"item.item) AND NOT EXISTS (SELECT 1 FROM past p WHERE p.item = item.item)")
		return err
	})
	return n, err
}
