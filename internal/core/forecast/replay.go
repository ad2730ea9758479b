// Package forecast tells what a boot would have taken without certain items: it
// replays recorded boots with them left out.
//
// A replay knows what each unit waited for before it was started, how long its
// start took, and what it used of the processors. Computing units share the
// processors, waiting ones do not. It is first fitted to the boot as it was.
// How far it then is from what was measured is its error. With too large an
// error it forecasts nothing.
package forecast

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// MaxError is the error of a replay above which it forecasts nothing, as a
// share of ready.
const MaxError = 0.05

// finest is how far a replay may be from when the boot was usable in any case.
// The recorder looks ten times a second, and at processes once.
const finest = 250 * time.Millisecond

// Inputs say what a boot told that a replay needs.
type Inputs struct {
	Processor bool // what units used of the processors
	Courses   bool // and when
	// Disk is what the disk gave while it held the boot back, in bytes a
	// second. It is 0 where it did not, or that is not known.
	Disk float64
	// Busy is the part of all processors that was in use until ready, 0 to 1;
	// -1 where not known.
	Busy float64
}

// A Replay is a boot that can be run again without some of its units.
type Replay struct {
	Boot   boot.Boot
	Inputs Inputs
	// Error is how far the replay of the unchanged boot is from what was
	// measured, as a share of ready.
	Error float64
	Login bool // it is the login alone that can be replayed

	units      []unit
	index      map[boot.Key]int
	byName     map[string][]int
	byProgram  map[int]int // units by their places in the boot's list of programs
	goal       int
	processors float64
	looks      []boot.Use         // at the disk, where it held the boot back
	full       [][2]time.Duration // when the disk held the boot back
	base       time.Duration      // when the service manager began to start units
	duty       float64            // of background work whose course is not known
	own        time.Duration      // of a login alone: the system's own work
	unchanged  Outcome
	usable     boot.Usable // of the boot; unknown where the replay does not tell it
	// the first unit that follows the login, and how long after the login it
	// began; -1 for none
	first      int
	sinceLogin time.Duration
	allAlive   []bool
	followers  [][]int // by unit: those that are ordered after it
	anchored   [][]int // by unit: those that follow its start, if nothing else
	works      []work  // by unit, when all is fitted

	// what forecasts count from: the boot as it was, or without what has been
	// switched off since
	off       map[int]bool
	baseAlive []bool
	baseline  Outcome
	kept      []*simulation // of the baseline, at some moments; see resume.go
	keptFirst []*simulation // of the boot as it was
}

// A unit is one span as the replay sees it.
type unit struct {
	key    boot.Key
	labels boot.Label
	ran    bool
	begin  time.Duration // measured
	took   time.Duration // measured, until it counted as started
	after  []int         // what it was held back by: done when it started
	gap    time.Duration // between the last of those and its start
	// with nothing it was held back by: the unit whose start it follows by gap;
	// -1 for none
	anchor  int
	fixed   bool // it starts when it starts, whatever else does
	asked   bool // it started because a unit asked for it that pulls it in
	pulls   []int
	startBy []int // what triggers it

	piece                 // its start
	shape   []share       // of its start, where known: when it did what
	rest    time.Duration // computing in the background, course not known
	course  []piece       // of the background, where known
	width   float64       // threads at most
	program int           // of a login, its index in the boot's list; -1 for a unit
	// later tries of what it is ordered after: it waits for one that is under
	// way when it could start
	meets []int
}

// A piece is a stretch of computing, then of reading, then of waiting. Reading
// is as long as it takes alone, with the disk a bottleneck, and none where it
// was not.
type piece struct{ compute, read, wait time.Duration }

// A share is a stretch of a start: which part of all its computing, reading and
// waiting it holds.
type share struct{ compute, read, wait float64 }

// reading is how long it takes to read so many bytes alone.
func (r *Replay) reading(bytes int64) time.Duration {
	if r.Inputs.Disk == 0 {
		return 0
	}
	return seconds(float64(bytes) / r.Inputs.Disk)
}

