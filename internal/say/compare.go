package say

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/family"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A Comparison is one with what its text needs besides.
type Comparison struct {
	job.Comparison
	OnAgain []item.Item // although changes switched them off
	Late    []item.Item // delayed past settled: no figure has what they do then

	titles map[string]string // of items, by the names that boots know
}

// NewComparison returns a comparison that knows items by their titles.
func NewComparison(c job.Comparison, l *visit.Visit) Comparison {
	return Comparison{Comparison: c, titles: l.Titles()}
}

// title is what people call what boots know by a name.
func (c Comparison) title(name string) string {
	if t := c.titles[name]; t != "" && t != name {
		return render.Clean(t)
	}
	return render.Clean(name)
}

// Answer says the verdict in a sentence.
func (c Comparison) Answer() string {
	how := simulated(slices.Concat(c.Sides.Before, c.Sides.After))
	r, what := c.Main, Capital(render.Clean(c.On.Title()))
	if c.On.Each != nil {
		what += ", each person's logins held against their own,"
	}
	switch r.Verdict {
	case compare.Faster, compare.Slower:
		near, far := min(r.Low.Abs(), r.High.Abs()), max(r.Low.Abs(), r.High.Abs())
		is, back := "is", ""
		if c.TakenBack() {
			is, back = "was", " All of that is taken back by now."
		}
		return fmt.Sprintf("%s %s %s by %s %s (between %s and %s%s).%s", what, is, r.Verdict,
			exact(r.Estimate), c.Between, exact(near), exact(far), how, back)
	case compare.NoDifference:
		return fmt.Sprintf("No difference shown %s: %s changed by something between %s and %s%s.",
			c.Between, c.On.Title(), signed(r.Low), signed(r.High), how)
	}
	if r.Before.N+r.After.N == 0 && len(c.Sides.Before)+len(c.Sides.After) > 0 {
		return fmt.Sprintf("%s was measured in none of these boots: it takes a recorder that was "+
			"on, and for what follows a login somebody who logged in.", what)
	}
	if r.Before.N+r.After.N == 0 {
		return fmt.Sprintf("Too few boots to tell what changed %s: none is remembered that could "+
			"be compared.", c.Between)
	}
	return fmt.Sprintf("Not known yet what changed %s: %s was measured in %s before and %s "+
		"after%s; %s.", c.Between, render.Clean(c.On.Title()),
		Count(r.Before.N, "boot", "boots"), Count(r.After.N, "boot", "boots"), how, c.missing())
}

// restarts says how often the machine is to be restarted until enough boots of
// a figure are there, and who is to log in.
func restarts(n int, kind string) string {
	text := Count(n, "more restart", "more restarts")
	user, ok := strings.CutPrefix(kind, "login of ")
	switch {
	case !ok:
		return text
	case n == 1:
		return text + " and login of " + render.Clean(user)
	}
	return text + " with a login of " + render.Clean(user) + " each"
}

// forecastKept says whether what came out lies within what was forecast, and
// how good forecasts have been on this machine.
func (c Comparison) forecastKept() string {
	text := ""
	if o, ok := c.Outcome(); ok {
		of := "ready"
		if o.Kind != "" {
			of = "usable"
		}
		text = fmt.Sprintf(" As it came out, %s is %s, %s.", of, moved(o.Saved), withinRange(o))
	}
	if n := len(c.Kept); n > 1 {
		text += " " + forecastsKept(c.Kept)
	}
	return text
}

func withinRange(o change.Outcome) string {
	if o.Within {
		return "within that range"
	}
	return "outside that range"
}

