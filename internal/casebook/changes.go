package casebook

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"calmdawn/internal/core/change"
)

// Begin records a change as planned, with the marks of the folders it touches,
// and returns it with its number. When it returns, the record is on the disk.
func (b *Book) Begin(c change.Change, marks []change.FolderMark) (change.Change, error) {
	c.Status = change.Planned
	targets, err := json.Marshal(c.Targets)
	if err != nil {
		return c, err
	}
	err = b.transact(func(tx *sql.Tx) error {
		var forecast []byte
		if c.Forecast != nil {
			if forecast, err = json.Marshal(c.Forecast); err != nil {
				return err
			}
		}
		number := "NULL" // the next one
		if c.Verb == change.Watch || c.Verb == change.Leave || c.Undoes < 0 {
			number = "(SELECT min(0, coalesce(min(id), 0)) - 1 FROM changes)" // a chore's
		}
		res, err := tx.Exec("INSERT INTO changes(id, verb, status, made_at, made_by, targets, "+
			"undoes, forecast) VALUES("+number+", ?, ?, ?, ?, ?, ?, ?)",
			c.Verb, c.Status, c.MadeAt.UTC().Format(time.RFC3339Nano), c.MadeBy, targets, c.Undoes,
			forecast)
		if err != nil {
			return err
		}
		if c.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		for i, e := range c.Edits {
			found := e.Before
			if c.Undoes != 0 && e.After.Kind == change.Absent {
				// an undo that was interrupted is finished, never taken back
				found = found.WithoutData()
			}
			before, err1 := json.Marshal(found)
			after, err2 := json.Marshal(keptOf(e))
			if err := errors.Join(err1, err2); err != nil {
				return err
			}
			folder, _ := e.Folder()
			_, err = tx.Exec("INSERT INTO edits(change, step, path, folder, home, before, after) "+
				"VALUES(?, ?, ?, ?, ?, ?, ?)",
				c.ID, i, e.Path, folder, e.Home, before, after)
			if err != nil {
				return err
			}
			if e.Mounts == nil {
				continue
			}
			points, err := json.Marshal(e.Mounts)
			if err != nil {
				return err
			}
			if _, err := tx.Exec("INSERT INTO mounts(change, step, points) VALUES(?, ?, ?)", c.ID,
				i, points); err != nil {
				return err
			}
		}
		if !c.Terms.None() {
			if err := put(tx, "terms", c.ID, c.Terms); err != nil {
				return err
			}
		}
		for _, m := range marks {
			_, err = tx.Exec("INSERT OR REPLACE INTO folders(path, home, made, time_before, "+
				"time_left) VALUES(?, ?, ?, ?, ?)",
				m.Path, m.Home, m.Made, m.Before, m.Left)
			if err != nil {
				return err
			}
		}
		return nil
	})
	return c, err
}

// keptOf is what is kept of what an edit makes. Something large that was not
// there before is not copied, since undo only takes it away.
func keptOf(e change.Edit) change.Node {
	if e.Before.Kind == change.Absent {
		return e.After.WithoutData()
	}
	return e.After
}

// Amend records anew what the edits of a change made.
func (b *Book) Amend(c change.Change) error {
	return b.transact(func(tx *sql.Tx) error {
		for i, e := range c.Edits {
			after, err := json.Marshal(keptOf(e))
			if err != nil {
				return err
			}
			if _, err := tx.Exec("UPDATE edits SET after = ? WHERE change = ? AND step = ?", after,
				c.ID, i); err != nil {
				return err
			}
		}
		return nil
	})
}

// Next is the number that the next change will have.
func (b *Book) Next() (n int64, err error) {
	err = b.get("SELECT coalesce(max(seq), 0) + 1 FROM sqlite_sequence WHERE name = 'changes'")(&n)
	return n, err
}

