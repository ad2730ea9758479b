package forecast

import (
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// A boot without an item is the boot as it was until the item would have begun.
// Or it is so until something would no longer have waited for it. So the replay
// that forecasts count from is kept as it stood at some moments. Another one
// goes on from the last of them that both share. Nothing else depends on it:
// the outcome is that of a replay from the beginning.

// moments is how many are kept until ready, evenly.
const moments = 12

// runBase replays what forecasts count from, and keeps it at some moments.
func (r *Replay) runBase(alive []bool) Outcome {
	r.kept = nil
	if r.Login {
		return r.runLogin(alive)
	}
	s := r.begin(alive)
	s.keeps = &r.kept
	return s.end()
}

// keep keeps the simulation as it stands, if it is time.
func (s *simulation) keep() {
	part := (s.Boot.Ready.Value - s.base).Seconds() / moments
	if n := len(*s.keeps) + 1; n <= moments && s.now >= s.base.Seconds()+float64(n)*part {
		*s.keeps = append(*s.keeps, s.clone())
	}
}

// clone is a simulation that goes on by itself and keeps nothing.
func (s *simulation) clone() *simulation {
	c := *s
	c.keeps = nil
	for class := range c.computing {
		c.computing[class] = slices.Clone(s.computing[class])
	}
	c.reading, c.waiting = slices.Clone(s.reading), slices.Clone(s.waiting)
	c.jobs = append(make([]job, 0, 2*len(s.units)), s.jobs...)
	c.left = slices.Clone(s.left)
	c.used = append(make([]boot.Use, 0, len(s.used)+cap(s.used)), s.used...)
	c.held = slices.Clone(s.held)
	for i := range c.held {
		c.held[i] = slices.Clone(s.held[i])
	}
	c.out.began, c.out.done = slices.Clone(s.out.began), slices.Clone(s.out.done)
	return &c
}

// rerun replays the boot with those units that are alive, as run does; from the
// beginning only where it must.
func (r *Replay) rerun(alive []bool) Outcome {
	if len(r.kept) == 0 {
		return r.run(alive)
	}
	apart, ok := r.apart(alive)
	if !ok {
		return r.run(alive)
	}
	for _, at := range slices.Backward(r.kept) {
		if at.now < apart.Seconds() {
			return at.without(alive).end()
		}
	}
	return r.run(alive)
}

// apart is the first moment at which the boot with those units that are alive
// may differ from the one that forecasts count from. A little is taken off. It
// is false where it may from the beginning.
func (r *Replay) apart(alive []bool) (at time.Duration, ok bool) {
	const little = time.Microsecond // began and done are rounded
	out := r.baseline
	at = r.unchanged.Settled.Value + time.Hour
	for d := range r.units {
		switch {
		case alive[d] == r.baseAlive[d] || !r.units[d].ran:
			continue
		case alive[d]:
			return 0, false // it is one more
		}
		at = min(at, out.began[d]) // 0 if it never did
		for _, f := range r.anchored[d] {
			if alive[f] {
				return 0, false
			}
		}
		for _, f := range r.followers[d] {
			if !alive[f] {
				continue
			}
			free := time.Duration(0) // when it waits for nothing else
			for _, j := range r.units[f].after {
				if alive[j] && r.units[j].ran {
					free = max(free, out.done[j])
				}
			}
			at = min(at, free)
		}
	}
	return at - little, at > little
}

// without is a kept simulation that goes on without those units that are not
// alive, none of which has begun.
func (s *simulation) without(alive []bool) *simulation {
	c := s.clone()
	c.alive = alive
	for d := range c.units {
		if alive[d] || !s.alive[d] || !c.units[d].ran {
			continue
		}
		for _, f := range c.followers[d] {
			c.left[f]--
		}
	}
	c.waiting = slices.DeleteFunc(c.waiting, func(e entry) bool {
		return !alive[c.jobs[e.job].unit]
	})
	return c
}
