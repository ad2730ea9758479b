package say

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
)

// A Seen is what the machine shows of its changes.
type Seen struct {
	Back  map[int64]int // how many items of a change are on again
	Boots []boot.Boot   // the last ones, oldest first
	Known bool          // the boots could be read
}

// felt says since when a change that stands is felt; empty where that is not
// known.
func (n Seen) felt(c change.Change) string {
	boots := 0
	var first time.Time
	for _, b := range n.Boots {
		if !b.Began.Before(c.MadeAt) {
			if boots == 0 {
				first = b.Began
			}
			boots++
		}
	}
	switch {
	case !n.Known:
		return ""
	case boots == 0 && c.TakesEffect() == change.Now:
		return "at once"
	case boots == 0:
		return "from the " + string(c.TakesEffect()) + " on"
	}
	return fmt.Sprintf("since %s, %s", first.Local().Format("2 Jan"), Count(boots, "boot", "boots"))
}

// ShowHistory lists changes.
func ShowHistory(s Page, changes []change.Change, seen Seen) {
	if len(changes) == 0 {
		s.Line("No change was made to this machine.")
		return
	}
	var standing []change.Change
	interrupted := ""
	for _, c := range changes {
		switch {
		case c.Stands():
			standing = append(standing, c)
		case c.Status == change.Planned:
			interrupted = ", one interrupted"
		}
	}
	s.Say(render.Strong, "%s, %d in force%s.", Count(len(changes), "change", "changes"),
		len(standing), interrupted)
	if text := guardTook(changes); text != "" {
		s.SayWrapped(0, render.Warn, "%s", text)
	}
	s.Line("")
	var rows [][]render.Cell
	for _, c := range slices.Backward(changes) {
		tone, felt, way := render.Dim, Fate(c), ""
		if c.Stands() {
			tone, way = render.Plain, fmt.Sprintf("undo %d", c.ID)
			if since := seen.felt(c); since != "" {
				felt = strings.Replace(felt, "in force", since, 1)
			}
		}
		row := []string{
			fmt.Sprint(c.ID), What(c), felt + onAgain(seen.Back[c.ID]), foreseen(c), way,
			Day(c.MadeAt), render.Clean(c.MadeBy),
		}
		var cells []render.Cell
		for _, text := range row {
			cells = append(cells, render.Cell{Text: text, Tone: tone})
		}
		rows = append(rows, cells)
	}
	s.Table([]render.Column{
		{Title: "NO", Right: true},
		{Title: "WHAT", Flex: 24},
		{Title: "FELT"},
		{Title: "FORECAST", Keep: 3},
		{Title: "WAY BACK", Keep: 4},
		{Title: "MADE", Keep: 2},
		{Title: "BY", Keep: 1},
	}, rows)
	if text := forecastsKept(changes); text != "" {
		s.Line("")
		s.Wrap(0, "%s", text)
	}
	if len(standing) > 0 {
		s.Line("")
		s.Line("To take the last one back: %s",
			s.Call(fmt.Sprintf("undo %d", standing[len(standing)-1].ID)))
	}
}

// ShowChange shows all of a change. back says how many of its items are on
// again.
func ShowChange(s Page, r *machine.Root, c change.Change, back int) {
	s.SayWrapped(2, render.Strong, "Change %d: %s.", c.ID, What(c))
	s.Line("Made on %s by %s; %s%s.", Day(c.MadeAt), render.Clean(c.MadeBy), Fate(c),
		onAgain(back))
	s.Line("")
	ShowTargets(s, nil, c)
	ShowEdits(s, r, c)
	if f := c.Judged(); f != nil {
		s.Wrap(2, "%s", ForecastLine(*f))
	}
	if f, came := c.CameOut(); came {
		s.Line("As it came out, %s is %s.", render.Clean(f.Title()), moved(c.Outcome.Saved))
	}
	if c.Stands() {
		s.Line("To take it back: %s", s.Call(fmt.Sprintf("undo %d", c.ID)))
	}
}

// onAgain says how many items of a change are on again; empty for none.
func onAgain(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("; %s on again", Count(n, "item is", "items are"))
}
