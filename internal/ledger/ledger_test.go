//go:build linux

package ledger_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// skip leaves the casebook out of a comparison, and the folder that holds it.
func skip(p string) bool { return strings.HasPrefix(p, "/var") || p == "/." }

func tree(t *testing.T) (string, *machine.Root) {
	t.Helper()
	dir := testtree.Make(t, map[string]string{
		"etc/machine-id": "11112222333344445555666677778888\n",
		"etc/table":      "a\nb\nc\nd\n", "etc/w/link": "-> /usr/x", "etc/w/other": "-> /usr/y", "usr/": "", "var/lib/": "",
	})
	old := time.Date(2020, 1, 2, 3, 4, 5, 6, time.UTC)
	for _, p := range []string{"etc/table", "etc/w", "etc", "usr"} {
		if err := os.Chtimes(filepath.Join(dir, p), old, old); err != nil {
			t.Fatal(err)
		}
	}
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return dir, r
}

// drafts are decisions as mechanisms make them: lines, links taken away, links in folders that are not there yet.
var drafts = []func(*machine.Draft) error{
	func(d *machine.Draft) error { return d.Rewrite("/etc/table", "", mark("b")) },
	func(d *machine.Draft) error { return d.Rewrite("/etc/table", "", mark("d")) },
	func(d *machine.Draft) error { return d.Remove("/etc/w/link", "") },
	func(d *machine.Draft) error { return d.Link("/etc/w/other", "", "/dev/null") },
	func(d *machine.Draft) error { return d.Link("/etc/new/deep/one", "", "/dev/null") },
	func(d *machine.Draft) error {
		return errors.Join(d.Link("/etc/new/two", "", "/dev/null"), d.Rewrite("/etc/table", "", mark("a")))
	},
}

func mark(line string) func([]byte) ([]byte, error) {
	return func(text []byte) ([]byte, error) {
		return []byte(strings.Replace("\n"+string(text), "\n"+line+"\n", "\n#"+line+"\n", 1)[1:]), nil
	}
}

var clock = time.Now()

// do makes one change in a ledger of its own, or with undo takes that change back.
func do(r *machine.Root, draft func(*machine.Draft) error, undo int64) (int64, error) {
	clock = clock.Add(time.Second)
	led, err := ledger.Open(r, "")
	if err != nil {
		return 0, err
	}
	defer led.Close()
	var c change.Change
	if undo != 0 {
		if c, err = led.PlanUndo(undo, clock, "test", false); err != nil {
			return 0, err
		}
	} else {
		d := r.Draft(clock)
		if err := draft(d); err != nil {
			return 0, err
		}
		c = change.Change{Verb: change.Disable, MadeAt: clock, Edits: d.Edits()}
	}
	c, err = led.CarryOut(c)
	return c.ID, err
}

func TestUndoInAnyOrderEndsWhereItBegan(t *testing.T) {
	for seed := range uint64(40) {
		rng := rand.New(rand.NewPCG(seed, 1))
		dir, r := tree(t)
		before := testtree.Snapshot(t, dir, skip)
		var standing []int64
		for _, n := range rng.Perm(len(drafts)) {
			id, err := do(r, drafts[n], 0)
			if err != nil {
				t.Fatalf("seed %d: draft %d: %v", seed, n, err)
			}
			standing = append(standing, id)
			if rng.IntN(3) == 0 { // now and then one is taken back in between
				i := rng.IntN(len(standing))
				if _, err := do(r, nil, standing[i]); err != nil {
					t.Fatalf("seed %d: undo %d: %v", seed, standing[i], err)
				}
				standing = append(standing[:i], standing[i+1:]...)
			}
		}
		for _, i := range rng.Perm(len(standing)) {
			if _, err := do(r, nil, standing[i]); err != nil {
				t.Fatalf("seed %d: undo %d: %v", seed, standing[i], err)
			}
		}
		if d := testtree.Diff(before, testtree.Snapshot(t, dir, skip)); d != "" {
			t.Fatalf("seed %d: the tree is not as it was:\n%s", seed, d)
		}
	}
}

var errInjected = errors.New("injected")

// TestEveryInterruption fails, and then stops, each operation of a change and of its undo in turn.
func TestEveryInterruption(t *testing.T) {
	all := func(d *machine.Draft) error {
		return errors.Join(drafts[0](d), drafts[2](d), drafts[3](d), drafts[4](d))
	}
	for _, crash := range []bool{false, true} {
		for _, undo := range []bool{false, true} {
			interrupted := 0
			for n := 0; ; n++ {
				dir, r := tree(t)
				clean := testtree.Snapshot(t, dir, skip)
				var id int64
				if undo {
					var err error
					if id, err = do(r, all, 0); err != nil {
						t.Fatal(err)
					}
				}
				if ended := interrupt(r, n, crash, func() error { _, err := do(r, all, id); return err }); ended {
					break
				}
				interrupted++
				led, err := ledger.Open(r, "")
				if err != nil {
					t.Fatalf("crash %v undo %v at %d: opening again: %v", crash, undo, n, err)
				}
				var standing int64
				for _, c := range led.Changes() {
					if c.Status == change.Planned {
						t.Errorf("crash %v undo %v at %d: change %d is still open", crash, undo, n, c.ID)
					}
					if c.Stands() {
						standing = c.ID
					}
				}
				led.Close()
				if standing != 0 { // wholly done: then it can be taken back
					if _, err := do(r, nil, standing); err != nil {
						t.Fatalf("crash %v undo %v at %d: %v", crash, undo, n, err)
					}
				}
				if d := testtree.Diff(clean, testtree.Snapshot(t, dir, skip)); d != "" {
					t.Fatalf("crash %v undo %v at %d: neither wholly done nor wholly undone:\n%s", crash, undo, n, d)
				}
			}
			if interrupted < 20 {
				t.Errorf("only %d operations were interrupted", interrupted)
			}
		}
	}
}