// New prepares the replay of a boot, whose spans have to know their places in
// the order (see [boot.Fill]). An error says why the boot cannot be replayed
// well enough.
func New(b boot.Boot) (*Replay, error) {
	if !b.Ready.Known {
		return nil, errors.New("the boot never became ready")
	}
	if !b.Ordered() {
		return newLogin(b)
	}
	r := &Replay{
		Boot:       b,
		index:      map[boot.Key]int{},
		byName:     map[string][]int{},
		byProgram:  map[int]int{},
		goal:       -1,
		first:      -1,
		processors: float64(b.Processors),
	}
	if b.Processors == 0 {
		r.processors = 1e6 // not known: nothing is shared, and the forecast is a plain one
	}
	if r.Inputs.Disk = diskSpeed(b.Course); r.Inputs.Disk > 0 {
		r.looks = looks(b.Course)
		eachFull(b.Course, func(from, to boot.Use) {
			r.full = append(r.full, [2]time.Duration{from.At, to.At})
		})
	}
	r.read()
	goal, ok := r.index[boot.Key{Native: b.Goal}]
	if !ok || !r.units[goal].ran {
		return nil, errors.New("the boot's goal is not known")
	}
	r.goal = goal
	r.fixStrays()
	r.readAsks()
	r.allAlive = r.alive(nil)
	r.link()
	r.calibrate()
	r.baseAlive, r.baseline = r.allAlive, r.unchanged
	r.usable = b.Usable()
	off := (r.unchanged.Usable.Value - r.usable.Value).Abs()
	bound := max(finest, time.Duration(MaxError*float64(r.usable.Value)))
	if !r.unchanged.Usable.Known || off > bound {
		r.usable = boot.Usable{} // it is too far from when the boot was usable
	}
	if r.Error > MaxError {
		return r, fmt.Errorf("its replay is %.0f %% from what was measured", 100*r.Error)
	}
	return r, nil
}

// link notes of each unit what follows it.
func (r *Replay) link() {
	r.followers, r.anchored = make([][]int, len(r.units)), make([][]int, len(r.units))
	for i := range r.units {
		u := &r.units[i]
		if u.ran && u.anchor >= 0 {
			r.anchored[u.anchor] = append(r.anchored[u.anchor], i)
		}
		for _, j := range u.after {
			if u.ran && !u.fixed && r.units[j].ran {
				r.followers[j] = append(r.followers[j], i)
			}
		}
	}
}

// read turns the spans into units.
func (r *Replay) read() {
	b := r.Boot
	r.base = time.Duration(math.MaxInt64)
	graphs := map[string]boot.Graph{}
	for _, s := range b.Spans {
		if _, known := graphs[s.Owner]; !known {
			graphs[s.Owner] = boot.GraphOf(b, s.Owner)
		}
		r.index[boot.Key{Native: s.Native, Owner: s.Owner}] = len(r.units)
		r.byName[s.Native] = append(r.byName[s.Native], len(r.units))
		u := unit{
			key:     s.Key(),
			labels:  s.Labels,
			anchor:  -1,
			width:   1,
			program: -1,
		}
		u.ran = !s.Skipped && (s.Begin.Known || s.End.Known)
		if u.ran {
			u.begin = s.First()
			if s.Begin.Known && s.End.Known {
				u.took = max(0, s.End.Value-s.Begin.Value)
			}
			if s.Owner == "" && s.First() < r.base {
				r.base = max(0, s.First())
			}
		}
		r.units = append(r.units, u)
	}
	again := map[boot.Key][]int{}
	for i, s := range b.Spans {
		for _, t := range s.Again {
			again[s.Key()] = append(again[s.Key()], len(r.units))
			r.units[i].pulls = append(r.units[i].pulls, len(r.units))
			r.units = append(r.units, unit{
				key:     s.Key(),
				ran:     true,
				begin:   t.Begin,
				took:    t.End - t.Begin,
				piece:   piece{wait: t.End - t.Begin}, // what it computes, the first goes on with
				anchor:  i,
				gap:     max(0, t.Begin-r.units[i].begin),
				width:   1,
				program: -1,
			})
		}
	}
	for i, s := range b.Spans {
		u := &r.units[i]
		for _, name := range s.Pulls {
			if j, ok := r.index[boot.Key{Native: name, Owner: s.Owner}]; ok {
				u.pulls = append(u.pulls, j)
			}
		}
		for _, name := range s.Triggers {
			if j, ok := r.index[boot.Key{Native: name, Owner: s.Owner}]; ok {
				r.units[j].startBy = append(r.units[j].startBy, i)
			}
		}
		if u.ran {
			r.hold(i, s, graphs[s.Owner], again)
			r.load(u, s)
		}
	}
	r.readPrograms()
	used := time.Duration(0)
	for _, s := range b.Spans {
		if s.Course != nil {
			used += boot.UsedBy(s.Course, b.Ready.Value)
		} else if s.Owner == "" {
			used += s.CPU.Value
		}
		r.Inputs.Processor = r.Inputs.Processor || s.CPU.Known || len(s.Course) > 0
		r.Inputs.Courses = r.Inputs.Courses || len(s.Course) > 1
	}
	r.Inputs.Busy = -1
	switch {
	case len(b.Course) > 1 && b.Processors > 0:
		used = boot.UsedBy(b.Course, b.Ready.Value) - b.Course[0].CPU
		fallthrough
	case r.Inputs.Processor && b.Processors > 0:
		r.Inputs.Busy = math.Min(1,
			used.Seconds()/(r.processors*math.Max(0.001, (b.Ready.Value-r.base).Seconds())))
	}
}

