// Package waits arranges one boot as what people waited for. That is what
// usable, or ready where that is not known, waited for, one stretch after the
// other. It has what worked beside each.
package waits

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// Waits are what a boot waited for, from its begin to its end.
type Waits struct {
	Name       string        // of the end: "usable" or "ready"; empty where it came to neither
	End        time.Duration // on an axis without LeftOut
	Stretches  []Stretch     // they follow each other from 0 to End
	Marks      []Mark
	Busy       []boot.Use // of the whole machine; empty where nobody measured it
	Processors int        // 0 where not known
	// LeftOut is how long the machine was ready and waited for somebody to log
	// in: the axis leaves it out at the mark "login". 0 for not at all.
	LeftOut time.Duration
}

// A Stretch is the time from when what came before was done until one thing
// was.
type Stretch struct {
	Label    string // a phase, an item's native name, or whose login it is
	From, To time.Duration
	Failed   bool
	Beside   []Beside // what worked meanwhile, the busiest first
	More     int      // how many others did
}

// Took is how long it was.
func (s Stretch) Took() time.Duration { return s.To - s.From }

// Beside is something that worked while something else was waited for.
type Beside struct {
	Label string
	// CPU is what it used of the processors in that stretch. It is unknown
	// where nobody measured it: then it only ran.
	CPU boot.Figure
}

// A Mark is a moment with a name.
type Mark struct {
	Name string
	At   time.Duration
}

// short is the part of the way below which a stretch counts for the next one.
const short = 1.0 / 250

// Of arranges a boot, with at most so many things beside each stretch. The
// boot's spans have to know their order (see [boot.Fill]); without it there is
// one stretch until ready.
func Of(b boot.Boot, most int) Waits {
	b, left := b.WithoutWaiting()
	r := Waits{LeftOut: left, Busy: b.Course, Processors: b.Processors}
	if !b.Ready.Known {
		for _, s := range b.Spans {
			r.End = max(r.End, s.End.Value)
		}
		r.add(Stretch{Label: "not ready, as far as is known", To: r.End})
		r.beside(b, most)
		return r
	}
	r.Name, r.End = "ready", b.Ready.Value
	r.Marks = []Mark{{"ready", b.Ready.Value}}
	u, logins := b.Usable(), b.Logged()
	if u.Known {
		r.Name, r.End = "usable", u.Value
	}
	for _, p := range boot.Explain(b) {
		s, _ := b.Span(p.Name)
		r.add(Stretch{Label: p.Name, To: r.reached() + p.Took, Failed: s.Failed})
	}
	if len(logins) > 0 && logins[0].Began <= r.End {
		r.Marks = append(r.Marks, Mark{"login", logins[0].Began})
	}
	if rest := r.End - r.reached(); u.Known && rest > 0 {
		label := "until it was quiet"
		if len(logins) > 0 {
			label = strings.TrimSpace("the login of " + cmp.Or(logins[0].User, "somebody"))
		}
		r.add(Stretch{Label: label, To: r.End})
	}
	if u.Known {
		r.Marks = append(r.Marks, Mark{"usable", u.Value})
	}
	slices.SortStableFunc(r.Marks, func(x, y Mark) int { return cmp.Compare(x.At, y.At) })
	r.beside(b, most)
	return r
}

func (r *Waits) reached() time.Duration {
	if n := len(r.Stretches); n > 0 {
		return r.Stretches[n-1].To
	}
	return 0
}

// add appends a stretch; one before it that is too short to be shown becomes a
// part of it.
func (r *Waits) add(s Stretch) {
	s.From = r.reached()
	if n := len(r.Stretches); n > 0 &&
		float64(r.Stretches[n-1].Took()) < short*float64(r.End) {
		s.From = r.Stretches[n-1].From
		r.Stretches = r.Stretches[:n-1]
	}
	r.Stretches = append(r.Stretches, s)
}

// beside finds out what worked in each stretch.
func (r *Waits) beside(b boot.Boot, most int) {
	const little = 50 * time.Millisecond // the least that is shown as some
	for i := range r.Stretches {
		st := &r.Stretches[i]
		var all []Beside
		for _, s := range b.Spans {
			if s.Skipped || s.Is(boot.Manager|boot.Session|boot.Goal) ||
				s.Native == st.Label && s.Owner == "" {
				continue
			}
			ran := s.Begin.Known && s.End.Known && s.Begin.Value < st.To && s.End.Value > st.From
			switch used := within(s.Course, st.From, st.To); {
			case used >= little:
				all = append(all, Beside{s.Native, boot.Of(used, boot.Recorder)})
			case len(s.Course) == 0 && ran && s.Is(boot.Service):
				all = append(all, Beside{Label: s.Native})
			}
		}
		for _, p := range b.Programs {
			if used := within(p.Course, st.From, st.To); used >= little {
				all = append(all, Beside{p.Name, boot.Of(used, boot.Recorder)})
			}
			// of some machines it is known when it began, and what it came to
			began := p.Began >= st.From && p.Began < st.To
			if len(p.Course) == 0 && began && p.CPU >= little {
				all = append(all, Beside{p.Name, boot.Of(p.CPU, boot.Log)})
			}
		}
		slices.SortStableFunc(all, func(x, y Beside) int {
			return cmp.Compare(y.CPU.Value, x.CPU.Value)
		})
		st.Beside = all[:min(most, len(all))]
		st.More = len(all) - len(st.Beside)
	}
}

// within is what was used between two moments, after a course; what had been
// used by its first sample counts as used right before it.
func within(course []boot.Use, from, to time.Duration) time.Duration {
	if len(course) == 0 || to < course[0].At {
		return 0
	}
	used := boot.UsedBy(course, to)
	if from >= course[0].At {
		used -= boot.UsedBy(course, from)
	}
	return used
}
