package forecast

import (
	"container/heap"
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
	unit    int
	pieces  []piece
	width   float64
	start   bool
	compute float64 // what of the present piece is left, in seconds
	read    float64
	wait    float64
	// when its present stretch ends: by the clock when waiting, by a shared
	// clock when computing or reading
	at    float64
	place int
}

// A line is jobs by when their present stretch ends.
type line []*job

func (l line) Len() int           { return len(l) }
func (l line) Less(i, j int) bool { return l[i].at < l[j].at }
func (l line) Swap(i, j int)      { l[i], l[j] = l[j], l[i] }
func (l *line) Push(x any)        { *l = append(*l, x.(*job)) }
func (l *line) Pop() any {
	old := *l
	last := old[len(old)-1]
	*l = old[:len(old)-1]
	return last
}

// A simulation runs a boot. All computing jobs of a class progress alike:
// shared is how far each thread has come since the beginning, in seconds of a
// processor. So do all that read: disk is how far each has come, in seconds of
// the disk.
type simulation struct {
	*Replay
	alive     []bool
	now       float64
	shared    [classes]float64
	threads   [classes]float64
	disk      float64
	computing [classes]line
	reading   line
	waiting   line // jobs that wait, and units that are about to start
	left      []int
	followers [][]int // by unit: those that wait for it to be done
	follows   [][]int // by unit: those that follow its start
	out       Outcome
	used      []boot.Use
	spent     float64
	fetched   float64 // seconds of the disk
}

// The kernel gives each unit and each login a fair part of the processors, and
// all programs of a login share its part (sched(7), autogroup).
const (
	ofUnits = iota
	ofLogins
	classes
)

func (s *simulation) classOf(j *job) int {
	if s.units[j.unit].program >= 0 {
		return ofLogins
	}
	return ofUnits
}

// rates are how fast a thread of each class computes.
func (s *simulation) rates() (rates [classes]float64) {
	units, logins := s.threads[ofUnits], s.threads[ofLogins]
	switch {
	case units+logins <= s.processors:
		return [classes]float64{1, 1}
	case logins == 0:
		return [classes]float64{ofUnits: s.processors / units}
	}
	rates[ofUnits] = math.Min(1, s.processors/(units+1))
	rates[ofLogins] = math.Min(1, (s.processors-units*rates[ofUnits])/logins)
	return rates
}