// hold works out what held a unit back.
func (r *Replay) hold(i int, s boot.Span, g boot.Graph, again map[boot.Key][]int) {
	u := &r.units[i]
	last := time.Duration(-1)
	for _, other := range g.Before(s) {
		if done, ok := other.DoneBy(u.begin + boot.HoldLeeway); ok {
			u.after = append(u.after, r.index[other.Key()])
			u.meets = append(u.meets, again[other.Key()]...)
			last = max(last, done)
		}
	}
	if len(u.after) > 0 {
		u.gap = max(0, u.begin-last)
		return
	}
	u.gap = max(0, u.begin-r.base)
	if s.Owner == "" {
		return
	}
	// What a user's manager starts first follows the start of that manager, or
	// of what was last started before it.
	for j, m := range r.Boot.Spans {
		isManager := m.Is(boot.Session) && m.Begin.Known && m.Begin.Value <= u.begin
		if isManager && (u.anchor < 0 || m.Begin.Value > r.Boot.Spans[u.anchor].Begin.Value) {
			u.anchor = j
			u.gap = u.begin - m.Begin.Value
		}
	}
}

// load works out what a unit does: while it is started, and from then on.
func (r *Replay) load(u *unit, s boot.Span) {
	holds := s.Is(boot.Seat) && len(r.Boot.Programs) > 0 || s.Is(boot.Session) && r.holdsUsers()
	if !s.Is(boot.Service) && len(s.Course) == 0 || holds {
		u.wait = u.took // what those in it do, they do themselves
		return
	}
	total := s.CPU.Value
	end := u.begin + u.took
	once := s.Type == "oneshot" && s.Tries < 2 // what it uses, it uses until it is done
	course := s.Course
	if n := len(course); n > 0 && r.Inputs.Disk > 0 {
		course = r.evenly(course)
		read := course[n-1].Read
		if !once {
			read = min(read, boot.ReadBy(course, end))
		}
		u.read = min(r.reading(read), u.took)
	}
	if len(s.Course) > 1 {
		total = max(total, s.Course[len(s.Course)-1].CPU)
	}
	fast := s.Type == "simple" || s.Type == "exec" || s.Type == "idle" || s.Type == ""
	switch {
	case fast:
		u.compute = 0
	case once:
		u.compute = total
	case s.Type == "oneshot" && len(s.Course) < 2:
		u.compute = total / time.Duration(s.Tries)
	default:
		u.compute = min(total, u.took*9/10)
	}
	if n := len(s.Course); n > 1 && u.took > 300*time.Millisecond && !fast && !once {
		u.compute = min(total, boot.UsedBy(s.Course, end))
	}
	u.compute = min(u.compute, time.Duration(float64(u.took)*r.processors))
	if u.compute == 0 && u.read == 0 {
		u.wait = u.took
	} else if u.compute > 0 {
		u.shape = r.shapeOf(course, u.begin, end)
	}
	// Else fitting begins without waiting: where processors are crowded,
	// several answers fit, and the least waiting is the likely one.
	u.rest = max(0, total-u.compute)
	if once && !s.Stays {
		u.rest = 0
	}
	later := len(s.Course) > 2 && (u.rest > 0 || r.reading(course[len(course)-1].Read) > u.read)
	if later && !(once && !s.Stays) {
		u.course, u.width = r.pieces(course, end)
	}
}

