package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/core/road"
	"calmdawn/internal/document"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// reportView is how a report is to be written.
type reportView struct {
	compareView
	file, by, pictures string
	before, after      string
	replace            bool
}

func (a *app) reportCommand() *cobra.Command {
	var v reportView
	cmd := &cobra.Command{
		Use:   "report [FILE]",
		Short: "Write down before and after for the customer, or for the ticket",
		Long: `Report writes one file that tells what was done to this machine and what it
brought. The end of its name says the form: .html, a page for the customer; .md,
a text for the ticket; .json, for programs.

It holds every boot as a point, a boot before and one after on the same axis,
what was changed and how to take it back, what was left and why, and the
machine's condition.

  .html    a page for the customer: it needs nothing besides itself, and prints well
  .md      text with tables, for a ticket
  .json    for programs

Without a name it writes a page named after the machine and the day, into the
present folder. The boots are those before and after the last job; --before and
--after choose others, as compare does.`,
		Example: `  calmdawn report
  calmdawn report meridian.html --by "Workshop at the old harbour"
  calmdawn report ticket.md
  calmdawn report --before 1-5 --after 6-10 memory.html
  calmdawn report --pictures plots plots.html        the plots as PNG and SVG too`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("report writes one file, and %q is a second", args[1])
			}
			return nil
		},
		ValidArgsFunction: files("html", "md", "json"),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				v.file = args[0]
			}
			if (v.before == "") != (v.after == "") &&
				!strings.HasPrefix(v.before+v.after, "change:") && v.with == "" {
				return usage("--before and --after choose the two sides; give both, or one of " +
					"them as change:N")
			}
			if err := v.check(); err != nil {
				return err
			}
			return a.report(v)
		},
	}
	cmd.Flags().StringVar(&v.by, "by", "", "who made it, a `NAME` to stand at the top")
	cmd.Flags().StringVar(&v.before, "before", "", "the `BOOTS` before, as compare takes them")
	cmd.Flags().StringVar(&v.after, "after", "", "the `BOOTS` after")
	v.flags(cmd)
	cmd.Flags().StringVar(&v.pictures, "pictures", "", "write the plots into the folder `DIR` "+
		"too, as PNG and as SVG")
	cmd.Flags().BoolVar(&v.replace, "replace", false, "write over a file of that name")
	return cmd
}

// A told is all that a report tells.
type told struct {
	look     *visit.Visit
	boots    []boot.Boot
	compared bool
	c        comparison
	by       string
	at       time.Time
	present  []boot.Condition
	left     []item.Item // what was left, the costliest first
	points   render.Points
	titles   []string // of the roads
	lines    []render.Road
}

func (a *app) report(v reportView) error {
	l, err := a.lookAtBoots()
	if err != nil {
		return err
	}
	defer l.Close()
	file := v.file
	if file == "" && !a.json {
		name := strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' {
				return r
			}
			return '-'
		}, cmp.Or(l.Host, "machine"))
		file = fmt.Sprintf("report-%s-%s.html", name, a.now().Format(time.DateOnly))
	}
	form := strings.ToLower(filepath.Ext(file))
	if file != "" && !slices.Contains([]string{".html", ".md", ".json"}, form) {
		return usage("a report's name ends in .html, .md or .json, which %q does not", file)
	}
	if _, err := os.Lstat(file); file != "" && err == nil && !v.replace {
		return fmt.Errorf("%s is there already; give another name, or --replace to write over it",
			file)
	}
	t, err := a.tell(l, v)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(t.document())
	}
	s := a.screen()
	if v.pictures != "" {
		if err := a.drawReport(s, t, v.pictures); err != nil {
			return err
		}
	}
	err = ownfile.Write(file, func(w io.Writer) error {
		if form == ".json" {
			enc := json.NewEncoder(w)
			enc.SetIndent("", "  ")
			return enc.Encode(t.document())
		}
		r, err := a.reportPage(t)
		if err != nil {
			return err
		}
		if form == ".md" {
			return r.WriteMarkdown(w)
		}
		return r.WriteHTML(w)
	})
	if err != nil {
		return fmt.Errorf("the report cannot be written: %w", err)
	}
	s.Say(render.Strong, "%s", t.answer())
	s.Line("")
	s.Line("The report stands in %s.", render.Clean(file))
	return nil
}

