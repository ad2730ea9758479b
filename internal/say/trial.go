package say

import (
	"fmt"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/render"
)

// OnTrial returns the changes that have a trial. It returns too how many of
// them are due, and of how many nothing can be told, since the clock is before
// they were made.
func OnTrial(changes []change.Change, now time.Time) (all []change.Change, due, off int) {
	for _, c := range changes {
		switch state, _ := c.TrialAt(now); state {
		case change.NoTrial:
			continue
		case change.Due:
			due++
		case change.ClockOff:
			off++
		}
		all = append(all, c)
	}
	return all, due, off
}

// ShowTrials shows changes that have a trial, as [OnTrial] returns them.
func ShowTrials(s Page, all []change.Change, due, off int, now time.Time) {
	if len(all) == 0 {
		s.Line("No change is on trial.")
		s.Line("Next: put one on trial, with %s", s.Call("trial until 14d CHANGE"))
		return
	}
	answer := "None is due."
	if due > 0 {
		answer = Count(due, "change is due: keep it, or take it back.", "changes are due: keep "+
			"them, or take them back.")
	}
	s.Say(render.Strong, "%s", answer)
	if off > 0 {
		s.Say(render.Warn, "This computer's clock is before these changes were made; set it "+
			"right, then ask again.")
	}
	s.Line("")
	var rows [][]render.Cell
	for _, c := range all {
		rows = append(rows, []render.Cell{
			render.C(fmt.Sprint(c.ID)), render.C(What(c)), render.C(Day(c.MadeAt)),
			render.C(Date(c.Terms.Until)), trialCell(c, now),
		})
	}
	s.Table([]render.Column{
		{Title: "NO", Right: true},
		{Title: "WHAT", Flex: 20},
		{Title: "MADE", Keep: 1},
		{Title: "UNTIL", Keep: 2},
		{Title: "NOW"},
	}, rows)
	for _, c := range all {
		if state, _ := c.TrialAt(now); state == change.Due || state == change.OnTrial {
			s.Line("")
			s.Line("Next: %s, or %s", s.Call(fmt.Sprintf("trial keep %d", c.ID)),
				s.Call(fmt.Sprintf("trial return %d", c.ID)))
			break
		}
	}
}

// trialCell says how a trial stands.
func trialCell(c change.Change, now time.Time) render.Cell {
	switch state, days := c.TrialAt(now); state {
	case change.Due:
		return render.Cell{Text: "overdue by " + Count(-days, "day", "days"), Tone: render.Warn}
	case change.OnTrial:
		if days == 0 {
			return render.C("on trial, today is the last day")
		}
		return render.C("on trial, " + Count(days, "day", "days") + " left")
	case change.Confirmed:
		return render.Cell{Text: "kept on " + Date(c.Terms.Kept), Tone: render.Dim}
	default:
		return render.Cell{Text: string(state), Tone: render.Dim}
	}
}
