// Package job puts a machine's changes and its boots together. It tells which
// boots lie before and after which changes, how they differ, and what the
// difference consists of. It tells too what became of what was forecast.
package job

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
)

// A Comparison is two sides of boots, and what lies between them.
type Comparison struct {
	// Changes are those between the sides that count as one, oldest first; none
	// where the sides were chosen otherwise.
	Changes []change.Change
	Waiting []change.Change // that no boot has felt yet
	Whole   bool            // they are all that a proposal made
	Between string          // what lies between the sides, in words
	Sides   compare.Sides
	// On is what the verdict is on. Without a name it is what leads (see
	// [compare.Leading]), and settled with the sides.
	On    compare.Measure
	Main  compare.Times
	Steps []Stage // the way from the first change to the last

	// What [Comparison.Explain] finds.
	Why       compare.Why
	Different []string        // what else is different
	Kept      []change.Change // those whose forecasts have an outcome

	// Back are those of Changes whose items are on again all the same. The
	// caller sets it; a forecast with them in it is held against nothing.
	Back []change.Change
}

// A Stage is what the boots of a step of changes have to say.
type Stage struct {
	Changes []change.Change // none for the boots before all of them
	Side    compare.Side[time.Duration]
	Shift   compare.Times // since the step before
}

// Pause is how long nothing is changed between two jobs, at least.
const Pause = 30 * 24 * time.Hour

// A Begin is where somebody wants a job to begin; the zero value leaves that to
// the pauses between changes.
type Begin struct {
	Change int64
	Day    time.Time
}

// first is the index of the change with which the last job began. An undo
// belongs to the job of what it takes back.
func (b Begin) first(done []change.Change) (int, bool) {
	if b != (Begin{}) {
		i := slices.IndexFunc(done, func(c change.Change) bool {
			return c.ID == b.Change || b.Change == 0 && !c.MadeAt.Before(b.Day)
		})
		return i, i >= 0
	}
	at := map[int64]int{} // jobs by their changes
	first := []int{0}     // of each job
	for i, c := range done {
		of := len(first) - 1
		if i > 0 && c.MadeAt.Sub(done[i-1].MadeAt) >= Pause {
			first, of = append(first, i), of+1
		}
		if undone, known := at[c.Undoes]; known && c.Verb == change.Undo {
			of = undone
		}
		at[c.ID] = of
	}
	return first[at[done[len(done)-1].ID]], true
}

// Since compares the boots before the last job with those in which the machine
// was set up as now. Where there are none yet, it takes those of the last setup
// that was booted. Waiting is what they lack. Where all of the job is taken
// back, it compares the boots around the last change. false where no change was
// made that a boot could feel, or none is there to begin with.
func Since(
	boots []boot.Boot,
	changes []change.Change,
	on compare.Measure,
	begin Begin,
	now time.Time,
) (Comparison, bool) {
	done := FeltBy(boots, CarriedOut(changes))
	if len(done) == 0 {
		return Comparison{}, false
	}
	start, ok := begin.first(done)
	if !ok {
		return Comparison{}, false
	}
	steps := compare.Steps(boots, Instants(done))
	first := slices.IndexFunc(steps, func(s compare.Step) bool { return s.Last >= start })
	begun, last := first, len(steps)-1
	for last > first && len(steps[last].Boots)+len(steps[last].LeftOut) == 0 {
		last--
	}
	c := Comparison{On: on}
	before, after := steps[first-1], steps[last]
	setup := func(s compare.Step) []int64 { // right after its last change
		return change.InForce(changes, done[s.Last].MadeAt.Add(1))
	}
	unlike := change.InForce(changes, done[steps[first].First].MadeAt)
	if last > first && slices.Equal(unlike, setup(after)) {
		first, before = last, steps[last-1] // all of it was taken back
	}
	c.Changes, c.Waiting = done[steps[first].First:after.Last+1], done[after.Last+1:]
	if like := change.InForce(changes, now); len(c.Waiting) == 0 {
		// boots of the same setup from earlier in the job count too
		var same compare.Step
		for _, s := range steps[first : last+1] {
			if slices.Equal(like, setup(s)) {
				same.Boots = append(same.Boots, s.Boots...)
				same.LeftOut = append(same.LeftOut, s.LeftOut...)
			}
		}
		after.Boots, after.LeftOut = same.Boots, same.LeftOut
	}
	c.Sides = compare.Sides{
		Before:  before.Boots,
		After:   after.Boots,
		LeftOut: slices.Concat(before.LeftOut, after.LeftOut),
	}
	c.Between = "since " + change.Names(c.Changes)
	if c.Whole = wholeProposal(CarriedOut(changes), c.Changes); c.Whole {
		c.Between = "since the proposal (" + change.Names(c.Changes) + ")"
	}
	on = c.lead()
	c.Measure()
	for i := begun - 1; i <= last; i++ {
		s := steps[i]
		one := Stage{Side: compare.Compare(on.Values(s.Boots), nil).Before}
		if s.First >= 0 {
			one.Changes = done[s.First : s.Last+1]
		}
		if i >= begun {
			one.Shift = on.Compare(steps[i-1].Boots, s.Boots)
		} else {
			one.Changes = nil
		}
		c.Steps = append(c.Steps, one)
	}
	return c, true
}

