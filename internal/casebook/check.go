package casebook

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"calmdawn/internal/core/change"
)

// What a casebook may hold: it may be a stranger's. Sizes are in bytes.
const (
	maxFile    = 1 << 30
	maxEdit    = 96 << 20  // one state of an edited path, as JSON
	maxEdits   = 256 << 20 // all of them together
	maxRows    = 200_000   // of a table
	maxText    = 4096      // a name, a path, an instant
	maxRecord  = 1 << 20   // a JSON document beside a change
	maxReading = 20 * time.Second
)

// A result is rows whose time ends when they are closed.
type result struct {
	*sql.Rows
	end context.CancelFunc
}

func (r result) Close() error {
	defer r.end()
	return r.Rows.Close()
}

// query reads rows, for no longer than maxReading.
func (b *Book) query(words string, values ...any) (result, error) {
	ctx, end := context.WithTimeout(context.Background(), maxReading)
	rows, err := b.db.QueryContext(ctx, words, values...)
	if err != nil {
		end()
	}
	return result{rows, end}, err
}

// get reads one row, for no longer than maxReading.
func (b *Book) get(words string, values ...any) func(into ...any) error {
	return func(into ...any) error {
		ctx, end := context.WithTimeout(context.Background(), maxReading)
		defer end()
		return b.db.QueryRowContext(ctx, words, values...).Scan(into...)
	}
}

// schemas are what the tables of each format look like, made in memory by our
// own migrations.
var schemas = sync.OnceValues(func() (all [][]string, err error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	all = append(all, nil)
	for _, m := range migrations {
		if _, err := db.Exec(m); err != nil {
			return nil, err
		}
		now, err := (&Book{db: db}).schema()
		if err != nil {
			return nil, err
		}
		all = append(all, now)
	}
	return all, nil
})

// schema lists what the file says that its tables are; reading it runs nothing
// of the file.
func (b *Book) schema() ([]string, error) {
	rows, err := b.query("SELECT type, name, tbl_name, substr(coalesce(sql, ''), 1, 10000) FROM " +
		"sqlite_schema WHERE length(name) < 1000 LIMIT 1000")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var kind, name, table, words string
		if err := rows.Scan(&kind, &name, &table, &words); err != nil {
			return nil, err
		}
		all = append(all, strings.Join([]string{kind, name, table, words}, "\x00"))
	}
	slices.Sort(all)
	return all, rows.Err()
}

var errStrange = errors.New("it holds data that calmdawn never writes; refused")

// check refuses a file whose tables are not ours, or hold more than ours do.
func (b *Book) check() error {
	var pages, size int64
	if err := errors.Join(b.get("PRAGMA page_count")(&pages),
		b.get("PRAGMA page_size")(&size)); err != nil {
		return err
	}
	if pages*size > maxFile {
		return fmt.Errorf("%w: it has %d bytes", errStrange, pages*size)
	}
	known, err := schemas()
	if err != nil {
		return err
	}
	found, err := b.schema()
	if err != nil {
		return err
	}
	if !slices.Equal(found, known[b.format]) {
		return fmt.Errorf("%w: its tables are not those of any calmdawn format", errStrange)
	}
	for table, bounds := range limits {
		if bounds.since > b.format {
			continue
		}
		var rows, large, total int64
		words := fmt.Sprintf("SELECT count(*), coalesce(sum(%s), 0), coalesce(sum(%s), 0) FROM %s",
			bounds.large, bounds.total, table)
		if err := b.get(words)(&rows, &large, &total); err != nil {
			return err
		}
		if rows > maxRows || large > 0 || total > maxEdits {
			return fmt.Errorf("%w: its table %s is too large", errStrange, table)
		}
	}
	return nil
}

