package cli

import (
	"cmp"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
)

// mostRows bounds a timeline; --json and --csv have all of it.
const mostRows = 40

// timeline shows one boot: what ready waited for, what ran meanwhile, and when
// the machine was busy.
func (a *app) timeline(s *render.Screen, found linux.Boots, v bootsView) error {
	b, err := pickBoot(found.Boots, v.id)
	if err != nil {
		return err
	}
	note := ""
	if !b.Ordered() { // only the log speaks of it: the order is that of the unit files
		l, err := a.look()
		if err != nil {
			return err
		}
		defer l.Close()
		b = l.Order([]boot.Boot{b})[0]
		note = "The order is that of the unit files as they are now; the log does not tell what " +
			"waited for what."
	}
	t, folded := timelineOf(b, mostRows)
	title := fmt.Sprintf("The boot of %s: %s", day(b.Began), outcome(b))
	if v.picture != "" {
		return a.drawPicture(s, v.picture, func(f io.Writer, form render.Form) error {
			return t.WritePicture(f, form, title, sourcesOf(b))
		})
	}
	s.Line("%s", s.Paint(render.Strong, title+"."))
	s.Line("%s", s.Paint(render.Dim, sourcesOf(b)))
	for _, w := range b.Waits {
		s.Line("At %s it waited %s for %s; that is taken out.", render.Seconds(w.At),
			render.Duration(w.Took), render.Clean(w.What))
	}
	for _, why := range b.Odd {
		s.Line("%s", s.Paint(render.Warn, "Odd: "+render.Clean(why)+"."))
	}
	s.Line("")
	columns := []render.Column{
		{Title: "ITEM", Flex: 24},
		{Title: "BEGAN", Right: true, Keep: 1},
		{Title: "OWN TIME", Right: true, Keep: 3},
		{Title: "WORKED", Right: true, Keep: 2},
		{Title: "OF READY", Right: true, Keep: 4},
	}
	wide := 0
	if s.Figures() {
		wide = max(20, min(100, s.Width()-60))
		columns = append(columns, render.Column{Title: t.Axis(wide)})
	} else {
		columns = append(columns, render.Column{Title: "ENDED", Right: true})
	}
	var rows [][]render.Cell
	blank := make([]render.Cell, len(columns))
	for n, g := range t.Groups {
		if n > 0 {
			rows = append(rows, blank)
		}
		heading := make([]render.Cell, len(columns))
		heading[0] = render.Cell{Text: render.Clean(g.Title), Tone: render.Strong}
		rows = append(rows, heading)
		for _, row := range g.Rows {
			rows = append(rows, timelineCells(t, row, wide))
		}
	}
	if wide > 0 {
		busy := make([]render.Cell, len(columns))
		busy[0] = render.C("processors busy, tenths")
		busy[len(busy)-1] = render.C(t.BusyLine(wide))
		if len(t.Busy) == 0 {
			busy[len(busy)-1] = render.Cell{Text: "not measured: the recorder does (calmdawn " +
				"recorder on)", Tone: render.Dim}
		}
		marks := make([]render.Cell, len(columns))
		marks[len(marks)-1] = render.Cell{Text: t.MarkLine(wide), Tone: render.Strong}
		rows = append(rows, blank, busy, marks)
	}
	s.Table(columns, rows)
	s.Line("")
	if wide > 0 {
		s.Wrap(0, "%s", s.Paint(render.Dim, render.Legend))
	}
	if note != "" {
		s.Wrap(0, "%s", note)
	}
	if folded > 0 {
		s.Line("%s with less to show: %s", count(folded, "more item", "more items"),
			a.call("boots --spans --csv --boot "+b.ID[:8]))
	}
	s.Wrap(0, "Own time is how long a start took by itself; starts overlap, and what a boot "+
		"would gain without one is not its own time.")
	return nil
}

func timelineCells(t render.Timeline, row render.TimelineRow, wide int) []render.Cell {
	tone := render.Plain
	switch {
	case row.Failed:
		tone = render.Warn
	case row.Path:
		tone = render.Good
	}
	worked := ""
	if n := len(row.Work); n > 0 {
		worked = render.Seconds(row.Work[n-1].CPU)
	}
	last := render.C(render.Seconds(row.End))
	if wide > 0 {
		last = render.Cell{Text: t.Chart(row, wide), Tone: tone}
	}
	part := ""
	if row.Path && t.Ready > 0 {
		part = fmt.Sprintf("%.0f %%", 100*float64(row.Share)/float64(t.Ready))
	}
	return []render.Cell{
		{
			Text: "  " + strings.Repeat("  ", min(row.Depth, 4)) + render.Clean(row.Label),
			Tone: tone,
		},
		render.C(render.Seconds(row.Begin)),
		render.C(render.Seconds(row.End - row.Begin)),
		render.C(worked),
		render.C(part),
		last,
	}
}

