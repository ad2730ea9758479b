package boot

import (
	"slices"
	"time"
)

// HoldLeeway is how much later than a unit's start what held it back may have
// been done: clocks are read one after the other.
const HoldLeeway = 4 * time.Millisecond

// A Graph finds the spans of one service manager by name, and what each was
// held back by.
type Graph struct {
	spans map[string]Span
}

// GraphOf indexes the spans of the machine's service manager, or of a user's.
func GraphOf(b Boot, owner string) Graph {
	g := Graph{map[string]Span{}}
	for _, s := range b.Spans {
		if s.Owner == owner {
			g.spans[s.Native] = s
		}
	}
	return g
}

// Before returns those units that a unit is ordered after, and that took part
// in the boot. One that took part without leaving a time, or was skipped,
// passes its own waiting on.
func (g Graph) Before(s Span) []Span {
	var all []Span
	seen := map[string]bool{s.Native: true}
	var add func(names []string)
	add = func(names []string) {
		for _, name := range names {
			other, ok := g.spans[name]
			if !ok || seen[name] {
				continue
			}
			seen[name] = true
			if other.End.Known && !other.Skipped {
				all = append(all, other)
			} else if !other.Begin.Known || other.Skipped {
				add(other.After)
			}
		}
	}
	add(s.After)
	return all
}

// Holder returns the unit that a unit's start waited for longest: the last of
// those it is ordered after that was done when it started. false where nothing
// known held it back.
func (g Graph) Holder(s Span) (Span, bool) {
	var last Span
	found, until := false, time.Duration(0)
	for _, other := range g.Before(s) {
		done, ok := other.DoneBy(s.First() + HoldLeeway)
		if ok && (!found || done > until) {
			last, found, until = other, true, done
		}
	}
	return last, found
}

// Path is what ready waited for, one after the other: from the goal back, each
// time the unit that the one before waited for last. It is in the order of
// time, the goal last. It is empty where the goal is not known, or nothing is
// known of the order.
func (g Graph) Path(b Boot) []Span {
	goal, ok := g.spans[b.Goal]
	if !ok || !b.Ready.Known {
		return nil
	}
	path := []Span{goal}
	seen := map[string]bool{goal.Native: true}
	for {
		holder, ok := g.Holder(path[len(path)-1])
		if !ok || seen[holder.Native] {
			break
		}
		seen[holder.Native] = true
		path = append(path, holder)
	}
	slices.Reverse(path)
	return path
}

// A Part is what one phase, or one item that ready waited for, explains of
// ready.
type Part struct {
	Name string // of a phase, see [IsPhase], or an item's native name
	Took time.Duration
}

// Explain parts ready into what it waited for, one after the other. Those are
// the kernel and the initrd, and other phases that were written down. Then
// follows each item of the [Graph.Path], from when the one before it was done.
// The parts add up to ready; phases that ran beside others are none of them.
// It is empty where ready is not known.
func Explain(b Boot) []Part {
	if !b.Ready.Known {
		return nil
	}
	var parts []Part
	at := time.Duration(0)
	add := func(name string, until time.Duration) {
		if until = min(until, b.Ready.Value); until > at {
			parts = append(parts, Part{name, until - at})
			at = until
		}
	}
	rest := "userspace"
	for _, name := range slices.Concat(EarlyPhases, WrittenPhases) {
		for _, p := range b.Phases {
			if p.Name == name && !p.Beside {
				add(name, at+p.Took)
			}
		}
		if slices.Contains(WrittenPhases, name) && b.Phase(name).Known {
			rest = Rest
		}
	}
	for _, s := range GraphOf(b, "").Path(b) {
		if s.End.Known {
			add(s.Native, s.End.Value)
		}
	}
	add(rest, b.Ready.Value)
	return parts
}

// Fill gives the spans of a boot what graph says of their place in it, where
// they know nothing. It adds the units that left no time.
func Fill(b Boot, graph []Span) Boot {
	b.Spans = slices.Clone(b.Spans)
	at := map[Key]int{}
	for i, s := range b.Spans {
		at[Key{s.Native, s.Owner}] = i
	}
	for _, place := range graph {
		i, known := at[Key{place.Native, place.Owner}]
		if !known {
			b.Spans = append(b.Spans, place)
			continue
		}
		if s := &b.Spans[i]; s.Type == "" && len(s.After) == 0 {
			s.Type, s.Stays, s.After = place.Type, place.Stays, place.After
			s.Pulls, s.Triggers = place.Pulls, place.Triggers
		}
	}
	return b
}

// Ordered reports whether the boot itself knows in which order its units were
// started.
func (b Boot) Ordered() bool {
	return slices.ContainsFunc(b.Spans, func(s Span) bool { return len(s.After) > 0 })
}
