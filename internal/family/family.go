// Package family holds the words in which one kind of operating system is
// spoken to. It knows none itself: the kinds are packages beside it, and
// package families lists them.
package family

import (
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/item"
	"calmdawn/internal/guard"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
)

// A Family is one kind of operating system. Its methods work on every disk of
// the kind, from every computer, and may be called by several goroutines.
type Family interface {
	// Name is what people call the kind.
	Name() string
	// Fits says by what a disk is seen to be of the kind, as the name of a
	// path; empty where it is not.
	Fits(r *machine.Root) (evidence string)
	// Scope tells, in paragraphs for people, what a list of such a machine
	// holds, and what is not looked at.
	Scope() string
	// Home says where things of ours stand in such a machine.
	Home() machine.Home
	// Open gives a machine of the kind its home, and the stores of what is
	// edited in it besides files. It is called once for a root.
	Open(r *machine.Root) Machine
}

// A Machine is one that is open, for one goroutine. What it has read it may
// remember until it is told to forget, as after a change. What only some can do
// is an interface of its own: [Live], [Labeler], [Installer], [Recordable],
// [Guardable], [Ruler].
type Machine interface {
	// Host is the machine's name; empty where it has none.
	Host() string
	// Frozen says why not a byte may be written to the disk as it is, as a
	// clause; empty where that is no matter.
	Frozen() string
	// Away lists folders that are file systems of their own and not mounted.
	Away() []string
	// Survey reads the machine as its next boot would find it. It writes
	// nothing and never fails: what could not be read is told in what it found.
	Survey(o Options) Inventory
	// Boots are what the machine's own records, and on the running one its
	// clocks, tell of the last boots (0: of all), oldest first.
	Boots(last int) Boots
	// Log is where the machine keeps the log of its boots, for people.
	Log() string
	// Conditions are what else bears on a boot, as it is now.
	Conditions() []boot.Condition
	// Failed is the condition that services of a boot failed.
	Failed(b boot.Boot) boot.Condition
	// Beyond names what is not looked at of such a machine, as a list for
	// people.
	Beyond() string
	// Forget lets go of what was opened and read: the next question reads it
	// anew. It is called before the root is closed.
	Forget()
}

// A Labeler gives the spans of boots the labels that the core knows. The boots
// given stay as they are.
type Labeler interface {
	Label(boots []boot.Boot) []boot.Boot
}

// Label labels boots where the machine can.
func Label(m Machine, boots []boot.Boot) []boot.Boot {
	if l, ok := m.(Labeler); ok {
		return l.Label(boots)
	}
	return boots
}

// An Installer tells when packages were installed or updated.
type Installer interface {
	Installs() []time.Time
	// Events are what is on record of it; times without a zone are in the given
	// one.
	Events(zone *time.Location) []drift.Event
}

// Events are what is on record of a machine's packages; nil where nothing is.
func Events(m Machine, zone *time.Location) []drift.Event {
	if i, ok := m.(Installer); ok {
		return i.Events(zone)
	}
	return nil
}

// A Recordable machine can have its boots watched.
type Recordable interface{ Recorder() recorder.Kit }

// A Guardable machine can have the boot guard.
type Guardable interface{ Guard() guard.Kit }

// A Ruler has names of its own for roles, in the form of roles.toml, in the
// place of the built-in ones.
type Ruler interface{ Rules() []byte }

// Rules are a machine's own; nil where the built-in ones are for it.
func Rules(m Machine) []byte {
	if r, ok := m.(Ruler); ok {
		return r.Rules()
	}
	return nil
}

// Options are what a survey is told besides the machine.
type Options struct {
	Now time.Time // when the next boot is taken to be
	// ids to look for besides: some items leave nothing behind on the disk when
	// they are off
	Remembered []string
	Language   string // of titles, as in locale(7); empty for the entries' own
}

// Boots are what is remembered of boots.
type Boots struct {
	Boots []boot.Boot // oldest first
	// Running is what is known of the boot that runs from its own clocks; nil
	// where nothing is.
	Running *boot.Boot
	Unread  []item.Unread
	Notes   []string // what could not be asked
	Remarks []string // what else is to be known of them, as sentences
}

