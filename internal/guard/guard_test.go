//go:build linux

package guard_test

import (
	"errors"
	"io"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/guard"
	"calmdawn/internal/ledger"
	"calmdawn/internal/linux"
	"calmdawn/internal/linux/watch"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// A madeUp host is a start that a test plays.
type madeUp struct {
	boot    string
	clock   time.Duration
	person  bool // asked for another start
	started int  // how often the goal was started again
}

func (h *madeUp) ID() string            { return h.boot }
func (h *madeUp) Uptime() time.Duration { return h.clock }
func (h *madeUp) Asked() bool           { return h.person }
func (h *madeUp) StartAgain() error     { h.started++; return nil }

// A kit is that of Linux machines, with a start that a test plays.
type kit struct {
	watch.Guard
	host *madeUp
}

func (k kit) Start(*machine.Root) guard.Host { return k.host }

const (
	link    = "/etc/systemd/system/multi-user.target.wants/star.service"
	program = "the program"
)

var at = time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)

// guarded is a machine with one service, switched off under guard, and the
// machine as it was before.
func guarded(t *testing.T) (dir string, r *machine.Root, before string) {
	t.Helper()
	dir = testtree.Make(t, map[string]string{
		"etc/machine-id":                        "11112222333344445555666677778888\n",
		link[1:]:                                "-> /usr/lib/systemd/system/star.service",
		"usr/lib/systemd/system/default.target": "-> multi-user.target",
		"usr/local/lib/":                        "",
		"var/lib/":                              "",
	})
	before = testtree.Snapshot(t, dir, ours)
	r, err := machine.Open(dir)
	must(t, err)
	r.Home = linux.Family{}.Home()
	t.Cleanup(func() { r.Close() })
	led, err := ledger.Open(r, casebook.Inside, at, "test")
	must(t, err)
	defer led.Close()
	must(t, guard.Put(kit{}, led, r, []byte(program), time.Minute, at))
	d := r.Draft(at)
	must(t, d.Remove(link, ""))
	_, err = led.CarryOut(change.Change{
		Verb:   change.Disable,
		MadeAt: at,
		Edits:  d.Edits(),
		Terms:  change.Terms{Guarded: true},
	})
	must(t, err)
	return dir, r, before
}

// ours is what is left when all is taken back.
func ours(p string) bool { return p == "/var/lib/calmdawn" || p == "/var/lib" }

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// play plays starts, one a letter. f fails, h hangs until somebody loses
// patience, and p is left by a person early. r was asked for as a rescue, g
// becomes ready. It returns how often the goal was started again.
func play(t *testing.T, r *machine.Root, starts string) int {
	t.Helper()
	h := &madeUp{}
	for i, how := range starts {
		h.boot, h.clock, h.person = string(rune('a'+i)), time.Second, how == 'r'
		must(t, guard.Note(kit{host: h}, r, guard.Begin, at, io.Discard))
		switch how {
		case 'f':
			must(t, guard.Note(kit{host: h}, r, guard.Failed, at, io.Discard))
		case 'h':
			h.clock += time.Hour
			must(t, guard.Note(kit{host: h}, r, guard.End, at, io.Discard))
		case 'p':
			h.clock += time.Second
			must(t, guard.Note(kit{host: h}, r, guard.End, at, io.Discard))
		case 'g':
			must(t, guard.Note(kit{host: h}, r, guard.Good, at, io.Discard))
		}
	}
	return h.started
}

