package say

import (
	"fmt"
	"slices"
	"strings"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A Drift is how two surveys of a machine differ, as it is shown.
type Drift struct {
	Old, New visit.Survey
	Found    []drift.Difference
	Missing  error // why nothing was kept to compare with; nil where something was
	All      bool  // parts of the operating system are shown one by one
	Keep     bool  // the present survey is kept now
}

// ShowDrift shows how two surveys of a machine differ.
func ShowDrift(s Page, l *visit.Visit, d Drift) {
	var shown []drift.Difference
	ours, folded := 0, 0
	for _, f := range d.Found {
		switch {
		case f.Ours != 0:
			ours++
		case f.System && !d.All && f.Kind != drift.OnAgain:
			folded++
		default:
			shown = append(shown, f)
		}
	}
	s.Say(render.Strong, "%s", d.headline(len(shown)+folded, l))
	if len(shown) > 0 {
		s.Line("")
		driftTable(s, shown)
	}
	if folded > 0 {
		s.Line("%s of the operating system besides; --all shows them.",
			Count(folded, "part", "parts"))
	}
	if ours > 0 {
		s.Line("%s by its changes, and not listed: %s",
			Count(ours, "difference was made", "differences were made"), s.Call("history"))
	}
	d.showDoubts(s, shown)
	gaps(s, l.Unread)
	unreadPlaces(s, l.Unread)
	var again []string
	for _, f := range shown {
		if f.Kind == drift.OnAgain {
			again = append(again, ShellWord(f.ID))
		}
	}
	switch {
	case len(again) > 0:
		s.Line("Next: switch off what is on again, with %s",
			s.Call("disable "+strings.Join(again, " ")))
	case len(shown) > 0:
		s.Line("Next: look at one of them, with %s; when all is well, %s", s.Call("show ITEM"),
			s.Call("drift --keep"))
	}
}

// headline says how many items differ, and since when.
func (d Drift) headline(n int, l *visit.Visit) string {
	since := fmt.Sprintf("since %s, %s", d.Old.Name, Day(d.Old.At))
	if d.New.Name != "now" {
		since = fmt.Sprintf("between %s, %s, and %s, %s", d.Old.Name, Day(d.Old.At), d.New.Name,
			Day(d.New.At))
	}
	switch {
	case n == 0 && d.Missing != nil:
		return "What its changes decided is as they left it."
	case n == 0:
		return fmt.Sprintf("Nothing is different %s.", since)
	case d.Missing != nil:
		since = "from what its changes decided"
	}
	return fmt.Sprintf("%s different on %s %s.", Count(n, "item is", "items are"), MachineName(l),
		since)
}

func driftTable(s Page, shown []drift.Difference) {
	if len(shown) == 0 {
		return
	}
	var rows [][]render.Cell
	for _, f := range shown {
		tone := render.Plain
		if f.Kind == drift.OnAgain || f.Kind == drift.New {
			tone = render.Warn
		}
		rows = append(rows, []render.Cell{
			{Text: string(f.Kind), Tone: tone},
			render.C(render.Clean(f.Title)),
			render.C(render.Clean(strings.Trim(f.Detail+"; "+f.By, "; "))),
			render.C(render.Clean(f.ID)),
		})
	}
	s.Table([]render.Column{
		{Title: "IT IS"},
		{Title: "ITEM", Flex: 18, Firm: 5},
		{Title: "HOW", Flex: 24, Firm: 5},
		idColumn,
	}, rows)
	s.Line("")
}

// showDoubts says what of it is not known, since a survey was not whole.
func (d Drift) showDoubts(s Page, shown []drift.Difference) {
	has := func(kind drift.Kind) bool {
		return slices.ContainsFunc(shown, func(f drift.Difference) bool { return f.Kind == kind })
	}
	if d.Missing != nil && !d.Keep {
		s.SayWrapped(0, render.Dim, "%s",
			"What is new or gone cannot be told: "+d.Missing.Error()+".")
	}
	if has(drift.Gone) && !d.New.Whole {
		s.SayWrapped(0, render.Warn, "What is called gone may stand in what was not read.")
	}
	if has(drift.New) && !d.Old.Whole && d.Missing == nil {
		s.SayWrapped(0, render.Warn, "What is called new may have stood in what was not read then.")
	}
}

// ShowSurveys lists the surveys that were kept.
func ShowSurveys(s Page, all []casebook.Kept) {
	if len(all) == 0 {
		s.Line("No survey was kept. %s keeps one.", s.Call("drift --keep"))
	}
	for _, k := range all {
		with := ""
		if k.Change != 0 {
			with = fmt.Sprintf(", with change %d", k.Change)
		}
		s.Line("%4d  %s%s", k.Number, Day(k.TakenAt), with)
	}
}