// End records that a change is done or has failed. It ties an undo to what it
// took back, and forgets the marks of folders in which nothing of ours is left.
// A chore's record goes when nothing of it stands.
func (b *Book) End(c change.Change, status change.Status, forget []string) error {
	return b.transact(func(tx *sql.Tx) error {
		if err := keepSettlement(tx, c, forget); err != nil {
			return err
		}
		if c.Chore() && !(c.Verb == change.Watch && status == change.Done) {
			gone := []any{c.ID}
			if status == change.Done && c.Undoes != 0 {
				gone = append(gone, c.Undoes)
			}
			return erase(tx, gone)
		}
		if _, err := tx.Exec("UPDATE changes SET status = ? WHERE id = ?", status,
			c.ID); err != nil {
			return err
		}
		over := c.ID // what nothing of stands any more
		if status == change.Done {
			over = c.Undoes
			if _, err := tx.Exec("UPDATE changes SET undone_by = ? WHERE id = ?", c.ID,
				c.Undoes); err != nil {
				return err
			}
		}
		_, err := tx.Exec("DELETE FROM parts WHERE change = ?", over)
		return err
	})
}

// Settle records how far an interrupted change is settled, while some of its
// paths stay open.
func (b *Book) Settle(c change.Change, forget []string) error {
	return b.transact(func(tx *sql.Tx) error { return keepSettlement(tx, c, forget) })
}

func keepSettlement(tx *sql.Tx, c change.Change, forget []string) error {
	for _, p := range forget {
		if _, err := tx.Exec("DELETE FROM folders WHERE path = ?", p); err != nil {
			return err
		}
	}
	if c.Settlement == nil {
		return nil
	}
	return put(tx, "settlement", c.ID, c.Settlement)
}

func erase(tx *sql.Tx, ids []any) error {
	for _, id := range ids {
		for _, where := range []string{
			"edits WHERE change", "mounts WHERE change", "parts WHERE change", "terms WHERE change",
			"outcomes WHERE change", "settlements WHERE change", "changes WHERE id",
		} {
			if _, err := tx.Exec("DELETE FROM "+where+" = ?", id); err != nil {
				return err
			}
		}
	}
	return nil
}

// KeepParts keeps what stands in a file, by places, before a change overwrites
// it. What is kept of a place already stays. When it returns, it is on the
// disk. The parts go when the change is taken back, or has failed.
func (b *Book) KeepParts(change int64, path string, parts map[int64][]byte) error {
	return b.transact(func(tx *sql.Tx) error {
		for at, data := range parts {
			if _, err := tx.Exec("INSERT OR IGNORE INTO parts(change, path, place, data) "+
				"VALUES(?, ?, ?, ?)", change, path, at, data); err != nil {
				return err
			}
		}
		return nil
	})
}

// Parts returns what is kept of a file that a change overwrote, by places.
func (b *Book) Parts(change int64, path string) (map[int64][]byte, error) {
	parts := map[int64][]byte{}
	if b.format < formatOfParts {
		return parts, nil
	}
	rows, err := b.query("SELECT place, data FROM parts WHERE change = ? AND path = ?", change,
		path)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var at int64
		var data []byte
		if err := rows.Scan(&at, &data); err != nil {
			return nil, err
		}
		parts[at] = data
	}
	return parts, rows.Err()
}

// Changes returns all changes, oldest first; chores, which no list shows, are
// not among them.
func (b *Book) Changes() ([]change.Change, error) { return b.changes("id > 0 ORDER BY id") }

// Chores returns what was recorded of our own upkeep, oldest first.
func (b *Book) Chores() ([]change.Change, error) { return b.changes("id < 0 ORDER BY id DESC") }

