//go:build linux

package ledger_test

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// stopBefore makes a change, or with undo takes one back, and stops it at an
// operation on a path.
func stopBefore(
	t *testing.T,
	r *machine.Root,
	op, path string,
	draft func(*machine.Draft) error,
	undo int64,
) {
	t.Helper()
	r.Hook = func(o machine.Op) error {
		if o.Name == op && o.Path == path {
			panic(errInjected)
		}
		return nil
	}
	defer func() {
		r.Hook = nil
		if p := recover(); p != any(errInjected) {
			t.Fatalf("it was not stopped: %v", p)
		}
	}()
	_, _ = do(r, draft, undo)
}

func opened(t *testing.T, r *machine.Root) *ledger.Ledger {
	t.Helper()
	clock = clock.Add(time.Second)
	led, err := ledger.Open(r, casebook.Inside, clock, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { led.Close() })
	return led
}

// TestAPathThatCannotBeSettledHoldsUpItselfAlone has a package replace a link
// that an interrupted change, or undo, had edited.
func TestAPathThatCannotBeSettledHoldsUpItselfAlone(t *testing.T) {
	both := func(d *machine.Draft) error {
		return errors.Join(drafts[2](d), drafts[3](d), drafts[4](d))
	}
	for _, undo := range []bool{false, true} {
		for _, leave := range []bool{false, true} {
			dir, r := tree(t)
			clean := testtree.Snapshot(t, dir, skip)
			var id int64
			var err error
			if undo {
				if id, err = do(r, both, 0); err != nil {
					t.Fatal(err)
				}
				stopBefore(t, r, "unlink", "/etc/new/deep/one", nil, id)
			} else {
				stopBefore(t, r, "rename", "/etc/new/deep/one", both, 0)
			}
			theirs := map[string]string{"etc/w/other": "-> /somebody/else"}
			if err := os.Remove(dir +
				"/etc/w/other"); err != nil && !errors.Is(err, fs.ErrNotExist) {
				t.Fatal(err)
			}
			testtree.Add(t, dir, theirs)

			// Other paths go on; that one is refused, with the record that
			// holds it.
			first, err := do(r, drafts[0], 0)
			if err != nil {
				t.Fatalf("undo %v: another path: %v", undo, err)
			}
			_, err = do(r, func(d *machine.Draft) error { return d.Remove("/etc/w/other", "") }, 0)
			var held *ledger.Unsettled
			if !errors.As(err, &held) || held.Path != "/etc/w/other" {
				t.Fatalf("undo %v: the path that is open: %v", undo, err)
			}
			if _, err := do(r, nil, first); err != nil {
				t.Fatal(err)
			}
			led := opened(t, r)
			open, ok := led.Interrupted(held.Change.ID)
			if !ok || !slices.Equal(open.Open(), []string{"/etc/w/other"}) ||
				!strings.Contains(open.WhyOpen("/etc/w/other"), "/somebody/else") {
				t.Fatalf("%+v %v", open, ok)
			}
			if len(led.Recovered()) > 0 {
				t.Error("what cannot be settled is told as recovered again and again")
			}
			var left []string
			if leave {
				left = open.Open()
			}
			closed, err := led.Resolve(open, !leave, left)
			if err != nil || len(closed.Open()) > 0 {
				t.Fatalf("%+v %v", closed, err)
			}
			led.Close()
			diff := testtree.Diff(clean, testtree.Snapshot(t, dir, skip))
			if !leave && diff != "" {
				t.Errorf("undo %v: put back, but\n%s", undo, diff)
			}
			if target, _ := os.Readlink(dir + "/etc/w/other"); leave && target != "/somebody/else" {
				t.Errorf("undo %v: it was to be left: %s", undo, target)
			}
			if _, err := do(r, drafts[3], 0); err != nil {
				t.Errorf("after it is closed: %v", err)
			}
		}
	}
}

// TestAFolderWhoseTimeCannotBeSetHoldsNothingUp fails what is done to a folder
// that is not ours.
func TestAFolderWhoseTimeCannotBeSetHoldsNothingUp(t *testing.T) {
	_, r := tree(t)
	r.Hook = func(o machine.Op) error {
		if o.Name == "utimes" && o.Path == "/etc/w" {
			return fs.ErrPermission
		}
		return nil
	}
	led := opened(t, r)
	d := r.Draft(clock)
	if err := drafts[2](d); err != nil {
		t.Fatal(err)
	}
	c, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: clock, Edits: d.Edits()})
	if notes := led.Notes(); err != nil || len(notes) != 1 ||
		!strings.Contains(notes[0], "/etc/w could not be given its time") {
		t.Errorf("%v; told: %q", err, notes)
	}
	led.Close()
	if _, err := do(r, drafts[0], 0); err != nil {
		t.Errorf("another change: %v", err)
	}
	if _, err := do(r, nil, c.ID); err != nil {
		t.Errorf("the undo: %v", err)
	}
}