// holdsUsers reports whether the work of what users' service managers started
// is known by itself: it counts in theirs too.
func (r *Replay) holdsUsers() bool {
	return slices.ContainsFunc(r.Boot.Spans, func(s boot.Span) bool {
		return s.Owner != "" && len(s.Course) > 0
	})
}

// shapeOf tells when within its start a unit did what; nil where too little is
// known of it.
func (r *Replay) shapeOf(course []boot.Use, begin, end time.Duration) []share {
	const least = 4
	var within []boot.Use
	step, next := (end-begin)/strokes, begin
	for _, u := range course {
		if u.At > begin && u.At < end && u.At >= next {
			within, next = append(within, u), u.At+step
		}
	}
	if len(within) < least {
		return nil
	}
	within = append(within, boot.Use{
		At:   end,
		CPU:  boot.UsedBy(course, end),
		Read: boot.ReadBy(course, end),
	})
	var all []share
	var sum share
	last := boot.Use{At: begin}
	for _, u := range within {
		used, read, span := (u.CPU - last.CPU).Seconds(), float64(u.Read-last.Read), u.At-last.At
		wait := math.Max(0, span.Seconds()-used)
		if used > 0 && r.crowded(last.At, u.At) {
			wait = 0
		}
		all = append(all, share{used, read, wait})
		sum.compute, sum.read, sum.wait = sum.compute+used, sum.read+read, sum.wait+wait
		last = u
	}
	for i := range all {
		all[i].compute /= math.Max(sum.compute, 1e-9)
		all[i].read /= math.Max(sum.read, 1e-9)
		if all[i].wait /= math.Max(sum.wait, 1e-9); sum.wait < 0.2*(end-begin).Seconds() {
			all[i].wait = 1 / float64(len(all)) // it may have waited at any time
		}
	}
	return all
}

// pieces turns the course of a unit after its start into stretches of computing
// and waiting. What it did not get while all processors were in use, it is
// taken to have wanted.
func (r *Replay) pieces(course []boot.Use, end time.Duration) ([]piece, float64) {
	var all []piece
	width := 1.0
	at, had, got := end, boot.UsedBy(course, end), boot.ReadBy(course, end)
	if course[0].At > end { // the recorder began later; what was used by then was used since
		had, got = 0, 0
	}
	for _, p := range course {
		if p.At <= end {
			continue
		}
		span, used, read := p.At-at, p.CPU-had, r.reading(p.Read-got)
		if share := float64(used) / float64(max(span,
			time.Millisecond)); share > 1.2 && span >= 80*time.Millisecond {
			width = math.Max(width, math.Ceil(share-0.2))
		}
		wait := max(0, span-used-read)
		if used > 0 && r.crowded(at, p.At) || read > 0 && r.diskCrowded(p.At) {
			wait = 0
		}
		switch n := len(all); {
		case used == 0 && read == 0 && n > 0:
			all[n-1].wait += wait
		case n > 0 && all[n-1].wait < 20*time.Millisecond && all[n-1].compute > 0 &&
			wait < 20*time.Millisecond && read == 0:
			all[n-1].compute += used
			all[n-1].wait += wait
		default:
			all = append(all, piece{used, read, wait})
		}
		at, had, got = p.At, p.CPU, p.Read
	}
	return all, width
}

// crowded reports whether all processors were in use between two moments.
func (r *Replay) crowded(from, to time.Duration) bool {
	c := r.Boot.Course
	if len(c) < 2 || to <= from {
		return false
	}
	used := boot.UsedBy(c, to) - boot.UsedBy(c, from)
	return float64(used) > 0.85*r.processors*float64(to-from)
}

