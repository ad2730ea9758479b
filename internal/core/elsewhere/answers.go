package elsewhere

import "time"

// What a store of many machines answers. Its texts come from machines and may
// hold anything; figures are nil where they are not known.

// A Holding is one machine that launches an item.
type Holding struct {
	Title, Maker, Machine, Owner, State, Version string
	Wait                                         *time.Duration
	Taken                                        time.Time
	By                                           string // who added the machine
}

// An Expense is what an item costs over all machines that launch it.
type Expense struct {
	Title, Maker, Family string
	Machines             int            // that launch it
	Measured             int            // of which its cost is known
	Sum                  time.Duration  // over those, a boot or login of each
	Median               *time.Duration // nil of fewer than [Enough]
}

// An Effect is what came of switching an item off, or of having it wait.
type Effect struct {
	Title, Maker, Family, Verb string

	Machines int            // on which that was done
	Measured int            // by a change of that item alone
	Saved    *time.Duration // the median; nil of fewer than [Enough]
	Likely   *time.Duration // the same, shrunk towards all; see [Shrunk]
	Joint    int            // measured with others only, which tells of no item alone
	Back     int            // on which it was taken back
}

// A Return is an item that was switched off and is launched again, although
// nobody took that back.
type Return struct {
	Machine, Title, Maker string
	Off, Taken            time.Time
}

// A Call is a machine that may be worth a visit.
type Call struct {
	Machine, Model string
	Items          int            // launched, and could go
	Sum            *time.Duration // what each would save alone, in sum: together it is less
	Ready, Usable  *time.Duration
	Taken          time.Time
}

// A Slowed is a machine whose boots take longer since a day.
type Slowed struct {
	Machine       string
	Before, After time.Duration // medians of ready
	Boots, Since  int           // how many stand behind them
}

// A Suspect is what changed on machines since a day: an item that came, or has
// another version. It is told beside how often it changed on machines that did
// not become slower.
type Suspect struct {
	Title, Maker, Family, Version string
	Share
}

// A Standing is how much a store holds.
type Standing struct {
	Machines, Items, Boots, Decisions int
	Simulated                         int // machines of whose figures a simulator made some
}
