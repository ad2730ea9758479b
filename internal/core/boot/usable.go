package boot

import (
	"fmt"
	"time"
)

// A Login is the begin of a session of a person at the machine; greeters, and
// sessions from elsewhere, are none.
type Login struct {
	User  string // empty where the record does not tell
	Began time.Duration
	// Desktop is how long after Began the session's desktop began to start, as
	// the machine wrote it down; unknown where it did not. It is a figure of
	// its own: ready and usable are measured by others.
	Desktop Figure `json:",omitzero"`
	// Parts are how long parts of the login took. They may overlap.
	Parts []Phase `json:",omitempty"`
	// Launched are the lines of lists that it launched, as the desktop noted
	// them, the first first.
	Launched []Run `json:",omitempty"`
}

// A Run is one launch of a line by a login. Its moments count from when the
// login began.
type Run struct {
	Line  string
	Began time.Duration
	Done  Figure // when it was launched; unknown where nobody noted it
}

// NoLogin is the kind of usable of a boot in which nobody logged in.
const NoLogin = "no login"

// Bounds of what makes usable uncertain.
const (
	// Soon is how long after the machine went quiet work that begins by itself
	// is still taken to belong to the boot.
	Soon     = 30 * time.Second
	muchWork = time.Second // of processor time
)

// Usable is when one could work with the machine, the time taken out in which
// it waited for a person.
type Usable struct {
	Figure // unknown where nothing was recorded, or it did not go quiet
	// Kind says who logged in: "login of maria", "no login". Only boots of like
	// kind can be compared.
	Kind string
	// Waited is how long after ready the login came; below 0 where it came
	// before. Unknown without one.
	Waited Figure
	Idle   bool   // the machine was quiet when somebody logged in
	Unsure string // why the value may be too small; empty where nothing says so
}

// Logged are the logins of the boot, the first first. Older records tell of the
// first alone, and not whose it was.
func (b Boot) Logged() []Login {
	if len(b.Logins) == 0 && b.Settled.Login.Known {
		return []Login{{Began: b.Settled.Login.Value}}
	}
	return b.Logins
}

// Usable works out when one could work. That is S, less the time from ready to
// the login, if that came later. S is the begin of the first quiet stretch
// after both.
func (b Boot) Usable() Usable {
	u := Usable{Kind: NoLogin}
	if !b.Ready.Known {
		return u
	}
	if b.Worked.Known {
		u.Figure, u.Kind = b.Worked, "login of somebody"
		if len(b.Logins) > 0 && b.Logins[0].User != "" {
			u.Kind = "login of " + b.Logins[0].User
		}
		return u
	}
	ready, from := b.Ready.Value, b.Ready.Value
	if all := b.Logged(); len(all) > 0 {
		u.Kind = "login of " + all[0].User
		if all[0].User == "" {
			u.Kind = "login of somebody"
		}
		u.Waited = Of(all[0].Began-ready, b.source())
		from = max(from, all[0].Began)
		at, quiet := b.rule().Since(b.Course, ready)
		u.Idle = quiet && at+b.rule().Stretch <= all[0].Began
	}
	settled, quiet := b.rule().Since(b.Course, from)
	if len(b.Course) < 2 {
		if u.Kind == NoLogin && b.Settled.FromReady.Known {
			u.Figure = Of(ready+b.Settled.FromReady.Value, b.Settled.FromReady.From)
		}
		return u
	}
	if !quiet {
		return u
	}
	u.Figure = Of(settled-(from-ready), Recorder)
	later := UsedBy(b.Course, settled+Soon) - UsedBy(b.Course, settled+b.rule().Stretch)
	if later > muchWork {
		u.Unsure = fmt.Sprintf("within %d s after it had gone quiet something worked for %.1f s",
			int(Soon.Seconds()), later.Seconds())
	}
	return u
}

// Kinds are the kinds of usable that are known in some boots, with the figures.
// It returns too which kind most of them have; of two, that of the later boot.
func Kinds(boots []Boot) (of map[string][]time.Duration, most string) {
	of = map[string][]time.Duration{}
	for _, b := range boots {
		if u := b.Usable(); u.Known {
			of[u.Kind] = append(of[u.Kind], u.Value)
			if len(of[u.Kind]) >= len(of[most]) {
				most = u.Kind
			}
		}
	}
	return of, most
}

// Quietens is when the machine went quiet after ready and the first login;
// unknown where it did not.
func (b Boot) Quietens() Figure {
	u := b.Usable()
	if !u.Known {
		return Figure{}
	}
	return Of(u.Value+max(0, u.Waited.Value), u.From)
}

// WithoutWaiting takes the stretch out of a boot in which it was ready and
// waited for somebody to log in. It returns how long that was. What worked
// meanwhile stands at the login, and the machine went quiet when it was usable.
func (b Boot) WithoutWaiting() (Boot, time.Duration) {
	waited := b.Usable().Waited
	if !waited.Known || waited.Value <= 0 || !b.Ready.Known {
		return b, 0
	}
	cut := TakeOut(b, []Wait{{At: b.Ready.Value, Took: waited.Value}})
	cut.Waits = b.Waits
	return cut, waited.Value
}

func (b Boot) rule() Quiet {
	if b.Settled.Rule.Step == 0 {
		return QuietRule
	}
	return b.Settled.Rule
}

// source is what told of logins.
func (b Boot) source() Source {
	if b.Settled.Login.Known {
		return b.Settled.Login.From
	}
	return Recorder
}

// severalPeople are those who logged in before the machine had gone quiet, if
// more than one did.
func severalPeople(c circumstances) []string {
	all := c.Logged()
	quiet := c.Quietens()
	for _, l := range all[min(1, len(all)):] {
		if l.User != all[0].User && (!quiet.Known || l.Began < quiet.Value) {
			return because("%s and %s logged in before it had gone quiet", all[0].User, l.User)
		}
	}
	return nil
}
