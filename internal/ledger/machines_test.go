//go:build linux

package ledger_test

import (
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo"
	"calmdawn/internal/family"
	"calmdawn/internal/ledger"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// TestRandomDecisionsOnWholeMachines switches, delays and takes back random
// items of the demo machine by its real mechanisms, each time surveyed anew. It
// undoes what is left in random order.
func TestRandomDecisionsOnWholeMachines(t *testing.T) {
	rounds := ring.Pick[uint64](2, 3, 6)
	if n, err := strconv.Atoi(os.Getenv("CALMDAWN_ROUNDS")); err == nil {
		rounds = uint64(n)
	}
	decided := 0
	for seed := range rounds {
		rng := rand.New(rand.NewPCG(seed, 2))
		dir := t.TempDir()
		if err := demo.Make(dir, time.Now()); err != nil {
			t.Fatal(err)
		}
		r, err := machine.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		r.Home = linux.Family{}.Home()
		leaveOut := func(p string) bool {
			return p == "/var/lib" || strings.HasPrefix(p, "/var/lib/")
		}
		before := testtree.Snapshot(t, dir, leaveOut)
		var standing []int64
		for range 15 {
			if len(standing) > 0 && rng.IntN(4) == 0 {
				i := rng.IntN(len(standing))
				if _, err := do(r, nil, standing[i]); err != nil {
					t.Fatalf("seed %d: undo %d: %v", seed, standing[i], err)
				}
				standing = append(standing[:i], standing[i+1:]...)
				continue
			}
			id, ok := decide(t, r, rng)
			if ok {
				standing = append(standing, id)
				decided++
			}
		}
		for _, i := range rng.Perm(len(standing)) {
			if _, err := do(r, nil, standing[i]); err != nil {
				t.Fatalf("seed %d: undo %d: %v", seed, standing[i], err)
			}
		}
		if d := testtree.Diff(before, testtree.Snapshot(t, dir, leaveOut)); d != "" {
			t.Fatalf("seed %d: the machine is not as it was:\n%s", seed, d)
		}
		r.Close()
		os.RemoveAll(dir)
	}
	if decided < 4*int(rounds) {
		t.Errorf("only %d decisions could be carried out in %d rounds", decided, rounds)
	}
}

// decide turns one to three random items to a random state; false where a
// mechanism refuses.
func decide(t *testing.T, r *machine.Root, rng *rand.Rand) (int64, bool) {
	t.Helper()
	clock = clock.Add(time.Second)
	inventory := linux.Survey(r, family.Options{Now: clock})
	to := []item.State{item.Off, item.On, item.Delayed}[rng.IntN(3)]
	d := r.Draft(clock)
	plan := inventory.Turner(d)
	for range 1 + rng.IntN(3) {
		it := inventory.Items[rng.IntN(len(inventory.Items))]
		if err := plan.Turn(it, to, time.Minute); err != nil {
			return 0, false
		}
	}
	edits := d.Edits()
	if len(edits) == 0 {
		return 0, false
	}
	led, err := ledger.Open(r, casebook.Inside, clock, "test")
	if err != nil {
		t.Fatal(err)
	}
	defer led.Close()
	c, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: clock, Edits: edits})
	if err != nil {
		t.Fatalf("turning items %s: %v", to, err)
	}
	return c.ID, true
}
