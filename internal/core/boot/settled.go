package boot

import (
	"sort"
	"time"
)

// Settled is when the machine had gone quiet, counted from when it was ready, and from when somebody logged in.
type Settled struct {
	FromReady Figure
	FromLogin Figure
	Login     Figure // when that was, since the boot began
	Rule      Quiet  // what counted as quiet
}

// Quiet says what counts as quiet: a stretch in which all processes together keep below both bounds in every step.
type Quiet struct {
	Stretch, Step time.Duration
	Share         float64 // of one processor
	Read          float64 // bytes a second
}

// QuietRule is what the recorder goes by.
var QuietRule = Quiet{Stretch: 5 * time.Second, Step: time.Second, Share: 0.10, Read: 1e6}

// Since returns when the first quiet stretch after a moment began. course holds what the whole machine had used by each
// moment, in their order; between samples use is taken to be even. false: it was not quiet before the course ends.
func (q Quiet) Since(course []Use, from time.Duration) (time.Duration, bool) {
	if len(course) == 0 || q.Step <= 0 {
		return 0, false
	}
	from = max(from, course[0].At)
	last := course[len(course)-1].At
	for at := from; at+q.Stretch <= last; {
		noisy, found := q.noise(course, at)
		if !found {
			return at, true
		}
		at = noisy
	}
	return 0, false
}

// noise looks for a step that is not quiet in the stretch from a moment on, the last one first, and returns from where to look again.
func (q Quiet) noise(course []Use, at time.Duration) (time.Duration, bool) {
	for step := at + q.Stretch - q.Step; step >= at; step -= q.Step {
		cpu, read := between(course, step, step+q.Step)
		if cpu.Seconds() < q.Share*q.Step.Seconds() && read < q.Read*q.Step.Seconds() {
			continue
		}
		// What is noisy here may sit at the end of the step; go on from the next sample after the step's begin.
		next := sort.Search(len(course), func(i int) bool { return course[i].At > step })
		if next == len(course) {
			return step + q.Step, true
		}
		return max(at+time.Millisecond, min(course[next].At, step+q.Step)), true
	}
	return 0, false
}

// between is what was used from one moment to another.
func between(course []Use, from, to time.Duration) (cpu time.Duration, read float64) {
	cpuFrom, readFrom := by(course, from)
	cpuTo, readTo := by(course, to)
	return cpuTo - cpuFrom, readTo - readFrom
}

// by is what had been used by a moment.
func by(course []Use, at time.Duration) (cpu time.Duration, read float64) {
	i := sort.Search(len(course), func(i int) bool { return course[i].At >= at })
	switch {
	case len(course) == 0:
		return 0, 0
	case i == 0:
		return course[0].CPU, float64(course[0].Read)
	case i == len(course):
		return course[i-1].CPU, float64(course[i-1].Read)
	}
	a, b := course[i-1], course[i]
	part := float64(at-a.At) / float64(b.At-a.At)
	return a.CPU + time.Duration(part*float64(b.CPU-a.CPU)), float64(a.Read) + part*float64(b.Read-a.Read)
}

// UsedBy is what of the processors had been used by a moment, after a course; between samples use is taken to be even.
func UsedBy(course []Use, at time.Duration) time.Duration {
	cpu, _ := by(course, at)
	return cpu
}
