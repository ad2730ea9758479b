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

// Split parts boots, oldest first, at the last of the given instants of changes. Changes without a boot between them
// count as one, which began with the first of them; boots from before the change that came before it are not taken, since
// the machine was another one then. Changes must be in the order of time.
func Split(boots []boot.Boot, changes []time.Time) Sides {
	if len(changes) == 0 {
		return Sides{}
	}
	between := func(from, to time.Time) bool {
		for _, b := range boots {
			if b.Began.After(from) && b.Began.Before(to) {
				return true
			}
		}
		return false
	}
	last := len(changes) - 1
	first := last
	for first > 0 && !between(changes[first-1], changes[first]) {
		first--
	}
	var s Sides
	for _, b := range boots {
		switch {
		case first > 0 && b.Began.Before(changes[first-1]):
		case b.Began.After(changes[first]) && b.Began.Before(changes[last]):
		case !b.Fit():
			s.LeftOut = append(s.LeftOut, b)
		case b.Began.Before(changes[first]):
			s.Before = append(s.Before, b)
		default:
			s.After = append(s.After, b)
		}
	}
	return s
}

// Ready returns how long each boot took until it was ready; all of them must have become so.
func Ready(boots []boot.Boot) []time.Duration {
	var d []time.Duration
	for _, b := range boots {
		d = append(d, b.Ready.Value)
	}
	return d
}