func (b *Book) changes(which string) ([]change.Change, error) {
	rows, err := b.query("SELECT id, verb, status, made_at, made_by, targets, undoes, undone_by, " +
		"forecast FROM changes WHERE " + which)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []change.Change
	for rows.Next() {
		var r row
		if err := rows.Scan(&r.id, &r.verb, &r.status, &r.madeAt, &r.madeBy, &r.targets, &r.undoes,
			&r.undoneBy, &r.forecast); err != nil {
			return nil, err
		}
		c, err := r.change()
		if err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	outcomes, err1 := documents[change.Outcome](b, "outcome", formatOfLabels)
	terms, err2 := documents[change.Terms](b, "terms", formatOfTerms)
	settled, err3 := documents[change.Settlement](b, "settlement", formatOfSettlements)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	for i := range all {
		all[i].Outcome, all[i].Settlement = outcomes[all[i].ID], settled[all[i].ID]
		if t := terms[all[i].ID]; t != nil {
			all[i].Terms = *t
		}
		if all[i].Edits, err = b.edits(all[i].ID); err != nil {
			return nil, err
		}
		if err := checkChange(all[i]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// A row is one of the table of changes.
type row struct {
	id, undoes, undoneBy         int64
	verb, status, madeAt, madeBy string
	targets, forecast            []byte
}

func (r row) change() (change.Change, error) {
	c := change.Change{
		ID: r.id, Verb: change.Verb(r.verb), Status: change.Status(r.status), MadeBy: r.madeBy,
		Undoes: r.undoes, UndoneBy: r.undoneBy,
	}
	var err1, err2, err3 error
	c.MadeAt, err1 = time.Parse(time.RFC3339Nano, r.madeAt)
	err2 = json.Unmarshal(r.targets, &c.Targets)
	if len(r.forecast) > 0 {
		err3 = json.Unmarshal(r.forecast, &c.Forecast)
	}
	return c, errors.Join(err1, err2, err3)
}

func (b *Book) edits(id int64) ([]change.Edit, error) {
	query := "SELECT path, home, before, after, NULL FROM edits WHERE change = ? ORDER BY step"
	if b.format >= formatOfMounts {
		query = "SELECT path, home, before, after, points FROM edits LEFT JOIN mounts USING" +
			"(change, step) WHERE change = ? ORDER BY step"
	}
	rows, err := b.query(query, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var edits []change.Edit
	for rows.Next() {
		var p, home string
		var before, after, points []byte
		if err := rows.Scan(&p, &home, &before, &after, &points); err != nil {
			return nil, err
		}
		e, err := readEdit(p, home, before, after)
		if err != nil {
			return nil, err
		}
		if len(points) > 0 {
			if err := json.Unmarshal(points, &e.Mounts); err != nil {
				return nil, fmt.Errorf("where file systems were mounted for %q: %w", p, err)
			}
		}
		edits = append(edits, e)
	}
	return edits, rows.Err()
}

func readEdit(p, home string, before, after []byte) (change.Edit, error) {
	e := change.Edit{Path: p, Home: home}
	err := errors.Join(json.Unmarshal(before, &e.Before), json.Unmarshal(after, &e.After))
	if err == nil {
		err = checkEdit(e)
	}
	return e, err
}

// Mark returns what is remembered of a folder.
func (b *Book) Mark(folder string) (change.FolderMark, bool, error) {
	m := change.FolderMark{Path: folder}
	err := b.get("SELECT home, made, time_before, time_left FROM folders WHERE path = ?", folder)(
		&m.Home, &m.Made, &m.Before, &m.Left,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return m, false, nil
	}
	return m, err == nil, err
}

// SetLeft says with which time a folder was left, in nanoseconds since 1970.
func (b *Book) SetLeft(folder string, left int64) error {
	return b.transact(func(tx *sql.Tx) error {
		_, err := tx.Exec("UPDATE folders SET time_left = ? WHERE path = ?", left, folder)
		return err
	})
}

// Made returns the marks of the folders that the ledger made.
func (b *Book) Made() ([]change.FolderMark, error) {
	rows, err := b.query("SELECT path, home FROM folders WHERE made")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []change.FolderMark
	for rows.Next() {
		m := change.FolderMark{Made: true}
		if err := rows.Scan(&m.Path, &m.Home); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return all, rows.Err()
}
