package forecast

import (
	"cmp"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// follow has a unit of a login start when that comes. Where the login came
// after ready it is as long after ready, for the person took that time. Else it
// follows what opened the session. false where the unit is none of a login, or
// what opened it is not known.
func (r *Replay) follow(i int, under boot.Key) bool {
	u, logins := &r.units[i], r.Boot.Logged()
	if len(logins) == 0 || u.begin < logins[0].Began {
		return false
	}
	above, ok := r.index[boot.Key{Native: r.Boot.Goal}]
	typed := logins[0].Began >= r.Boot.Ready.Value
	if !typed {
		above, ok = r.index[under]
		ok = ok && r.units[above].ran && r.units[above].begin <= u.begin
	}
	if !ok {
		return false
	}
	r.launch(u, i, above)
	if typed {
		u.anchor, u.after, u.gap = -1, []int{above}, u.begin-r.Boot.Ready.Value
	}
	if r.first < 0 {
		r.first, r.sinceLogin = i, u.begin-logins[0].Began
	}
	return true
}

// opener is what opened the first session.
func (r *Replay) opener() boot.Key {
	logins := r.Boot.Logged()
	for _, p := range r.Boot.Programs {
		if p.Parent < 0 && len(logins) > 0 && p.Under != (boot.Key{}) {
			return p.Under
		}
	}
	return boot.Key{}
}

// readPrograms adds the programs of logins. The first ones of a login follow
// it, and their children follow them; others start when they start.
func (r *Replay) readPrograms() {
	b, opener := r.Boot, r.opener()
	var seat []boot.Use // the course of the seat of which most is known
	for i, s := range b.Spans {
		if s.Is(boot.Session|boot.Seat) && r.units[i].ran {
			r.follow(i, opener)
		}
		if s.Is(boot.Seat) && len(s.Course) > len(seat) {
			seat = s.Course
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
		u.course, u.width = r.pieces(shaped(p, seat), p.Began)
		r.Inputs.Courses = r.Inputs.Courses || len(p.Course) > 1
		above, child := at[r.parent(p, at)]
		n := len(r.units)
		at[i] = n
		r.units = append(r.units, u)
		r.byProgram[i] = n
		if child {
			r.launch(&r.units[n], n, above)
		} else {
			r.follow(n, p.Under)
		}
	}
}

// shaped is the course of a program, at which the recorder looks once a second.
// What it used between two looks is spread as its seat's use was, at which the
// recorder looks more often.
func shaped(p boot.Program, seat []boot.Use) []boot.Use {
	var all []boot.Use
	last := boot.Use{At: p.Began}
	for _, u := range p.Course {
		from := boot.UsedBy(seat, last.At)
		if whole := boot.UsedBy(seat, u.At) - from; whole > 0 {
			next, _ := slices.BinarySearchFunc(seat, last.At+1, func(u boot.Use,
				at time.Duration) int {
				return cmp.Compare(u.At, at)
			})
			for ; next < len(seat) && seat[next].At < u.At; next++ {
				part := float64(seat[next].CPU-from) / float64(whole)
				all = append(all, boot.Use{
					At:   seat[next].At,
					CPU:  last.CPU + time.Duration(part*float64(u.CPU-last.CPU)),
					Read: last.Read,
				})
			}
		}
		all, last = append(all, u), u
	}
	return all
}

// parent is the nearest ancestor of a program that is among some.
func (r *Replay) parent(p boot.Program, among map[int]int) int {
	for i := p.Parent; i >= 0 && i < len(r.Boot.Programs); {
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

// fixStrays has what ran though nothing known pulled it in start when it
// started. In a login, that is what its programs had the user's service manager
// start: it follows the login, and what it pulls in follows it.
func (r *Replay) fixStrays() {
	alive := r.alive(nil)
	var order []int
	for i, u := range r.units {
		if u.ran && !alive[i] {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(i, j int) int {
		return cmp.Compare(r.units[i].begin, r.units[j].begin)
	})
	opener := r.opener()
	for _, i := range order {
		u := &r.units[i]
		switch {
		case alive[i]: // an earlier one pulls it in
		case u.key.Owner != "" && u.program < 0 && len(u.startBy) == 0 && r.follow(i, opener):
			alive = r.alive(nil)
		default:
			u.fixed = true
		}
	}
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

// Unasked are the units that no boot would have started without a set, though
// only on demand. As far as was seen nothing else asks for them.
func Unasked(replays []*Replay, set Set) (all []boot.Key) {
	for _, r := range replays {
		off := r.indexes(set)
		if len(off) == 0 {
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

// held is the replay with units held back by some time each. Those of the
// machine from when the boot is ready, those of a login from when they would
// start.
func (r *Replay) held(by map[int]time.Duration) *Replay {
	held := *r
	held.units = slices.Clone(r.units)
	for i := range held.units {
		u := &held.units[i]
		late, isLate := by[i]
		if isLate && (u.program >= 0 || u.key.Owner != "") {
			u.gap += late
			if u.fixed {
				u.begin += late
			}
			continue
		}
		// what is ordered after it no longer waits: it is no part of the boot
		u.after = slices.DeleteFunc(slices.Clone(u.after), func(j int) bool {
			_, waits := by[j]
			return waits && !isLate && r.units[j].program < 0
		})
		if isLate {
			u.fixed, u.after, u.gap, u.anchor = false, []int{r.goal}, late, -1
		}
	}
	held.link()
	return &held
}