// Before are the boots ahead of the job that goes on now, of the setup right
// before its first change, and that change's number. It is false where no job
// does.
func Before(boots []boot.Boot, changes []change.Change, now time.Time) (Baseline, bool) {
	done := FeltBy(boots, CarriedOut(changes))
	if len(done) == 0 || now.Sub(done[len(done)-1].MadeAt) >= Pause {
		return Baseline{}, false
	}
	start, _ := Begin{}.first(done)
	at := done[start].MadeAt
	like := change.InForce(changes, at)
	var b Baseline
	for _, other := range boots {
		if other.Began.Before(at) && slices.Equal(change.InForce(changes, other.Began), like) {
			b.Boots = append(b.Boots, other)
		}
	}
	b.Off, b.Lacks = differ(states(changes, at), states(changes, now))
	for _, id := range change.InForce(changes, now) {
		if !slices.Contains(like, id) {
			b.Changes = append(b.Changes, id)
		}
	}
	return b, len(boot.Fit(b.Boots, 1)) > 0
}

// Waiting are the changes that no boot has felt yet, oldest first.
func Waiting(boots []boot.Boot, changes []change.Change) []change.Change {
	return slices.DeleteFunc(FeltBy(boots, CarriedOut(changes)), func(c change.Change) bool {
		return len(boots) > 0 && !boots[len(boots)-1].Began.Before(c.MadeAt)
	})
}

// TakenBack reports whether all that lies between the sides is taken back by
// now.
func (c Comparison) TakenBack() bool {
	return len(c.Changes) > 0 && !slices.ContainsFunc(c.Changes, func(ch change.Change) bool {
		return ch.Verb == change.Undo || ch.UndoneBy == 0
	})
}