// limits say of each table which rows are too large, and what is added up of
// it. Boots and surveys have bounds of their own where they are read.
var limits = map[string]struct {
	since        int
	large, total string
}{
	"facts": {1, over(maxText, "name", "value"), "0"},
	"changes": {
		1,
		over(maxText, "verb", "status", "made_at", "made_by") + " OR " +
			over(maxRecord, "targets", "coalesce(forecast, x'')"),
		"length(targets) + length(coalesce(forecast, x''))",
	},
	"edits": {
		1,
		over(maxText, "path", "folder", "home") + " OR " + over(maxEdit, "before", "after"),
		"length(before) + length(after)",
	},
	"folders":     {1, over(maxText, "path", "home"), "0"},
	"surveys":     {1, over(maxText, "taken_at"), "0"},
	"boots":       {1, over(maxText, "boot_id", "began"), "0"},
	"outcomes":    {formatOfLabels, over(maxRecord, "outcome"), "length(outcome)"},
	"labels":      {formatOfLabels, over(maxText, "boot_id", "label"), "0"},
	"terms":       {formatOfTerms, over(maxRecord, "terms"), "length(terms)"},
	"settlements": {formatOfSettlements, over(maxRecord, "settlement"), "length(settlement)"},
	"guard":       {formatOfSettlements, over(maxRecord, "state"), "length(state)"},
	"parts": {
		formatOfParts,
		over(maxText, "path") + " OR " + over(maxRecord, "data"),
		"length(data)",
	},
	"mounts": {formatOfMounts, over(maxText, "points"), "length(points)"},
}

func over(most int, columns ...string) string {
	var all []string
	for _, c := range columns {
		all = append(all, fmt.Sprintf("length(%s) > %d", c, most))
	}
	return strings.Join(all, " OR ")
}

// checkChange refuses a record that no ledger of ours writes. Which paths a
// machine may be edited at, the machine says.
func checkChange(c change.Change) error {
	verbs := []change.Verb{
		change.Disable, change.Enable, change.Delay, change.Decide, change.Undo, change.Record,
		change.Recover, change.Watch, change.Leave,
	}
	stati := []change.Status{change.Planned, change.Done, change.Failed}
	chore := c.Verb == change.Watch || c.Verb == change.Leave || c.Undoes < 0
	switch {
	case !slices.Contains(verbs, c.Verb), !slices.Contains(stati, c.Status), c.ID == 0:
	case (c.Verb == change.Undo) != (c.Undoes != 0), c.UndoneBy != 0 && c.Verb == change.Undo:
	case c.Chore() != chore:
	case c.Verb == change.Record && len(c.Targets) == 0:
	case c.Verb == change.Recover && len(c.Targets) > 0:
	default:
		seen := map[string]bool{}
		for _, e := range c.Edits {
			if err := checkEdit(e); err != nil {
				return err
			}
			if seen[e.Path] {
				return fmt.Errorf("%w: change %d has %q twice", errStrange, c.ID, e.Path)
			}
			seen[e.Path] = true
		}
		return nil
	}
	return fmt.Errorf("%w: change %d", errStrange, c.ID)
}

func checkEdit(e change.Edit) error {
	value := change.Scheme(e.Path) != ""
	home := e.Home == "" || e.Home == "/" || change.IsAddress(e.Home) && !value
	if !change.IsAddress(e.Path) || !home {
		return fmt.Errorf("%w: the path %q", errStrange, e.Path)
	}
	for _, n := range []change.Node{e.Before, e.After} {
		ok := n.Mode <= 0o7777 && n.UID >= 0 && n.GID >= 0
		switch n.Kind {
		case change.Absent:
			ok = ok && n.Data == nil && n.Sum == nil && n.Target == ""
		case change.Value:
			ok = ok && value && n.Target == "" && n.Sum == nil
		case change.File:
			ok = ok && !value && n.Target == "" && (n.Sum == nil || n.Data == nil)
		case change.Link:
			ok = ok && !value && n.Target != "" && n.Data == nil && n.Sum == nil &&
				!strings.ContainsRune(n.Target, 0)
		default:
			ok = false
		}
		if !ok {
			return fmt.Errorf("%w: what stands at %q", errStrange, e.Path)
		}
	}
	return nil
}