// run replays the boot with those units that are alive.
func (r *Replay) run(alive []bool) Outcome {
	if r.Login {
		return r.runLogin(alive)
	}
	n := len(r.units)
	s := &simulation{
		Replay:    r,
		alive:     alive,
		left:      make([]int, n),
		followers: make([][]int, n),
		follows:   make([][]int, n),
	}
	s.out.began, s.out.done = make([]time.Duration, n), make([]time.Duration, n)
	for i, u := range r.units {
		if !u.ran || !alive[i] {
			continue
		}
		if !u.fixed {
			for _, j := range u.after {
				if alive[j] && r.units[j].ran {
					s.left[i]++
					s.followers[j] = append(s.followers[j], i)
				}
			}
		}
		switch {
		case s.left[i] > 0:
		case u.fixed:
			s.later(i, u.begin)
		case u.anchor >= 0 && alive[u.anchor]:
			s.follows[u.anchor] = append(s.follows[u.anchor], i)
		default:
			s.later(i, r.base+u.gap)
		}
	}
	limit := 20*r.Boot.Ready.Value.Seconds() + 60
	if r.first >= 0 {
		limit += r.units[r.first].begin.Seconds()
	}
	for s.busy() && s.now < limit {
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
	heap.Push(&s.waiting, &job{unit: i, start: true, at: at.Seconds()})
}

// release has a unit start whose predecessors are done, unless one of them is
// at a later try just now.
func (s *simulation) release(f int) {
	for _, t := range s.units[f].meets {
		if s.out.began[t] > 0 && s.out.done[t] == 0 {
			s.left[f]++
			s.followers[t] = append(s.followers[t], f)
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
	rates := s.rates()
	readers := float64(len(s.reading))
	next, from := math.Inf(1), &s.waiting
	for class, rate := range rates {
		if line := s.computing[class]; len(line) > 0 {
			if at := s.now + (line[0].at-s.shared[class])/rate; at < next {
				next, from = at, &s.computing[class]
			}
		}
	}
	if len(s.reading) > 0 {
		if at := s.now + (s.reading[0].at-s.disk)*readers; at < next {
			next, from = at, &s.reading
		}
	}
	if len(s.waiting) > 0 && s.waiting[0].at < next {
		next, from = s.waiting[0].at, &s.waiting
	}
	next = math.Max(next, s.now)
	for class, rate := range rates {
		s.shared[class] += (next - s.now) * rate
		s.spent += (next - s.now) * rate * s.threads[class]
	}
	if readers > 0 {
		s.disk += (next - s.now) / readers
		s.fetched += next - s.now
	}
	s.now = next
	if n := len(s.used); s.Inputs.Courses && (n == 0 || s.now-s.used[n-1].At.Seconds() >= 0.1) {
		s.used = append(s.used, s.use())
	}
	j := heap.Pop(from).(*job)
	switch from {
	case &s.computing[ofUnits], &s.computing[ofLogins]:
		class := s.classOf(j)
		s.threads[class] -= j.width
		s.shared[class] = math.Max(s.shared[class], j.at)
		j.compute = 0
	case &s.reading:
		s.disk = math.Max(s.disk, j.at)
		j.read = 0
	default:
		if j.pieces == nil && j.start {
			s.begin(j)
			return
		}
		j.wait = 0
	}
	s.goOn(j)
}

// use is what the machine has used so far.
func (s *simulation) use() boot.Use {
	return boot.Use{
		At:   seconds(s.now),
		CPU:  seconds(s.spent),
		Read: int64(s.fetched * s.Inputs.Disk),
	}
}

// begin starts a unit.
func (s *simulation) begin(j *job) {
	u := s.units[j.unit]
	s.out.began[j.unit] = seconds(s.now)
	for _, i := range s.follows[j.unit] {
		s.later(i, seconds(s.now)+s.units[i].gap)
	}
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
	j.pieces = make([]piece, len(shape))
	part := func(of float64, whole time.Duration) time.Duration {
		return time.Duration(of * float64(whole))
	}
	for k, p := range shape {
		j.pieces[k] = piece{part(p.compute, u.compute), part(p.read, u.read), part(p.wait, u.wait)}
	}
	j.width = math.Max(1, math.Ceil(float64(u.compute)/math.Max(1, float64(u.took))-0.2))
	s.goOn(j)
}

// goOn takes a job to its next stretch, or ends it.
func (s *simulation) goOn(j *job) {
	for {
		switch {
		case j.compute > 0:
			class := s.classOf(j)
			j.at = s.shared[class] + j.compute/j.width
			s.threads[class] += j.width
			heap.Push(&s.computing[class], j)
			return
		case j.read > 0:
			j.at = s.disk + j.read
			heap.Push(&s.reading, j)
			return
		case j.wait > 0:
			j.at = s.now + j.wait
			heap.Push(&s.waiting, j)
			return
		case j.place < len(j.pieces):
			p := j.pieces[j.place]
			j.compute, j.read, j.wait = p.compute.Seconds(), p.read.Seconds(), p.wait.Seconds()
			j.place++
		default:
			if j.start {
				s.done(j.unit)
			}
			return
		}
	}
}

// done ends a start: what waited for it may go on, and its background begins.
func (s *simulation) done(i int) {
	u := s.units[i]
	s.out.done[i] = seconds(s.now)
	for _, f := range s.followers[i] {
		if s.left[f]--; s.left[f] == 0 {
			s.release(f)
		}
	}
	switch {
	case u.course != nil:
		j := &job{unit: i, pieces: u.course, width: u.width}
		s.goOn(j)
	case u.rest > 0:
		const stroke = 100 * time.Millisecond
		n := max(1, int(u.rest/stroke))
		n = min(n, 200)
		compute := u.rest / time.Duration(n)
		j := &job{unit: i, width: 1, pieces: make([]piece, n)}
		for k := range j.pieces {
			j.pieces[k] = piece{
				compute: compute,
				wait:    time.Duration(float64(compute) * (1 - s.duty) / s.duty),
			}
		}
		s.goOn(j)
	}
}