// outcome says how a boot came out.
func outcome(b boot.Boot) string {
	if !b.Ready.Known {
		return "it never became ready"
	}
	text := "ready after " + render.Duration(b.Ready.Value)
	if b.Settled.FromReady.Known {
		text += ", settled " + render.Duration(b.Settled.FromReady.Value) + " later"
	}
	if l := b.Settled.FromLogin; l.Known {
		text += ", " + render.Duration(l.Value) + " after the login"
	}
	return text
}

// sourcesOf says how the figures of a boot are known.
func sourcesOf(b boot.Boot) string {
	if b.Simulated {
		return "Simulated; no machine was measured."
	}
	names := map[boot.Source]string{
		boot.Log:      "the log",
		boot.Bus:      "the service managers' clocks",
		boot.Recorder: "the recorder's samples",
	}
	var all []string
	for _, source := range b.Sources {
		all = append(all, names[source])
	}
	return "Measured, from " + strings.Join(all, ", ") + "."
}

// timelineOf arranges a boot in groups of about so many rows: first what ready
// waited for, then what else ran, by what it had waited for. It returns how
// many items were folded.
func timelineOf(b boot.Boot, most int) (render.Timeline, int) {
	t := render.Timeline{
		Ready:      b.Ready.Value,
		End:        b.Ready.Value,
		Busy:       b.Course,
		Processors: b.Processors,
	}
	if b.Ready.Known {
		t.Marks = append(t.Marks, render.Mark{Name: "ready", At: b.Ready.Value})
		if s := b.Settled.FromReady; s.Known {
			t.Marks = append(t.Marks, render.Mark{Name: "settled", At: b.Ready.Value + s.Value})
			t.End += s.Value + s.Value/20
		}
		if s := b.Settled; s.Login.Known && s.FromLogin.Known {
			t.Marks = append(t.Marks, render.Mark{
				Name: "login",
				At:   s.Login.Value,
			}, render.Mark{Name: "settled after login", At: s.Login.Value + s.FromLogin.Value})
			t.End = max(t.End, s.Login.Value+s.FromLogin.Value*21/20)
		}
		slices.SortFunc(t.Marks, func(x, y render.Mark) int { return cmp.Compare(x.At, y.At) })
	} else {
		for _, s := range b.Spans {
			t.End = max(t.End, s.End.Value)
		}
	}
	graph := boot.GraphOf(b, "")
	path := graph.Path(b)
	onPath := map[string]bool{}
	for _, s := range path {
		onPath[s.Native] = true
	}
	show := worthARow(b, onPath, t.End, most)
	first := render.TimelineGroup{Title: "Ready waited for, one after the other"}
	if len(path) == 0 {
		first.Title = "Before the service manager"
	}
	at := time.Duration(0)
	for _, name := range []string{"kernel", "initrd"} {
		if p := b.Phase(name); p.Known {
			first.Rows = append(first.Rows, render.TimelineRow{
				Label: name,
				Held:  at,
				Begin: at,
				End:   at + p.Value,
				Path:  true,
			})
			at += p.Value
		}
	}
	// Each explains the time since the one before it was done; what is folded
	// counts for the next.
	explained := time.Duration(0)
	for i := range first.Rows {
		first.Rows[i].Share = first.Rows[i].End - explained
		explained = first.Rows[i].End
	}
	for i, s := range path {
		if show[boot.Key{Native: s.Native}] ||
			i == len(path)-1 && b.Ready.Value-explained >= b.Ready.Value/200 {
			row := rowOf(graph, s, true)
			row.Share = row.End - explained
			explained = row.End
			first.Rows = append(first.Rows, row)
		}
	}
	// What else ran stands below what it had waited for, if that has a row.
	below := map[boot.Key][]boot.Span{}
	roots := map[string][]boot.Span{}
	var order []string
	for _, s := range b.Spans {
		key := boot.Key{Native: s.Native, Owner: s.Owner}
		if !show[key] || s.Owner == "" && onPath[s.Native] {
			continue
		}
		g, title := graph, "Meanwhile, not held back by anything known"
		if s.Owner != "" {
			g, title = boot.GraphOf(b, s.Owner), "For "+s.Owner
		}
		holder, ok := waitedFor(g, s, func(h boot.Span) bool {
			return show[boot.Key{Native: h.Native, Owner: h.Owner}] ||
				h.Owner == "" && onPath[h.Native]
		})
		above := boot.Key{Native: holder.Native, Owner: holder.Owner}
		switch {
		case ok && !(holder.Owner == "" && onPath[holder.Native]):
			below[above] = append(below[above], s)
			continue
		case ok:
			title = "Meanwhile, once " + holder.Native + " was done"
		}
		if roots[title] == nil {
			order = append(order, title)
		}
		roots[title] = append(roots[title], s)
	}
	groups := map[string]*render.TimelineGroup{}
	for _, title := range order {
		group := &render.TimelineGroup{Title: title}
		groups[title] = group
		var place func(spans []boot.Span, depth int)
		place = func(spans []boot.Span, depth int) {
			for _, s := range spans {
				g := graph
				if s.Owner != "" {
					g = boot.GraphOf(b, s.Owner)
				}
				row := rowOf(g, s, false)
				row.Depth = depth
				group.Rows = append(group.Rows, row)
				place(below[boot.Key{Native: s.Native, Owner: s.Owner}], depth+1)
			}
		}
		place(roots[title], 0)
	}
	if len(first.Rows) > 0 {
		t.Groups = append(t.Groups, first)
	}
	for _, title := range order {
		t.Groups = append(t.Groups, *groups[title])
	}
	folded := 0
	for _, s := range b.Spans {
		if s.OwnTime().Known && !show[boot.Key{Native: s.Native, Owner: s.Owner}] {
			folded++
		}
	}
	return t, folded
}