// interrupt lets n writing operations pass and fails or stops the next; it reports whether the call ended before that.
func interrupt(r *machine.Root, n int, crash bool, call func() error) (ended bool) {
	reading := map[string]bool{"open": true, "read": true, "list": true}
	left, hit := n, false
	r.Hook = func(op machine.Op) error {
		if reading[op.Name] {
			return nil
		}
		if left--; left >= 0 || hit && !crash {
			return nil
		}
		hit = true
		if crash {
			panic(errInjected)
		}
		return fmt.Errorf("%w at %v", errInjected, op)
	}
	defer func() {
		r.Hook = nil
		if p := recover(); p != nil && p != any(errInjected) {
			panic(p)
		}
	}()
	err := call()
	return err == nil && !hit
}

func TestWhatSomebodyElseChangedIsAConflict(t *testing.T) {
	dir, r := tree(t)
	id, err := do(r, drafts[2], 0)
	if err != nil {
		t.Fatal(err)
	}
	testtree.Add(t, dir, map[string]string{"etc/w/link": "-> /somewhere/else"})
	_, err = do(r, nil, id)
	var conflict *change.Conflict
	if !errors.As(err, &conflict) {
		t.Fatalf("undo: %v; want a conflict", err)
	}
	if target, _ := os.Readlink(dir + "/etc/w/link"); target != "/somewhere/else" {
		t.Errorf("the link was overwritten: %s", target)
	}
	if _, err := do(r, nil, id+5); err == nil {
		t.Error("a change that is not there was undone")
	}
}

// TestTheGuideTakesChangesBackByHand follows the plain-text guide with a shell, and finds the machine as it was.
func TestTheGuideTakesChangesBackByHand(t *testing.T) {
	dir, r := tree(t)
	if err := os.WriteFile(dir+"/etc/run", nil, 0o755); err != nil {
		t.Fatal(err)
	}
	undated := func() string {
		var lines []string
		for l := range strings.Lines(testtree.Snapshot(t, dir, skip)) {
			f := strings.Fields(l)
			lines = append(lines, strings.Join(append(f[:3:3], f[4:]...), " "))
		}
		return strings.Join(lines, "\n")
	}
	before := undated()
	chmod := func(d *machine.Draft) error { return d.Chmod("/etc/run", false) }
	for _, draft := range []func(*machine.Draft) error{drafts[2], drafts[3], chmod} {
		if _, err := do(r, draft, 0); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(dir + "/var/lib/calmdawn/" + ledger.GuideName)
	if err != nil {
		t.Fatal(err)
	}
	for l := range strings.Lines(string(text)) {
		if !strings.HasPrefix(l, "  ") {
			continue
		}
		if out, err := exec.Command("sh", "-c", strings.ReplaceAll(l, "'/etc", "'"+dir+"/etc")).CombinedOutput(); err != nil {
			t.Errorf("%s: %v %s", l, err, out)
		}
	}
	if d := testtree.Diff(before, undated()); d != "" {
		t.Errorf("after following the guide:\n%s\n%s", text, d)
	}
	id, err := do(r, drafts[0], 0)
	if err != nil {
		t.Fatal(err)
	}
	text, _ = os.ReadFile(dir + "/var/lib/calmdawn/" + ledger.GuideName)
	if !strings.Contains(string(text), "-b\n") || !strings.Contains(string(text), "+#b\n") {
		t.Errorf("the guide does not show the edited line:\n%s", text)
	}
	for n := id; n > 0; n-- {
		_, _ = do(r, nil, n)
	}
	if text, _ = os.ReadFile(dir + "/var/lib/calmdawn/" + ledger.GuideName); !strings.Contains(string(text), "No change is in force") {
		t.Errorf("with everything undone the guide says:\n%s", text)
	}
}

func TestTwoAtATime(t *testing.T) {
	_, r := tree(t)
	led, err := ledger.Open(r, "")
	if err != nil {
		t.Fatal(err)
	}
	defer led.Close()
	if _, err := ledger.Open(r, ""); err == nil || !strings.Contains(err.Error(), "another calmdawn") {
		t.Errorf("a second ledger: %v", err)
	}
}
