package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/timeline"
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
	arranged, folded := timeline.Of(b, mostRows)
	t := render.Timeline(arranged)
	title := fmt.Sprintf("The boot of %s: %s", day(b.Began), outcome(b))
	if v.picture != "" {
		return a.drawPicture(s, v.picture, func(f io.Writer, form render.Form) error {
			return t.WritePicture(f, form, title, sourcesOf(b))
		})
	}
	s.Say(render.Strong, "%s", title+".")
	s.Say(render.Dim, "%s", sourcesOf(b))
	for _, w := range b.Waits {
		s.Line("At %s it waited %s for %s; that is taken out.", render.Seconds(w.At),
			render.Duration(w.Took), render.Clean(w.What))
	}
	for _, why := range b.Odd {
		s.Say(render.Warn, "%s", "Odd: "+render.Clean(why)+".")
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
		s.SayWrapped(0, render.Dim, "%s", render.Legend)
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

func timelineCells(t render.Timeline, row timeline.Row, wide int) []render.Cell {
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
