package say

import (
	"fmt"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A Minded line is what else a decision means, or which flag has to do with it.
type minded struct {
	Text string
	Mind bool // it is a warning, and names no flag
}

// minds returns what else a decision about an item means, beside what the
// change c does anyhow. starters says that what could start the item is
// switched off with it.
func minds(
	l *visit.Visit,
	it item.Item,
	to item.State,
	starters bool,
	c change.Change,
) (lines []minded) {
	mind := func(format string, values ...any) {
		lines = append(lines, minded{"Mind: " + fmt.Sprintf(format, values...), true})
	}
	if it.Hold != "" && to != item.On {
		if it.Undone {
			mind("%s.", render.Clean(it.Hold))
		} else {
			lines = append(lines, minded{Text: render.Clean(Capital(it.Hold)) + "."})
		}
	}
	if to != item.Off {
		return lines
	}
	if it.Returns != "" {
		mind("%s may switch it on again; drift tells when.", render.Clean(Capital(it.Returns)))
	}
	if launches := l.Launches(it); len(launches) > 0 {
		var titles []string
		noun := "task"
		for _, other := range launches {
			titles = append(titles, render.Clean(other.Title))
			if other.Kind != item.Task {
				noun = "item"
			}
		}
		mind("%s with it: %s.", plural(len(launches), "1 "+noun+" stops",
			fmt.Sprint(len(launches))+" "+noun+"s stop"), strings.Join(titles, ", "))
	}
	others := slices.DeleteFunc(slices.Clone(it.NeededBy), func(id string) bool {
		return slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id })
	})
	if len(others) > 0 {
		mind("%s is needed by %s.", render.Clean(it.Native),
			render.Clean(strings.Join(others, ", ")))
		lines = append(lines, minded{Text: "--and-dependents switches that off as well."})
	}
	var twins []string
	can, cannot := l.Twins(it)
	for _, id := range append(can, cannot...) {
		if !slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id }) {
			twins = append(twins, id)
		}
	}
	if len(twins) > 0 {
		mind("the same program is launched by %s too.", render.Clean(strings.Join(twins, ", ")))
		if len(can) > 0 && slices.Contains(twins, can[0]) {
			lines = append(lines, minded{
				Text: "--and-twins switches those off too, as far as possible.",
			})
		}
	}
	switchable := visit.SwitchableStarters(it)
	var left []string
	for _, starter := range it.Starters {
		if !starters || !slices.Contains(switchable, starter) {
			left = append(left, starter.String())
		}
	}
	switch {
	case len(left) > 0 && l.Masks(c, it): // TestASocketOfAMaskedService asked a real boot
		mind("%s would start %s on demand, and fails while that is masked.",
			render.Clean(strings.Join(left, ", ")), render.Clean(it.Native))
	case len(left) > 0:
		mind("%s can still start %s on demand.", render.Clean(strings.Join(left, ", ")),
			render.Clean(it.Native))
	}
	if len(left) > 0 && len(switchable) > 0 && !starters {
		lines = append(lines, minded{Text: "--and-starters switches them off as well."})
	}
	return lines
}

// Minding returns the warnings of [Minds] as one text; empty for none.
func Minding(l *visit.Visit, it item.Item, to item.State) string {
	var parts []string
	for _, line := range minds(l, it, to, false, change.Change{}) {
		if line.Mind {
			parts = append(parts, line.Text)
		}
	}
	return strings.Join(parts, " ")
}
