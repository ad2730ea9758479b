package say

import (
	"calmdawn/internal/core/boot"
	"calmdawn/internal/render"
)

// ShowConditions shows what bears on a boot besides its items. about says of
// which boot, or that it is of now; disk says that it is of a disk, as it is
// now.
func ShowConditions(s Page, all []boot.Condition, about string, disk bool) {
	bad := 0
	var rows [][]render.Cell
	for _, c := range all {
		mark, tone := "", render.Plain
		if c.Bad {
			mark, tone = "mind", render.Warn
			bad++
		}
		rows = append(rows, []render.Cell{
			{Text: mark, Tone: tone},
			{Text: render.Clean(c.Name), Tone: tone},
			{Text: render.Clean(c.Value), Tone: tone},
			{Text: render.Clean(c.Why), Tone: render.Dim},
		})
	}
	answer := "Nothing stands out"
	if bad > 0 {
		answer = Count(bad, "thing stands out", "things stand out")
	}
	s.Say(render.Strong, "%s among what bears on a boot besides its items, %s.", answer, about)
	s.Line("")
	titles := s.Table([]render.Column{
		{Title: "", Keep: 5},
		{Title: "CONDITION"},
		{Title: "VALUE"},
		{Title: "WHY IT MATTERS", Keep: 2, Flex: 30},
	}, rows)
	s.Line("")
	for _, c := range all {
		if c.Bad && !titles["WHY IT MATTERS"] {
			s.SayWrapped(2, render.Warn, "%s: %s.", Capital(render.Clean(c.Name)),
				render.Clean(c.Why))
		}
	}
	if disk {
		s.Line("As the disk is now; what it was in past boots cannot be told from it.")
	}
	s.Line("Next: see how long its boots take, with %s", s.Call("boots"))
}
