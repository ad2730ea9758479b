package say

import (
	"strings"

	"calmdawn/internal/render"
)

// ShowLeaving says what stays on a machine where the program is taken away, and
// how it goes; nothing where nothing does.
func ShowLeaving(s Page, changes int, recorder, guard bool) {
	var stays, ways []string
	if changes > 0 {
		stays = append(stays, Count(changes, "change", "changes"))
		ways = append(ways, s.Call("undo --all"))
	}
	if recorder {
		stays, ways = append(stays, "the recorder"), append(ways, s.Call("recorder off"))
	}
	if guard {
		stays, ways = append(stays, "the boot guard"), append(ways, s.Call("guard off"))
	}
	if len(stays) == 0 {
		return
	}
	s.SayWrapped(0, render.Warn, "The program goes, and what it set up stays: %s. So does the "+
		"casebook, which holds the way back.", strings.Join(stays, ", "))
	s.Wrap(0, "To take that back, install calmdawn again and call: %s", strings.Join(ways, "; "))
}
