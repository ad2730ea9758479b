package boot

import (
	"sort"
	"time"
)

// Settled is when the machine had gone quiet, counted from when it was ready,
// and from when somebody logged in.
type Settled struct {
	FromReady Figure
	FromLogin Figure
	Login     Figure // when that was, since the boot began
	Rule      Quiet  // what counted as quiet
}

// Quiet says what counts as quiet: a stretch in which all processes together
// keep below both bounds in every step.
type Quiet struct {
	Stretch, Step time.Duration
	Share         float64 // of one processor
	Read          float64 // bytes a second
}

// QuietRule is what the recorder goes by.
var QuietRule = Quiet{Stretch: 5 * time.Second, Step: time.Second, Share: 0.10, Read: 1e6}

// Since returns when the first quiet stretch after a moment began: at that
// moment, or at a sample. course holds what the whole machine had used by each
// moment, in their order; between samples use is taken to be even. false: it
// was not quiet before the course ends; the moment is then from where to look
// again once the course has grown.
func (q Quiet) Since(course []Use, from time.Duration) (time.Duration, bool) {
	if len(course) == 0 || q.Step <= 0 {
		return from, false
	}
	last := course[len(course)-1].At
	at := max(from, course[0].At)
	next := sort.Search(len(course), func(i int) bool { return course[i].At > at })
	for ; at+q.Stretch <= last; next++ {
		if q.quiet(course, at) {
			return at, true
		}
		at = course[next].At
	}
	return at, false
}

// quiet reports whether all steps of the stretch that begins at a moment are.
func (q Quiet) quiet(course []Use, at time.Duration) bool {
	for step := at + q.Stretch - q.Step; step >= at; step -= q.Step {
		cpu, read := between(course, step, step+q.Step)
		if cpu.Seconds() >= q.Share*q.Step.Seconds() || read >= q.Read*q.Step.Seconds() {
			return false
		}
	}
	return true
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
	return a.CPU +
		time.Duration(part*float64(b.CPU-a.CPU)), float64(a.Read) + part*float64(b.Read-a.Read)
}

// UsedBy is what of the processors had been used by a moment, after a course;
// between samples use is taken to be even.
func UsedBy(course []Use, at time.Duration) time.Duration {
	cpu, _ := by(course, at)
	return cpu
}

// ReadBy is how many bytes had been read from disks by a moment, after a
// course; between samples reading is taken to be even.
func ReadBy(course []Use, at time.Duration) int64 {
	_, read := by(course, at)
	return int64(read)
}
