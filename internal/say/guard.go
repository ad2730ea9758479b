package say

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/guard"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// TellBeyond says what of a planned change the boot guard could not reach.
func TellBeyond(s Page, g visit.Guarding) {
	if !g.Comes || len(g.Beyond) == 0 {
		return
	}
	s.Wrap(2, "If the machine fails to become ready, the boot guard takes the change back. It "+
		"could not reach %s then, on a file system of its own: that it takes back when the "+
		"machine is ready.", render.Clean(strings.Join(g.Beyond, ", ")))
}

// guardTook says what the guard has done, if the last changes are its; empty
// otherwise.
func guardTook(changes []change.Change) string {
	var back []int64
	var at time.Time
	for _, c := range slices.Backward(changes) {
		if c.MadeBy != guard.By {
			break
		}
		back, at = append(back, c.Undoes), c.MadeAt
	}
	if len(back) == 0 {
		return ""
	}
	return fmt.Sprintf("The boot guard took %s back on %s: the machine had not become ready "+
		"twice in a row.", numbered(back), Day(at))
}

// ShowGuard says whether the boot guard is on, and what it has seen.
func ShowGuard(s Page, w visit.Watching) {
	if !w.On() {
		s.Say(render.Strong, "No boot guard is on.")
		if w.Part {
			s.Line("A part of one is left, and does nothing; it goes with %s", s.Call("guard off"))
		}
		return
	}
	s.Say(render.Strong, "The boot guard is on, for %s.", numbered(w.Changes))
	for _, b := range w.State.Boots {
		s.Line("  boot %.8s: %s", b.ID, map[string]string{"": "begun", "failed": "did not become " +
			"ready", "left": "ended by a person before it was due"}[string(b.Outcome)])
	}
	if w.State.Trouble != "" {
		s.SayWrapped(2, render.Warn, "%s",
			"It could not take the changes back: "+render.Clean(w.State.Trouble))
	}
	s.Line("Next: restart the machine; or take the guard away, with %s", s.Call("guard off"))
}

// Guarding says whether the boot guard came with a change; empty where it
// neither came nor was wanted.
func Guarding(s Page, c change.Change, g visit.Guarding) string {
	switch {
	case c.Terms.Guarded:
		return "The boot guard is on: if the machine fails to become ready twice in a row, it " +
			"takes the change back by itself."
	case g.Against != "":
		return s.Paint(render.Warn, "The boot guard is not on: "+render.Clean(g.Against)+".")
	}
	return ""
}