func TestSteps(t *testing.T) {
	for _, c := range []struct {
		name, starts string
		again        int
		off, there   bool // the service is off; the guard is in the machine
	}{
		{"it is ready at once", "g", 0, true, false},
		{"one failure", "f", 0, true, true},
		{"ready after a failure", "fg", 0, true, false},
		{"two failures, not seen yet", "ff", 0, true, true},
		{"the start after two failures", "ffb", 1, false, false},
		{"one that hung and one that failed", "hfb", 1, false, false},
		{"a person's early ends count neither way", "fpfb", 1, false, false},
		{"a rescue that was asked for is left alone", "ffr", 0, true, true},
		{"only early ends", "pppp", 0, true, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, r, _ := guarded(t)
			again := play(t, r, c.starts)
			_, err := r.Lstat(link)
			off, there := err != nil, guard.There(kit{}, r)
			if off != c.off || again != c.again || there != c.there {
				t.Errorf("off %v, started again %d times, guard there %v", off, again, there)
			}
		})
	}
}

func TestAllIsAsBefore(t *testing.T) {
	dir, r, before := guarded(t)
	play(t, r, "ffb")
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, ours)); d != "" {
		t.Errorf("the machine is not as it was:\n%s", d)
	}
}

// TestWhatCannotBeTakenBack has somebody put another file in the way.
func TestWhatCannotBeTakenBack(t *testing.T) {
	dir, r, _ := guarded(t)
	must(t, os.WriteFile(dir+link, []byte("another"), 0o644))
	h := &madeUp{}
	var log strings.Builder
	var err error
	for _, id := range []string{"a", "b", "c"} {
		h.boot = id
		err = errors.Join(guard.Note(kit{host: h}, r, guard.Begin, at, &log),
			guard.Note(kit{host: h}, r, guard.Failed, at, &log))
	}
	there := guard.There(kit{}, r)
	if err == nil || !strings.Contains(err.Error(), link) || h.started != 0 || !there {
		t.Errorf("%v; started again %d times; guard there %v; %s", err, h.started, there, &log)
	}
	book, err := casebook.Read(r, casebook.Inside)
	must(t, err)
	defer book.Close()
	if s, err := book.Guard(); err != nil || !s.Acted || s.Trouble == "" {
		t.Errorf("%+v %v", s, err)
	}
}

// TestEveryStepCanBeInterrupted stops the guard's acting before each operation
// on the machine's files, and has the machine start again.
func TestEveryStepCanBeInterrupted(t *testing.T) {
	stopped := errors.New("stopped")
	for n := 0; ; n++ {
		dir, r, before := guarded(t)
		play(t, r, "ff")
		ops := 0
		r.Hook = func(op machine.Op) error {
			if slices.Contains([]string{"open", "read", "list"}, op.Name) {
				return nil
			}
			if ops++; ops > n {
				panic(stopped)
			}
			return nil
		}
		func() {
			defer func() {
				if p := recover(); p != nil && p != any(stopped) {
					panic(p)
				}
			}()
			_ = guard.Note(kit{host: &madeUp{boot: "x"}}, r, guard.Begin, at, io.Discard)
		}()
		r.Hook = nil
		if ops <= n {
			if n < 20 {
				t.Fatalf("it makes %d operations only", ops)
			}
			break
		}
		play(t, r, "ffb") // the machine goes on failing
		if d := testtree.Diff(before, testtree.Snapshot(t, dir, ours)); d != "" {
			t.Errorf("stopped before operation %d, the machine is not as it was:\n%s", n, d)
		}
	}
}

// TestADiskThatFailsForGood has no end of the guard's acting but an error.
func TestADiskThatFailsForGood(t *testing.T) {
	_, r, _ := guarded(t)
	play(t, r, "ff")
	failed := errors.New("the disk failed")
	left := 20
	r.Hook = func(op machine.Op) error {
		if left--; left < 0 && op.Name != "open" && op.Name != "read" && op.Name != "list" {
			return failed
		}
		return nil
	}
	defer func() { r.Hook = nil }()
	var log strings.Builder
	err := guard.Note(kit{host: &madeUp{boot: "x"}}, r, guard.Begin, at, &log)
	if err == nil && !strings.Contains(log.String(), "could not be taken away") {
		t.Errorf("nothing is said: %v %q", err, log.String())
	}
}
