package recorder

import (
	"context"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// By is who makes the recorder's own changes, in the ledger.
const By = "recorder"

// A Kit puts the recorder into machines of one kind, and watches one of them.
type Kit interface {
	// Install plans in d what puts the recorder into a machine: its program,
	// and what has it started. An error says why it would not run there.
	Install(d *machine.Draft, r *machine.Root, o Order) error
	// Uninstall plans what takes the recorder away, whoever put it there.
	Uninstall(d *machine.Draft, r *machine.Root) error
	StateOf(r *machine.Root) State
	// Disarm plans that it is started no more.
	Disarm(d *machine.Draft) error
	// Watch watches the running machine, as [Watch] does.
	Watch(ctx context.Context, r *machine.Root, o Options) error
}

// An Order says what is put into a machine.
type Order struct {
	Program []byte
	Boots   int // so many are recorded
	At      time.Time
	// Keeps is the folder below which it keeps its records, which is there when
	// it is started.
	Keeps string
}

// State is what stands of the recorder in a machine.
type State struct {
	Installed bool // its program and its unit are there
	Armed     bool // the next boot starts it
}

// Disarm is the chore that has the recorder started no more, when it has
// recorded what it was to. Taking it away after that leaves no trace.
func Disarm(k Kit, d *machine.Draft, at time.Time) (change.Change, error) {
	err := k.Disarm(d)
	return change.Change{Verb: change.Leave, MadeAt: at, MadeBy: By, Edits: d.Edits()}, err
}