// forecastsKept says how good forecasts have been on this machine; it is empty
// where none has an outcome.
func forecastsKept(changes []change.Change) string {
	n, kept, off := 0, 0, 0.0
	for _, ch := range changes {
		f, came := ch.CameOut()
		if !came {
			continue
		}
		n++
		if ch.Outcome.Within {
			kept++
		}
		off += (ch.Outcome.Saved - f.Saving).Abs().Seconds()
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("Of %s on this machine, %d came out within the range; on average they "+
		"were %.1f s off.", Count(n, "forecast", "forecasts"), kept, off/float64(n))
}

// missing says what it takes for a verdict.
func (c Comparison) missing() string {
	switch {
	case c.Main.Missing > 0:
		return restarts(c.Main.Missing, c.On.Kind) + " would do"
	case len(c.Changes) > 0:
		return "there are too few from before, which cannot be made up unless the change is undone"
	}
	return "there are too few on the side before"
}

// ShowComparison shows a comparison whole. Unkept says why its outcome was not
// kept in the casebook; nil where it was.
func ShowComparison(s Page, c Comparison, found family.Boots, unkept error) {
	s.Say(render.Strong, "%s", c.Answer())
	if r := c.Main; r.Verdict == compare.NoDifference {
		s.Wrap(0, "From %s on, a difference would have shown in boots that spread like these.",
			render.Duration(r.Shows))
	}
	s.Line("")
	c.showChanges(s, unkept)
	if s.Figures() && c.Main.Before.N > 0 && c.Main.After.N > 0 {
		strips(s, c)
	}
	c.measureTable(s)
	for _, text := range c.worse() {
		s.SayWrapped(2, render.Warn, "Mind: %s", text)
	}
	if n := len(c.Late); n > 0 {
		titles := make([]string, n)
		for i, it := range c.Late {
			titles[i] = render.Clean(it.Title)
		}
		s.Wrap(2, "Mind: %s %s delayed past settled; what %s then is in none of these figures.",
			few(titles), plural(n, "was", "were"), plural(n, "it does", "they do"))
		s.Line("")
	}
	c.reasonTable(s)
	c.stepTable(s)
	for _, b := range c.Sides.LeftOut {
		s.Wrap(2, "Left out: the boot of %s, since %s.", Day(b.Began),
			render.Clean(strings.Join(b.Odd, "; ")))
	}
	if len(c.Sides.LeftOut) > 0 {
		s.Line("To take them all the same, give --odd.")
	}
	unreadLog(s, found)
	s.Line("%s", c.next(s.Calls))
}

// showChanges shows what was changed between the two sides.
func (c Comparison) showChanges(s Page, unkept error) {
	const most = 8
	for _, ch := range c.Changes[:min(most, len(c.Changes))] {
		fate := ""
		if slices.ContainsFunc(c.Back, func(b change.Change) bool { return b.ID == ch.ID }) {
			fate = " (on again: it explains nothing of this)"
		}
		s.Wrap(4, "  change %d, %s: %s%s", ch.ID, Day(ch.MadeAt), What(ch), fate)
	}
	if more := len(c.Changes) - most; more > 0 {
		s.Line("  and %s: %s", Count(more, "more", "more"), s.Call("history"))
	}
	if f := c.Forecast(); f != nil {
		s.Wrap(2, "  %s%s", ForecastLine(*f), c.forecastKept())
	}
	if n := len(c.Waiting); n > 0 {
		s.Wrap(2, "  %s for a restart, and %s not in these boots: %s.",
			plural(n, "1 change waits", fmt.Sprint(n)+" changes wait"), plural(n, "is", "are"),
			change.Names(c.Waiting))
	}
	for _, it := range c.OnAgain {
		s.SayWrapped(4, render.Warn, "  Mind: %s is on again although a change switched it off.",
			render.Clean(it.Title))
	}
	if unkept != nil {
		s.Wrap(2, "  %s",
			s.Paint(render.Dim, "Not kept in the casebook: "+render.Clean(unkept.Error())))
	}
	if len(c.Changes) > 0 {
		s.Line("")
	}
}

// worse says which other figures became worse.
func (c Comparison) worse() (all []string) {
	for _, m := range c.Worse() {
		all = append(all, fmt.Sprintf("%s is slower by %s (between %s and %s): more than so many "+
			"figures differ by chance.", render.Clean(m.Title()), exact(m.Estimate), exact(m.Low),
			exact(m.High)))
	}
	return all
}

// ShowJudged says by what changes that were just carried out will be judged,
// and what that takes. boots and all are what the machine remembers, those
// changes among them.
func ShowJudged(s Page, boots []boot.Boot, all []change.Change, now time.Time) {
	last, ok := job.Since(boots, all, compare.Measure{}, job.Begin{}, now)
	if !ok {
		return
	}
	// as compare will, once a boot has felt them
	last.Sides.Before, last.Sides.After = slices.Concat(last.Sides.Before, last.Sides.After), nil
	last.Measure()
	if n := last.Main.Missing; n > 0 && last.Main.Before.N > 0 {
		s.Wrap(2, "It is judged by %s, and that takes %s. A look before that shows a difference "+
			"too often.", render.Clean(last.On.Title()), restarts(n, last.On.Kind))
	}
}

// next says what to do after a comparison.
func (c Comparison) next(calls Calls) string {
	n := len(c.Changes)
	switch {
	case len(c.Waiting) > 0:
		return "Next: restart the machine, then " + calls.Call("compare")
	case c.Main.Missing > 0 && n > 0:
		return fmt.Sprintf("Next: %s, then %s", restarts(c.Main.Missing, c.On.Kind),
			calls.Call("compare"))
	case n > 0 && c.Changes[n-1].Stands() && c.Main.Verdict != compare.Faster:
		return "Next: keep what was changed, or take it back with " +
			calls.Call("undo "+InWords(c.Changes))
	case n > 0 && c.Main.Verdict == compare.Faster:
		return fmt.Sprintf("Next: write it down for the customer, with %s; or look for more, "+
			"with %s", calls.Call("report"), calls.Call("list"))
	}
	return "Next: look for more, with " + calls.Call("list")
}

// measureTable shows every figure that was measured: medians, how far boots
// spread, and the shift with its bounds.
func (c Comparison) measureTable(s Page) {
	var rows [][]render.Cell
	for _, m := range c.Measures() {
		show := render.Seconds
		if m.Bytes {
			show = func(d time.Duration) string { return render.Bytes(int64(d)) }
		}
		side := func(x compare.Side[time.Duration]) (median, spread string) {
			if x.N == 0 {
				return "", ""
			}
			return show(x.Median), fmt.Sprintf("%s to %s", strings.TrimSuffix(show(x.Least), " s"),
				show(x.Most))
		}
		one, spread1 := side(m.Before)
		two, spread2 := side(m.After)
		moved, bounds := "", ""
		if m.Before.N > 0 && m.After.N > 0 {
			moved = signedBy(m, m.Estimate)
			if m.Bounded {
				bounds = signedBy(m, m.Low) + " to " + signedBy(m, m.High)
			}
		}
		rows = append(rows, []render.Cell{
			render.C(render.Clean(m.Title())),
			render.C(fmt.Sprintf("%d, %d", m.Before.N, m.After.N)),
			render.C(one),
			render.C(spread1),
			render.C(two),
			render.C(spread2),
			render.C(moved),
			render.C(bounds),
		})
	}
	s.Table([]render.Column{
		{Title: "FIGURE"},
		{Title: "BOOTS", Keep: 2},
		{Title: "BEFORE", Right: true},
		{Title: "SPREAD", Right: true, Keep: 1},
		{Title: "AFTER", Right: true},
		{Title: "SPREAD", Right: true, Keep: 1},
		{Title: "SHIFT", Right: true},
		{Title: "WITHIN (95 %)", Right: true, Keep: 3},
	}, rows)
	s.SayWrapped(0, render.Dim, "Before and after are medians. Shift is the median of all "+
		"differences between a boot after and one before, so that it is not their difference.")
	s.Line("")
}

// reasonTable shows what the difference of ready consists of.
func (c Comparison) reasonTable(s Page) {
	w := c.Why
	if len(w.Reasons) == 0 {
		return
	}
	s.Line("What ready waited for, one after the other: means of the boots before and after.")
	took := func(d time.Duration) render.Cell {
		if d == 0 {
			return render.C("")
		}
		return render.C(render.Seconds(d))
	}
	whole := w.Others + w.Remainder
	var rows [][]render.Cell
	for _, r := range w.Reasons {
		whole += r.Change()
		rows = append(rows, []render.Cell{
			render.C(c.title(r.Name)), took(r.Before), took(r.After), render.C(shift(r.Change())),
			render.C(string(r.Kind)),
		})
	}
	if w.Others != 0 {
		rows = append(rows, []render.Cell{
			render.C("all others"),
			{},
			{},
			render.C(shift(w.Others)),
			{},
		})
	}
	rows = append(rows, []render.Cell{
		render.C("remainder"),
		{},
		{},
		render.C(shift(w.Remainder)),
		render.C("means are not the shift between boots"),
	},
		[]render.Cell{
			{Text: "shift of ready", Tone: render.Strong},
			{},
			{},
			{Text: shift(whole), Tone: render.Strong},
			{},
		})
	s.Table([]render.Column{
		{Title: "ITEM", Flex: 20},
		{Title: "BEFORE", Right: true, Keep: 2},
		{Title: "AFTER", Right: true, Keep: 2},
		{Title: "CHANGE", Right: true},
		{Title: "IT IS", Keep: 1},
	}, rows)
	if w.Blind > 0 {
		s.Wrap(0, "What waited for what is not known of %s.",
			Count(w.Blind, "boot", "boots"))
	}
	s.Line("")
	for _, text := range c.Different {
		s.Wrap(2, "Also different: %s.", render.Clean(text))
	}
	if len(c.Different) > 0 {
		s.Line("")
	}
}

// stepTable shows what each change did, where there were several with boots
// between them.
func (c Comparison) stepTable(s Page) {
	if len(c.Steps) < 3 {
		return
	}
	var rows [][]render.Cell
	for _, st := range c.Steps {
		name, moved, Verdict := "before all changes", "", ""
		if len(st.Changes) > 0 {
			name = fmt.Sprintf("%s: %s", strings.TrimPrefix(change.Names(st.Changes), "change "),
				What(st.Changes[0]))
			if n := len(st.Changes) - 1; n > 0 {
				name += fmt.Sprintf(", and %d more", n)
			}
			if r := st.Shift; r.Before.N > 0 && r.After.N > 0 {
				moved = shift(r.Estimate)
				if r.Bounded {
					Verdict = shift(r.Low) + " to " + shift(r.High)
				}
			}
		}
		median := ""
		if st.Side.N > 0 {
			median = render.Seconds(st.Side.Median)
		}
		rows = append(rows, []render.Cell{
			render.C(name), render.C(fmt.Sprint(st.Side.N)), render.C(median), render.C(moved),
			render.C(Verdict),
		})
	}
	s.Line("Step by step; the bounds of each hold for it alone, of several one may miss.")
	s.Table([]render.Column{
		{Title: "CHANGE", Flex: 20},
		{Title: "BOOTS", Right: true, Keep: 2},
		{Title: strings.ToUpper(c.On.Name), Right: true},
		{Title: "SHIFT", Right: true},
		{Title: "WITHIN (95 %)", Right: true, Keep: 1},
	}, rows)
	s.Line("")
}

// strips draws the boots of both sides as points above each other, on one axis.
func strips(s Page, c Comparison) {
	b, f := c.Main.Before, c.Main.After
	low, high := min(b.Least, f.Least), max(b.Most, f.Most)
	margin := max((high-low)/20, 100*time.Millisecond)
	low, high = max(0, low-margin), high+margin
	columns := max(20, min(100, s.Width()-24))
	label := fmt.Sprintf("%-7s", c.On.Name)
	s.Line("  before  %s  %s", s.Points(c.On.Values(c.Sides.Before), low, high, columns),
		Count(b.N, "boot", "boots"))
	s.Line("  after   %s  %s",
		s.Paint(render.Good, s.Points(c.On.Values(c.Sides.After), low, high, columns)),
		Count(f.N, "boot", "boots"))
	left, right := render.Seconds(low), render.Seconds(high)
	s.Line("  %.7s %s%s%s", label, left, strings.Repeat(" ", max(1, columns-len(left)-len(right))),
		right)
	s.Line("")
}

// signedBy shows a difference of a figure with its sign.
func signedBy(m job.Measured, d time.Duration) string {
	if !m.Bytes {
		return shift(d)
	}
	if d < 0 {
		return "-" + render.Bytes(int64(-d))
	}
	return "+" + render.Bytes(int64(d))
}

// BootsCSV returns the boots of both sides, and those left out, as rows of a
// file of comma-separated values, the heads first.
func (c Comparison) BootsCSV() [][]string {
	fields := []field[bootRow]{{head: "side", text: func(b bootRow) string { return b.side }}}
	for _, f := range bootFields() {
		if slices.Contains([]string{"id", "began", "usable (s)", "kind"}, f.head) {
			fields = append(fields, f)
		}
	}
	for _, m := range compare.Measures {
		unit, show := " (s)", func(n int64) string { return inSeconds(time.Duration(n)) }
		if m.Bytes {
			unit, show = " (bytes)", func(n int64) string { return fmt.Sprint(n) }
		}
		fields = append(fields, field[bootRow]{
			head: m.Name + unit,
			number: func(b bootRow) string {
				if n, ok := m.Of(b.Boot); ok {
					return show(int64(n))
				}
				return ""
			},
		})
	}
	for _, f := range bootFields() {
		switch f.head {
		case "odd":
			f.head = "left out since"
			fields = append(fields, f)
		case "simulated":
			fields = append(fields, f)
		}
	}
	var rows []bootRow
	for _, side := range []struct {
		name  string
		boots []boot.Boot
	}{
		{"before", c.Sides.Before},
		{"after", c.Sides.After},
		{"left out", c.Sides.LeftOut},
	} {
		for _, b := range side.boots {
			rows = append(rows, bootRow{Boot: b, side: side.name})
		}
	}
	return separated(fields, nil, rows)
}