// CarriedOut are the changes of what the machine launches that came to their
// end.
func CarriedOut(changes []change.Change) []change.Change {
	var done []change.Change
	for _, ch := range changes {
		if ch.Status == change.Done && decides(changes, ch) {
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

// FeltBy leaves out the changes that were taken back before a boot could feel
// them, and what took them back.
func FeltBy(boots []boot.Boot, changes []change.Change) []change.Change {
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

// Instants are when changes were made.
func Instants(changes []change.Change) []time.Time {
	var at []time.Time
	for _, ch := range changes {
		at = append(at, ch.MadeAt)
	}
	return at
}

// decides reports whether a change, or what it takes back, is a decision. The
// boots before and after any other are of the same machine.
func decides(changes []change.Change, c change.Change) bool {
	if c.Verb != change.Undo {
		return c.Decides()
	}
	return !slices.ContainsFunc(changes, func(o change.Change) bool {
		return o.ID == c.Undoes && !o.Decides()
	})
}

// lead settles what the verdict is on, where that depends on the two sides.
func (c *Comparison) lead() compare.Measure {
	told := c.On.Name == "usable"
	if c.On.Name == "" {
		c.On = c.foretold()
	}
	if c.On.Name == "" && c.ofLogins() {
		told = true
		if felt := c.felt(); len(felt) == 1 {
			c.On = compare.UsableOf(felt[0])
		}
	}
	if c.On.Name == "" || told && c.On.Kind == "" && c.On.Each == nil {
		c.On = compare.Leading(c.Sides.Before, c.Sides.After, told)
	}
	return c.On
}

// ofLogins reports whether all that was changed is launched by logins, so that
// ready could not move.
func (c *Comparison) ofLogins() bool {
	for _, ch := range c.Changes {
		if slices.ContainsFunc(ch.Targets, func(t change.Target) bool {
			return t.When != item.AtLogin
		}) {
			return false
		}
	}
	return len(c.Changes) > 0
}

// foretold is the figure that the changes were to move, as their forecast names
// it; without a name where there is none. Too few boots in which one person
// logged in may be enough with those of the others, each compared with their
// own. It goes by how many boots there are, never by their figures.
func (c *Comparison) foretold() compare.Measure {
	f := c.Forecast()
	if f == nil {
		return compare.Measure{}
	}
	kind := f.Lead().Kind
	if kind == "" {
		ready, _ := compare.MeasureOf("ready")
		return ready
	}
	one := compare.UsableOf(kind)
	if one.Enough(c.Sides.Before, c.Sides.After) {
		return one
	}
	each := compare.UsableOfEach(c.felt())
	if each.Enough(c.Sides.Before, c.Sides.After) {
		return each
	}
	return one
}

// felt are the kinds of usable that the changes can move: of everybody's
// logins, or of one person's where all that was changed is theirs.
func (c *Comparison) felt() []string {
	known := compare.Kinds(slices.Concat(c.Sides.Before, c.Sides.After))
	whose := map[string]bool{}
	for _, ch := range c.Changes {
		for _, t := range ch.Targets {
			owner := ""
			if i := strings.LastIndexByte(t.ID, '@'); i >= 0 {
				owner, _, _ = strings.Cut(t.ID[i+1:], "#")
			}
			if kind := "login of " + owner; slices.Contains(known, kind) {
				whose[kind] = true
			} else {
				return known
			}
		}
	}
	return slices.DeleteFunc(known, func(kind string) bool { return !whose[kind] })
}

// Worse are the other figures than that of the verdict by which the boots after
// are slower. It is by more than so many figures differ by anyhow.
func (c Comparison) Worse() (all []Measured) {
	var others []compare.Measure
	measured := c.Measures()
	for _, m := range measured {
		among := c.On.Each != nil && m.Name == c.On.Name
		if m.Title() != c.On.Title() && !among && !m.Bytes {
			others = append(others, m.Measure)
		}
	}
	worse := compare.Worse(others, c.Sides.Before, c.Sides.After)
	for _, m := range measured {
		if slices.ContainsFunc(worse, func(w compare.Measure) bool {
			return w.Title() == m.Title()
		}) {
			all = append(all, m)
		}
	}
	return all
}

// Measure compares the two sides by what the verdict is on.
func (c *Comparison) Measure() {
	c.lead()
	c.Main = c.On.Compare(c.Sides.Before, c.Sides.After)
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

// Explain finds out what the difference consists of. Order gives boots the
// order of their units where they do not know it. all are the machine's
// changes, of whose forecasts some have an outcome.
func (c *Comparison) Explain(order func([]boot.Boot) []boot.Boot, all []change.Change) {
	if c.Main.Before.N == 0 || c.Main.After.N == 0 {
		return
	}
	before, after := order(c.Sides.Before), order(c.Sides.After)
	ready, _ := compare.MeasureOf("ready")
	whole := compare.Compare(ready.Values(before), ready.Values(after)).Estimate
	c.Why = compare.Explain(before, after, whole)
	c.Different = compare.Changed(before, after)
	for _, ch := range all {
		if _, known := ch.CameOut(); known &&
			(len(c.Changes) == 0 || ch.ID != c.Changes[0].ID) {
			c.Kept = append(c.Kept, ch)
		}
	}
	if o, ok := c.Outcome(); ok {
		ch := c.Changes[0]
		ch.Outcome = &o
		c.Kept = append(c.Kept, ch)
	}
}

// Forecast is what was forecast when the change, or those of a proposal or of a
// job together, were made; nil where nothing was.
func (c Comparison) Forecast() *change.Forecast {
	switch {
	case len(c.Back) > 0:
		return nil
	case len(c.Changes) == 1:
		return c.Changes[0].Forecast
	case c.Whole:
		return c.Changes[0].Terms.Together
	}
	// The last change knows it, if what was in force with it still is, and
	// nothing else.
	var standing []int64
	undone := map[int64]bool{}
	for _, ch := range slices.Backward(c.Changes) {
		if ch.Verb == change.Undo {
			undone[ch.Undoes] = true
		} else if !undone[ch.ID] {
			standing = append(standing, ch.ID)
		}
	}
	for _, ch := range c.Changes {
		if len(standing) > 0 && ch.ID == standing[0] && len(undone) == 0 {
			slices.Reverse(standing)
			if slices.Equal(ch.Terms.JobOf, standing[:len(standing)-1]) {
				return ch.Terms.Job
			}
		}
	}
	return nil
}

// Outcome is what became of the forecast, of usable or else of ready; false
// where there is none, or too little to tell.
func (c Comparison) Outcome() (change.Outcome, bool) {
	f := c.Forecast()
	if f == nil {
		return change.Outcome{}, false
	}
	ready, _ := compare.MeasureOf("ready")
	for _, on := range []compare.Measure{compare.UsableOf(f.Lead().Kind), ready} {
		of, known := f.Of(on.Kind)
		r := compare.Compare(on.Values(c.Sides.Before), on.Values(c.Sides.After))
		if known && r.Before.N > 0 && r.After.N > 0 {
			return of.OutcomeOf(-r.Estimate, r.Before.N, r.After.N), true
		}
	}
	return change.Outcome{}, false
}

// A Measured is one figure of both sides.
type Measured struct {
	compare.Measure
	compare.Times
}

// Measures are those figures that were measured in any boot of the two sides.
func (c Comparison) Measures() []Measured {
	var all []Measured
	if c.On.Each != nil {
		all = append(all, Measured{c.On, c.Main})
	}
	for _, m := range compare.All(c.Sides.Before, c.Sides.After) {
		r := m.Compare(c.Sides.Before, c.Sides.After)
		if r.Before.N+r.After.N > 0 || m.Title() == c.On.Title() {
			all = append(all, Measured{m, r})
		}
	}
	return all
}

// By says between which boots those around a change lie: "by change 3", with
// the changes that boots cannot tell from it.
func By(
	boots []boot.Boot,
	steps []compare.Step,
	changes []change.Change,
	number string,
) string {
	step := sameStep(steps, changes, number)
	if felt := FeltBy(boots, step); len(felt) > 0 {
		step = felt
	}
	return "by " + change.Names(step)
}

// Take sets the two sides, the odd boots left out, and compares them.
func (c *Comparison) Take(before, after []boot.Boot) {
	fit := func(from []boot.Boot) (fit []boot.Boot) {
		for _, b := range from {
			if b.Fit() {
				fit = append(fit, b)
			} else {
				c.Sides.LeftOut = append(c.Sides.LeftOut, b)
			}
		}
		return fit
	}
	c.Sides.Before, c.Sides.After = fit(before), fit(after)
	c.Measure()
}
