//go:build linux

package casebook

import (
	"database/sql"
	"encoding/json"
	"errors"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
)

// TestAStrangersCasebookIsBounded puts into casebooks what no calmdawn writes.
func TestAStrangersCasebookIsBounded(t *testing.T) {
	const endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n) SELECT i FROM n"
	for name, words := range map[string][]string{
		"an endless view": {
			"DROP TABLE labels",
			"CREATE VIEW labels(boot_id, label) AS " +
				strings.Replace(endless, "SELECT i FROM n", "SELECT i, i FROM n", 1),
		},
		"a trigger": {"CREATE TRIGGER t AFTER INSERT ON changes BEGIN DELETE FROM " +
			"changes; END"},
		"one more table": {"CREATE TABLE more(x)"},
		"a loose table": {"DROP TABLE labels", "CREATE TABLE labels(boot_id TEXT PRIMARY " +
			"KEY, label TEXT NOT NULL)"},
		"400 MB": {"UPDATE edits SET before = zeroblob(400000000)"},
		"many of 90 MB": {"INSERT INTO edits SELECT 1, value + 10, '/etc/' || value, '/etc', " +
			"'', zeroblob(90000000), x'7b7d' FROM json_each('[1,2,3]')"},
		"a long name": {"UPDATE changes SET made_by = replace(hex(zeroblob(9000)), '0', " +
			"'x')"},
		"an unknown kind":   {`UPDATE edits SET after = '{"kind":"nothing","uid":0,"gid":0}'`},
		"a path upwards":    {"UPDATE edits SET path = '/etc/../x'"},
		"no path":           {"UPDATE edits SET path = 'x'"},
		"an unknown verb":   {"UPDATE changes SET verb = 'burn'"},
		"no targets":        {"UPDATE changes SET verb = 'record', targets = x'5b5d'"},
		"an undo of none":   {"UPDATE changes SET verb = 'undo'"},
		"a chore in a list": {"UPDATE changes SET verb = 'watch'"},
		"no instant":        {"UPDATE changes SET made_at = 'yesterday'"},
		"no document":       {"UPDATE changes SET targets = x'7b'"},
	} {
		t.Run(name, func(t *testing.T) {
			dir, r := newMachine(t)
			record(t, r, change.Disable, 0)
			db, err := sql.Open("sqlite", filepath.Join(dir, folder, Name))
			must(t, err)
			for _, w := range words {
				_, err := db.Exec(strings.Replace(w, "after = '{", "after = CAST('{", 1) +
					map[bool]string{true: " AS BLOB)"}[strings.Contains(w, "after = '{")])
				must(t, err)
			}
			must(t, db.Close())
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			began := time.Now()
			b, err := Read(r, Inside)
			if err == nil {
				_, err = b.Changes()
				must(t, b.Close())
			}
			runtime.ReadMemStats(&after)
			if err == nil {
				t.Error("it is used")
			}
			took, memory := time.Since(began), after.TotalAlloc-before.TotalAlloc
			if took > 5*time.Second || memory > 64<<20 {
				t.Errorf("%v and %d bytes until %v", took, memory, err)
			}
			if name != "no instant" && name != "no document" && !errors.Is(err, errStrange) {
				t.Errorf("%v", err)
			}
			if w, err := Write(r, Inside); err == nil {
				_, err1 := w.Changes()
				if must(t, w.Close()); err1 == nil {
					t.Error("it is written")
				}
			}
		})
	}
}

// FuzzRows reads rows as a stranger's casebook may hold them, and works with
// what is let through.
func FuzzRows(f *testing.F) {
	link, _ := json.Marshal(change.Node{Kind: change.Link, Target: "/x", ModTime: 5})
	file, _ := json.Marshal(change.Node{
		Kind:   change.File,
		Data:   []byte("a\nb\n"),
		Mode:   0o644,
		Xattrs: map[string][]byte{"user.x": {1}},
	})
	sum, _ := json.Marshal(change.Node{Kind: change.File, Sum: make([]byte, 32)})
	for _, state := range [][]byte{link, file, sum, []byte(`{"kind":"absent"}`)} {
		f.Add("disable", "done", "2026-11-25T09:00:00Z", "[]", `{"saving":1}`, int64(0), "/etc/x",
			"", state, link)
		f.Add("undo", "planned", "2026-11-25T09:00:00Z", `[{"id":"service:x"}]`, "", int64(3),
			"/home/maria/x", "/home/maria", file, state)
	}
	f.Fuzz(func(
		t *testing.T,
		verb, status, at, targets, forecast string,
		undoes int64,
		path, home string,
		before, after []byte,
	) {
		c, err := row{
			1, undoes, 0, verb, status, at, "teo", []byte(targets), []byte(forecast),
		}.change()
		if err != nil {
			return
		}
		e, err := readEdit(path, home, before, after)
		if err != nil {
			return
		}
		c.Edits = []change.Edit{e}
		if checkChange(c) != nil {
			return
		}
		_, _ = c.Open(), c.TakesEffect()
		for _, now := range []change.Node{
			e.Before,
			e.After,
			{Kind: change.Absent},
			{Kind: change.File, Data: []byte("a\nc\n"), Mode: 0o644},
		} {
			change.Torn(e, now)
			edit, err := change.TakeBack([]change.Step{
				{Change: 1, Edit: e},
			}, 1, now, c.MadeAt, false)
			if err != nil {
				_ = err.Error()
			} else if edit.Path != e.Path || edit.Home != e.Home {
				t.Errorf("taking %+v back edits %s", e, edit.Path)
			}
		}
	})
}
