package say

import (
	"cmp"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/core/waits"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A Report is all that a report tells.
type Report struct {
	Visit    *visit.Visit
	Boots    []boot.Boot
	Compared bool
	Comparison
	By       string
	Contact  string // how the customer reaches them
	At       time.Time
	Present  []boot.Condition
	Left     []item.Item // what was left, the costliest first
	Casebook string      // the file in which changes are kept; empty for the machine's own

	points render.Points
	titles []string // of the lines
	lines  []render.Waits
}

// Plot arranges every boot as a point, by a measure.
func (t *Report) Plot(m compare.Measure) {
	place := map[string]render.Side{}
	for side, boots := range map[render.Side][]boot.Boot{
		render.Before:  t.Sides.Before,
		render.After:   t.Sides.After,
		render.LeftOut: t.Sides.LeftOut,
	} {
		for _, b := range boots {
			place[b.ID] = side
		}
	}
	all := slices.Clone(t.Boots)
	// those before may be of another casebook
	for _, b := range slices.Concat(t.Sides.Before, t.Sides.LeftOut) {
		if !slices.ContainsFunc(all, func(o boot.Boot) bool { return o.ID == b.ID }) {
			all = append(all, b)
		}
	}
	slices.SortStableFunc(all, func(x, y boot.Boot) int { return x.Began.Compare(y.Began) })
	t.points.What = m.Title()
	for _, b := range all[max(0, len(all)-mostPoints):] {
		if n, ok := m.Of(b); ok {
			where := place[b.ID]
			if len(b.Odd) > 0 {
				where = render.LeftOut
			}
			t.points.All = append(t.points.All, render.Point{
				At:    b.Began,
				Value: time.Duration(n),
				Side:  where,
			})
		}
	}
	boots := func(until time.Time) int { // in the plot
		return slices.IndexFunc(t.points.All, func(p render.Point) bool {
			return !p.At.Before(until)
		})
	}
	for done := job.CarriedOut(t.Visit.Changes); len(done) > 0; {
		n := 1
		for n < len(done) && boots(done[n].MadeAt) == boots(done[0].MadeAt) {
			n++
		}
		t.points.Changes = append(t.points.Changes, render.Moment{
			At: done[0].MadeAt, Name: change.Names(done[:n]),
		})
		done = done[n:]
	}
	r := t.Main // medians are 0 where a side has no boots
	t.points.Before, t.points.After = r.Before.Median, r.After.Median
	t.points.Shift = r.Estimate
	if r.Bounded {
		t.points.Low, t.points.High = r.Low, r.High
	}
}

// mostPoints is how many boots a plot shows, the last ones; --json and compare
// --csv have all.
const mostPoints = 120

// Pair arranges a boot of each side as what it waited for: the boot whose
// figure is nearest to the median.
func (t *Report) Pair() {
	const beside = 4
	kind := t.On.Kind // of one person's logins, on both sides
	for _, side := range []struct {
		name   string
		boots  []boot.Boot
		median time.Duration
	}{
		{"Before", t.Sides.Before, t.Main.Before.Median},
		{"After", t.Sides.After, t.Main.After.Median},
	} {
		if len(side.boots) == 0 {
			continue
		}
		off := func(b boot.Boot) time.Duration {
			const far = time.Duration(1<<61 - 1)
			n, ok := t.On.Of(b)
			switch {
			case !ok:
				return 2 * far
			case kind != "" && b.Usable().Kind != kind:
				return far
			}
			return (time.Duration(n) - side.median).Abs()
		}
		b := slices.MinFunc(side.boots, func(x, y boot.Boot) int {
			return cmp.Compare(off(x), off(y))
		})
		kind = b.Usable().Kind
		line := waits.Of(t.Visit.Order([]boot.Boot{b})[0], beside)
		for i := range line.Stretches { // the customer knows names, not units
			st := &line.Stretches[i]
			st.Label = t.title(st.Label)
			for j := range st.Beside {
				st.Beside[j].Label = t.title(st.Beside[j].Label)
			}
		}
		t.lines = append(t.lines, render.Waits(line))
		t.titles = append(t.titles,
			fmt.Sprintf("%s: the boot of %s, %s", side.name, Day(b.Began), briefly(b)))
	}
}

// Page returns the report as a page of sections, for any of its forms.
func (t *Report) Page() (render.Report, error) {
	l := t.Visit
	about := []string{render.Clean(l.OS), "made on " + Day(t.At)}
	if t.By != "" {
		about = append(about, "by "+t.By)
	}
	about = slices.DeleteFunc(about, func(s string) bool { return s == "" })
	r := render.Report{
		Title:  "Start-up report: " + MachineName(l),
		About:  strings.Join(about, ", "),
		Answer: t.Headline(),
	}
	if slices.ContainsFunc(t.Boots, func(b boot.Boot) bool { return b.Simulated }) {
		r.Remarks = append(r.Remarks, "The boots are simulated: no hardware stands behind these "+
			"figures.")
	}
	if t.Compared {
		if b, a := t.Main.Before, t.Main.After; b.N > 0 && a.N > 0 && !t.On.Bytes {
			r.Remarks = append(r.Remarks, fmt.Sprintf("It took %s before, the median of %s; now "+
				"it takes %s, the median of %d.", exact(b.Median), Count(b.N, "boot", "boots"),
				exact(a.Median), a.N))
		}
		for _, text := range t.Comparison.worse() {
			r.Remarks = append(r.Remarks, Capital(text))
		}
	}
	add := func(s render.Section) { r.Sections = append(r.Sections, s) }
	t.forCustomer(add)
	if len(t.points.All) > 0 {
		picture, err := render.NewPicture("Every boot as a point: "+t.Headline(),
			t.points.WritePicture)
		if err != nil {
			return r, err
		}
		add(render.Section{Title: "Every boot", Pictures: []*render.Picture{picture}})
	}
	add(render.Section{
		Part: true, Title: "For whoever looks after the machine",
		Text: "How sure the figures are, each change with its way back, and what was left.",
	})
	if t.Compared {
		add(t.figures())
	}
	t.tellChanges(add)
	if len(t.lines) > 0 {
		var pictures []*render.Picture // several, so that a printed page holds one where it ends
		for i, title := range t.titles {
			picture, err := render.NewPicture(title, func(w io.Writer, f render.Format) error {
				return render.WriteWaitsOf(w, f, t.titles, t.lines, i)
			})
			if err != nil {
				return r, err
			}
			pictures = append(pictures, picture)
		}
		add(render.Section{
			Title:    "What happens while it starts",
			Pictures: pictures,
			Table:    t.reasons(),
		})
	}
	t.tellLeft(add)
	t.tellMachine(add)
	add(render.Section{Title: "How this is known", Text: t.method()})
	return r, nil
}

// onItself is how the machine's own user would call us. The report is theirs,
// and knows no folder of the computer on which it was written.
func (t *Report) onItself(words string) string {
	if t.Casebook != "" {
		return "calmdawn --casebook " + ShellWord(filepath.Base(t.Casebook)) + " " + words
	}
	return "calmdawn " + words
}

func (t *Report) tellChanges(add func(render.Section)) {
	if len(t.Visit.Changes) == 0 {
		add(render.Section{Title: "What was changed", Text: "Nothing was changed."})
		return
	}
	sheet := &render.Sheet{
		Heads:   []string{"No", "When", "What", "Forecast", "Now", "To take it back"},
		Right:   []bool{true},
		Stacked: true,
	}
	for _, run := range runsOf(t.Visit.Changes) {
		first, last := run[0], run[len(run)-1]
		numbers, back := fmt.Sprint(first.ID), render.Entry{}
		if len(run) > 1 {
			numbers = fmt.Sprintf("%d-%d", first.ID, last.ID)
		}
		if first.Stands() {
			back = render.Entry{Text: t.onItself("undo " + numbers), Command: true}
		}
		row := render.Texts(numbers, Day(first.MadeAt), whatAll(run), foreseen(first), Fate(first))
		sheet.Rows = append(sheet.Rows, append(row, back))
	}
	add(render.Section{Title: "What was changed, and how to take it back", Table: sheet})
}

// runsOf puts those changes together that carried out one proposal, and have
// fared alike since.
func runsOf(changes []change.Change) (runs [][]change.Change) {
	for _, c := range changes {
		if n := len(runs); n > 0 {
			before := runs[n-1][len(runs[n-1])-1]
			if c.Terms.Proposal != "" && c.Terms.Proposal == before.Terms.Proposal &&
				c.ID == before.ID+1 && c.Stands() && before.Stands() {
				runs[n-1] = append(runs[n-1], c)
				continue
			}
		}
		runs = append(runs, []change.Change{c})
	}
	return runs
}

// whatAll says what several changes do.
func whatAll(run []change.Change) string {
	all := run[0]
	for _, c := range run[1:] {
		all.Targets = append(slices.Clip(all.Targets), c.Targets...)
	}
	return What(all)
}

// figures is the table of before and after.
func (t *Report) figures() render.Section {
	sheet := &render.Sheet{
		Heads: []string{"Median of (from … to)", "Before", "After", "Shift"},
		Right: []bool{false, true, true, true},
	}
	var still []string // phases in which nothing moved
	for _, m := range t.Measures() {
		if boot.IsPhase(m.Name) && m.Verdict != compare.Faster && m.Verdict != compare.Slower {
			still = append(still, m.Title())
			continue
		}
		show := render.Seconds
		if m.Bytes {
			show = func(d time.Duration) string { return render.Bytes(int64(d)) }
		}
		leads := m.Title() == t.On.Title()
		row := []render.Entry{{Text: m.Title(), Strong: leads}}
		for _, side := range []compare.Side[time.Duration]{m.Before, m.After} {
			if side.N == 0 {
				row = append(row, render.Entry{})
				continue
			}
			row = append(row, render.Entry{
				Text: show(side.Median),
				Below: fmt.Sprintf("%s … %s", strings.TrimSuffix(show(side.Least), " s"),
					show(side.Most)),
			})
		}
		moved := ""
		if m.Before.N > 0 && m.After.N > 0 {
			moved = signedBy(m, m.Estimate)
		}
		sheet.Rows = append(sheet.Rows, append(row, render.Entry{
			Text:   moved,
			Strong: leads,
		}))
	}
	r := t.Main
	text := fmt.Sprintf("%s before, %s after.", Count(r.Before.N, "boot", "boots"),
		Count(r.After.N, "boot", "boots"))
	if answer := t.Comparison.Answer(); answer != t.Headline() {
		text += " " + answer
	}
	if f := t.Forecast(); f != nil {
		text += " " + ForecastLine(*f) + t.forecastKept()
	}
	if len(still) > 0 {
		text += " Of the phases, no difference shows in these: " + strings.Join(still, ", ") + "."
	}
	return render.Section{Title: "Before and after", Text: text, Table: sheet}
}

// reasons is the table of what the difference consists of; nil where nothing is
// known of it.
func (t *Report) reasons() *render.Sheet {
	w := t.Why
	if len(w.Reasons) == 0 {
		return nil
	}
	sheet := &render.Sheet{
		Heads: []string{"Ready waited for", "Before", "After", "Change"},
		Right: []bool{false, true, true, true},
	}
	took := func(d time.Duration) string {
		if d == 0 {
			return ""
		}
		return render.Seconds(d)
	}
	whole := w.Others + w.Remainder
	for _, r := range w.Reasons {
		whole += r.Change()
		row := render.Texts(t.title(r.Name), took(r.Before), took(r.After), shift(r.Change()))
		row[0].Below = string(r.Kind)
		sheet.Rows = append(sheet.Rows, row)
	}
	if w.Others != 0 {
		sheet.Rows = append(sheet.Rows, render.Texts("all others", "", "", shift(w.Others)))
	}
	sheet.Rows = append(sheet.Rows, render.Texts("remainder: means are not the shift between "+
		"boots", "", "", shift(w.Remainder)),
		[]render.Entry{
			{Text: "shift of ready", Strong: true},
			{},
			{},
			{Text: shift(whole), Strong: true},
		})
	return sheet
}

func (t *Report) tellLeft(add func(render.Section)) {
	const most = 20
	if len(t.Left) == 0 {
		return
	}
	sheet := &render.Sheet{
		Heads:   []string{"Item", "Does", "Advice", "Why it was left", "Would save"},
		Right:   []bool{false, false, false, false, true},
		Stacked: true,
	}
	for _, it := range t.Left[:min(most, len(t.Left))] {
		saves := "unknown"
		if c := t.Visit.Cost(it); c.Replayed {
			saves = NoneShown
			if lead := c.Wait.Lead(); lead.Shows {
				saves = render.Seconds(lead.Saving.Median)
			}
		}
		if j, ok := t.Visit.Joint(it); ok {
			saves = render.Seconds(j.Gain) + " " + WithOthers
		}
		sheet.Rows = append(sheet.Rows,
			render.Texts(it.Title, it.Role, string(it.Advice), t.whyLeft(it), saves))
	}
	text := "Items added to the operating system that are launched as before, the costliest " +
		"first; what they would save is a forecast, and waits overlap."
	if more := len(t.Left) - most; more > 0 {
		text += fmt.Sprintf(" %s not listed.", Count(more, "more is", "more are"))
	}
	add(render.Section{Title: "What was left, and why", Text: text, Table: sheet})
}

// whyLeft is why nobody has switched an item off: what it is for, or that
// nothing would be felt, or that it is still open.
func (t *Report) whyLeft(it item.Item) string {
	reason, cost := why(it), t.Visit.Cost(it)
	switch it.Advice {
	case item.Keep:
		return reason
	case item.LookUp:
		here, everywhere := t.Visit.NotesOn(it.ID)
		if note := cmp.Or(here, everywhere); note != "" {
			return "it stays, as noted: " + note
		}
		if strings.HasPrefix(reason, advice.Unknown) {
			return "what it is for was not looked up yet; until then it stays"
		}
		return "it stays until somebody has answered this: " + reason
	case item.CleanUp:
		return reason
	}
	if _, ok := t.Visit.Joint(it); !ok && cost.Replayed && !cost.Wait.Lead().Shows {
		return "without it nothing would be felt at a start; otherwise " + reason
	}
	return "it was not decided on yet: " + reason
}

func (t *Report) tellMachine(add func(render.Section)) {
	sheet := &render.Sheet{Heads: []string{"", "", "Why it matters for a start"}, Stacked: true}
	row := func(c boot.Condition) {
		if c.Value != "" {
			sheet.Rows = append(sheet.Rows, []render.Entry{
				{Text: c.Name, Strong: c.Bad},
				{Text: c.Value, Strong: c.Bad},
				{Text: c.Why},
			})
		}
	}
	row(boot.Condition{Name: "operating system", Value: t.Visit.OS})
	if n := len(t.Boots); n > 0 {
		last := t.Boots[n-1]
		if last.Processors > 0 {
			row(boot.Condition{Name: "processors", Value: fmt.Sprint(last.Processors)})
		}
		if last.Memory > 0 {
			row(boot.Condition{Name: "memory", Value: render.Bytes(last.Memory)})
		}
	}
	for _, c := range t.Present {
		row(c)
	}
	text := "As it is now."
	if len(t.Different) > 0 {
		text += " Different between before and after: " + strings.Join(t.Different, "; ") + "."
	}
	add(render.Section{Title: "The machine", Text: text, Table: sheet})
}

// method says how the figures came about.
func (t *Report) method() string {
	text := "Usable is when the machine had gone quiet after it was ready and somebody had " +
		"logged in, less the time in which it waited for that person: when one could work. " +
		"Ready counts from the start of the kernel until the machine has reached its goal; " +
		"firmware and loader stand beside it. "
	if t.Compared && t.Main.Before.N > 0 && t.Main.After.N > 0 {
		text += fmt.Sprintf("The shift is the median of all differences between a boot after and "+
			"one before (Hodges and Lehmann); the verdict asks for 95 %% confidence by the exact "+
			"rank test of Mann and Whitney. %s before and %s after were used. ",
			Count(t.Main.Before.N, "boot", "boots"), Count(t.Main.After.N, "boot", "boots"))
	}
	if n := len(t.Sides.LeftOut); n > 0 {
		text += fmt.Sprintf("%s left out: ", Count(n, "boot was", "boots were"))
		var each []string
		for _, b := range t.Sides.LeftOut {
			each = append(each,
				fmt.Sprintf("that of %s, since %s", Day(b.Began), strings.Join(b.Odd, "; ")))
		}
		text += strings.Join(each, "; ") + ". "
	}
	return text + "What items would save is forecast by replaying recorded boots without them."
}

// Document returns it as programs read it.
func (t *Report) Document() document.Report {
	d := document.NewReport(t.Visit.Survey, t.At, t.By, t.Headline())
	if t.Compared {
		c := document.NewComparison(t.Comparison.Comparison)
		d.Comparison = &c
	}
	d.AddChanges(t.Visit.Changes)
	for _, it := range t.Left {
		d.AddLeft(it, t.Visit.Cost(it))
	}
	d.AddConditions(t.Present)
	d.AddBoots(t.Boots)
	return d
}

// Pictures are the pictures of a report, by their names in a folder. They show
// every boot as a point, and where boots are compared, one of each side.
func (t *Report) Pictures() map[string]func(io.Writer, render.Form) error {
	all := map[string]func(io.Writer, render.Form) error{
		"boots": func(w io.Writer, f render.Form) error {
			return t.points.WritePicture(w, render.Format{Form: f, Palette: render.Light})
		},
	}
	if len(t.lines) > 0 {
		all["boot"] = func(w io.Writer, f render.Form) error {
			return render.WriteWaits(w, render.Format{Form: f, Palette: render.Light}, t.titles,
				t.lines)
		}
	}
	return all
}

// Headline says in the customer's words what came of it.
func (t *Report) Headline() string {
	if !t.Compared {
		return outlook(t.Visit)
	}
	c, how := t.Comparison, map[compare.Verdict]string{
		compare.Faster: "sooner", compare.Slower: "later",
	}
	word := how[c.Main.Verdict]
	if word == "" {
		return c.Answer()
	}
	kind := ""
	if c.On.Kind != "" {
		kind = " (" + render.Clean(c.On.Kind) + ")"
	}
	return fmt.Sprintf("%s is %s %s %s than before%s.", MachineName(t.Visit), c.On.Name,
		exact(c.Main.Estimate), word, kind)
}
