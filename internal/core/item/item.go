// Package item holds the words for what a machine launches by itself: the item,
// its kind, its state and its moment.
//
// It knows no operating system and reads nothing. The packages that survey a
// machine fill these values, everything that shows or decides takes them.
package item

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Kind says what sort of thing an item is.
type Kind string

// The three kinds.
const (
	Program Kind = "program" // launched for a user by the desktop
	Service Kind = "service" // launched by the service manager
	Task    Kind = "task"    // launched by a scheduler
)

// State says what the next boot or login does with an item.
type State string

// The four states.
const (
	On      State = "on"      // launched with nobody asking
	Off     State = "off"     // set up, and not launched
	Delayed State = "delayed" // launched, held back on purpose
	Broken  State = "broken"  // it would be launched, but its program is gone
)

// SystemPlace is the trait of what is set up to run from the folders of the
// operating system, whatever stands there.
const SystemPlace = "set up in the system's place"

// Launched reports whether the next boot or login tries to start an item in
// this state.
func (s State) Launched() bool { return s != Off }

// When says at which moment an item is launched.
type When string

// The three moments.
const (
	AtBoot  When = "boot"
	AtLogin When = "login"
	Later   When = "later" // armed at boot, fires some time after
)

// An Item is one thing the machine launches by itself.
//
// Text fields come from the machine and may hold anything, control characters
// included: clean them before showing them.
type Item struct {
	ID   string // unique on the machine, stable across boots: "service:cue-feed.service"
	Kind Kind
	// Mechanism names the way in which the machine launches it, in the words of
	// the machine's family; plans go by it.
	Mechanism string
	// Handle is by what its family knows the item again; it means nothing to
	// others.
	Handle int
	Native string // the operating system's own name for it
	Title  string // what a person calls it; never empty
	Owner  string // user name; empty when it belongs to the machine
	When   When
	State  State
	Why    string // one clause on why the state is what it is; may be empty
	// Barred says as a clause why nothing of ours can switch it on, or delay
	// it; empty where it can be.
	Barred string
	// Masked: the service manager refuses to start it, whoever asks.
	Masked bool
	Fires  string // for a task that is armed: when it goes off, in words
	Unsure bool   // found with low confidence: it may not be launched, and is never edited

	// Traits are what else tells of what it is for. They are "bus
	// org.example.Name" that it answers to, "socket /run/x.sock" that starts
	// it. They are too "target x.target" that it belongs to, or "category X" of
	// its desktop entry. "network first" is on what waits for the network.
	Traits   []string
	Because  []string  // native names that pull it in, from the top
	NeededBy []string  // ids of items that require it
	Starters []Starter // what can start it on demand even when it is off

	Twins []string // ids of items that launch the same program

	Command string // the launch line as it is set up
	Program string // the program's path inside the machine; empty when not known
	// Args are the words behind the program in the launch line, of a program of
	// a login: they tell apart what launches the same one.
	Args []string
	File string // where it is set up, a path inside the machine
	// what has to hold for it to start, in the operating system's own words,
	// not judged here
	Conditions []string

	Package   string    // the package that brought File; empty when none did
	Version   string    // of the package
	Section   string    // what the archive files the package under
	Summary   string    // the package's description in one line
	Installed time.Time // of the package; zero when not known
	// RanLast is when the machine itself noted last that its program ran; zero
	// where it noted nothing, which does not say that it never ran.
	RanLast  time.Time
	Maker    string // who made it; empty when not known
	Archive  string // the distribution from whose archive it is; empty for others
	Came     string // how its package came, as a clause; empty where not on record
	System   bool   // a part of the operating system itself
	Leftover bool   // its package was removed, and left this behind
	Aside    bool   // shown only with all items: a driver, a part of the login itself
	AdminToo bool   // of the administrator's login, for it is set up for everybody's
	Ours     bool   // it is calmdawn's own: the recorder, the guard
	// Generated: the machine made it as this boot began, so that only the
	// running machine shows it.
	Generated bool

	// Signature says whether its program has one, and by whom, as a clause;
	// whether it is good is not said. Empty where programs have none.
	Signature string

	// Opaque says as a clause why it cannot be told what it is, since something
	// of it cannot be read; it is protected then. Empty where all could be.
	Opaque string
	// Unread is why its program cannot be read, as a clause; empty where it can
	// be, or has none.
	Unread string

	// Hold says as a clause what updates make of a switch of it, where that
	// rewrites a package's file; empty elsewhere. Undone: they take it back.
	Hold   string
	Undone bool
	// Returns names who may switch it on again after it was switched off, as
	// "a feature update of the system". It is empty where nobody is known to.
	Returns string

	Role   string // what it does for the machine; empty when not known
	Advice Advice // what we say of it; empty for what is off
	Reason string // why we say so, and what the role is known from
	// Evidence is that last part of the reason; empty where no role is known.
	Evidence string
	Lost     string // what works no longer without it, as a clause; empty where not known
	Demand   string // how to have it when it is wanted, as a clause; empty where not known
	Note     string // the technician's own
	// Protected says what depends on the item, so that switching it off takes
	// insisting; empty for what may be switched off.
	Protected string
}

