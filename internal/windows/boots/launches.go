package boots

import (
	"strings"
	"time"

	"calmdawn/internal/windows/registry"
)

// launchesLog is where the desktop notes what it launches.
const launchesLog = "Microsoft-Windows-Shell-Core%4Operational.evtx"

// A Launch is a line of a list that logins launch.
type Launch struct {
	User string // its SID in capitals; empty for anybody's login
	Line string // as it stands in a list of the registry, in small letters
}

// Launches is when logins launched each line of their lists last, as far as
// the desktop's log reaches back. Each stands there for its user and for
// anybody. What of the log could not be read stands in the registry's Notes: no
// item is missing by that.
func Launches(reg *registry.Registry) map[Launch]time.Time {
	const began = 9707
	r := &reader{reg: reg, want: func(provider string, id uint16) bool {
		return provider == desktop && id == began
	}}
	last := map[Launch]time.Time{}
	for _, e := range r.log(launchesLog) {
		line := e.Text("Command")
		for _, one := range []Launch{LaunchOf(e.User, line), LaunchOf("", line)} {
			if line != "" && e.Time.After(last[one]) {
				last[one] = e.Time
			}
		}
	}
	reg.Notes = append(reg.Notes, r.found.Unread...)
	return last
}

// LaunchOf is a line as the logins of a user launch it: of a SID, or empty.
func LaunchOf(sid, line string) Launch {
	return Launch{strings.ToUpper(sid), strings.ToLower(strings.TrimSpace(line))}
}
