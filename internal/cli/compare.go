package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/job"
	"calmdawn/internal/document"
	"calmdawn/internal/family"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// compareView is how boots are to be compared.
type compareView struct {
	odd, csv bool
	with     string // another casebook
	failIf   string
	on       string
	since    string
	measure  compare.Measure
	begin    job.Begin
}

func (a *app) compareCommand() *cobra.Command {
	var v compareView
	cmd := &cobra.Command{
		Use:   "compare [BEFORE AFTER | change:N]",
		Short: "Compare the boots before the last job with those after it",
		Long: `Compare takes the boots that the machine remembers from before the last job
and those of the machine as it is set up now, and says whether they differ:
faster, slower, no difference shown, or too few boots.

It takes four boots on each side, or five before and three after. Decide
beforehand how many there are to be: who looks after each one and stops at the
first "faster" sees one too often. It is "faster" only if the boots bear it out
with at least 95 % confidence.

A job is the changes between which less than 30 days lie; --since has it begin
elsewhere. What each of its steps did is told below it; changes with no boot
between them are one step. Where changes still wait for a restart, the boots
after are those of the last setup that was booted.

The verdict is on usable, where both sides have enough boots with the login of
the same person, or without one; else on ready; or on what --on names.

Other boots can be chosen, before and after, as lists with commas:

  3 or 5-8                by their numbers, as boots shows them
  2026-11-20 or A..B      by the day they began, or from one day to another
  be6fe0a8                by the beginning of their id
  change:2                those right before and right after change 2
  memory                  those with a label of yours; see calmdawn label

--with takes the boots before from another casebook: the same machine earlier,
or one like it.`,
		Example: `  calmdawn compare
  calmdawn compare change:1
  calmdawn compare 1-5 6-10
  calmdawn compare before after --on settled
  calmdawn compare --with old.db
  calmdawn compare --fail-if slower:2s   exit status 3 if it is slower by 2 s or more
  calmdawn compare --csv > boots.csv     the boots of both sides`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usage("compare takes two lists of boots, with commas and no spaces within "+
					"each; %q is too much", args[2])
			}
			return nil
		},
		ValidArgsFunction: a.completeSides,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := v.check(); err != nil {
				return err
			}
			if v.csv && a.json {
				return usage("--csv and --json are two forms; choose one")
			}
			limit, err := parseLimit(v.failIf)
			if err != nil {
				return err
			}
			return a.compare(v, args, limit)
		},
	}
	v.flags(cmd)
	cmd.Flags().StringVar(&v.failIf, "fail-if", "", "end with status 3 if the verdict is slower: "+
		"`slower[:AMOUNT]`, as slower, slower:2s or slower:5%")
	cmd.Flags().BoolVar(&v.csv, "csv", false, "print comma-separated values, a line a boot")
	return cmd
}

// flags are those that say which boots are compared, and by what.
func (v *compareView) flags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&v.odd, "odd", false, "take odd boots too, which are left out otherwise")
	cmd.Flags().StringVar(&v.on, "on", "", "by which `FIGURE` to judge: usable, ready, settled, "+
		"or settled-after-login")
	cmd.Flags().StringVar(&v.with, "with", "", "take the boots before from another casebook, "+
		"`FILE`")
	cmd.Flags().StringVar(&v.since, "since", "", "the job began with `BEGIN`: change:3, or the "+
		"first change from a day on, 2026-11-20")
}

func (v *compareView) check() error {
	v.on = visit.Spaced(v.on)
	m, ok := compare.MeasureOf(v.on)
	if v.on != "" && (!ok || v.on != "ready" && v.on != "usable" &&
		!strings.HasPrefix(v.on, "settled")) {
		return usage("--on takes usable, ready, settled or settled-after-login, not %q", v.on)
	}
	v.measure = m
	if v.since == "" {
		return nil
	}
	if number, ok := strings.CutPrefix(v.since, "change:"); ok {
		v.begin.Change, _ = strconv.ParseInt(number, 10, 64)
	} else if day, err := time.ParseInLocation(time.DateOnly, v.since, time.Local); err == nil {
		v.begin.Day = day
	}
	if v.begin == (job.Begin{}) || v.begin.Change < 0 {
		return usage("--since takes a change such as change:3, or a day such as 2026-11-20, not %q",
			v.since)
	}
	return nil
}

// A limit is what --fail-if forbids.
type limit struct {
	set   bool
	least time.Duration
	share float64
}

func parseLimit(text string) (limit, error) {
	if text == "" {
		return limit{}, nil
	}
	word, amount, given := strings.Cut(text, ":")
	l := limit{set: true}
	var err error
	if given {
		if percent, ok := strings.CutSuffix(amount, "%"); ok {
			l.share, err = strconv.ParseFloat(percent, 64)
			l.share /= 100
		} else {
			l.least, err = time.ParseDuration(amount)
		}
	}
	if word != "slower" || err != nil || l.least < 0 || !(l.share >= 0) {
		return l, usage("--fail-if takes slower, or slower with an amount such as slower:2s, "+
			"slower:500ms or slower:5%%, not %q", text)
	}
	return l, nil
}

