//go:build linux

package ledger_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// A home is a file system of its own that comes and goes.
type home struct {
	disk, at string // where it is kept, and mounted
	name     string // in the machine
	mounted  bool
	gone     bool // with its user
}

func (h *home) mount(t *testing.T) {
	t.Helper()
	if err := unix.Mount(h.disk, h.at, "", unix.MS_BIND, ""); err != nil {
		t.Fatal(err)
	}
	h.mounted = true
}

func (h *home) unmount(t *testing.T) {
	t.Helper()
	if err := unix.Unmount(h.at, unix.MNT_DETACH); err != nil {
		t.Fatal(err)
	}
	h.mounted = false
}

// TestHomesThatComeAndGo plays random sequences of decisions in the machine and
// in two homes, undos and stops of both. Meanwhile a home is unmounted, mounted
// again, covered by another file system, or deleted with its user. Default
// access lists appear. In the end all that is left is exactly as it was, and
// nothing was ever made where a home was not.
func TestHomesThatComeAndGo(t *testing.T) {
	ring.Needs(t, ring.Middle)
	if os.Geteuid() != 0 && os.Getenv("CI") == "" {
		t.Skip("mounting takes root")
	}
	seen := map[string]int{}
	for seed := range ring.Pick[uint64](0, 12, 30) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			playHomes(t, rand.New(rand.NewPCG(seed, 39)), seen)
		})
	}
	for _, what := range []string{"away", "back", "covered", "deleted", "access list", "stopped",
		"beyond", "settled later"} {
		if seen[what] == 0 {
			t.Errorf("there was no %s: %v", what, seen)
		}
	}
	t.Log(seen)
}

func playHomes(t *testing.T, rng *rand.Rand, seen map[string]int) {
	dir, r := tree(t)
	var homes []*home
	for _, name := range []string{"/home/ada", "/home/ben"} {
		h := &home{disk: testtree.Make(t, map[string]string{".config/a": "a\nb\n",
			".config/b": "b\n"}), at: dir + name, name: name}
		if err := os.MkdirAll(h.at, 0o755); err != nil {
			t.Fatal(err)
		}
		h.mount(t)
		t.Cleanup(func() { _ = unix.Unmount(h.at, unix.MNT_DETACH) })
		homes = append(homes, h)
	}
	before := make([]string, len(homes))
	for i, h := range homes {
		before[i] = testtree.Snapshot(t, h.disk, nil)
	}
	skips := func(p string) bool { return skip(p) || p == "/home" }
	clean := testtree.Snapshot(t, dir, skips)

	var story []string
	say := func(what, format string, values ...any) {
		story = append(story, what+" "+fmt.Sprintf(format, values...))
		seen[what]++
	}
	fail := func(format string, values ...any) {
		t.Helper()
		t.Fatalf("%s\n%s", strings.Join(story, "; "), fmt.Sprintf(format, values...))
	}
	var standing []int64
	covered := false
	uncover := func() {
		if found, _ := os.ReadDir(dir + "/home"); len(found) > 0 {
			fail("%s was made on what covers the homes", found[0].Name())
		}
		if err := unix.Unmount(dir+"/home", unix.MNT_DETACH); err != nil {
			t.Fatal(err)
		}
		covered = false
	}
	t.Cleanup(func() {
		if covered {
			uncover()
		}
	})
	lists := map[*home]bool{}
	for n := range 16 {
		h := homes[rng.IntN(len(homes))]
		switch what := rng.IntN(12); {
		case covered && what < 5:
			uncover()
			say("uncovered", "/home")
		case h.gone && what < 5:
		case what == 0 && n > 6 && h.mounted && rng.IntN(2) == 0:
			h.unmount(t)
			if err := os.Remove(h.at); err != nil {
				fail("what is not mounted was written to: %v", err)
			}
			h.gone = true
			say("deleted", "%s", h.name)
		case what == 1:
			if err := unix.Mount("none", dir+"/home", "tmpfs", 0, ""); err != nil {
				t.Fatal(err)
			}
			covered = true
			say("covered", "/home")
		case what == 2 && h.mounted && !lists[h]:
			// user::rwx, group::r-x, group 7: rwx, mask::rwx, other::---
			list := []byte{2, 0, 0, 0, 1, 0, 7, 0, 255, 255, 255, 255, 4, 0, 5, 0, 255, 255,
				255, 255, 8, 0, 7, 0, 7, 0, 0, 0, 16, 0, 7, 0, 255, 255, 255, 255, 32, 0, 0, 0,
				255, 255, 255, 255}
			err := unix.Setxattr(h.disk+"/.config", "system.posix_acl_default", list, 0)
			if lists[h] = err == nil; err == nil {
				say("access list", "%s", h.name)
			} else if !errors.Is(err, unix.EOPNOTSUPP) {
				t.Fatal(err)
			}
		case what < 5 && h.mounted:
			h.unmount(t)
			say("away", "%s", h.name)
		case what < 5:
			h.mount(t)
			say("back", "%s", h.name)
		case what < 9 || len(standing) == 0:
			draft := drafts[rng.IntN(2)]
			if !covered {
				draft = homesDraft(rng, homes)
			}
			id, err := perhaps(r, rng, draft, 0)
			say(map[bool]string{true: "stopped", false: "decision"}[id < 0], "%d: %v", id, err)
		default:
			i := rng.IntN(len(standing))
			id, err := perhaps(r, rng, nil, standing[i])
			say(map[bool]string{true: "stopped", false: "undo"}[id < 0], "of %d: %v", standing[i],
				err)
			if errors.As(err, new(*ledger.Beyond)) {
				seen["beyond"]++
			}
		}
		standing = inForce(t, r, seen)
		for _, h := range homes {
			if h.mounted || h.gone || covered {
				continue
			}
			if found, _ := os.ReadDir(h.at); len(found) > 0 {
				fail("%s was made where %s is not mounted", found[0].Name(), h.name)
			}
		}
	}
	if covered {
		uncover()
	}
	for _, h := range homes {
		if !h.mounted && !h.gone {
			h.mount(t)
		}
	}
	for standing = inForce(t, r, seen); len(standing) > 0; standing = inForce(t, r, seen) {
		id := standing[len(standing)-1]
		if _, err := do(r, nil, id); err != nil && !errors.As(err, new(*ledger.Beyond)) {
			if !errors.As(err, new(*ledger.Unreachable)) &&
				!errors.As(err, new(*ledger.Unsettled)) {
				fail("undo of %d: %v", id, err)
			}
			leaveGone(t, r, id)
		}
	}
	if d := testtree.Diff(clean, testtree.Snapshot(t, dir, skips)); d != "" {
		fail("the machine is not as it was:\n%s", d)
	}
	for i, h := range homes {
		if lists[h] {
			if err := unix.Removexattr(h.disk+"/.config", "system.posix_acl_default"); err != nil {
				t.Fatal(err)
			}
		}
		if d := testtree.Diff(before[i], testtree.Snapshot(t, h.disk, nil)); d != "" && !h.gone {
			fail("%s is not as it was:\n%s", h.name, d)
		}
	}
}

