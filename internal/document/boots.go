package document

import (
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
)

// Boots is what boots prints.
type Boots struct {
	Format string        `json:"format"`
	Boots  []Boot        `json:"boots"`
	Unread []item.Unread `json:"unread"`
}

// A Boot is one recorded start; figures are in seconds and bytes.
type Boot struct {
	ID         string             `json:"id"`
	Began      string             `json:"began"`
	Phases     map[string]float64 `json:"phases"`
	Beside     []string           `json:"beside,omitempty"` // phases that ran beside others
	Ready      *float64           `json:"ready,omitempty"`
	ReadyFrom  boot.Source        `json:"ready_from,omitempty"`
	Usable     *Usable            `json:"usable,omitempty"`
	Logins     []Login            `json:"logins,omitempty"`
	LoginUse   *LoginUse          `json:"login_use,omitempty"`
	Asks       []Ask              `json:"asks,omitempty"`
	Settled    *Settled           `json:"settled,omitempty"`
	Goal       string             `json:"goal,omitempty"`
	Start      string             `json:"start,omitempty"` // full, fast, resume
	Slow       []Slow             `json:"slow,omitempty"`
	Odd        []string           `json:"odd"`
	Waits      []Wait             `json:"waits,omitempty"`
	Simulated  bool               `json:"simulated"`
	Sources    []boot.Source      `json:"sources"`
	Kernel     string             `json:"kernel,omitempty"`
	Processors int                `json:"processors,omitempty"`
	Memory     int64              `json:"memory,omitempty"`
	Conditions []Condition        `json:"conditions,omitempty"`
	Spans      []Span             `json:"spans,omitempty"`
}

// A Slow is what the machine itself noted as slower than usual, by so many
// seconds.
type Slow struct {
	Kind string  `json:"kind"`
	Name string  `json:"name"`
	File string  `json:"file,omitempty"`
	Took float64 `json:"took"`
	By   float64 `json:"by"`
}

// Settled is how long after ready, and after a login, all was quiet.
type Settled struct {
	FromReady *float64 `json:"from_ready,omitempty"`
	FromLogin *float64 `json:"from_login,omitempty"`
}

// Usable is when one could work: seconds, of boots of one kind.
type Usable struct {
	Value  float64  `json:"value"`
	Kind   string   `json:"kind"`
	Waited *float64 `json:"waited,omitempty"`
	Idle   bool     `json:"idle"`
	Unsure string   `json:"unsure,omitempty"`
}

// A Login is the begin of a person's session.
type Login struct {
	User  string  `json:"user"`
	Began float64 `json:"began"`
	// from the login on, in seconds: when its desktop began to start, how long
	// parts of it took, and what it launched
	Desktop  *float64           `json:"desktop,omitempty"`
	Parts    map[string]float64 `json:"parts,omitempty"`
	Launched []Run              `json:"launched,omitempty"`
}

// A Run is the launch of a line by a login, after so many seconds.
type Run struct {
	Line  string   `json:"line"`
	Began float64  `json:"began"`
	Done  *float64 `json:"done,omitempty"`
}

// newLogin is a login with what the machine wrote down of it.
func newLogin(l boot.Login) Login {
	j := Login{User: l.User, Began: l.Began.Seconds(), Desktop: number(l.Desktop)}
	for _, p := range l.Parts {
		if j.Parts == nil {
			j.Parts = map[string]float64{}
		}
		j.Parts[p.Name] = max(j.Parts[p.Name], p.Took.Seconds())
	}
	for _, r := range l.Launched {
		j.Launched = append(j.Launched, Run{r.Line, r.Began.Seconds(), number(r.Done)})
	}
	return j
}

// A LoginUse is what logins used of the processors, seconds: the programs that
// are on record, and none of them.
type LoginUse struct {
	Programs     float64  `json:"programs"`
	Unattributed *float64 `json:"unattributed,omitempty"`
}

// An Ask is something that was started on demand: its name on the bus, its unit
// if it has one, and the program that asked.
type Ask struct {
	Name  string  `json:"name"`
	Unit  string  `json:"unit,omitempty"`
	By    string  `json:"by"`
	Owner string  `json:"owner,omitempty"`
	At    float64 `json:"at"`
}