// broken reports whether a comparison says what the limit forbids.
func (l limit) broken(r compare.Times) bool {
	return l.set && r.Verdict == compare.Slower && r.Estimate >= l.least &&
		r.Estimate.Seconds() >= l.share*r.Before.Median.Seconds()
}

func (v compareView) question(words []string) visit.Question {
	return visit.Question{
		On:    v.measure,
		Words: words,
		With:  v.with,
		Odd:   v.odd,
		Begin: v.begin,
	}
}

func (a *app) compare(v compareView, words []string, fail limit) error {
	l, err := a.look()
	if err != nil {
		return err
	}
	defer l.Close()
	if _, err := l.ReadChanges(); err != nil {
		return err
	}
	done := a.progress("reading the log")
	found := l.Remember(0)
	done()
	q := v.question(words)
	answer, ok, err := l.Compare(q, q.Judged(found.Boots))
	if err != nil {
		return err
	}
	if !ok {
		made := "nothing that this machine launches was changed"
		if len(job.CarriedOut(l.Changes)) > 0 {
			made = "every change was taken back before a boot could feel it"
		}
		return fmt.Errorf("%s, so there is no before and after; %s shows its boots, and %s "+
			"compares two lists of them", made, a.call("boots"), a.call("compare BEFORE AFTER"))
	}
	unkept := l.KeepOutcome(answer)
	c := shown(answer, l)
	c.back, c.late = l.CameBack(), l.PastSettled(c.Sides.After)
	switch {
	case a.json:
		err = a.writeJSON(document.NewComparison(c.Comparison))
	case v.csv:
		err = a.compareCSV(c)
	default:
		a.showComparison(a.screen(), c, found, unkept)
	}
	switch {
	case err != nil || !fail.set:
		return err
	case fail.broken(c.Main):
		return &status{exitNo, nil}
	case c.Main.Verdict == compare.TooFew:
		return &status{exitUnsure, nil}
	}
	return nil
}

// answer says the verdict in a sentence.
func (c comparison) answer() string {
	how := simulated(slices.Concat(c.Sides.Before, c.Sides.After))
	r, what := c.Main, capital(c.On.Title())
	switch r.Verdict {
	case compare.Faster, compare.Slower:
		near, far := min(r.Low.Abs(), r.High.Abs()), max(r.Low.Abs(), r.High.Abs())
		return fmt.Sprintf("%s is %s by %s %s (between %s and %s%s).", what, r.Verdict,
			exact(r.Estimate), c.Between, exact(near), exact(far), how)
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
	return fmt.Sprintf("Too few boots to tell what changed %s: %s before and %s after%s; %s.",
		c.Between, count(r.Before.N, "boot", "boots"), count(r.After.N, "boot", "boots"), how,
		c.missing())
}

// exact shows a difference that may be one of milliseconds.
func exact(d time.Duration) string {
	if d = d.Abs(); d < 100*time.Millisecond {
		return render.Millis(d)
	}
	return render.Duration(d)
}

func capital(word string) string { return strings.ToUpper(word[:1]) + word[1:] }

// forecastKept says whether what came out lies within what was forecast, and
// how good forecasts have been on this machine.
func (c comparison) forecastKept() string {
	text := ""
	if o, ok := c.Outcome(); ok {
		of := "ready"
		if o.Kind != "" {
			of = "usable"
		}
		text = fmt.Sprintf(" As it came out, %s is %s, %s.", of, moved(o.Saved), within(o))
	}
	if n := len(c.Kept); n > 1 {
		text += " " + forecastsKept(c.Kept)
	}
	return text
}

func within(o change.Outcome) string {
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
		"were %.1f s off.", count(n, "forecast", "forecasts"), kept, off/float64(n))
}

// missing says what it takes for a verdict.
func (c comparison) missing() string {
	switch {
	case c.Main.Missing > 0:
		return fmt.Sprintf("%s after would do", count(c.Main.Missing, "more boot", "more boots"))
	case len(c.Changes) > 0:
		return "there are too few from before, which cannot be made up unless the change is undone"
	}
	return "there are too few on the side before"
}

// shift shows a difference as it stands in a column, with its sign.
func shift(d time.Duration) string {
	if d = d.Round(100 * time.Millisecond); d == 0 {
		return render.Seconds(0)
	}
	return fmt.Sprintf("%+.1f s", d.Seconds())
}

func signed(d time.Duration) string {
	if d < 0 {
		return "-" + render.Duration(d)
	}
	return "+" + render.Duration(d)
}

// moved says by how much something comes sooner, or later.
func moved(saved time.Duration) string {
	if saved < 0 {
		return render.Duration(saved) + " later"
	}
	return render.Duration(saved) + " sooner"
}