// alive works out which units take part when those in off do not.
func (r *Replay) alive(off map[int]bool) []bool {
	alive := make([]bool, len(r.units))
	if r.Login {
		for i, u := range r.units {
			alive[i] = u.ran && !off[i]
		}
		return alive
	}
	queue := []int{r.goal}
	for i, u := range r.units { // of users, each manager has a goal of its own
		if u.key.Owner != "" && u.labels&boot.Goal != 0 && !off[i] {
			queue = append(queue, i)
		}
	}
	for _, i := range queue {
		alive[i] = !off[i]
	}
	walk := func() {
		for len(queue) > 0 {
			u := r.units[queue[0]]
			queue = queue[1:]
			for _, j := range u.pulls {
				if !alive[j] && !off[j] {
					alive[j] = true
					queue = append(queue, j)
				}
			}
		}
	}
	walk()
	for again := true; again; {
		again = false
		for i, u := range r.units {
			if !u.fixed || alive[i] || off[i] && !r.timed(u) {
				continue
			}
			triggered := len(u.startBy) > 0
			for _, t := range u.startBy {
				if alive[t] {
					triggered = false
				}
			}
			if triggered {
				continue // what would start it is gone
			}
			alive[i], again = true, true
			queue = append(queue, i)
			walk()
		}
	}
	return alive
}

// timed reports whether a timer or a path starts a unit, which switching it off
// does not keep it from.
func (r *Replay) timed(u unit) bool {
	for _, t := range u.startBy {
		if r.units[t].labels&boot.Clock != 0 {
			return true
		}
	}
	return false
}

// calibrate fits the waiting of each start, and the duty of background work, to
// the boot as it was.
func (r *Replay) calibrate() {
	duties := []float64{1, 0.6, 0.35, 0.2}
	unknown := false
	for _, u := range r.units {
		unknown = unknown || u.rest > 0 && u.course == nil
	}
	if !unknown {
		duties = duties[:1]
	}
	var best []unit
	least, bestDuty := math.Inf(1), 1.0
	fresh := r.units
	for _, duty := range duties {
		r.units, r.duty = slices.Clone(fresh), duty
		fitted, wrong := r.units, math.Inf(1)
		for range rounds { // they need not come nearer each time
			before := slices.Clone(r.units)
			if now := r.fit(); now < wrong {
				fitted, wrong = before, now
			}
		}
		// several may fit: the one with fewer pauses, unless another fits much
		// better
		if wrong < least*0.7-0.01 || best == nil {
			least, best, bestDuty = wrong, fitted, duty
		}
	}
	r.units, r.duty = best, bestDuty
	works := make([]work, len(r.units))
	for i := range r.units {
		works[i] = r.work(i)
	}
	r.works = works
	duty := r.duty
	r.unchanged = r.runBase(r.allAlive)
	r.unchanged.duty, r.keptFirst = duty, r.kept
	r.Error = math.Abs(float64(r.unchanged.Ready-r.Boot.Ready.Value)) / float64(r.Boot.Ready.Value)
}

// rounds of fitting, and by how much of the difference each goes: where waiting
// shrinks, computing is crowded more, which takes back a part.
const (
	rounds = 8
	stride = 1.0
)

// fit runs the boot once and moves the waiting of each start towards what was
// measured. It returns how far the starts and ready were from that, in seconds.
func (r *Replay) fit() float64 {
	out := r.run(r.allAlive)
	wrong := math.Abs((out.Ready - r.Boot.Ready.Value).Seconds())
	for i := range r.units {
		u := &r.units[i]
		if !u.ran || !r.allAlive[i] || out.done[i] == 0 && out.began[i] == 0 {
			continue
		}
		took := out.done[i] - out.began[i]
		wrong += 0.2 * math.Abs((took - u.took).Seconds())
		u.wait += time.Duration(stride * float64(u.took-took))
		if u.wait < 0 { // no waiting is left: some of the computing was in the background
			if took > 0 {
				u.read -= min(u.read, time.Duration(float64(-u.wait)*float64(u.read)/float64(took)))
			}
			if took > 0 && u.compute > 0 {
				less := min(u.compute,
					time.Duration(float64(-u.wait)*float64(u.compute)/float64(took)))
				u.compute -= less
				if u.course == nil {
					u.rest += less
				}
			}
			u.wait = 0
		}
	}
	return wrong
}
