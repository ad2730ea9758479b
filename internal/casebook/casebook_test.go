//go:build linux

package casebook

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/failures"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

const id = "11112222333344445555666677778888"

func newMachine(t *testing.T) (string, *machine.Root) {
	t.Helper()
	dir := testtree.Make(t, map[string]string{"etc/machine-id": id + "\n", "var/lib/": ""})
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	r.Home = machine.Home{Casebook: folder, ID: func(r *machine.Root) string {
		text, _ := r.ReadFile("/etc/machine-id", 100)
		return strings.TrimSpace(string(text))
	}}
	return dir, r
}

const folder = "/var/lib/calmdawn"

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func record(t *testing.T, r *machine.Root, verb change.Verb, undoes int64) change.Change {
	t.Helper()
	b, err := Write(r, Inside)
	must(t, err)
	defer b.Close()
	e := change.Edit{
		Path:   "/etc/x",
		Before: change.Node{Kind: change.Absent},
		After:  change.Node{Kind: change.Link, Target: "/y"},
	}
	c, err := b.Begin(change.Change{
		Verb:   verb,
		MadeAt: time.Now(),
		Edits:  []change.Edit{e},
		Undoes: undoes,
	}, nil)
	must(t, err)
	must(t, b.End(c, change.Done, nil))
	return c
}

// halfWritten leaves a machine's casebook as a stop amid a transaction does:
// with pages written, and the journal that takes them back.
func halfWritten(t *testing.T, dir string) {
	t.Helper()
	file := filepath.Join(dir, folder, Name)
	db, err := sql.Open("sqlite", file)
	must(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, words := range []string{"PRAGMA cache_size = 2", "BEGIN IMMEDIATE", "UPDATE changes " +
		"SET verb = 'lost'", "CREATE TABLE filler(x)",
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 400) INSERT INTO " +
			"filler SELECT zeroblob(900) FROM n"} {
		_, err := db.Exec(words)
		must(t, err)
	}
	for _, name := range []string{file, file + "-journal"} {
		data, err := os.ReadFile(name)
		must(t, err)
		must(t, os.WriteFile(name+".kept", data, 0o600))
	}
	_, err = db.Exec("ROLLBACK")
	must(t, err)
	must(t, db.Close())
	for _, name := range []string{file, file + "-journal"} {
		must(t, os.Rename(name+".kept", name))
	}
}

// TestWhatWasLeftHalfWrittenIsReadInACopy reads a casebook that only a writer
// could put right, without a trace, and then writes it.
func TestWhatWasLeftHalfWrittenIsReadInACopy(t *testing.T) {
	dir, r := newMachine(t)
	record(t, r, change.Disable, 0)
	halfWritten(t, dir)
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	before := testtree.Snapshot(t, dir, nil)
	b, err := Read(r, Inside)
	must(t, err)
	all, err := b.Changes()
	must(t, err)
	if len(all) != 1 || all[0].Verb != change.Disable {
		t.Errorf("read: %+v", all)
	}
	copies, _ := os.ReadDir(temp)
	if info, err := copies[0].Info(); err != nil || len(copies) != 1 ||
		info.Mode().Perm() != 0o700 {
		t.Errorf("the copy: %v %v", copies, err)
	}
	must(t, b.Close())
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Errorf("reading wrote:\n%s", d)
	}
	if left, _ := os.ReadDir(temp); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if c := record(t, r, change.Disable, 0); c.ID != 2 {
		t.Errorf("the next change is %d", c.ID)
	}
	if _, err := os.Stat(filepath.Join(dir, folder, Name+"-journal")); err == nil {
		t.Error("the journal is still there")
	}
}

