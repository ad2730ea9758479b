//go:build linux

package ledger_test

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// skip leaves the casebook out of a comparison, and the folder that holds it.
func skip(p string) bool { return p == "/var/lib" }

func tree(t *testing.T) (string, *machine.Root) {
	t.Helper()
	dir := testtree.Make(t, map[string]string{
		"etc/machine-id": "11112222333344445555666677778888\n",
		"etc/table":      "a\nb\nc\nd\n",
		"etc/w/link":     "-> /usr/x",
		"etc/w/other":    "-> /usr/y",
		"usr/":           "",
		"var/lib/":       "",
	})
	old := time.Date(2020, 1, 2, 3, 4, 5, 6, time.UTC)
	for _, p := range []string{"etc/table", "etc/w", "etc", "usr"} {
		if err := os.Chtimes(filepath.Join(dir, p), old, old); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.WriteFile(dir+"/etc/twin", []byte("x\ny\n"), 0o644),
		os.Link(dir+"/etc/twin", dir+"/etc/twin2"), os.Chtimes(dir+"/etc", old, old)); err != nil {
		t.Fatal(err)
	}
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	r.Home = linux.Family{}.Home()
	withToy(t, r)
	t.Cleanup(func() { r.Close() })
	return dir, r
}

// drafts are decisions as mechanisms make them: lines, links taken away, links
// in folders that are not there yet.
var drafts = []func(*machine.Draft) error{
	func(d *machine.Draft) error { return d.Rewrite("/etc/table", "", mark("b")) },
	func(d *machine.Draft) error { return d.Rewrite("/etc/table", "", mark("d")) },
	func(d *machine.Draft) error { return d.Remove("/etc/w/link", "") },
	func(d *machine.Draft) error { return d.Link("/etc/w/other", "", "/dev/null") },
	func(d *machine.Draft) error { return d.Link("/etc/new/deep/one", "", "/dev/null") },
	func(d *machine.Draft) error {
		return errors.Join(d.Link("/etc/new/two", "", "/dev/null"),
			d.Rewrite("/etc/table", "", mark("a")))
	},
	// it has two names
	func(d *machine.Draft) error { return d.Rewrite("/etc/twin", "", mark("y")) },
	// values of a store, alone and with files
	func(d *machine.Draft) error { return d.Set(`toy:Key\\One`, 4, []byte("off")) },
	func(d *machine.Draft) error {
		return errors.Join(d.Remove(`toy:Key\\Two`, ""),
			d.Set(`toy:Key\Made\Deep\\New`, 3, []byte("new")),
			d.Link("/etc/other/deep", "", "/dev/null"))
	},
}

// fileDrafts is how many of them touch files alone.
const fileDrafts = 7

func mark(line string) func([]byte) ([]byte, error) {
	return func(text []byte) ([]byte, error) {
		return []byte(strings.Replace("\n"+string(text), "\n"+line+"\n", "\n#"+line+"\n",
			1)[1:]), nil
	}
}

var clock = time.Now()