// A Turner turns items of a machine one after another, in a draft: each item
// sees what was turned before it. Turn has an item on, off or delayed, by the
// given time. An error says why that cannot be; the turner and its draft are of
// no use after it.
type Turner interface {
	Turn(it Item, to State, by time.Duration) error
}

// OwnName begins the native names of what calmdawn sets up on a machine.
const OwnName = "calmdawn-"

// Advice is what we say of an item.
type Advice string

// The advice there is.
const (
	Keep    Advice = "keep"
	CanWait Advice = "can wait"
	CanGo   Advice = "can go"
	LookUp  Advice = "look it up"
	CleanUp Advice = "clean up"
)

// A Starter can start an item on demand: a unit, or whoever calls a name on a
// bus.
type Starter struct {
	Name string
	Bus  bool // it is a name on a bus, which is nothing that is switched
}

func (s Starter) String() string {
	if s.Bus {
		return "the bus name " + s.Name
	}
	return s.Name
}

// Callers are what can start an item on demand, in words.
func (it Item) Callers() (all []string) {
	for _, s := range it.Starters {
		all = append(all, s.String())
	}
	return all
}

// Unread is a place that a survey could not read.
type Unread struct {
	Path   string     `json:"path"`
	Reason string     `json:"reason"`
	Kind   UnreadKind `json:"-"`
}

// An UnreadKind says what it means that a place was not read.
type UnreadKind int

const (
	// Partly: what stands there may be missing from what was found.
	Partly UnreadKind = iota
	// Gap: all that stands there is missing, so that what was found looks whole
	// and is not.
	Gap
	// Denied: another user may read it.
	Denied
)

// A Survey is one complete inventory of a machine.
type Survey struct {
	Host string // the machine's own name; empty when not known
	OS   string // the operating system's name for people; empty when not known
	// Family is the kind of operating system, in lower case. MachineID is the
	// machine's own id, by its operating system; empty where it has none.
	Family, MachineID string
	Taken             time.Time
	// Model is what its maker calls the computer, and Hardware the computer's
	// own id; empty where neither the disk nor the running machine tells.
	Model, Hardware string
	// Running: it is of the machine that runs us, not of a disk.
	Running bool
	Items   []Item
	Unread  []Unread
	// Remarks are what is to be known of places that were read, as clauses.
	Remarks []Unread
	// Guessed: nothing is on record of which packages somebody chose, so that
	// what belongs to the operating system is told from other signs.
	Guessed bool
}

// Find returns the item with the given id.
func (s Survey) Find(id string) (Item, bool) {
	i := slices.IndexFunc(s.Items, func(it Item) bool { return it.ID == id })
	if i < 0 {
		return Item{}, false
	}
	return s.Items[i], true
}

// Sort orders items the way people read them when nothing was measured. Added
// ones go before the operating system's own, what is launched before what is
// not, boot before login. Then they go by maker, title and id.
func Sort(items []Item) {
	type key struct {
		at, rank     int
		maker, title string
	}
	rank := func(it *Item) (n int) {
		for _, later := range []bool{
			it.System, !it.State.Launched(), it.When == Later, it.When == AtLogin,
		} {
			if n *= 2; later {
				n++
			}
		}
		return n
	}
	keys := make([]key, len(items)) // items are large: they are moved once
	for i := range items {
		it := &items[i]
		keys[i] = key{i, rank(it), strings.ToLower(it.Maker), strings.ToLower(it.Title)}
	}
	slices.SortFunc(keys, func(a, b key) int {
		return cmp.Or(cmp.Compare(a.rank, b.rank), strings.Compare(a.maker, b.maker),
			strings.Compare(a.title, b.title), strings.Compare(items[a.at].ID, items[b.at].ID))
	})
	sorted := make([]Item, len(items))
	for i, k := range keys {
		sorted[i] = items[k.at]
	}
	copy(items, sorted)
}

// Model is what people call a computer, by its maker's name and its own. It is
// empty where nobody filled them in.
func Model(maker, name string) string {
	var words []string
	for _, w := range []string{strings.TrimSpace(maker), strings.TrimSpace(name)} {
		unset := slices.ContainsFunc(unsetModels, func(p string) bool {
			return strings.EqualFold(p, w)
		})
		if w != "" && !unset {
			words = append(words, w)
		}
	}
	if len(words) == 2 && strings.HasPrefix(strings.ToLower(words[1]), strings.ToLower(words[0])) {
		words = words[1:]
	}
	return strings.Join(words, " ")
}

// unsetModels are what stands where a model was to be filled in.
var unsetModels = []string{
	"To Be Filled By O.E.M.", "To Be Filled By OEM", "System manufacturer", "System Product Name",
	"Default string", "Not Specified", "Not Applicable", "None", "O.E.M.", "OEM", "Unknown",
}