// An Inventory is one survey and how its items are switched. Nothing that it is
// asked changes it, so that several goroutines may ask it; a turner is for one.
// It outlives the machine that it is of. Some are an [Orderer] or tell [Uses].
type Inventory interface {
	// Found is the survey. Its items are the caller's to complete.
	Found() item.Survey
	// Lookup returns an item that the survey may not hold: one that nothing
	// launches, or one of the machine as one user has it.
	Lookup(id string) (item.Item, bool)
	// Key is the name by which boots know an item's start; false for one that
	// has none of its own there.
	Key(it item.Item) (boot.Key, bool)
	// People are the names of those who can log in, besides the administrator.
	People() []string
	// Turner returns what turns items. Its edits go into d, which shows each
	// item what was turned before it.
	Turner(d *machine.Draft) Turner
}

// An Orderer gives boots that do not know it the order that files set up.
type Orderer interface {
	Order(boots []boot.Boot) []boot.Boot
}

// Order orders boots where the inventory can.
func Order(v Inventory, boots []boot.Boot) []boot.Boot {
	if o, ok := v.(Orderer); ok {
		return o.Order(boots)
	}
	return boots
}

// Masks reports whether edits have the service manager refuse to start an item,
// whoever asks.
func Masks(v Inventory, edits []change.Edit, it item.Item) bool {
	m, ok := v.(interface {
		Masks(edits []change.Edit, it item.Item) bool
	})
	return ok && m.Masks(edits, it)
}

// Uses tells what of a machine is in use, for advice; nil where its inventory
// does not.
func Uses(v Inventory) advice.Uses {
	if u, ok := v.(interface{ Uses() advice.Uses }); ok {
		return u.Uses()
	}
	return nil
}

// A Turner turns items one after another. After an error it and its draft are
// of no use.
type Turner interface {
	item.Turner
	// TurnStarter turns what can start an item on demand.
	TurnStarter(it item.Item, starter item.Starter, to item.State) error
}

// Thawable is a machine that may be frozen, and made ready for changes.
type Thawable interface {
	// Thaw says how, in sentences, the easiest way first; empty where the
	// machine is not frozen, or nothing is known that helps.
	Thaw() []string
}

// Live is a machine that runs us, and what only that can do.
type Live interface {
	// Running is the id of the boot that runs.
	Running() string
	// Present is what runs, looked at for so long.
	Present(during time.Duration) (Now, error)
	// Told has the system read changed files anew, where it does not by itself.
	Told(edits []change.Edit) error
	// Stop stops what of an item runs now, where that is for us to stop.
	Stop(id string) error
	// Ways are the native names of items through which one may be connected.
	Ways() []string
	// Booted reports whether the service manager runs that boots go through.
	Booted() bool
}

// Now is what runs at this moment, by unit, and by program for what has no unit
// of its own.
type Now struct {
	Units    map[boot.Key]boot.Present
	Programs map[ProgramKey]boot.Present
}

// A ProgramKey names the processes of one program and one user. Program is the
// path of the program, or of the script that it runs.
type ProgramKey struct{ Program, Owner string }

// Remember merges what a machine tells of its last boots (0: of all) with the
// records of a casebook, and judges which are odd.
func Remember(m Machine, recorded []boot.Boot, last int) Boots {
	found := m.Boots(last)
	var present []boot.Boot
	if found.Running != nil {
		present = append(present, *found.Running)
	}
	if last > 0 {
		recorded = recorded[max(0, len(recorded)-last):]
	}
	all := Label(m, boot.Merge(found.Boots, recorded, present))
	now := ""
	if live, ok := m.(Live); ok {
		now = live.Running()
	}
	for i := range all {
		switch {
		case all[i].ID == now && now != "":
			all[i].Ending = boot.Running
		case all[i].Ending == boot.Running: // the record was made while it ran
			all[i].Ending = ""
		}
	}
	var updates []time.Time
	if i, ok := m.(Installer); ok && len(all) > 1 {
		updates = i.Installs()
	}
	all = boot.Judge(all, updates)
	if last > 0 {
		all = all[max(0, len(all)-last):]
	}
	found.Boots = all
	return found
}
