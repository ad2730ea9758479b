package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/render"
)

// A comparison is two sides of boots, and what lies between them.
type comparison struct {
	// those between the sides that count as one, oldest first; none where the
	// sides were chosen otherwise
	changes  []change.Change
	proposal bool   // they are those of a proposal
	between  string // what lies between the sides, in words
	sides    compare.Sides
	on       compare.Measure // what the verdict is on
	main     compare.Times
	why      compare.Why
	changed  []string // what else is different
	steps    []stage  // the way from the first change to the last; only where there are several
	titles   map[string]string
	kept     []change.Change // those whose forecasts have an outcome
}

// A stage is what the boots of a step of changes have to say.
type stage struct {
	changes []change.Change // none for the boots before all of them
	side    compare.Side[time.Duration]
	shift   compare.Times // since the step before
}

// sinceLastChange compares the boots around the last change; without a change
// there is nothing to compare.
func sinceLastChange(
	boots []boot.Boot,
	changes []change.Change,
	on compare.Measure,
) (comparison, bool) {
	done := feltBy(boots, carriedOut(changes))
	steps := compare.Steps(boots, instants(done))
	if len(done) == 0 {
		return comparison{}, false
	}
	// The changes of one proposal count as one, though the machine may have
	// been started between them.
	first, end := len(steps)-1, steps[len(steps)-1].Last
	for name := done[end].Terms.Proposal; name != "" && first > 1 &&
		done[steps[first-1].Last].Terms.Proposal == name; {
		first--
	}
	last := steps[len(steps)-1]
	c := comparison{
		on: on,
		sides: compare.Sides{
			Before:  steps[first-1].Boots,
			After:   last.Boots,
			LeftOut: slices.Concat(steps[first-1].LeftOut, last.LeftOut),
		},
	}
	c.changes = done[steps[first].First : end+1]
	c.between = "since " + names(c.changes)
	if c.proposal = wholeProposal(carriedOut(changes), c.changes); c.proposal {
		c.between = "since the proposal (" + names(c.changes) + ")"
	}
	c.measure()
	for i, s := range steps {
		one := stage{side: compare.Compare(on.Values(s.Boots), nil).Before}
		if s.First >= 0 {
			one.changes = done[s.First : s.Last+1]
			one.shift = compare.Compare(on.Values(steps[i-1].Boots), on.Values(s.Boots))
		}
		c.steps = append(c.steps, one)
	}
	return c, true
}

// carriedOut are the changes of what the machine launches that came to their
// end.
func carriedOut(changes []change.Change) []change.Change {
	var done []change.Change
	for _, ch := range changes {
		if ch.Status == change.Done && !aboutRecorder(changes, ch) {
			done = append(done, ch)
		}
	}
	return done
}

// wholeProposal reports whether some changes are those that one proposal made,
// all of them since the first and no others.
func wholeProposal(all, some []change.Change) bool {
	first := some[0]
	other := func(ch change.Change) bool {
		return ch.Terms.Proposal != first.Terms.Proposal || ch.ID < first.ID
	}
	return first.Terms.Proposal != "" && len(some) > 1 && !slices.ContainsFunc(some, other) &&
		len(slices.DeleteFunc(slices.Clone(all), other)) == len(some)
}

// feltBy leaves out the changes that were taken back before a boot could feel
// them, and what took them back.
func feltBy(boots []boot.Boot, changes []change.Change) []change.Change {
	at := map[int64]time.Time{}
	for _, ch := range changes {
		at[ch.ID] = ch.MadeAt
	}
	unfelt := func(made, undone time.Time) bool {
		return !made.IsZero() && !undone.IsZero() &&
			!slices.ContainsFunc(boots, func(b boot.Boot) bool {
				return b.Began.After(made) && b.Began.Before(undone)
			})
	}
	return slices.DeleteFunc(slices.Clone(changes), func(ch change.Change) bool {
		if ch.Verb == change.Undo {
			return unfelt(at[ch.Undoes], ch.MadeAt)
		}
		return unfelt(ch.MadeAt, at[ch.UndoneBy])
	})
}