// homesDraft decides on something in the machine and, with luck, in homes.
func homesDraft(rng *rand.Rand, homes []*home) func(*machine.Draft) error {
	table, n := rng.IntN(2), rng.IntN(3)
	return func(d *machine.Draft) error {
		err := drafts[table](d)
		for _, h := range homes {
			if !h.mounted || n == 0 {
				continue
			}
			err = errors.Join(err, []func() error{
				func() error { return d.Link(h.name+"/.config/link", h.name, "/dev/null") },
				func() error { return d.Rewrite(h.name+"/.config/a", h.name, mark("a")) },
				func() error { return d.Link(h.name+"/.config/new/one", h.name, "/dev/null") },
			}[(n+len(h.name))%3]())
		}
		return err
	}
}

// perhaps carries out or takes back, and one time in four is stopped on the
// way: then the number is -1.
func perhaps(r *machine.Root, rng *rand.Rand, draft func(*machine.Draft) error,
	undo int64) (id int64, err error) {
	left := 4 + rng.IntN(30)
	if rng.IntN(4) == 0 {
		r.Hook = func(o machine.Op) error {
			if o.Name != "open" && o.Name != "read" && o.Name != "list" {
				if left--; left < 0 {
					panic(errInjected)
				}
			}
			return nil
		}
	}
	defer func() {
		r.Hook = nil
		if p := recover(); p != nil {
			if p != any(errInjected) {
				panic(p)
			}
			id = -1
		}
	}()
	return do(r, draft, undo)
}

// inForce opens the ledger, as each call does, which settles what it can, and
// lists what is in force.
func inForce(t *testing.T, r *machine.Root, seen map[string]int) (standing []int64) {
	t.Helper()
	led := opened(t, r)
	defer led.Close()
	for _, c := range led.Recovered() {
		if len(c.Open()) == 0 {
			seen["settled later"]++
		}
	}
	for _, c := range led.Changes() {
		if c.Stands() && !slices.Contains(standing, c.ID) {
			standing = append(standing, c.ID)
		}
	}
	return standing
}

// leaveGone takes a change back but for what is in a home that is gone.
func leaveGone(t *testing.T, r *machine.Root, id int64) {
	t.Helper()
	led := opened(t, r)
	defer led.Close()
	c, _ := led.Find(id)
	u := ledger.Undoing{At: clock, By: "test"}
	for _, e := range c.Edits {
		if r.Reach(e) != nil {
			u.Leave = append(u.Leave, e.Path)
		}
	}
	var err error
	if open, ok := led.Interrupted(id); ok {
		_, err = led.Resolve(open, false, open.Open())
	} else if c, err = led.PlanUndo(id, u); err == nil {
		_, err = led.CarryOut(c)
	}
	if err != nil {
		t.Fatal(err)
	}
}
