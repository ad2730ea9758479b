package say

import (
	"fmt"
	"strings"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// ShowDrift shows how two surveys differ. Missing says why nothing was kept to
// compare with; nil where something was. all shows parts of the operating
// system one by one, and keep says that the present survey is kept now.
func ShowDrift(
	s Page,
	l *visit.Visit,
	sides []visit.Survey,
	found []drift.Difference,
	missing error,
	all, keep bool,
) {
	var rows [][]render.Cell
	ours, folded, again, gone, fresh := 0, 0, 0, false, false
	for _, d := range found {
		switch {
		case d.Ours != 0:
			ours++
			continue
		case d.System && !all && d.Kind != drift.OnAgain:
			folded++
			continue
		case d.Kind == drift.OnAgain:
			again++
		}
		gone, fresh = gone || d.Kind == drift.Gone, fresh || d.Kind == drift.New
		tone := render.Plain
		if d.Kind == drift.OnAgain || d.Kind == drift.New {
			tone = render.Warn
		}
		rows = append(rows, []render.Cell{
			{Text: string(d.Kind), Tone: tone},
			render.C(render.Clean(d.Title)),
			render.C(render.Clean(strings.Trim(d.Detail+"; "+d.By, "; "))),
			render.C(render.Clean(d.ID)),
		})
	}
	since := fmt.Sprintf("since %s, %s", sides[0].Name, Day(sides[0].At))
	if sides[1].Name != "now" {
		since = fmt.Sprintf("between %s, %s, and %s, %s", sides[0].Name, Day(sides[0].At),
			sides[1].Name, Day(sides[1].At))
	}
	answer := fmt.Sprintf("Nothing is different %s.", since)
	if missing != nil {
		since = "from what its changes decided"
		answer = "What its changes decided is as they left it."
	}
	if n := len(rows) + folded; n > 0 {
		answer = fmt.Sprintf("%s different on %s %s.", Count(n, "item is", "items are"),
			MachineName(l), since)
	}
	s.Say(render.Strong, "%s", answer)
	s.Line("")
	if len(rows) > 0 {
		s.Table([]render.Column{
			{Title: "IT IS"},
			{Title: "ITEM", Flex: 18, Firm: 5},
			{Title: "HOW", Flex: 24, Firm: 5},
			idColumn,
		}, rows)
		s.Line("")
	}
	if folded > 0 {
		s.Line("%s of the operating system besides; --all shows them.",
			Count(folded, "part", "parts"))
	}
	if ours > 0 {
		s.Line("%s by its changes, and not listed: %s",
			Count(ours, "difference was made", "differences were made"), s.Call("history"))
	}
	if missing != nil && !keep {
		s.SayWrapped(0, render.Dim, "%s",
			"What is new or gone cannot be told: "+missing.Error()+".")
	}
	if gone && !sides[1].Whole {
		s.SayWrapped(0, render.Warn, "What is called gone may stand in what was not read.")
	}
	if fresh && !sides[0].Whole && missing == nil {
		s.SayWrapped(0, render.Warn, "What is called new may have stood in what was not read then.")
	}
	gaps(s, l.Unread)
	unreadPlaces(s, l.Unread)
	switch {
	case again > 0:
		var ids []string
		for _, d := range found {
			if d.Kind == drift.OnAgain && d.Ours == 0 {
				ids = append(ids, ShellWord(d.ID))
			}
		}
		s.Line("Next: switch off what is on again, with %s",
			s.Call("disable "+strings.Join(ids, " ")))
	case len(rows) > 0:
		s.Line("Next: look at one of them, with %s; when all is well, %s", s.Call("show ITEM"),
			s.Call("drift --keep"))
	}
}

// ShowSurveys lists the surveys that were kept.
func ShowSurveys(s Page, all []casebook.Kept) {
	if len(all) == 0 {
		s.Line("No survey was kept. %s keeps one.", s.Call("drift --keep"))
	}
	for _, k := range all {
		s.Line("%4d  %s", k.Number, Day(k.TakenAt))
	}
}