func instants(changes []change.Change) []time.Time {
	var at []time.Time
	for _, ch := range changes {
		at = append(at, ch.MadeAt)
	}
	return at
}

// aboutRecorder reports whether a change put the recorder in, or took it away:
// the boots before and after it are of the same machine.
func aboutRecorder(changes []change.Change, c change.Change) bool {
	return c.Verb == change.Record ||
		c.Verb == change.Undo && slices.ContainsFunc(changes, func(o change.Change) bool {
			return o.ID == c.Undoes && o.Verb == change.Record
		})
}

func (c *comparison) measure() {
	c.main = compare.Compare(c.on.Values(c.sides.Before), c.on.Values(c.sides.After))
}

// chosen compares boots that were chosen in words: with the boots of another
// casebook as those before, where one is given.
func (a *app) chosen(
	l *look,
	boots []boot.Boot,
	v compareView,
	words []string,
) (comparison, error) {
	done := carriedOut(l.changes)
	here := compare.Shelf{
		Boots:   boots,
		Changes: map[int64]time.Time{},
		Steps:   compare.Steps(boots, instants(done)),
		Zone:    time.Local,
	}
	for _, ch := range done {
		here.Changes[ch.ID] = ch.MadeAt
	}
	labels, err := a.readLabels(l.root)
	if err != nil {
		return comparison{}, err
	}
	here.Labels = labels
	there, before, after := here, "", ""
	c := comparison{on: v.measure}
	switch {
	case v.with != "":
		if there, err = foreign(v); err != nil {
			return c, err
		}
		before, after = fmt.Sprintf("1-%d", len(there.Boots)), fmt.Sprintf("1-%d", len(here.Boots))
		if len(words) > 0 {
			before = words[0]
		}
		if len(words) > 1 {
			after = words[1]
		}
		c.between = fmt.Sprintf("between %s of %s and %s here", before, v.with, after)
	case len(words) == 1 && strings.HasPrefix(words[0], "change:"):
		before, after = words[0], words[0]
		step := sameStep(here.Steps, done, strings.TrimPrefix(before, "change:"))
		if felt := feltBy(boots, step); len(felt) > 0 {
			step = felt
		}
		c.between = "by " + names(step)
	case len(words) == 1:
		return c, usage("%q is one side; give the boots before and the boots after, or change:N "+
			"for both\ncalmdawn compare --help explains how boots are chosen", words[0])
	default:
		before, after = words[0], words[1]
		c.between = fmt.Sprintf("between %s and %s", before, after)
	}
	one, err := there.Choose(before, false)
	if err != nil {
		return c, usage("the boots before: %w", err)
	}
	two, err := here.Choose(after, true)
	if err != nil {
		return c, usage("the boots after: %w", err)
	}
	take := func(from []boot.Boot) (fit []boot.Boot) {
		for _, b := range from {
			if b.Fit() {
				fit = append(fit, b)
			} else {
				c.sides.LeftOut = append(c.sides.LeftOut, b)
			}
		}
		return fit
	}
	c.sides.Before, c.sides.After = take(one), take(two)
	for _, b := range one {
		if slices.ContainsFunc(two, func(o boot.Boot) bool { return o.ID == b.ID }) {
			return c, usage("the boot %.8s is on both sides; choose others", b.ID)
		}
	}
	c.measure()
	return c, nil
}

// sameStep are the changes without a boot between them to which one belongs:
// boots cannot tell them apart.
func sameStep(steps []compare.Step, changes []change.Change, number string) []change.Change {
	for _, s := range steps {
		if s.First < 0 {
			continue
		}
		all := changes[s.First : s.Last+1]
		if slices.ContainsFunc(all, func(ch change.Change) bool {
			return fmt.Sprint(ch.ID) == number
		}) {
			return all
		}
	}
	return nil // there is none of that number
}

