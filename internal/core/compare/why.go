package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// A Kind says what became of something that explains a part of ready.
type Kind string

// The kinds of reasons.
const (
	Outside   Kind = "phase"              // a phase before anything that can be switched off
	Gone      Kind = "gone"               // it ran in boots before, and in none after
	New       Kind = "new"                // the other way round
	NotWaited Kind = "waited for no more" // it still runs, but ready no longer waits for it
	NowWaited Kind = "waited for now"
	Longer    Kind = "slower"
	Shorter   Kind = "faster"
)

// A Reason is a part of the difference. It tells what one phase or item
// explains of ready before and after, as means over the boots of a side.
type Reason struct {
	Name          string
	Kind          Kind
	Before, After time.Duration
}

// Change is by how much the reason moved ready.
func (r Reason) Change() time.Duration { return r.After - r.Before }

// Why says what a difference consists of.
type Why struct {
	Reasons []Reason      // those worth naming, the largest first
	Others  time.Duration // of all the others together
	// Remainder is what is left of the whole: it was told from the boots in
	// another way than the means that the reasons are.
	Remainder time.Duration
	// Blind is how many boots could not be taken apart, since nothing is known
	// of what waited for what in them.
	Blind int
}

// mostReasons is how many are worth naming.
const mostReasons = 8

// Explain takes the difference of ready apart. whole is how large it is, for
// instance as [Compare] estimates it; reasons, others and remainder add up to
// it. Boots have to know their order, see [boot.Fill].
func Explain(before, after []boot.Boot, whole time.Duration) Why {
	type sums struct{ before, after time.Duration }
	all := map[string]sums{}
	var w Why
	gather := func(boots []boot.Boot, add func(s *sums, d time.Duration)) {
		for _, b := range boots {
			if !b.Ordered() {
				w.Blind++
			}
			for _, p := range boot.Explain(b) {
				s := all[p.Name]
				add(&s, p.Took)
				all[p.Name] = s
			}
		}
	}
	gather(before, func(s *sums, d time.Duration) { s.before += d })
	gather(after, func(s *sums, d time.Duration) { s.after += d })
	w.Remainder = whole
	for name, s := range all {
		r := Reason{
			Name:   name,
			Kind:   kindOf(name, before, after, s.before, s.after),
			Before: s.before / time.Duration(max(1, len(before))),
			After:  s.after / time.Duration(max(1, len(after))),
		}
		if c := r.Change(); c != 0 {
			w.Reasons = append(w.Reasons, r)
			w.Remainder -= c
		}
	}
	slices.SortFunc(w.Reasons, func(a, b Reason) int {
		return cmp.Or(cmp.Compare(b.Change().Abs(), a.Change().Abs()),
			strings.Compare(a.Name, b.Name))
	})
	for i, r := range w.Reasons {
		if i >= mostReasons || r.Change().Abs() < max(20*time.Millisecond, whole.Abs()/50) {
			for _, small := range w.Reasons[i:] {
				w.Others += small.Change()
			}
			w.Reasons = w.Reasons[:i]
			break
		}
	}
	return w
}

func kindOf(name string, before, after []boot.Boot, explained, explains time.Duration) Kind {
	ran := func(boots []boot.Boot) bool {
		return slices.ContainsFunc(boots, func(b boot.Boot) bool {
			s, ok := b.Span(name)
			return ok && !s.Skipped && (s.Begin.Known || s.End.Known)
		})
	}
	switch {
	case boot.IsPhase(name):
		return Outside
	case !ran(after):
		return Gone
	case !ran(before):
		return New
	case explains == 0:
		return NotWaited
	case explained == 0:
		return NowWaited
	case explains > explained:
		return Longer
	}
	return Shorter
}

// Changed says in sentences what else was different: parts of the machine, and
// conditions that turned good or bad.
func Changed(before, after []boot.Boot) []string {
	if len(before) == 0 || len(after) == 0 {
		return nil
	}
	was, is := before[len(before)-1], after[0]
	var all []string
	add := func(what, from, to string) {
		if from != to && from != "" && to != "" {
			all = append(all, fmt.Sprintf("%s: %s before, %s after", what, from, to))
		}
	}
	add("kernel", was.Kernel, is.Kernel)
	if was.Processors > 0 && is.Processors > 0 {
		add("processors", fmt.Sprint(was.Processors), fmt.Sprint(is.Processors))
	}
	if d := was.Memory - is.Memory; was.Memory > 0 && is.Memory > 0 && max(d, -d) > was.Memory/50 {
		add("memory", fmt.Sprintf("%.1f GB", float64(was.Memory)/1e9),
			fmt.Sprintf("%.1f GB", float64(is.Memory)/1e9))
	}
	for _, c := range is.Conditions {
		i := slices.IndexFunc(was.Conditions, func(o boot.Condition) bool {
			return o.Name == c.Name
		})
		if i < 0 || c.Name == "kernel" {
			continue
		}
		if o := was.Conditions[i]; o.Bad != c.Bad ||
			!strings.ContainsAny(o.Value+c.Value, "0123456789") {
			add(c.Name, o.Value, c.Value)
		}
	}
	return all
}
