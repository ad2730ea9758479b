package forecast

import (
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// readPrograms adds the programs of logins. The first ones of a login follow
// it, and their children follow them; a login that came once the machine was
// ready follows ready, one that came before follows what opened its session.
// Where that is not known they start when they start.
func (r *Replay) readPrograms() {
	b := r.Boot
	goal, known := r.index[boot.Key{Native: b.Goal}]
	logins := b.Logged()
	follow := func(*unit, int, boot.Key) {}
	switch {
	case len(logins) == 0:
	case logins[0].Began < b.Ready.Value:
		follow = func(u *unit, i int, under boot.Key) {
			if above, ok := r.index[under]; ok && r.units[above].ran &&
				r.units[above].begin <= u.begin {
				r.launch(u, i, above)
				if r.first < 0 {
					r.first, r.sinceLogin = i, u.begin-logins[0].Began
				}
			}
		}
	case known:
		follow = func(u *unit, i int, _ boot.Key) {
			u.fixed, u.after = false, []int{goal}
			u.gap = max(0, u.begin-b.Ready.Value)
			r.units[goal].pulls = append(r.units[goal].pulls, i)
		}
	}
	opened := boot.Key{} // what opened the first session
	for _, p := range slices.Backward(b.Programs) {
		if p.Parent < 0 && len(logins) > 0 && p.Began >= logins[0].Began {
			opened = p.Under
		}
	}
	for i, s := range b.Spans {
		u := &r.units[i]
		if s.Is(boot.Session|boot.Seat) && u.ran && len(logins) > 0 &&
			u.begin >= logins[0].Began {
			follow(u, i, opened)
		}
	}
	at := map[int]int{} // units by their places in the boot's list
	for i, p := range b.Programs {
		if len(p.Course) == 0 {
			continue
		}
		u := unit{
			key:     boot.Key{Native: p.Name, Owner: p.Owner},
			ran:     true,
			begin:   p.Began,
			fixed:   true,
			anchor:  -1,
			program: i,
		}
		u.course, u.width = r.pieces(p.Course, p.Began)
		r.Inputs.Courses = r.Inputs.Courses || len(p.Course) > 1
		above, child := at[r.parent(p, at)]
		n := len(r.units)
		at[i] = n
		r.units = append(r.units, u)
		r.byProgram[i] = n
		switch {
		case child:
			r.launch(&r.units[n], n, above)
		case len(logins) > 0 && u.begin >= logins[0].Began:
			follow(&r.units[n], n, p.Under)
		}
	}
}

// parent is the nearest ancestor of a program that is among some.
func (r *Replay) parent(p boot.Program, among map[int]int) int {
	for i := p.Parent; i >= 0; {
		if _, ok := among[i]; ok {
			return i
		}
		above := r.Boot.Programs[i].Parent
		if above >= i {
			break // no list of ours
		}
		i = above
	}
	return -1
}

// launch has unit i follow the begin of another, without which it would not
// have started.
func (r *Replay) launch(u *unit, i, above int) {
	u.fixed, u.anchor, u.after = false, above, nil
	u.gap = max(0, u.begin-r.units[above].begin)
	r.units[above].pulls = append(r.units[above].pulls, i)
}

// readAsks has what nothing but an ask started follow whoever asked. Of what
// came before that is not known it starts when it started.
func (r *Replay) readAsks() {
	for _, a := range r.Boot.Asks {
		i, ok := r.index[boot.Key{Native: a.Unit, Owner: a.Owner}]
		if !ok || !r.units[i].fixed || a.At > r.units[i].begin+boot.HoldLeeway {
			continue
		}
		key, program, ok := r.Boot.Asker(a)
		by, known := r.index[key]
		if program >= 0 {
			by, known = r.byProgram[program]
		}
		u := &r.units[i]
		if !ok || !known || by == i || !r.units[by].ran || r.units[by].begin > u.begin {
			continue
		}
		u.asked = true
		if u.begin-u.gap > a.At && len(u.after) > 0 { // it was asked for, and had to wait
			u.fixed = false
			r.units[by].pulls = append(r.units[by].pulls, i)
			continue
		}
		r.launch(u, i, by)
	}
}

// Unasked are the units that none of some boots would have started without a
// set, though only on demand: as far as was seen nothing else asks for them.
func Unasked(replays []*Replay, set Set) (all []boot.Key) {
	for _, r := range replays {
		off := r.indexes(set)
		own := len(off)
		if own == 0 {
			continue
		}
		for i := range r.off {
			off[i] = true
		}
		alive := r.alive(off)
		for i, u := range r.units {
			if u.asked && r.baseAlive[i] && !alive[i] && !off[i] && !slices.Contains(all, u.key) {
				all = append(all, u.key)
			}
		}
	}
	return all
}

// late is the replay of the boot with a set held back by some time: units of
// the machine from when the boot is ready, those of a login from when they
// would start.
func (r *Replay) late(set map[int]bool, by time.Duration) Outcome {
	held := *r
	held.units = slices.Clone(r.units)
	for i := range held.units {
		u := &held.units[i]
		if set[i] && (u.program >= 0 || u.key.Owner != "") {
			u.gap += by
			if u.fixed {
				u.begin += by
			}
			continue
		}
		// what is ordered after it no longer waits: it is no part of the boot
		u.after = slices.DeleteFunc(slices.Clone(u.after), func(j int) bool {
			return set[j] && !set[i] && r.units[j].program < 0
		})
		if set[i] {
			u.fixed, u.after, u.gap, u.anchor = false, []int{r.goal}, by, -1
		}
	}
	return held.run(r.baseAlive)
}