// tell gathers what there is to tell.
func (a *app) tell(l *visit.Visit, v reportView) (*told, error) {
	done := a.progress("reading the log")
	defer done()
	var words []string
	for _, w := range []string{v.before, v.after} {
		if w != "" {
			words = append(words, w)
		}
	}
	q := v.question(words)
	t := &told{look: l, by: v.by, at: a.now(), boots: q.Judged(l.Remember(0).Boots)}
	c, compared, err := l.Compare(q, t.boots)
	if err != nil {
		return nil, err
	}
	t.c, t.compared = shown(c, l), compared
	t.present = l.Conditions()
	for _, it := range l.Items {
		if it.State.Launched() && !it.System && it.Advice != "" &&
			!it.Ours {
			t.left = append(t.left, it)
		}
	}
	l.SortByCost(t.left)
	on := t.c.On
	if on.Name == "" || len(t.c.Sides.Before)+len(t.c.Sides.After) == 0 {
		on = compare.Leading(t.boots, t.boots, v.on == "usable")
	}
	t.plot(on)
	t.pair()
	return t, nil
}

// plot arranges every boot as a point.
func (t *told) plot(m compare.Measure) {
	place := map[string]render.Place{}
	for side, boots := range map[render.Place][]boot.Boot{
		render.Before:  t.c.Sides.Before,
		render.After:   t.c.Sides.After,
		render.LeftOut: t.c.Sides.LeftOut,
	} {
		for _, b := range boots {
			place[b.ID] = side
		}
	}
	all := slices.Clone(t.boots)
	for _, b := range slices.Concat(t.c.Sides.Before, t.c.Sides.LeftOut) { // of another casebook
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
				Place: where,
			})
		}
	}
	for _, ch := range job.CarriedOut(t.look.Changes) {
		t.points.Changes = append(t.points.Changes, render.Moment{
			At:   ch.MadeAt,
			Name: fmt.Sprintf("change %d", ch.ID),
		})
	}
	r := t.c.Main // medians are 0 where a side has no boots
	t.points.Before, t.points.After = r.Before.Median, r.After.Median
	t.points.Shift = r.Estimate
	if r.Bounded {
		t.points.Low, t.points.High = r.Low, r.High
	}
}

// mostPoints is how many boots a plot shows, the last ones; --json and compare
// --csv have all.
const mostPoints = 120

// pair arranges a boot of each side as a road: the one whose figure is nearest
// to the median.
func (t *told) pair() {
	const beside = 4
	for _, side := range []struct {
		name   string
		boots  []boot.Boot
		median time.Duration
	}{
		{"Before", t.c.Sides.Before, t.c.Main.Before.Median},
		{"After", t.c.Sides.After, t.c.Main.After.Median},
	} {
		if len(side.boots) == 0 {
			continue
		}
		off := func(b boot.Boot) time.Duration {
			n, ok := t.c.On.Of(b)
			if !ok {
				return time.Duration(1<<62 - 1)
			}
			return (time.Duration(n) - side.median).Abs()
		}
		b := slices.MinFunc(side.boots, func(x, y boot.Boot) int {
			return cmp.Compare(off(x), off(y))
		})
		line := road.Of(t.look.Order([]boot.Boot{b})[0], beside)
		for i := range line.Stretches { // the customer knows names, not units
			st := &line.Stretches[i]
			st.Label = t.c.title(st.Label)
			for j := range st.Beside {
				st.Beside[j].Label = t.c.title(st.Beside[j].Label)
			}
		}
		t.lines = append(t.lines, render.Road(line))
		t.titles = append(t.titles,
			fmt.Sprintf("%s: the boot of %s, %s", side.name, day(b.Began), briefly(b)))
	}
}