// do makes one change in a ledger of its own, or with undo takes that change
// back.
func do(r *machine.Root, draft func(*machine.Draft) error, undo int64) (int64, error) {
	clock = clock.Add(time.Second)
	led, err := ledger.Open(r, casebook.Inside, clock, "test")
	if err != nil {
		return 0, err
	}
	defer led.Close()
	var c change.Change
	if undo != 0 {
		if c, err = led.PlanUndo(undo, ledger.Undoing{At: clock, By: "test"}); err != nil {
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
	rounds := ring.Pick[uint64](5, 15, 40)
	// CONTRIBUTING.md: thousands, now and then
	if n, err := strconv.Atoi(os.Getenv("CALMDAWN_ROUNDS")); err == nil {
		rounds = uint64(n)
	}
	for seed := range rounds {
		rng := rand.New(rand.NewPCG(seed, 1))
		dir, r := tree(t)
		before := whole(t, dir, r)
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
		if d := testtree.Diff(before, whole(t, dir, r)); d != "" {
			t.Fatalf("seed %d: the tree is not as it was:\n%s", seed, d)
		}
	}
}

var errInjected = errors.New("injected")

// TestEveryInterruption fails, and then stops, each operation of a change and
// of its undo in turn.
func TestEveryInterruption(t *testing.T) {
	all := func(d *machine.Draft) error {
		return errors.Join(drafts[0](d), drafts[6](d), drafts[2](d), drafts[7](d), drafts[3](d),
			drafts[4](d), drafts[8](d))
	}
	for _, crash := range []bool{false, true} {
		for _, undo := range []bool{false, true} {
			interrupted := 0
			for n := 0; ; n += ring.Pick(5, 2, 1) {
				dir, r := tree(t)
				clean := whole(t, dir, r)
				var id int64
				if undo {
					var err error
					if id, err = do(r, all, 0); err != nil {
						t.Fatal(err)
					}
				}
				if ended := interrupt(r, n, crash, func() error {
					_, err := do(r, all, id)
					return err
				}); ended {
					break
				}
				interrupted++
				led, err := ledger.Open(r, casebook.Inside, clock, "test")
				if err != nil {
					t.Fatalf("crash %v undo %v at %d: opening again: %v", crash, undo, n, err)
				}
				var standing int64
				for _, c := range led.Changes() {
					if c.Status == change.Planned {
						t.Errorf("crash %v undo %v at %d: change %d is still open", crash, undo, n,
							c.ID)
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
				if d := testtree.Diff(clean, whole(t, dir, r)); d != "" {
					t.Fatalf("crash %v undo %v at %d: neither wholly done nor wholly undone:\n%s",
						crash, undo, n, d)
				}
			}
			if interrupted < ring.Pick(4, 10, 20) {
				t.Errorf("only %d operations were interrupted", interrupted)
			}
		}
	}
}

// interrupt lets n writing operations pass and fails or stops the next; it
// reports whether the call ended before that.
func interrupt(r *machine.Root, n int, crash bool, call func() error) (ended bool) {
	reading := map[string]bool{"open": true, "read": true, "list": true}
	left, hit := n, false
	r.Hook = func(op machine.Op) error {
		if reading[op.Name] {
			return nil
		}
		info, err := r.Lstat(op.Path)
		folder := err == nil && info.Kind == machine.Folder || change.Scheme(op.Path) != ""
		if !crash && folder && (op.Name == "utimes" || op.Name == "rmdir") {
			return nil // a folder that cannot be put right is told, and holds nothing up
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

// TestATornFileIsMended stops a change while it writes a file with two names,
// with half of it written.
func TestATornFileIsMended(t *testing.T) {
	dir, r := tree(t)
	clean := testtree.Snapshot(t, dir, skip)
	seen := 0
	r.Hook = func(op machine.Op) error {
		if op.Path == "/etc/twin" && op.Name != "open" && op.Name != "read" {
			if seen++; seen == 2 { // right behind the write
				panic(errInjected)
			}
		}
		return nil
	}
	func() {
		defer func() { _ = recover() }()
		_, _ = do(r, drafts[6], 0)
	}()
	r.Hook = nil
	if err := os.WriteFile(dir+"/etc/twin", []byte("x\n#y"), 0o644); err != nil {
		t.Fatal(err)
	}
	led, err := ledger.Open(r, casebook.Inside, clock, "test")
	if err != nil {
		t.Fatal(err)
	}
	led.Close()
	if d := testtree.Diff(clean, testtree.Snapshot(t, dir, skip)); d != "" {
		t.Errorf("the torn file was not put back:\n%s", d)
	}
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

// TestTheGuideTakesChangesBackByHand follows the plain-text guide with a shell,
// and finds the machine as it was.
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
	chmod := func(d *machine.Draft) error { return d.ForbidRun("/etc/run") }
	for _, draft := range []func(*machine.Draft) error{drafts[2], drafts[3], chmod} {
		if _, err := do(r, draft, 0); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(dir + "/var/lib/calmdawn/" + casebook.GuideName)
	if err != nil {
		t.Fatal(err)
	}
	for l := range strings.Lines(string(text)) {
		if !strings.HasPrefix(l, "  ") {
			continue
		}
		if out, err := exec.Command("sh", "-c",
			strings.ReplaceAll(l, " /etc", " "+dir+"/etc")).CombinedOutput(); err != nil {
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
	text, _ = os.ReadFile(dir + "/var/lib/calmdawn/" + casebook.GuideName)
	if !strings.Contains(string(text), "-b\n") || !strings.Contains(string(text), "+#b\n") {
		t.Errorf("the guide does not show the edited line:\n%s", text)
	}
	for n := id; n > 0; n-- {
		_, _ = do(r, nil, n)
	}
	if text, _ = os.ReadFile(dir + "/var/lib/calmdawn/" +
		casebook.GuideName); !strings.Contains(string(text), "No change is in force") {
		t.Errorf("with everything undone the guide says:\n%s", text)
	}
}

// TestEachEditIsOnTheDiskBeforeTheNext checks the order of writes and syncs. On
// it rests that whatever a power loss leaves is one of the states that
// TestEveryInterruption goes through. The record is on the disk before the
// first edit, a file before it is renamed, its folder before anything else is
// touched.
func TestEachEditIsOnTheDiskBeforeTheNext(t *testing.T) {
	_, r := tree(t)
	var ops []machine.Op
	recorded := false
	r.Hook = func(op machine.Op) error {
		switch op.Name {
		case "open", "read", "list":
			return nil
		}
		if strings.HasPrefix(op.Path, "/etc") && !recorded {
			recorded = true
			hook := r.Hook
			r.Hook = nil
			book, err := casebook.Read(r, casebook.Inside)
			if err != nil {
				t.Fatal(err)
			}
			changes, err := book.Changes()
			if err != nil || len(changes) != 1 || changes[0].Status != change.Planned ||
				len(changes[0].Edits) != 4 {
				t.Errorf("at the first edit the casebook holds %+v, %v", changes, err)
			}
			book.Close()
			r.Hook = hook
		}
		ops = append(ops, op)
		return nil
	}
	all := func(d *machine.Draft) error {
		return errors.Join(drafts[0](d), drafts[2](d), drafts[3](d), drafts[4](d))
	}
	if _, err := do(r, all, 0); err != nil {
		t.Fatal(err)
	}
	renames := 0
	for i, op := range ops {
		before := func() string {
			for j := i - 1; j >= 0; j-- {
				if ops[j].Path == op.Path {
					return ops[j].Name
				}
			}
			return ""
		}
		switch op.Name {
		case "rename":
			renames++
			wrote := false
			for _, earlier := range ops[:i] {
				wrote = wrote || earlier.Path == op.Path && earlier.Name == "write"
			}
			if wrote && before() != "sync" {
				t.Errorf("%v comes after %q, not after the file's sync", op, before())
			}
			fallthrough
		case "unlink", "mkdir", "rmdir":
			next := ops[i+1:]
			for len(next) > 0 && next[0].Path == op.Path &&
				(next[0].Name == "chmod" || next[0].Name == "chown") {
				next = next[1:]
			}
			if len(next) == 0 || next[0].Path != op.Path || next[0].Name != "sync" {
				t.Errorf("%v is not followed by the sync of its folder: %v", op,
					next[:min(2, len(next))])
			}
		}
	}
	if !recorded || renames < 3 {
		t.Errorf("%d renames seen", renames)
	}
}

// TestAHostileLedgerWritesNothingOutside carries out edits as a casebook on a
// hostile disk could hold them.
func TestAHostileLedgerWritesNothingOutside(t *testing.T) {
	dir, r := tree(t)
	outside := testtree.Make(t, map[string]string{"victim": "untouched"})
	testtree.Add(t, dir, map[string]string{
		"etc/out":            "-> " + outside,
		"home/maria/.config": "-> /etc/w",
		"home/maria/far":     "-> " + outside,
	})
	before, inside := testtree.Snapshot(t, outside, nil), testtree.Snapshot(t, dir+"/etc", nil)
	file := change.Node{
		Kind: change.File,
		Data: []byte("owned"),
		Mode: 0o4755,
		UID:  os.Geteuid(),
		GID:  os.Getegid(),
	}
	for _, e := range []change.Edit{
		{Path: "/etc/out/victim", After: file},
		{Path: "/etc/out/new", After: file},
		{Path: "/../../../../../.." + outside + "/new", After: file},
		{Path: "/home/maria/.config/x", Home: "/home/maria", After: file},
		{Path: "/home/maria/far/x", Home: "/home/maria", After: file},
		{Path: "/etc/w/x", Home: "/home/maria", After: file},
		{Path: "/etc/a\x00b", After: file},
		{Path: "/etc/w", After: file},
	} {
		e.Before.Kind = change.Absent
		led, err := ledger.Open(r, casebook.Inside, clock, "test")
		if err != nil {
			t.Fatal(err)
		}
		_, err = led.CarryOut(change.Change{
			Verb:   change.Disable,
			MadeAt: time.Now(),
			Edits:  []change.Edit{e},
		})
		if err == nil && !strings.HasPrefix(e.Path, "/..") {
			t.Errorf("%q was carried out", e.Path)
		}
		led.Close()
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, outside, nil)); d != "" {
		t.Errorf("outside the machine:\n%s", d)
	}
	if d := testtree.Diff(inside,
		testtree.Snapshot(t, dir+"/etc", nil)); strings.Contains(d, "owned") {
		t.Errorf("a link in a home led to an edit elsewhere:\n%s", d)
	}
}

func TestTwoAtATime(t *testing.T) {
	_, r := tree(t)
	led, err := ledger.Open(r, casebook.Inside, clock, "test")
	if err != nil {
		t.Fatal(err)
	}
	defer led.Close()
	defer func(usual time.Duration) { ledger.Patience = usual }(ledger.Patience)
	ledger.Patience = 50 * time.Millisecond
	if _, err := ledger.Open(r, casebook.Inside, clock,
		"test"); err == nil || !strings.Contains(err.Error(), "another calmdawn") {
		t.Errorf("a second ledger: %v", err)
	}
}

// TestAFailedUndoForgetsNoTime has an undo fail in a folder whose time cannot
// be set then. The next one gives the folder its first time all the same.
func TestAFailedUndoForgetsNoTime(t *testing.T) {
	dir, r := tree(t)
	before := whole(t, dir, r)
	for _, ops := range [][]string{
		{"utimes"}, {"utimes", "rename"}, {"utimes", "symlink", "create"}, {"utimes", "unlink"},
	} {
		id, err := do(r, drafts[3], 0)
		if err != nil {
			t.Fatal(err)
		}
		failed := false
		r.Hook = func(op machine.Op) error {
			if slices.Contains(ops, op.Name) && strings.HasPrefix(op.Path, "/etc/w") {
				failed = true
				return errors.New("the disk says no")
			}
			return nil
		}
		_, err = do(r, nil, id)
		r.Hook = nil
		if !failed {
			t.Fatalf("nothing failed at %q", ops)
		}
		if err == nil { // it is undone, and the folder's time alone could not be set
			continue
		}
		if _, err := do(r, nil, id); err != nil {
			t.Fatalf("%q: %v", ops, err)
		}
		if now := whole(t, dir, r); now != before {
			t.Errorf("%q: after a failed undo and a good one:\n%s", ops,
				testtree.Diff(before, now))
		}
	}
}

// TestDefaultAccessListsLetNobodyIn makes changes in folders that have a
// default access list: what is new has none of it, and all comes back.
func TestDefaultAccessListsLetNobodyIn(t *testing.T) {
	dir, r := tree(t)
	var list []byte // acl(5), as xattr(7) holds it: user 1000 may do everything
	list = binary.LittleEndian.AppendUint32(list, 2)
	for _, entry := range [][3]uint32{
		{1, 7, 1<<32 - 1}, {2, 7, 1000}, {4, 5, 1<<32 - 1}, {16, 7, 1<<32 - 1}, {32, 5, 1<<32 - 1},
	} {
		list = binary.LittleEndian.AppendUint16(list, uint16(entry[0]))
		list = binary.LittleEndian.AppendUint16(list, uint16(entry[1]))
		list = binary.LittleEndian.AppendUint32(list, entry[2])
	}
	for _, folder := range []string{"/etc", "/etc/w", "/var/lib"} {
		if err := unix.Setxattr(dir+folder, "system.posix_acl_default", list, 0); err != nil {
			t.Skip("this file system keeps no access lists: ", err)
		}
	}
	before := whole(t, dir, r)
	var made []int64
	for n, draft := range drafts[:fileDrafts] {
		id, err := do(r, draft, 0)
		if err != nil {
			t.Fatalf("draft %d: %v", n, err)
		}
		made = append(made, id)
	}
	for _, p := range []string{
		"/etc/table", "/etc/new", "/etc/new/deep", "/var/lib/calmdawn",
		"/var/lib/calmdawn/casebook.db",
	} {
		if n, err := unix.Getxattr(dir+p, "system.posix_acl_access", nil); err == nil {
			t.Errorf("%s has an access list of %d bytes", p, n)
		}
		if _, err := os.Lstat(dir + p); err != nil {
			t.Error(err)
		}
	}
	for _, id := range slices.Backward(made) {
		if _, err := do(r, nil, id); err != nil {
			t.Fatal(err)
		}
	}
	if now := whole(t, dir, r); now != before {
		t.Errorf("taken back it is not as it was:\n%s", testtree.Diff(before, now))
	}
}
