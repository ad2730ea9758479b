package job

import (
	"slices"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
)

// A Baseline is the boots from which forecasts count, and how the machine is
// set up now differs from them.
type Baseline struct {
	Boots []boot.Boot // of one configuration, those that are odd too
	// Off are the ids of items that ran in those boots, and were switched off
	// or delayed since.
	Off []string
	// Lacks are the ids of items that were switched on since, of which no boot
	// is known.
	Lacks []string
	// Changes are those in force now that were not in those boots.
	Changes []int64
}

// BaselineOf chooses the boots that are nearest to the machine as changes have
// set it up now. Those are the last ones in which everything ran that is on
// now. Where there are none, they are those of the last configuration that was
// booted.
func BaselineOf(boots []boot.Boot, changes []change.Change, now time.Time) Baseline {
	present := states(changes, now)
	for _, complete := range []bool{true, false} {
		for _, b := range slices.Backward(boots) {
			off, on := differ(states(changes, b.Began), present)
			if !b.Fit() || complete && len(on) > 0 {
				continue
			}
			like := change.InForce(changes, b.Began)
			base := Baseline{Off: off, Lacks: on}
			for _, other := range boots {
				if slices.Equal(change.InForce(changes, other.Began), like) {
					base.Boots = append(base.Boots, other)
				}
			}
			return base
		}
	}
	return Baseline{Boots: boots}
}

// states are the states of the items that any change touched, as they were set
// up at an instant.
func states(changes []change.Change, at time.Time) map[string]item.State {
	all := map[string]item.State{}
	for _, c := range slices.Backward(changes) { // the first change tells what was before
		for _, t := range c.Targets {
			if c.Status == change.Done && c.Decides() {
				all[t.ID] = t.Before
			}
		}
	}
	inForce := change.InForce(changes, at)
	for _, c := range changes {
		if slices.Contains(inForce, c.ID) {
			for _, t := range c.Targets {
				all[t.ID] = t.After
			}
		}
	}
	return all
}

// differ tells which items were launched with the boot before and are not now,
// and the other way round.
func differ(before, now map[string]item.State) (off, on []string) {
	launched := func(s item.State) bool { return s == item.On || s == item.Broken }
	for id, was := range before {
		switch {
		case launched(was) && !launched(now[id]):
			off = append(off, id)
		case !launched(was) && launched(now[id]):
			on = append(on, id)
		}
	}
	slices.Sort(off)
	slices.Sort(on)
	return off, on
}