// TestATornUndoIsFinished leaves a file with two names half written by an undo,
// and one that nobody of us has written.
func TestATornUndoIsFinished(t *testing.T) {
	for text, ours := range map[string]bool{"x\n#y": true, "x\nz\n": false} {
		dir, r := tree(t)
		clean := testtree.Snapshot(t, dir, skip)
		id, err := do(r, drafts[6], 0)
		if err != nil {
			t.Fatal(err)
		}
		stopBefore(t, r, "write", "/etc/twin", nil, id)
		if err := os.WriteFile(dir+"/etc/twin", []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		led := opened(t, r)
		_, open := led.Interrupted(id)
		diff := testtree.Diff(clean, testtree.Snapshot(t, dir, skip))
		if open == ours || (diff == "") != ours {
			t.Errorf("%q: open %v, and\n%s", text, open, diff)
		}
	}
}

// TestAPlanThatIsOutOfDateIsNotRecorded touches a path between the plan and
// its carrying out; the time alone is enough.
func TestAPlanThatIsOutOfDateIsNotRecorded(t *testing.T) {
	dir, r := tree(t)
	led := opened(t, r)
	d := r.Draft(clock)
	if err := errors.Join(drafts[0](d), drafts[2](d)); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(dir+"/etc/table", clock, clock); err != nil {
		t.Fatal(err)
	}
	before := testtree.Snapshot(t, dir, nil)
	_, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: clock, Edits: d.Edits()})
	var conflict *change.Conflict
	if !errors.As(err, &conflict) || len(led.Changes()) > 0 {
		t.Errorf("%v, %d records", err, len(led.Changes()))
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Errorf("it wrote:\n%s", d)
	}
}

// TestOneDoor reads the program: nobody but the ledger writes to a machine's
// files, save for the casebook's own folder.
func TestOneDoor(t *testing.T) {
	writing := []string{"Apply", "Force", "MakeFolder", "RemoveFolder", "SetFolderTime", "Sweep",
		"SweepBeside"}
	found := map[string][]string{}
	err := filepath.WalkDir("../..", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") ||
			strings.HasSuffix(p, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), p, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok &&
				slices.Contains(writing, sel.Sel.Name) {
				dir := filepath.Base(filepath.Dir(p))
				found[dir] = append(found[dir], sel.Sel.Name)
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Contains(found["ledger"], "Apply") || !slices.Contains(found["ledger"], "Force") {
		t.Fatalf("the ledger makes no edits? %v", found)
	}
	delete(found, "ledger")
	if got := found["casebook"]; !slices.Equal(got, []string{"MakeFolder"}) {
		t.Errorf("the casebook writes by %v", got)
	}
	delete(found, "casebook")
	delete(found, "machine") // hands them on to who holds an address
	if len(found) > 0 {
		t.Errorf("others write to a machine's files: %v", found)
	}
}

// TestALookChangesNothing has each writing method of a ledger that was opened
// to look at it refuse. The machine and its casebook stay as they are.
func TestALookChangesNothing(t *testing.T) {
	dir, r := tree(t)
	id, err := do(r, drafts[0], 0)
	if err != nil {
		t.Fatal(err)
	}
	before := testtree.Snapshot(t, dir, nil)
	led, err := ledger.View(r, casebook.Inside)
	if err != nil {
		t.Fatal(err)
	}
	defer led.Close()
	plan, err := led.PlanUndo(id, ledger.Undoing{At: clock, By: "test"})
	if err != nil {
		t.Fatal(err)
	}
	_, carried := led.CarryOut(plan)
	_, resolved := led.Resolve(plan, true, nil)
	for what, err := range map[string]error{
		"CarryOut": carried, "Resolve": resolved, "UpdateTerms": led.UpdateTerms(nil, nil),
		"Keep": led.Keep(func(*casebook.Book) error { return nil }),
	} {
		if !errors.Is(err, led.Barred()) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if now := testtree.Snapshot(t, dir, nil); now != before {
		t.Errorf("something was written:\n%s", testtree.Diff(before, now))
	}
}

// TestAFolderThatMayNotBeChangedIsToldOnce: where nothing in it was changed,
// its time is what it was, and no more is said than why.
func TestAFolderThatMayNotBeChangedIsToldOnce(t *testing.T) {
	_, r := tree(t)
	r.Hook = func(o machine.Op) error {
		if (o.Name == "utimes" || o.Name == "unlink") && strings.HasPrefix(o.Path, "/etc/w") {
			return fs.ErrPermission
		}
		return nil
	}
	led := opened(t, r)
	defer led.Close()
	d := r.Draft(clock)
	if err := drafts[2](d); err != nil {
		t.Fatal(err)
	}
	_, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: clock, Edits: d.Edits()})
	if notes := led.Notes(); !errors.Is(err, fs.ErrPermission) || len(notes) > 0 {
		t.Errorf("%v; told: %q", err, notes)
	}
}