// worthARow are the costliest items, and among what ready waited for all that
// took time.
func worthARow(b boot.Boot, onPath map[string]bool, end time.Duration, most int) map[boot.Key]bool {
	var all []boot.Span
	show := map[boot.Key]bool{}
	weight := func(s boot.Span) time.Duration {
		return max(s.OwnTime().Value, min(s.CPU.Value, end))
	}
	for _, s := range b.Spans {
		key := boot.Key{Native: s.Native, Owner: s.Owner}
		started := s.Begin.Known && s.Begin.Value < end && (s.End.Known || s.CPU.Known)
		switch {
		case !started || s.Skipped || s.Native == "init.scope" || weight(s) < end/1000:
		case s.Owner == "" && onPath[s.Native] && s.OwnTime().Value >= end/200:
			show[key] = true
		default:
			all = append(all, s)
		}
	}
	slices.SortStableFunc(all, func(x, y boot.Span) int {
		return cmp.Compare(weight(y), weight(x))
	})
	for _, s := range all[:min(len(all), max(0, most-len(show)))] {
		show[boot.Key{Native: s.Native, Owner: s.Owner}] = true
	}
	return show
}

// waitedFor returns the nearest unit of a sort that a unit's start waited for,
// directly or through others.
func waitedFor(g boot.Graph, s boot.Span, sort func(boot.Span) bool) (boot.Span, bool) {
	for range 1000 {
		holder, ok := g.Holder(s)
		if !ok {
			return boot.Span{}, false
		}
		if sort(holder) {
			return holder, true
		}
		s = holder
	}
	return boot.Span{}, false
}

func rowOf(g boot.Graph, s boot.Span, path bool) render.TimelineRow {
	row := render.TimelineRow{
		Label:  s.Native,
		Held:   s.Begin.Value,
		Begin:  s.Begin.Value,
		End:    max(s.Begin.Value, s.End.Value),
		Work:   s.Course,
		Path:   path,
		Failed: s.Failed,
	}
	if holder, ok := g.Holder(s); ok {
		row.Held = min(row.Begin, holder.First())
	}
	return row
}

// drawPicture writes a picture into a file, in the form that its name tells.
func (a *app) drawPicture(
	s *render.Screen,
	file string,
	draw func(io.Writer, render.Form) error,
) error {
	form := render.Form(strings.ToLower(strings.TrimPrefix(filepath.Ext(file), ".")))
	if form != render.PNG && form != render.SVG {
		return usage("a picture's name ends in .png or .svg, which %q does not", file)
	}
	if err := ownfile.Write(file, func(w io.Writer) error { return draw(w, form) }); err != nil {
		return fmt.Errorf("the picture cannot be written: %w", err)
	}
	s.Line("Drawn into %s.", render.Clean(file))
	return nil
}