// foreign is the boots of another casebook.
func foreign(v compareView) (compare.Shelf, error) {
	book, err := casebook.ReadForeign(v.with)
	if err != nil {
		return compare.Shelf{}, err
	}
	defer book.Close()
	boots, err := book.Boots(0)
	if err != nil && len(boots) == 0 {
		return compare.Shelf{}, fmt.Errorf("the boots of %s cannot be read: %w", v.with, err)
	}
	labels, err := book.Labels()
	if err != nil {
		return compare.Shelf{}, err
	}
	if len(boots) == 0 {
		return compare.Shelf{}, fmt.Errorf("the casebook %s holds no boot; calmdawn recorder on "+
			"has boots recorded", v.with)
	}
	return compare.Shelf{
		Boots:  v.judged(boot.Judge(label.Boots(boots), nil)),
		Labels: byLabel(labels),
		Zone:   time.Local,
	}, nil
}

// explain finds out what the difference consists of.
func (c *comparison) explain(l *look) {
	if c.main.Before.N == 0 || c.main.After.N == 0 {
		return
	}
	before, after := l.Order(c.sides.Before), l.Order(c.sides.After)
	ready, _ := compare.MeasureOf("ready")
	whole := compare.Compare(ready.Values(before), ready.Values(after)).Estimate
	c.why = compare.Explain(before, after, whole)
	c.changed = compare.Changed(before, after)
	c.titles = map[string]string{}
	for _, it := range l.Items {
		if key, ok := l.Key(it); ok && key.Owner == "" {
			c.titles[key.Native] = it.Title
		}
	}
	for _, ch := range l.changes {
		if ch.Outcome != nil && ch.Judged() != nil &&
			(len(c.changes) == 0 || ch.ID != c.changes[0].ID) {
			c.kept = append(c.kept, ch)
		}
	}
	if o, ok := c.outcome(); ok {
		ch := c.changes[0]
		ch.Outcome = &o
		c.kept = append(c.kept, ch)
	}
}

func (c comparison) title(name string) string {
	if t := c.titles[name]; t != "" && t != name {
		return render.Clean(t)
	}
	return render.Clean(name)
}

// forecast is what was forecast when the change, or those of a proposal
// together, were made; nil where nothing was, or other changes count as one.
func (c comparison) forecast() *change.Forecast {
	switch {
	case len(c.changes) == 1:
		return c.changes[0].Forecast
	case c.proposal:
		return c.changes[0].Terms.Together
	}
	return nil
}

// outcome is what became of the forecast; false where there is none, or too
// little to tell.
func (c comparison) outcome() (change.Outcome, bool) {
	f := c.forecast()
	ready := compare.Compare(compare.Measures[0].Values(c.sides.Before),
		compare.Measures[0].Values(c.sides.After))
	if f == nil || ready.Before.N == 0 || ready.After.N == 0 {
		return change.Outcome{}, false
	}
	return f.OutcomeOf(-ready.Estimate, ready.Before.N, ready.After.N), true
}

// names says "change 3" or "changes 1, 2, 5 to 9 and 12".
func names(changes []change.Change) string {
	var ids []string
	for i := 0; i < len(changes); i++ {
		last := i
		for last+1 < len(changes) && changes[last+1].ID == changes[last].ID+1 {
			last++
		}
		if last < i+2 {
			last = i
			ids = append(ids, fmt.Sprint(changes[i].ID))
			continue
		}
		ids = append(ids, fmt.Sprintf("%d to %d", changes[i].ID, changes[last].ID))
		i = last
	}
	switch {
	case len(changes) == 0:
		return "no change"
	case len(changes) == 1:
		return "change " + ids[0]
	case len(ids) == 1:
		return "changes " + ids[0]
	}
	return "changes " + strings.Join(ids[:len(ids)-1], ", ") + " and " + ids[len(ids)-1]
}