func (a *app) showComparison(s *render.Screen, c comparison, found family.Boots, unkept error) {
	s.Say(render.Strong, "%s", c.answer())
	if r := c.Main; r.Verdict == compare.NoDifference {
		s.Wrap(0, "From %s on, a difference would have shown in boots that spread like these.",
			render.Duration(r.Shows))
	}
	s.Line("")
	const most = 8
	for _, ch := range c.Changes[:min(most, len(c.Changes))] {
		fate := ""
		if slices.ContainsFunc(c.Back, func(b change.Change) bool { return b.ID == ch.ID }) {
			fate = " (on again: it explains nothing of this)"
		}
		s.Wrap(4, "  change %d, %s: %s%s", ch.ID, day(ch.MadeAt), what(ch), fate)
	}
	if more := len(c.Changes) - most; more > 0 {
		s.Line("  and %s: %s", count(more, "more", "more"), a.call("history"))
	}
	if f := c.Forecast(); f != nil {
		s.Wrap(2, "  %s%s", forecastLine(*f), c.forecastKept())
	}
	if n := len(c.Waiting); n > 0 {
		s.Wrap(2, "  %s for a restart, and %s not in these boots: %s.",
			plural(n, "1 change waits", fmt.Sprint(n)+" changes wait"), plural(n, "is", "are"),
			change.Names(c.Waiting))
	}
	for _, it := range c.back {
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
	if s.Figures() && c.Main.Before.N > 0 && c.Main.After.N > 0 {
		a.strips(s, c)
	}
	c.measureTable(s)
	for _, it := range c.late {
		s.Wrap(2, "Mind: %s was delayed past settled; what it does then is in none of these "+
			"figures.", render.Clean(it.Title))
	}
	if len(c.late) > 0 {
		s.Line("")
	}
	c.reasonTable(s)
	c.stepTable(s)
	for _, b := range c.Sides.LeftOut {
		s.Wrap(2, "Left out: the boot of %s, since %s.", day(b.Began),
			render.Clean(strings.Join(b.Odd, "; ")))
	}
	if len(c.Sides.LeftOut) > 0 {
		s.Line("To take them all the same, give --odd.")
	}
	a.unreadLog(s, found)
	switch {
	case len(c.Waiting) > 0:
		s.Line("Next: restart the machine, then %s", a.call("compare"))
	case c.Main.Missing > 0 && len(c.Changes) > 0:
		s.Line("Next: restart the machine %s, then %s",
			count(c.Main.Missing, "more time", "more times"), a.call("compare"))
	case len(c.Changes) > 0 && c.Changes[len(c.Changes)-1].Stands() &&
		c.Main.Verdict != compare.Faster:
		s.Line("Next: keep what was changed, or take it back with %s",
			a.call("undo "+inWords(c.Changes)))
	case len(c.Changes) > 0 && c.Main.Verdict == compare.Faster:
		s.Line("Next: write it down for the customer, with %s; or look for more, with %s",
			a.call("report"), a.call("list"))
	default:
		s.Line("Next: look for more, with %s", a.call("list"))
	}
}

// measureTable shows every figure that was measured: medians, how far boots
// spread, and the shift with its bounds.
func (c comparison) measureTable(s *render.Screen) {
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
	s.Line("")
}

// reasonTable shows what the difference of ready consists of.
func (c comparison) reasonTable(s *render.Screen) {
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
		s.Wrap(0, "Of %s nothing is known of what waited for what.",
			count(w.Blind, "boot", "boots"))
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
func (c comparison) stepTable(s *render.Screen) {
	if len(c.Steps) < 3 {
		return
	}
	var rows [][]render.Cell
	for _, st := range c.Steps {
		name, moved, verdict := "before all changes", "", ""
		if len(st.Changes) > 0 {
			name = fmt.Sprintf("%s: %s", strings.TrimPrefix(change.Names(st.Changes), "change "),
				what(st.Changes[0]))
			if n := len(st.Changes) - 1; n > 0 {
				name += fmt.Sprintf(", and %d more", n)
			}
			if r := st.Shift; r.Before.N > 0 && r.After.N > 0 {
				moved = shift(r.Estimate)
				if r.Bounded {
					verdict = shift(r.Low) + " to " + shift(r.High)
				}
			}
		}
		median := ""
		if st.Side.N > 0 {
			median = render.Seconds(st.Side.Median)
		}
		rows = append(rows, []render.Cell{
			render.C(name), render.C(fmt.Sprint(st.Side.N)), render.C(median), render.C(moved),
			render.C(verdict),
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
func (a *app) strips(s *render.Screen, c comparison) {
	b, f := c.Main.Before, c.Main.After
	low, high := min(b.Least, f.Least), max(b.Most, f.Most)
	margin := max((high-low)/20, 100*time.Millisecond)
	low, high = max(0, low-margin), high+margin
	columns := max(20, min(100, s.Width()-24))
	label := fmt.Sprintf("%-7s", c.On.Name)
	s.Line("  before  %s  %s", s.Points(c.On.Values(c.Sides.Before), low, high, columns),
		count(b.N, "boot", "boots"))
	s.Line("  after   %s  %s",
		s.Paint(render.Good, s.Points(c.On.Values(c.Sides.After), low, high, columns)),
		count(f.N, "boot", "boots"))
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
