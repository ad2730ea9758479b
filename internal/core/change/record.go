package change

import (
	"time"

	"calmdawn/internal/core/item"
)

// Status says how far a change has come.
type Status string

// The life of a change: recorded before its first edit, done after its last; or
// taken back because an edit failed.
const (
	Planned Status = "planned"
	Done    Status = "done"
	Failed  Status = "failed"
)

// Verb says what a change is for.
type Verb string

// The verbs of the ledger.
const (
	Disable Verb = "disable"
	Enable  Verb = "enable"
	Delay   Verb = "delay"
	Decide  Verb = "decide" // several of these together
	Undo    Verb = "undo"
	// puts the recorder in, or takes it away: a change of the machine, and none
	// of what it launches for its user
	Record Verb = "record"
	// brings a file to the newest state that the machine itself knows of it, so
	// that others can be made: no decision either
	Recover Verb = "recover"

	// Of chores alone, see [Change.Chore]:

	Watch Verb = "watch" // puts the boot guard in; it stands until nothing is guarded
	Leave Verb = "leave" // takes the recorder's link away, when it has recorded what it was to
)

// Effect says from when on a change is felt.
type Effect string

// The moments from which a change is felt.
const (
	Now       Effect = "now"
	NextBoot  Effect = "next boot"
	NextLogin Effect = "next login"
)

// A Target is one item that a change decides on.
type Target struct {
	ID     string     `json:"id"`
	Title  string     `json:"title"`
	Before item.State `json:"before"`
	After  item.State `json:"after"`
	When   item.When  `json:"when"`
}

// A Change is one decision carried out: its items, its edits, and what became
// of it.
type Change struct {
	ID       int64 // its number in the ledger, from 1; below zero of a chore
	Verb     Verb
	Status   Status
	MadeAt   time.Time
	MadeBy   string // the user's name, as far as known
	Targets  []Target
	Edits    []Edit
	Undoes   int64 // the change that an undo takes back; 0 otherwise
	UndoneBy int64 // the undo that took this change back; 0 while it stands
	Forecast *Forecast
	// what became of the forecast, when the boots were compared last; nil while
	// they were not
	Outcome *Outcome
	Terms   Terms

	// Settlement tells of a record that was found open; nil otherwise.
	Settlement *Settlement
}

// A Forecast is what was forecast when a change was made: for ready, and with
// it for usable where that could be.
type Forecast struct {
	Now     time.Duration `json:"now"` // nanoseconds, as all of them
	Saving  time.Duration `json:"saving"`
	Low     time.Duration `json:"low"` // of the saving
	High    time.Duration `json:"high"`
	Boots   int           `json:"boots"` // how many stood behind it
	AtLeast bool          `json:"at_least"`
	// Spread is what boots differed by anyhow; 0 in records that did not keep
	// it.
	Spread time.Duration `json:"spread,omitempty"`

	Usable *Forecast `json:"usable,omitempty"` // nil in older records
	// Kind is that of usable which the forecast is for; empty where it is for
	// ready.
	Kind string `json:"kind,omitempty"`
}

// Lead is the forecast of the figure that leads: of usable, or of ready where
// there is none.
func (f Forecast) Lead() Forecast {
	if f.Usable != nil {
		return *f.Usable
	}
	return f
}

// Of is the forecast of usable of a kind, or of ready where kind is empty;
// false where there is none.
func (f Forecast) Of(kind string) (Forecast, bool) {
	if f.Usable != nil && f.Usable.Kind == kind {
		return *f.Usable, true
	}
	return f, f.Kind == kind
}

// Title is what the forecast is of: "ready", "usable (login of maria)".
func (f Forecast) Title() string {
	if f.Kind == "" {
		return "ready"
	}
	return "usable (" + f.Kind + ")"
}

// Shows reports whether the saving counts as an effect: it is larger than what
// boots differ by anyhow.
func (f Forecast) Shows() bool {
	if f.Spread == 0 {
		return f.Low > 0
	}
	return f.Saving > f.Spread
}

// An Outcome is what a change brought, told from the boots before and after it.
type Outcome struct {
	Saved  time.Duration `json:"saved"`          // nanoseconds
	Kind   string        `json:"kind,omitempty"` // of usable; empty of ready
	Before int           `json:"before"`
	After  int           `json:"after"`  // how many boots
	Within bool          `json:"within"` // it lies in the range that was forecast
}

// OutcomeOf holds a saving against what was forecast.
func (f Forecast) OutcomeOf(saved time.Duration, before, after int) Outcome {
	return Outcome{
		Saved:  saved,
		Kind:   f.Kind,
		Before: before,
		After:  after,
		Within: saved >= f.Low && (saved <= f.High || f.AtLeast),
	}
}

// Decides reports whether the change decides on what the machine launches.
func (c Change) Decides() bool {
	return c.Verb != Undo && c.Verb != Record && c.Verb != Recover
}

// Stands reports whether the change is in force.
func (c Change) Stands() bool { return c.Status == Done && c.UndoneBy == 0 && c.Verb != Undo }

// InForce returns the numbers of the changes that were in force at an instant,
// of what the machine launches, see [Change.Decides]. all are the changes of
// the ledger.
func InForce(all []Change, at time.Time) []int64 {
	undone := map[int64]time.Time{}
	for _, c := range all {
		if c.Verb == Undo && c.Status == Done {
			undone[c.ID] = c.MadeAt
		}
	}
	var ids []int64
	for _, c := range all {
		end, over := undone[c.UndoneBy]
		if c.Status == Done && c.Decides() && c.MadeAt.Before(at) &&
			!(over && end.Before(at)) {
			ids = append(ids, c.ID)
		}
	}
	return ids
}

// TakesEffect says from when on all of the change is felt.
func (c Change) TakesEffect() Effect {
	if len(c.Targets) == 0 {
		return Now
	}
	for _, t := range c.Targets {
		if t.When != item.AtLogin {
			return NextBoot
		}
	}
	return NextLogin
}

// A FolderMark remembers the modification time of a folder in which the ledger
// edits. It is given back once nothing of ours is left there.
type FolderMark struct {
	Path   string
	Home   string // as in Edit
	Made   bool   // the ledger made the folder
	Before int64  // its modification time before our first edit, nanoseconds since 1970 UTC
	Left   int64  // the one that we left it with
}
