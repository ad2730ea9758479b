package forecast

import (
	"math"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// An Outcome is how a replayed boot came out.
type Outcome struct {
	Ready time.Duration
	// Settled is when it had gone quiet, since the boot began; unknown without
	// courses.
	Settled boot.Figure
	// Usable is when one could work, as [boot.Boot.Usable] defines it.
	Usable boot.Figure

	began, done []time.Duration // by unit
	duty        float64
}

const strokes = 8 // into which a start's computing and waiting are cut

// A job is the work of one unit that is under way: a start, or what goes on in
// the background.
type job struct {
	unit    int32
	place   int32 // of the next stretch; -1 for a start that has not begun
	start   bool
	class   uint8   // of the processors' clocks
	compute float64 // what of the present stretch is left, in seconds
	read    float64
	wait    float64
}

// A stretch is a piece in seconds.
type stretch struct{ compute, read, wait float64 }

func (p piece) stretch() stretch {
	return stretch{p.compute.Seconds(), p.read.Seconds(), p.wait.Seconds()}
}

// A line is jobs by when their present stretch ends, the first of them last.
// Few are in it: to make room for one costs no more than a heap.
type line []entry

// An entry is a job by its place among all, and when its stretch ends. That is
// by the clock when waiting, by a shared clock when computing or reading.
type entry struct {
	at  float64
	job int
}

// push adds an entry. Of two that end together, the one that came first is
// first.
func (l *line) push(e entry) {
	h := *l
	low, high := 0, len(h) // the first place whose entry ends no later
	for low < high {
		mid := int(uint(low+high) >> 1)
		if h[mid].at <= e.at {
			high = mid
		} else {
			low = mid + 1
		}
	}
	h = append(h, e)
	copy(h[low+1:], h[low:])
	h[low] = e
	*l = h
}

// first is the entry that ends first; the line must not be empty.
func (l line) first() entry { return l[len(l)-1] }

func (l *line) pop() entry {
	e := l.first()
	*l = (*l)[:len(*l)-1]
	return e
}

// A simulation runs a boot. All computing jobs of a class progress alike:
// shared is how far each thread has come since the beginning, in seconds of a
// processor. So do all that read: disk is how far each has come, in seconds of
// the disk.
type simulation struct {
	*Replay
	alive     []bool
	does      []work // by unit
	now       float64
	shared    [classes]float64
	threads   [classes]float64
	disk      float64
	computing [classes]line
	reading   line
	waiting   line // jobs that wait, and units that are about to start
	jobs      []job
	left      []int
	held      [][]int // by unit: those that wait for it to be done besides, see release
	follows   []bool  // by unit: it follows the start of its anchor
	out       Outcome
	used      []boot.Use
	look      float64 // when used is gone on with
	spent     float64
	fetched   float64 // seconds of the disk
	keeps     *[]*simulation
}

// The kernel gives each unit and each login a fair part of the processors, and
// all programs of a login share its part (sched(7), autogroup).
const (
	ofUnits = iota
	ofLogins
	classes
)

// slowness is how long a thread of each class takes for a second of computing.
func (s *simulation) slowness() (slow [classes]float64) {
	units, logins := s.threads[ofUnits], s.threads[ofLogins]
	if logins == 0 {
		return [classes]float64{max(1, units/s.processors), 1}
	}
	if units+logins <= s.processors {
		return [classes]float64{1, 1}
	}
	slow[ofUnits] = max(1, (units+1)/s.processors)
	slow[ofLogins] = max(1, logins/(s.processors-units/slow[ofUnits]))
	return slow
}

// run replays the boot with those units that are alive.
func (r *Replay) run(alive []bool) Outcome {
	if r.Login {
		return r.runLogin(alive)
	}
	return r.begin(alive).end()
}

// begin is the boot before anything has started.
func (r *Replay) begin(alive []bool) *simulation {
	n := len(r.units)
	s := &simulation{
		Replay:  r,
		alive:   alive,
		does:    r.works,
		jobs:    make([]job, 0, 2*n),
		left:    make([]int, n),
		follows: make([]bool, n),
	}
	s.out.began, s.out.done = make([]time.Duration, n), make([]time.Duration, n)
	if s.does == nil {
		s.does = make([]work, n)
	}
	for i := range r.units {
		u := &r.units[i]
		if r.works == nil && u.ran && alive[i] {
			s.does[i] = r.work(i)
		}
		if !u.ran || !alive[i] {
			continue
		}
		if !u.fixed {
			for _, j := range u.after {
				if alive[j] && r.units[j].ran {
					s.left[i]++
				}
			}
		}
		switch {
		case s.left[i] > 0:
		case u.fixed:
			s.later(i, u.begin)
		case u.anchor >= 0 && alive[u.anchor]:
			s.follows[i] = true
		default:
			s.later(i, r.base+u.gap)
		}
	}
	return s
}

// end goes on until nothing is left to do.
func (s *simulation) end() Outcome {
	r, alive := s.Replay, s.alive
	limit := 20*r.Boot.Ready.Value.Seconds() + 60
	if r.first >= 0 {
		limit += r.units[r.first].begin.Seconds()
	}
	for s.busy() && s.now < limit {
		if s.keeps != nil {
			s.keep()
		}
		s.step()
	}
	goal := s.out.done[r.goal]
	s.out.Ready = goal
	if r.Inputs.Courses {
		last := s.use()
		s.used = append(s.used, last, boot.Use{
			At:   last.At + 10*time.Second,
			CPU:  last.CPU,
			Read: last.Read,
		})
		if at, ok := boot.QuietRule.Since(s.used, goal); ok {
			s.out.Settled = boot.Of(at, boot.Recorder)
		}
		waited := time.Duration(0) // from ready to the login
		if r.first >= 0 && alive[r.first] {
			waited = max(0, s.out.began[r.first]-r.sinceLogin-goal)
		}
		if at, ok := boot.QuietRule.Since(s.used, goal+waited); ok {
			s.out.Usable = boot.Of(at-waited, boot.Recorder)
		}
	}
	return s.out
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// later has a unit start at a moment.
func (s *simulation) later(i int, at time.Duration) {
	s.waiting.push(entry{at.Seconds(), s.job(job{unit: int32(i), place: -1, start: true})})
}

// job takes note of a new one, and returns its place.
func (s *simulation) job(j job) int {
	if s.units[j.unit].program >= 0 {
		j.class = ofLogins
	}
	s.jobs = append(s.jobs, j)
	return len(s.jobs) - 1
}

// release has a unit start whose predecessors are done, unless one of them is
// at a later try just now.
func (s *simulation) release(f int) {
	for _, t := range s.units[f].meets {
		if s.out.began[t] > 0 && s.out.done[t] == 0 {
			s.left[f]++
			if s.held == nil {
				s.held = make([][]int, len(s.units))
			}
			s.held[t] = append(s.held[t], f)
		}
	}
	if s.left[f] == 0 {
		s.later(f, seconds(s.now)+s.units[f].gap)
	}
}

// busy reports whether anything is under way.
func (s *simulation) busy() bool {
	return len(s.computing[ofUnits])+len(s.computing[ofLogins])+len(s.reading)+len(s.waiting) > 0
}

// step goes on to the next moment at which something ends.
func (s *simulation) step() {
	slow := s.slowness()
	readers := float64(len(s.reading))
	next, from := math.Inf(1), &s.waiting
	for class := range s.computing {
		if line := s.computing[class]; len(line) > 0 {
			at := s.now + (line.first().at-s.shared[class])*slow[class]
			if at < next {
				next, from = at, &s.computing[class]
			}
		}
	}
	if len(s.reading) > 0 {
		if at := s.now + (s.reading.first().at-s.disk)*readers; at < next {
			next, from = at, &s.reading
		}
	}
	if len(s.waiting) > 0 && s.waiting.first().at < next {
		next, from = s.waiting.first().at, &s.waiting
	}
	next = max(next, s.now)
	for class := range s.computing {
		if s.threads[class] > 0 {
			done := (next - s.now) / slow[class]
			s.shared[class] += done
			s.spent += done * s.threads[class]
		}
	}
	if readers > 0 {
		s.disk += (next - s.now) / readers
		s.fetched += next - s.now
	}
	s.now = next
	if s.Inputs.Courses && s.now >= s.look {
		s.used, s.look = append(s.used, s.use()), s.now+0.1
	}
	e := from.pop()
	j := &s.jobs[e.job]
	switch from {
	case &s.computing[ofUnits], &s.computing[ofLogins]:
		s.threads[j.class] -= s.does[j.unit].threads(j.start)
		s.shared[j.class] = max(s.shared[j.class], e.at)
		j.compute = 0
	case &s.reading:
		s.disk = max(s.disk, e.at)
		j.read = 0
	default:
		if j.place < 0 {
			s.begin(e.job)
			return
		}
		j.wait = 0
	}
	s.goOn(e.job)
}

// use is what the machine has used so far.
func (s *simulation) use() boot.Use {
	return boot.Use{
		At:   seconds(s.now),
		CPU:  seconds(s.spent),
		Read: int64(s.fetched * s.Inputs.Disk),
	}
}

// begin starts a unit, whose job stands at a place.
func (s *simulation) begin(place int) {
	i := int(s.jobs[place].unit)
	s.out.began[i] = seconds(s.now)
	for _, f := range s.anchored[i] {
		if s.follows[f] && s.alive[f] {
			s.later(f, seconds(s.now)+s.units[f].gap)
		}
	}
	s.jobs[place].place = 0
	s.goOn(place)
}

// A work is what a unit does, ready to be replayed.
type work struct {
	start      []stretch // of its start, one after the other
	width      float64   // threads while it starts
	background []stretch
	wide       float64 // threads in the background
}

// threads are those of its start, or in the background.
func (w *work) threads(start bool) float64 {
	if start {
		return w.width
	}
	return w.wide
}

// stretches are those of its start, or of the background.
func (w *work) stretches(start bool) []stretch {
	if start {
		return w.start
	}
	return w.background
}

// work is what a unit does.
func (r *Replay) work(i int) work {
	u := &r.units[i]
	w := work{
		start: u.starting(),
		width: max(1, math.Ceil(float64(u.compute)/max(1, float64(u.took))-0.2)),
	}
	switch {
	case u.course != nil:
		w.wide = u.width
		w.background = make([]stretch, len(u.course))
		for k, p := range u.course {
			w.background[k] = p.stretch()
		}
	case u.rest > 0:
		const stroke = 100 * time.Millisecond
		n := max(1, int(u.rest/stroke))
		n = min(n, 200)
		compute := u.rest / time.Duration(n)
		one := piece{
			compute: compute,
			wait:    time.Duration(float64(compute) * (1 - r.duty) / r.duty),
		}
		w.wide, w.background = 1, slices.Repeat([]stretch{one.stretch()}, n)
	}
	return w
}

// starting are the stretches of a start.
func (u *unit) starting() []stretch {
	n := strokes
	if max(u.compute, u.read) < 20*time.Millisecond ||
		u.compute+u.read+u.wait < max(u.compute, u.read, u.wait)+20*time.Millisecond {
		n = 2 // all but one kind of it is short
	}
	shape := u.shape
	if shape == nil {
		even := share{1 / float64(n), 1 / float64(n), 1 / float64(n)}
		shape = slices.Repeat([]share{even}, n)
	}
	part := func(of float64, whole time.Duration) time.Duration {
		return time.Duration(of * float64(whole))
	}
	all := make([]stretch, len(shape))
	for k, p := range shape {
		one := piece{part(p.compute, u.compute), part(p.read, u.read), part(p.wait, u.wait)}
		all[k] = one.stretch()
	}
	return all
}

// goOn takes a job to its next stretch, or ends it.
func (s *simulation) goOn(place int) {
	j := &s.jobs[place]
	does := &s.does[j.unit]
	all := does.stretches(j.start)
	for {
		switch {
		case j.compute > 0:
			threads := does.threads(j.start)
			s.threads[j.class] += threads
			s.computing[j.class].push(entry{s.shared[j.class] + j.compute/threads, place})
			return
		case j.read > 0:
			s.reading.push(entry{s.disk + j.read, place})
			return
		case j.wait > 0:
			s.waiting.push(entry{s.now + j.wait, place})
			return
		case int(j.place) < len(all):
			p := &all[j.place]
			j.compute, j.read, j.wait = p.compute, p.read, p.wait
			j.place++
		default:
			if j.start {
				s.done(int(j.unit))
			}
			return
		}
	}
}

// done ends a start: what waited for it may go on, and its background begins.
func (s *simulation) done(i int) {
	s.out.done[i] = seconds(s.now)
	next := func(f int) {
		if s.left[f]--; s.left[f] == 0 {
			s.release(f)
		}
	}
	for _, f := range s.followers[i] {
		if s.alive[f] {
			next(f)
		}
	}
	if s.held != nil {
		for _, f := range s.held[i] {
			next(f)
		}
	}
	if len(s.does[i].background) > 0 {
		s.goOn(s.job(job{unit: int32(i)}))
	}
}