// drawReport writes the plots into a folder.
func (a *app) drawReport(s *render.Screen, t *told, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("the folder for pictures cannot be made: %w", err)
	}
	for _, end := range []string{".png", ".svg"} {
		err := a.drawPicture(s, filepath.Join(folder,
			"boots"+
				end), func(w io.Writer, f render.Form) error {
			return t.points.WritePicture(w, render.Format{Form: f, Palette: render.Light})
		})
		if err == nil && len(t.lines) > 0 {
			err = a.drawPicture(s, filepath.Join(folder,
				"boot"+end), func(w io.Writer, f render.Form) error {
				return render.WriteRoads(w, render.Format{Form: f, Palette: render.Light},
					t.titles, t.lines)
			})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// answer says in the customer's words what came of it.
func (t *told) answer() string {
	if !t.compared {
		return outlook(t.look)
	}
	c, how := t.c, map[compare.Verdict]string{compare.Faster: "sooner", compare.Slower: "later"}
	word := how[c.Main.Verdict]
	if word == "" {
		return c.answer()
	}
	kind := ""
	if c.On.Kind != "" {
		kind = " (" + render.Clean(c.On.Kind) + ")"
	}
	return fmt.Sprintf("%s is %s %s %s than before%s.", machineName(t.look), c.On.Name,
		exact(c.Main.Estimate), word, kind)
}

func (a *app) reportPage(t *told) (render.Report, error) {
	l := t.look
	about := []string{render.Clean(l.OS), "made on " + day(t.at)}
	if t.by != "" {
		about = append(about, "by "+t.by)
	}
	about = slices.DeleteFunc(about, func(s string) bool { return s == "" })
	r := render.Report{
		Title:  "Start-up report: " + machineName(l),
		About:  strings.Join(about, ", "),
		Answer: t.answer(),
	}
	if slices.ContainsFunc(t.boots, func(b boot.Boot) bool { return b.Simulated }) {
		r.Remarks = append(r.Remarks, "The boots are simulated: no hardware stands behind these "+
			"figures.")
	}
	if t.compared {
		if answer := t.c.answer(); answer != r.Answer {
			r.Remarks = append(r.Remarks, answer)
		}
		if f := t.c.Forecast(); f != nil {
			r.Remarks = append(r.Remarks, forecastLine(*f)+t.c.forecastKept())
		}
	}
	add := func(s render.Section) { r.Sections = append(r.Sections, s) }
	if len(t.points.All) > 0 {
		picture, err := render.NewPicture("Every boot as a point: "+t.answer(),
			t.points.WritePicture)
		if err != nil {
			return r, err
		}
		add(render.Section{Title: "Every boot", Pictures: []*render.Picture{picture}})
	}
	a.tellChanges(t, add)
	if t.compared {
		add(t.figures())
	}
	if len(t.lines) > 0 {
		var pictures []*render.Picture // several, so that a printed page holds one where it ends
		for i, title := range t.titles {
			picture, err := render.NewPicture(title, func(w io.Writer, f render.Format) error {
				return render.WriteRoadOf(w, f, t.titles, t.lines, i)
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

// onItself is how the machine's own user would call us: the report is theirs,
// and knows no folder of the computer on which it was written.
func (a *app) onItself(words string) string {
	if a.casebook != "" {
		return "calmdawn --casebook " + shellWord(filepath.Base(a.casebook)) + " " + words
	}
	return "calmdawn " + words
}

func (a *app) tellChanges(t *told, add func(render.Section)) {
	if len(t.look.Changes) == 0 {
		add(render.Section{Title: "What was changed", Text: "Nothing was changed."})
		return
	}
	sheet := &render.Sheet{
		Heads:   []string{"No", "When", "What", "Forecast", "Now", "To take it back"},
		Right:   []bool{true},
		Stacked: true,
	}
	for _, ch := range t.look.Changes {
		back := render.Entry{}
		if ch.Stands() {
			back = render.Entry{Text: a.onItself(fmt.Sprintf("undo %d", ch.ID)), Command: true}
		}
		told := render.Texts(fmt.Sprint(ch.ID), day(ch.MadeAt), what(ch), foreseen(ch), fate(ch))
		sheet.Rows = append(sheet.Rows, append(told, back))
	}
	add(render.Section{Title: "What was changed, and how to take it back", Table: sheet})
}

// figures is the table of before and after.
func (t *told) figures() render.Section {
	sheet := &render.Sheet{
		Heads: []string{"Median of (from … to)", "Before", "After", "Shift"},
		Right: []bool{false, true, true, true},
	}
	for _, m := range t.c.Measures() {
		show := render.Seconds
		if m.Bytes {
			show = func(d time.Duration) string { return render.Bytes(int64(d)) }
		}
		leads := m.Title() == t.c.On.Title()
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
	r := t.c.Main
	return render.Section{
		Title: "Before and after",
		Text: fmt.Sprintf("%s before, %s after.", count(r.Before.N, "boot", "boots"),
			count(r.After.N, "boot", "boots")),
		Table: sheet,
	}
}

// reasons is the table of what the difference consists of; nil where nothing is
// known of it.
func (t *told) reasons() *render.Sheet {
	w := t.c.Why
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
		row := render.Texts(t.c.title(r.Name), took(r.Before), took(r.After), shift(r.Change()))
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

func (t *told) tellLeft(add func(render.Section)) {
	const most = 20
	if len(t.left) == 0 {
		return
	}
	sheet := &render.Sheet{
		Heads:   []string{"Item", "Does", "Advice", "Why it was left", "Would save"},
		Right:   []bool{false, false, false, false, true},
		Stacked: true,
	}
	for _, it := range t.left[:min(most, len(t.left))] {
		saves := "unknown"
		if c := t.look.Cost(it); c.Replayed {
			saves = noneShown
			if lead := c.Wait.Lead(); lead.Shows {
				saves = render.Seconds(lead.Saving.Median)
			}
		}
		sheet.Rows = append(sheet.Rows,
			render.Texts(it.Title, it.Role, string(it.Advice), t.whyLeft(it), saves))
	}
	text := "Items added to the operating system that are launched as before, the costliest " +
		"first; what they would save is a forecast, and waits overlap."
	if more := len(t.left) - most; more > 0 {
		text += fmt.Sprintf(" %s not listed.", count(more, "more is", "more are"))
	}
	add(render.Section{Title: "What was left, and why", Text: text, Table: sheet})
}

// whyLeft is why nobody has switched an item off: what it is for, or that
// nothing would be felt, or that it is still open.
func (t *told) whyLeft(it item.Item) string {
	reason, cost := why(it), t.look.Cost(it)
	switch it.Advice {
	case item.Keep:
		return reason
	case item.LookUp:
		if strings.HasPrefix(reason, advice.Unknown) {
			return "what it is for was not looked up yet; until then it stays"
		}
		return "it stays until somebody has answered this: " + reason
	case item.CleanUp:
		return reason
	}
	if cost.Replayed && !cost.Wait.Lead().Shows {
		return "without it nothing would be felt at a start; otherwise " + reason
	}
	return "it was not decided on yet: " + reason
}

// why is the reason for an advice, for people who do not ask which rule it is
// from.
func why(it item.Item) string {
	reason, _, _ := strings.Cut(cmp.Or(it.Protected, it.Reason), " (role ")
	return reason
}

func (t *told) tellMachine(add func(render.Section)) {
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
	row(boot.Condition{Name: "operating system", Value: t.look.OS})
	if n := len(t.boots); n > 0 {
		last := t.boots[n-1]
		if last.Processors > 0 {
			row(boot.Condition{Name: "processors", Value: fmt.Sprint(last.Processors)})
		}
		if last.Memory > 0 {
			row(boot.Condition{Name: "memory", Value: render.Bytes(last.Memory)})
		}
	}
	for _, c := range t.present {
		row(c)
	}
	text := "As it is now."
	if len(t.c.Different) > 0 {
		text += " Different between before and after: " + strings.Join(t.c.Different, "; ") + "."
	}
	add(render.Section{Title: "The machine", Text: text, Table: sheet})
}

// method says how the figures came about.
func (t *told) method() string {
	text := "Usable is when the machine had gone quiet after it was ready and somebody had " +
		"logged in, less the time in which it waited for that person: when one could work. " +
		"Ready counts from the start of the kernel until the machine has reached its goal; " +
		"firmware and loader stand beside it. "
	if t.compared && t.c.Main.Before.N > 0 && t.c.Main.After.N > 0 {
		text += fmt.Sprintf("The shift is the median of all differences between a boot after and "+
			"one before (Hodges and Lehmann); the verdict asks for 95 %% confidence by the exact "+
			"rank test of Mann and Whitney. %s before and %s after were used. ",
			count(t.c.Main.Before.N, "boot", "boots"), count(t.c.Main.After.N, "boot", "boots"))
	}
	if n := len(t.c.Sides.LeftOut); n > 0 {
		text += fmt.Sprintf("%s left out: ", count(n, "boot was", "boots were"))
		var each []string
		for _, b := range t.c.Sides.LeftOut {
			each = append(each,
				fmt.Sprintf("that of %s, since %s", day(b.Began), strings.Join(b.Odd, "; ")))
		}
		text += strings.Join(each, "; ") + ". "
	}
	return text + "What items would save is forecast by replaying recorded boots without them."
}

func (t *told) document() document.Report {
	d := document.NewReport(t.look.Survey, t.at, t.by, t.answer())
	if t.compared {
		c := document.NewComparison(t.c.Comparison)
		d.Comparison = &c
	}
	d.AddChanges(t.look.Changes)
	for _, it := range t.left {
		d.AddLeft(it, t.look.Cost(it))
	}
	d.AddConditions(t.present)
	d.AddBoots(t.boots)
	return d
}
