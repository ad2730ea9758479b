package boots

import (
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/windows/events"
	"calmdawn/internal/windows/registry"
)

// The logs that tell of logins, and who writes in them. They are on by default.
const (
	sessionsLog = "Microsoft-Windows-TerminalServices-LocalSessionManager%4Operational.evtx"
	profilesLog = "Microsoft-Windows-User Profile Service%4Operational.evtx"
	policiesLog = "Microsoft-Windows-GroupPolicy%4Operational.evtx"
	logonsLog   = "Microsoft-Windows-Winlogon%4Operational.evtx"

	sessions = "Microsoft-Windows-TerminalServices-LocalSessionManager"
	profiles = "Microsoft-Windows-User Profile Service"
	policies = "Microsoft-Windows-GroupPolicy"
	desktop  = "Microsoft-Windows-Shell-Core"
)

// ofLogins are the events that tell of logins, in their own logs.
func ofLogins(provider string, id uint16) bool {
	switch provider {
	case sessions:
		return id == 22 // the session's shell starts
	case profiles:
		return id == 1 || id == 2 // a profile is loaded, and was
	case policies:
		return id == 8000 || id == 8001 || id == 5016 // of the machine, a login, one extension
	case winlogon:
		return id == 811 || id == 812 // somebody is told of a login, and was
	case desktop:
		return id == 9707 || id == 9708 // a line of a list is launched, and was
	}
	return false
}

// longestLogin bounds what counts as a part of a login after its begin.
const longestLogin = 10 * time.Minute

// mostOfLogin bounds what is kept of one login.
const mostOfLogin = 200

// logins gives logins what the machine wrote down of them.
func (r *reader) logins() {
	r.want = ofLogins
	var all []events.Event
	for _, name := range []string{
		sessionsLog, profilesLog, policiesLog, logonsLog, launchesLog,
	} {
		all = append(all, r.log(name)...)
	}
	order := r.byTime()
	begun := map[string]time.Time{} // what has not ended yet
	for _, e := range all {
		if e.Provider == policies && e.ID == 8000 {
			r.machinePolicies(e, r.before(order, e.Time))
			continue
		}
		l, since := r.loginAt(e, r.before(order, e.Time))
		if l == nil || len(l.Parts) > mostOfLogin || len(l.Launched) > mostOfLogin {
			continue
		}
		subscriber, line := e.Text("SubscriberName"), e.Text("Command")
		part := func(name string, took time.Duration) {
			l.Parts = append(l.Parts, boot.Phase{Name: name, Took: took, Beside: true})
		}
		switch key := e.Provider + " " + e.User + " " + subscriber; {
		case e.Provider == sessions:
			if !l.Desktop.Known {
				l.Desktop = boot.Of(since, boot.Log)
			}
		case e.Provider == profiles && e.ID == 1, e.Provider == winlogon && e.ID == 811:
			begun[key] = e.Time
		case e.Provider == profiles || e.Provider == winlogon:
			from, ok := begun[key]
			delete(begun, key)
			if took := e.Time.Sub(from); ok && took >= 0 && took <= longestLogin {
				name := "profile"
				if e.Provider == winlogon {
					name = "telling " + subscriber
				}
				part(name, took)
			}
		case e.Provider == policies && e.ID == 8001:
			if took, ok := policyTime(e); ok {
				part("policies", took)
			}
		case e.Provider == policies:
			if n, ok := e.Number("CSEElaspedTimeInMilliSeconds"); ok {
				part("policies of "+e.Text("CSEExtensionName"), time.Duration(n)*time.Millisecond)
			}
		case e.ID == 9707 && line != "":
			l.Launched = append(l.Launched, boot.Run{Line: line, Began: since})
		case line != "":
			for i := range l.Launched {
				run := &l.Launched[i]
				if run.Line == line && !run.Done.Known && since >= run.Began {
					run.Done = boot.Of(since, boot.Log)
					break
				}
			}
		}
	}
}

// policyTime is how long policies took, by the field as its maker spells it.
func policyTime(e events.Event) (time.Duration, bool) {
	n, ok := e.Number("PolicyElaspedTimeInSeconds")
	took := time.Duration(n) * time.Second
	return took, ok && took >= 0 && took <= longestLogin
}

// machinePolicies gives the boot i how long the machine's policies took, where
// its own record does not tell. They ran beside the rest of it.
func (r *reader) machinePolicies(e events.Event, i int) {
	const name = "machine policies"
	took, ok := policyTime(e)
	if !ok || i < 0 || e.Time.Sub(r.starts[i]) > longestLogin || r.boots[i].Phase(name).Known {
		return
	}
	r.boots[i].Phases = append(r.boots[i].Phases, boot.Phase{Name: name, Took: took, Beside: true})
}

// before is the last boot that began before an instant; -1 for none. order has
// the boots by their begin.
func (r *reader) before(order []int, at time.Time) int {
	next, _ := slices.BinarySearchFunc(order, at.Add(1), func(i int, at time.Time) int {
		return r.starts[i].Compare(at)
	})
	if next == 0 {
		return -1
	}
	return order[next-1]
}

// loginAt is the login of the boot i to which an event belongs; nil where there
// is none. With it comes how long after its begin that is. An event that names
// a user belongs to no login of another one.
func (r *reader) loginAt(e events.Event, i int) (*boot.Login, time.Duration) {
	if i < 0 {
		return nil, 0
	}
	b := &r.boots[i]
	for n := len(b.Logins) - 1; n >= 0; n-- {
		l := &b.Logins[n]
		since := e.Time.Sub(r.logged[i][n])
		if since < 0 {
			continue
		}
		if since > longestLogin || !r.isOf(e, l.User) {
			return nil, 0
		}
		return l, since
	}
	return nil, 0
}

// isOf reports whether an event may be of a user's login. It names the user by
// the SID, or by the name behind that of the machine or domain.
func (r *reader) isOf(e events.Event, user string) bool {
	if user == "" {
		return true
	}
	if name := e.Text("User"); e.Provider == sessions && name != "" {
		_, after, found := strings.Cut(name, `\`)
		if !found {
			after = name
		}
		if strings.EqualFold(after, user) {
			return true
		}
		return !slices.ContainsFunc(r.reg.Users, func(u *registry.User) bool {
			return strings.EqualFold(u.Name, after) // else a profile of another name
		})
	}
	for _, u := range r.reg.Users {
		if u.SID == e.User && u.Account == registry.Person {
			return u.Name == user
		}
	}
	return true // the system's own services write in the name of none
}
