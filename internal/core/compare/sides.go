package compare

import (
	"time"

	"calmdawn/internal/core/boot"
)

// Sides are the boots before and after a change, as they are found among all.
type Sides struct {
	Before, After []boot.Boot
	LeftOut       []boot.Boot // within the two sides, and not fit to compare
}

// A Step is what one change, or several without a boot between them, did: the
// boots from when they were made until the next step.
type Step struct {
	First, Last int // of the changes; -1 for the boots before all of them
	Boots       []boot.Boot
	LeftOut     []boot.Boot
}

// Steps parts boots, oldest first, at the instants of changes, which must be in
// the order of time. The first step holds the boots from before all changes and
// may be empty, as may the last one.
func Steps(boots []boot.Boot, changes []time.Time) []Step {
	steps := []Step{{First: -1, Last: -1}}
	at := 0
	for i, c := range changes {
		for ; at < len(boots) && boots[at].Began.Before(c); at++ {
			steps[len(steps)-1].add(boots[at])
		}
		if last := &steps[len(steps)-1]; last.First >= 0 && len(last.Boots)+len(last.LeftOut) == 0 {
			last.Last = i
			continue
		}
		steps = append(steps, Step{First: i, Last: i})
	}
	for _, b := range boots[at:] {
		steps[len(steps)-1].add(b)
	}
	return steps
}

func (s *Step) add(b boot.Boot) {
	if b.Fit() {
		s.Boots = append(s.Boots, b)
	} else {
		s.LeftOut = append(s.LeftOut, b)
	}
}
