package say

import (
	"fmt"
	"strings"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/recorder"
	"calmdawn/internal/render"
)

// loginsOf says who logged in while a boot was recorded, or what was waited
// for.
func loginsOf(b boot.Boot) string {
	var people []string
	for _, l := range b.Logins {
		people = append(people, fmt.Sprintf("%s after %s", render.Clean(l.User),
			render.Duration(l.Began)))
	}
	switch {
	case len(people) > 0:
		return "Logged in: " + strings.Join(people, ", ") + "."
	case b.Recording != nil && b.Recording.LoginWait > 0:
		return fmt.Sprintf("Nobody logged in before it was saved; it went on waiting for that, "+
			"for %s.", render.Duration(b.Recording.LoginWait))
	}
	return ""
}

// ShowRecorder says whether the recorder is on, and what it has recorded; wrong
// is why not all of that could be read.
func ShowRecorder(s Page, state recorder.State, recorded []boot.Boot, wrong error) {
	switch {
	case state.Armed:
		s.Say(render.Strong, "The recorder is on: the next boot is watched.")
	case state.Installed:
		s.Say(render.Strong, "The recorder has recorded all the boots it was set to, and no "+
			"longer starts.")
	default:
		s.Say(render.Strong, "The recorder is not in this machine.")
	}
	if n := len(recorded); n > 0 {
		last := recorded[n-1]
		s.Line("%s recorded, the last one of %s.", Count(n, "boot is", "boots are"),
			Day(last.Began))
		if own := last.Recording; own != nil {
			s.Wrap(2, "  In that one it used %s of processor time (%.2f %% of one processor) and "+
				"at most %s.", render.Millis(own.CPU),
				100*own.CPU.Seconds()/max(0.001, (own.Ended-own.Began).Seconds()),
				render.Bytes(own.Memory))
		}
		if text := loginsOf(last); text != "" {
			s.Wrap(2, "  %s", text)
		}
		for _, note := range last.Notes {
			s.Wrap(2, "  Of that record: %s.", render.Clean(note))
		}
	} else {
		s.Line("No boot is recorded yet.")
	}
	if wrong != nil {
		s.Say(render.Warn, "%s", render.Clean(wrong.Error()))
	}
	switch {
	case state.Armed && len(recorded) == 0:
		s.Line("Next: restart the machine, then %s", s.Call("boots"))
	case state.Armed || len(recorded) > 0:
		s.Line("Next: see the boots, with %s", s.Call("boots"))
	default:
		s.Line("Next: %s", s.Call("recorder on"))
	}
}