// TestAJournalThatNamesAFileIsRefused: SQLite would remove that file, which a
// stranger's disk could make any file of the bench computer.
func TestAJournalThatNamesAFileIsRefused(t *testing.T) {
	dir, r := newMachine(t)
	record(t, r, change.Disable, 0)
	halfWritten(t, dir)
	victim := filepath.Join(t.TempDir(), "victim")
	must(t, os.WriteFile(victim, []byte("x"), 0o600))
	journal := filepath.Join(dir, folder, Name+"-journal")
	data, err := os.ReadFile(journal)
	must(t, err)
	sum := uint32(0)
	for _, c := range []byte(victim) {
		sum += uint32(c)
	}
	big := func(n uint32) []byte {
		return []byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
	}
	tail := bytes.Join([][]byte{
		big(0x40000000/4096 + 1),
		[]byte(victim),
		big(uint32(len(victim))),
		big(sum),
		{0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7},
	}, nil)
	must(t, os.WriteFile(journal, append(data, tail...), 0o600))
	for name, open := range map[string]func(*machine.Root, Choice) (*Book, error){
		"read":  Read,
		"write": Write,
	} {
		if _, err := open(r, Inside); err == nil || !strings.Contains(err.Error(), "names a "+
			"further file") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := os.Stat(victim); err != nil {
		t.Error("the file that it names is gone")
	}
}

// TestChoresComeAndGo records upkeep beside changes: it takes none of their
// numbers, is in no list, and goes when nothing of it stands.
func TestChoresComeAndGo(t *testing.T) {
	_, r := newMachine(t)
	first, watch := record(t, r, change.Disable, 0), record(t, r, change.Watch, 0)
	second := record(t, r, change.Enable, 0)
	if first.ID != 1 || second.ID != 2 || watch.ID >= 0 {
		t.Errorf("numbers %d, %d; chore %d", first.ID, second.ID, watch.ID)
	}
	b, err := Read(r, Inside)
	must(t, err)
	changes, err1 := b.Changes()
	chores, err2 := b.Chores()
	must(t, errors.Join(err1, err2, b.Close()))
	if len(changes) != 2 || len(chores) != 1 || !chores[0].Chore() || len(chores[0].Edits) != 1 {
		t.Errorf("%+v\n%+v", changes, chores)
	}
	record(t, r, change.Leave, 0)
	record(t, r, change.Undo, watch.ID)
	b, err = Read(r, Inside)
	must(t, err)
	defer b.Close()
	if chores, err = b.Chores(); err != nil || len(chores) > 0 {
		t.Errorf("left: %+v %v", chores, err)
	}
}

func TestTheGuardsStateIsKept(t *testing.T) {
	_, r := newMachine(t)
	b, err := Write(r, Inside)
	must(t, err)
	defer b.Close()
	must(t, b.UpdateGuard(func(s *failures.State) { s.Usual = time.Minute }))
	must(t, b.UpdateGuard(func(s *failures.State) { s.Begin("one", 0, false) }))
	s, err := b.Guard()
	if err != nil || s.Usual != time.Minute || len(s.Boots) != 1 || s.Boots[0].ID != "one" {
		t.Errorf("%+v %v", s, err)
	}
}

// TestAnOlderFormatIsReadAndBroughtUpToDate has a casebook of every format that
// there was, as it was written then: testdata/format-N.db holds a change of
// teo's, with one edit. A new migration comes with the file of the format
// before it, which CALMDAWN_KEEP=1 writes.
func TestAnOlderFormatIsReadAndBroughtUpToDate(t *testing.T) {
	for format := 1; format < len(migrations); format++ {
		t.Run(fmt.Sprintf("format %d", format), func(t *testing.T) {
			kept := fmt.Sprintf("testdata/format-%d.db", format)
			if os.Getenv("CALMDAWN_KEEP") != "" {
				keepFormat(t, kept, format)
			}
			text, err := os.ReadFile(kept)
			must(t, err)
			dir, r := newMachine(t)
			must(t, os.MkdirAll(filepath.Join(dir, folder), 0o700))
			must(t, os.WriteFile(filepath.Join(dir, folder, Name), text, 0o600))
			for _, open := range []func(*machine.Root, Choice) (*Book, error){Read, Write, Read} {
				b, err := open(r, Inside)
				must(t, err)
				all, err1 := b.Changes()
				_, err2 := b.Guard()
				_, err3 := b.Boots(0)
				_, err4 := b.Surveys()
				if err := errors.Join(err1, err2, err3, err4); err != nil || len(all) != 1 ||
					all[0].MadeBy != "teo" || len(all[0].Edits) != 1 {
					t.Errorf("%+v %v", all, err)
				}
				must(t, b.Close())
			}
		})
	}
}

// TestAJobHasOneSurvey keeps surveys with changes, and by hand between them.
func TestAJobHasOneSurvey(t *testing.T) {
	_, r := newMachine(t)
	b, err := Write(r, Inside)
	must(t, err)
	defer b.Close()
	day := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	must(t, b.AddSurveyWith(1, day, []byte("a")))
	must(t, b.AddSurveyWith(2, day.Add(time.Hour), []byte("b")))
	_, err = b.AddSurvey(day.Add(2*time.Hour), []byte("c"))
	must(t, err)
	must(t, b.AddSurveyWith(3, day.Add(3*time.Hour), []byte("d")))
	must(t, b.AddSurveyWith(4, day.Add(30*time.Hour), []byte("e")))
	all, err := b.Surveys()
	must(t, err)
	var got []string
	for _, k := range all {
		whole, _, err := b.Survey(k.Number)
		must(t, err)
		got = append(got, fmt.Sprintf("%d %d %s", k.Number, k.Change, whole.Document))
	}
	if want := []string{"1 2 b", "2 0 c", "3 3 d", "4 4 e"}; !slices.Equal(got, want) {
		t.Errorf("%q; want %q", got, want)
	}
}

// keepFormat writes a casebook as the first migrations make it.
func keepFormat(t *testing.T, file string, format int) {
	t.Helper()
	must(t, os.MkdirAll(filepath.Dir(file), 0o755))
	_ = os.Remove(file)
	db, err := sql.Open("sqlite", file)
	must(t, err)
	for _, words := range append(migrations[:format:format], "INSERT INTO facts "+
		"VALUES('machine', '"+id+"')",
		"INSERT INTO changes(verb, status, made_at, made_by, targets) VALUES('disable', "+
			"'done', '2026-11-25T09:00:00Z', 'teo', x'5b5d')",
		"INSERT INTO edits VALUES(1, 0, '/etc/x', '/etc', '', "+
			"CAST('{\"Kind\":\"absent\"}' AS BLOB), "+
			"CAST('{\"Kind\":\"link\",\"Target\":\"/y\"}' AS BLOB))",
		fmt.Sprintf("PRAGMA user_version = %d", format)) {
		_, err := db.Exec(words)
		must(t, err)
	}
	must(t, db.Close())
}

func TestADamagedCasebookIsNotGivenUp(t *testing.T) {
	dir, r := newMachine(t)
	record(t, r, change.Disable, 0)
	must(t,
		os.WriteFile(filepath.Join(dir, folder, Name), bytes.Repeat([]byte("no casebook"), 1000),
			0o600))
	_, err := Read(r, Inside)
	if err == nil || !strings.Contains(err.Error(), "keep it") ||
		!strings.Contains(err.Error(), GuideName) || strings.Contains(err.Error(), "move it away") {
		t.Errorf("%v", err)
	}
}

// TestABusyCasebookIsNotCalledDamaged has another program amid a commit.
func TestABusyCasebookIsNotCalledDamaged(t *testing.T) {
	t.Parallel() // it waits
	dir, r := newMachine(t)
	b, err := Write(r, Inside)
	must(t, err)
	must(t, b.Close())
	db, err := sql.Open("sqlite", filepath.Join(dir, folder, Name)+"?_txlock=exclusive")
	must(t, err)
	defer db.Close()
	tx, err := db.Begin()
	must(t, err)
	_, err = Read(r, Inside)
	if err == nil || strings.Contains(err.Error(), "damaged") ||
		!strings.Contains(err.Error(), "call again") {
		t.Errorf("amid a commit: %v", err)
	}
	must(t, tx.Rollback())
	b, err = Read(r, Inside)
	must(t, err)
	must(t, b.Close())
	must(t, os.WriteFile(filepath.Join(dir, folder, Name), []byte("no casebook"), 0o600))
	if _, err = Read(r, Inside); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("of another form: %v", err)
	}
}