// A Wait is a stretch in which the machine waited for a person.
type Wait struct {
	For  string  `json:"for"`
	At   float64 `json:"at"`
	Took float64 `json:"took"`
}

// A Span is what one item did in a boot.
type Span struct {
	Native   string      `json:"native"`
	Owner    string      `json:"owner,omitempty"`
	Begin    *float64    `json:"begin,omitempty"`
	End      *float64    `json:"end,omitempty"`
	From     boot.Source `json:"from,omitempty"`
	CPU      *float64    `json:"cpu,omitempty"`
	CPUFrom  boot.Source `json:"cpu_from,omitempty"`
	DiskRead *int64      `json:"disk_read,omitempty"`
	Memory   *int64      `json:"memory,omitempty"`
	Failed   bool        `json:"failed,omitempty"`
	Tries    int         `json:"tries,omitempty"`
	Skipped  bool        `json:"skipped,omitempty"`
}

// number is a figure in seconds, or nothing.
func number(f boot.Figure) *float64 {
	if !f.Known {
		return nil
	}
	n := f.Value.Seconds()
	return &n
}

func amount(a boot.Amount) *int64 {
	if !a.Known {
		return nil
	}
	return &a.Bytes
}

var starts = map[boot.Start]string{
	boot.FullStart: "full", boot.FastStart: "fast", boot.Resumed: "resume",
}

// NewBoots makes the document of boots, with the starts of their items where
// spans is set.
func NewBoots(boots []boot.Boot, unread []item.Unread, spans bool) Boots {
	d := Boots{
		Format: "calmdawn.boots/1",
		Boots:  []Boot{},
		Unread: append([]item.Unread{}, unread...),
	}
	for _, b := range boots {
		j := Boot{
			ID:         b.ID,
			Began:      b.Began.UTC().Format(time.RFC3339Nano),
			Phases:     map[string]float64{},
			Ready:      number(b.Ready),
			ReadyFrom:  b.Ready.From,
			Goal:       b.Goal,
			Start:      starts[b.Start],
			Odd:        append([]string{}, b.Odd...),
			Simulated:  b.Simulated,
			Sources:    append([]boot.Source{}, b.Sources...),
			Kernel:     b.Kernel,
			Processors: b.Processors,
			Memory:     b.Memory,
		}
		if s := b.Settled; s.FromReady.Known || s.FromLogin.Known {
			j.Settled = &Settled{number(s.FromReady), number(s.FromLogin)}
		}
		if u := b.Usable(); u.Known {
			j.Usable = &Usable{u.Value.Seconds(), u.Kind, number(u.Waited), u.Idle, u.Unsure}
		}
		for _, o := range b.Slow {
			j.Slow = append(j.Slow, Slow{o.Kind, o.Name, o.Path, o.Took.Seconds(), o.By.Seconds()})
		}
		for _, l := range b.Logged() {
			j.Logins = append(j.Logins, newLogin(l))
		}
		if len(b.Programs) > 0 {
			j.LoginUse = &LoginUse{b.LoginUse(nil).Session.Seconds(), number(b.Rest)}
		}
		for _, a := range b.Asks {
			if spans {
				j.Asks = append(j.Asks, Ask{a.Name, a.Unit, a.By, a.Owner, a.At.Seconds()})
			}
		}
		if len(b.Conditions) > 0 {
			j.Conditions = newConditions(b.Conditions)
		}
		for _, p := range b.Phases {
			j.Phases[p.Name] = p.Took.Seconds()
			if p.Beside {
				j.Beside = append(j.Beside, p.Name)
			}
		}
		for _, w := range b.Waits {
			j.Waits = append(j.Waits, Wait{w.What, w.At.Seconds(), w.Took.Seconds()})
		}
		for _, sp := range b.Spans {
			if spans {
				from := sp.End.From
				if from == "" {
					from = sp.Begin.From
				}
				j.Spans = append(j.Spans, Span{
					sp.Native, sp.Owner, number(sp.Begin), number(sp.End), from, number(sp.CPU),
					sp.CPU.From, amount(sp.DiskRead), amount(sp.Memory), sp.Failed, sp.Tries,
					sp.Skipped,
				})
			}
		}
		d.Boots = append(d.Boots, j)
	}
	return d
}
