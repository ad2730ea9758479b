// Package boot holds the words for one recorded start of a machine: its phases, when it was ready, and the spans of its items.
//
// All durations count from the moment the kernel began; in a container, from the moment the service manager did. A figure
// that was not measured is not there, and is never 0.
package boot

import (
	"slices"
	"time"
)

// A Figure is a duration that may not have been measured.
type Figure struct {
	Value time.Duration
	Known bool
}

// Of makes a measured figure.
func Of(d time.Duration) Figure { return Figure{d, true} }

// A Phase is one stage of a boot.
type Phase struct {
	Name string // firmware, loader, kernel, initrd, userspace
	Took time.Duration
}

// PhaseNames lists the phases in the order in which a boot goes through them.
var PhaseNames = []string{"firmware", "loader", "kernel", "initrd", "userspace"}

// A Span is the start of one item during a boot.
type Span struct {
	Native string // the unit's name
	Begin  Figure // unknown where only its end was logged
	End    Figure // when it counted as started; unknown where nothing says so
	Failed bool
	CPU    Figure // processor time it had used when it stopped
}

// First is the earliest moment that is known of the span.
func (s Span) First() time.Duration {
	if s.Begin.Known {
		return s.Begin.Value
	}
	return s.End.Value
}

// OwnTime is how long the item's start took, by itself. It says nothing about what the boot would gain without it.
func (s Span) OwnTime() Figure {
	if !s.Begin.Known || !s.End.Known {
		return Figure{}
	}
	return Of(s.End.Value - s.Begin.Value)
}

// A Boot is one recorded start.
type Boot struct {
	ID        string // the operating system's own id of it
	Began     time.Time
	Phases    []Phase  // those that the machine reports
	Ready     Figure   // until the boot's goal was reached
	Goal      string   // the goal's name, where it is known
	Spans     []Span   // by their begin
	Odd       []string // reasons not to compare it
	Simulated bool     // a simulator's work, no measurement
}

// Phase returns how long a phase took.
func (b Boot) Phase(name string) Figure {
	for _, p := range b.Phases {
		if p.Name == name {
			return Of(p.Took)
		}
	}
	return Figure{}
}

// Span returns the span of an item, by its native name.
func (b Boot) Span(native string) (Span, bool) {
	i := slices.IndexFunc(b.Spans, func(s Span) bool { return s.Native == native })
	if i < 0 {
		return Span{}, false
	}
	return b.Spans[i], true
}

// Fit reports whether the boot can be compared with others: it became ready, and nothing about it is odd.
func (b Boot) Fit() bool { return b.Ready.Known && len(b.Odd) == 0 }

// Fit returns those of the boots that can be compared, at most the last n.
func Fit(boots []Boot, n int) []Boot {
	var fit []Boot
	for _, b := range boots {
		if b.Fit() {
			fit = append(fit, b)
		}
	}
	return fit[max(0, len(fit)-n):]
}

// An OwnTime is the own time of an item over several boots.
type OwnTime struct {
	Median    time.Duration
	Boots     int // in how many boots it was measured
	Of        int // of how many
	Simulated bool
}

// OwnTimes returns the own time of each item, by native name, over the given boots.
func OwnTimes(boots []Boot) map[string]OwnTime {
	seen := map[string][]time.Duration{}
	simulated := false
	for _, b := range boots {
		simulated = simulated || b.Simulated
		for _, s := range b.Spans {
			if own := s.OwnTime(); own.Known {
				seen[s.Native] = append(seen[s.Native], own.Value)
			}
		}
	}
	times := make(map[string]OwnTime, len(seen))
	for native, all := range seen {
		times[native] = OwnTime{Median: Median(all), Boots: len(all), Of: len(boots), Simulated: simulated}
	}
	return times
}

// Median returns the middle value, or the mean of the two middle ones. values must not be empty; it is left as it is.
func Median(values []time.Duration) time.Duration {
	sorted := slices.Sorted(slices.Values(values))
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}
