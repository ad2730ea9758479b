// Package boot holds the words for one recorded start of a machine. Those are
// its phases, when it was ready and when it had settled, and what each item did
// in it.
//
// All durations count from the moment the kernel began; in a container, from
// the moment the service manager did. Time in which the machine waited for a
// person is taken out of all of them. A figure that was not measured is not
// there, and is never 0; one that was says where it is from.
package boot

import (
	"slices"
	"time"
)

// Present is what something uses at this moment.
type Present struct {
	CPU    float64 // share of one processor, over the time that was looked at
	Memory int64   // resident, bytes; what processes share is counted for each
}

// A Source is where a figure is from.
type Source string

// The sources of boots.
const (
	Log      Source = "log"      // what the machine wrote down at the time
	Bus      Source = "bus"      // the running service manager's own clocks
	Recorder Source = "recorder" // our samples
)

// A Figure is a duration that may not have been measured.
type Figure struct {
	Value time.Duration
	Known bool
	From  Source
}

// Of makes a measured figure.
func Of(d time.Duration, from Source) Figure { return Figure{d, true, from} }

// An Amount is a number of bytes that may not have been measured.
type Amount struct {
	Bytes int64
	Known bool
	From  Source
}

// Bytes makes a measured amount.
func Bytes(n int64, from Source) Amount { return Amount{n, true, from} }

// A Phase is one stage of a boot.
type Phase struct {
	Name string // firmware, loader, kernel, initrd, userspace
	Took time.Duration
	// Beside says that it ran while others did: it is no part of what ready
	// waited for.
	Beside bool `json:",omitempty"`
}

// PhaseNames lists the phases in the order in which a boot goes through them.
var PhaseNames = []string{"firmware", "loader", "kernel", "initrd", "userspace"}

// EarlyPhases are those that pass before the service manager starts anything,
// and count in what a boot took.
var EarlyPhases = PhaseNames[2:4]

// WrittenPhases are those that some machines write down of what passes until
// ready, in their order.
var WrittenPhases = []string{
	"drivers", "devices", "prefetch", "disk check", "session", "services", "machine policies",
	"profile", "desktop",
}

// Rest names what is left of ready where a machine wrote its phases down.
const Rest = "not written down"

// IsPhase reports whether a name is that of a phase.
func IsPhase(name string) bool {
	return name == Rest || slices.Contains(PhaseNames, name) ||
		slices.Contains(WrittenPhases, name)
}

// A Label says what part spans play in a boot, whatever their operating system
// calls them. Labels are not recorded: whoever reads a boot sets them.
type Label uint16

// The labels. A span may carry several.
const (
	Service   Label = 1 << iota // it runs a program; what is none only waits
	Goal                        // what a boot, or a user's login, aims at
	Basic                       // what every goal needs is there
	Rescue                      // a person is to put something right
	Emergency                   // the same, with next to nothing started
	DiskCheck
	Session // the service manager of a user who logs in
	Clock   // it starts others by the clock or at an event, whoever asks
	Manager // the machine's service manager itself
	Seat    // holds the programs of a login that have no unit of their own
)

// A Span is what one item did during a boot.
type Span struct {
	Native  string // the unit's name
	Owner   string // the user whose service manager started it; empty for the machine's
	Begin   Figure // unknown where only its end was noted
	End     Figure // when it counted as started; unknown where nothing says so
	Failed  bool
	Skipped bool // a condition did not hold
	// FailedAt is when it failed first, which may be after it had started;
	// unknown in older records.
	FailedAt Figure `json:",omitzero"`
	// Tries is how often it was to be started until the boot was over, where
	// that is more than once. Begin and End are of the first try.
	Tries int `json:",omitempty"`
	// Again are the later ones, as far as known, oldest first. What is ordered
	// after the item waits for one only if it is under way just then.
	Again []Try `json:",omitempty"`

	// processor time it had used: when it stopped (log), so far (bus), or at
	// the end of the boot (recorder)
	CPU      Figure
	DiskRead Amount // bytes read from disks, by the same moment
	Memory   Amount // the most it held, or what it holds now

	// What the service manager knew of it; empty where only the log speaks.
	Type     string   // of a service: simple, exec, oneshot, notify, forking, dbus, idle
	Stays    bool     // it stays active although its program has ended
	Exited   Figure   // when its main program ended, if it did
	After    []string // what it is ordered after, as it was loaded
	Pulls    []string // what it pulls in: wants, requires, binds to, upholds
	Triggers []string // what it starts on an event: the service of a timer, a socket, a path
	Course   []Use    // what it had used by which moment
	// PIDs are processes that were seen in it, for those who look for the
	// item that a process belongs to; not all of them.
	PIDs []int `json:",omitempty"`

	Labels Label `json:"-"`
}

// A Try is one start of an item, from when it began until it was done or had
// failed.
type Try struct{ Begin, End time.Duration }

// DoneBy is when the item was last done with a try by a moment, and false where
// it was not.
func (s Span) DoneBy(at time.Duration) (time.Duration, bool) {
	if !s.End.Known || s.End.Value > at {
		return 0, false
	}
	done := s.End.Value
	for _, t := range s.Again {
		if t.End <= at {
			done = max(done, t.End)
		}
	}
	return done, true
}

// An Ask is something that was started because a program called it by a name of
// the bus.
type Ask struct {
	Name  string // on the bus
	Unit  string // that was started for it; empty where the bus started it itself
	By    string // the path of the program that asked
	PID   int    // of that program's process; 0 where not known
	Owner string // whose bus it is; empty for the machine's
	At    time.Duration
}

// Is reports whether the span carries a label.
func (s Span) Is(l Label) bool { return s.Labels&l != 0 }

// Key is the span's name across boots.
func (s Span) Key() Key { return Key{s.Native, s.Owner} }

// A Use is what something had used of the processors, and read from disks, by a
// moment.
type Use struct {
	At   time.Duration
	CPU  time.Duration
	Read int64 `json:",omitempty"` // bytes
	// Disk is how long the system's disk had been at work, in a course of the
	// whole machine; 0 where the kernel does not tell.
	Disk time.Duration `json:",omitempty"`
}

// First is the earliest moment that is known of the span.
func (s *Span) First() time.Duration {
	if s.Begin.Known {
		return s.Begin.Value
	}
	return s.End.Value
}

// OwnTime is how long the item's start took, by itself. It says nothing about
// what the boot would gain without it.
func (s Span) OwnTime() Figure {
	if !s.Begin.Known || !s.End.Known || s.Skipped {
		return Figure{}
	}
	return Of(s.End.Value-s.Begin.Value, s.End.From)
}

// A Wait is a stretch in which the machine waited for a person. It is taken out
// of the boot: At is where it was cut out.
type Wait struct {
	What string // the question: "a passphrase for luks-home"
	At   time.Duration
	Took time.Duration
}

// An Ending says how a boot came to its end.
type Ending string

// The endings that can be told.
const (
	Running Ending = "running"
	Clean   Ending = "clean"
	Cut     Ending = "cut" // the log breaks off: a crash, or the power went
)

// A Boot is one recorded start. It is a value: whoever changes one of its
// slices makes a copy of that first, since several boots may share it.
type Boot struct {
	ID        string // the operating system's own id of it
	Began     time.Time
	Phases    []Phase // those that the machine reports
	Ready     Figure  // until the boot's goal was reached
	Goal      string  // the goal's name, where it is known
	Settled   Settled
	Spans     []Span   // by their begin
	Waits     []Wait   // for a person; already taken out
	Odd       []string // reasons not to compare it
	Simulated bool     // a simulator's work, no measurement
	Sources   []Source

	// Start is the kind of start, where there are several; empty where not
	// known, or where there is one.
	Start Start `json:",omitempty"`
	// Worked is when one could work, as the machine itself measured it, with
	// the waiting for a person taken out; unknown where it did not.
	Worked Figure `json:",omitzero"`
	// Unwritten says that the machine wrote down that it started, and nothing
	// of how long that took.
	Unwritten bool `json:",omitempty"`
	// Slow is what the machine itself noted as slower than usual.
	Slow []Slow `json:",omitempty"`

	Kernel     string // its release; empty where not known
	Processors int    // 0 where not known
	Memory     int64  // bytes; 0 where not known
	Ending     Ending // empty where not known
	Jump       Figure // by how much the clock was set while it ran, forwards or back
	Slept      bool   // it was put to sleep before it was ready

	Conditions []Condition // as they were in this boot; empty where nobody noted them
	Course     []Use       // of the whole machine, from the recorder's first sample on
	Logins     []Login     `json:",omitempty"` // of people, the first first
	Asks       []Ask       `json:",omitempty"` // what was started on demand
	Programs   []Program   // of logins, that have no unit of their own
	// Rest is what programs of logins used that could be attributed to none of
	// them; unknown in older records.
	Rest      Figure     `json:",omitzero"`
	Recording *Recording // of the recorder itself; nil where it did not run
	Notes     []string   // what is missing in the record, and why
}

// A Start is a kind of start. Boots of different kinds are not compared.
type Start string

// The kinds of start.
const (
	FullStart Start = "a full start"
	FastStart Start = "a fast start" // from a kernel that was saved when it was shut down
	Resumed   Start = "a resume"     // from a whole system that was saved
)

// A Slow is something of which a machine itself noted that its start took
// longer than it usually does.
type Slow struct {
	Kind  string // program, service, driver, device
	Name  string // a file's, or a service's
	Path  string // of its file, inside the machine; empty where not known
	Title string
	Took  time.Duration
	By    time.Duration // longer than usual
}

// Short is as much of a boot's id as people are shown: enough to name it.
func (b Boot) Short() string {
	const instant = 20 // such ids are moments
	if len(b.ID) <= instant {
		return b.ID
	}
	return b.ID[:8]
}

// A Recording is what the recorder knows of itself.
type Recording struct {
	Began, Ended time.Duration
	Samples      int
	CPU          time.Duration
	Memory       int64         // the most it held, bytes
	Foreign      time.Duration // processor time that others on the same computer took, until ready
	// LoginWait is how long it went on waiting for somebody to log in; 0 where
	// somebody had, or nobody could.
	LoginWait time.Duration `json:",omitempty"`
	Version   int           // of the record
}

// A Condition is something else that bears on how long a boot takes.
type Condition struct {
	Name  string // "free disk space"
	Value string // for people: "12 % of 240 GB"
	Why   string // why it matters
	Bad   bool   // worth a warning
	// When says of which moment the value is: "this boot", or "now".
	When string
}

// A Program is one process of a login, with what it had used when it was last
// seen.
type Program struct {
	Name string // the kernel's name of it
	// Its program, and as much of its words as tells what it is. Behind them
	// stand those that it had before it became another program, oldest last.
	Words []string
	// Names are the kernel's names of all programs that it became while it was
	// watched, as far as they were told. They have 15 bytes each, oldest last.
	Names []string `json:",omitempty"`
	Owner string
	// Foreign: it ran as another user than the one whose session it was in, as
	// sudo's do. It counts for the session, and for no item.
	Foreign bool `json:",omitempty"`
	PID     int  `json:",omitempty"`
	Parent  int  // its parent's index in the list; -1 for none
	// Under is the item to which the parent of a program without one in the
	// list belongs: what opened the session. Empty where not known.
	Under Key `json:",omitzero"`
	Began time.Duration
	CPU   time.Duration
	Read  int64
	// Memory is the most that it held by itself: the resident set of proc(5),
	// bytes; 0 in older records.
	Memory int64 `json:",omitempty"`
	Course []Use
}

// Phase returns how long a phase took.
func (b Boot) Phase(name string) Figure {
	for _, p := range b.Phases {
		if p.Name == name {
			return Figure{Value: p.Took, Known: true}
		}
	}
	return Figure{}
}

// Span returns the span of an item of the machine, by its native name.
func (b Boot) Span(native string) (Span, bool) {
	i := slices.IndexFunc(b.Spans, func(s Span) bool { return s.Native == native && s.Owner == "" })
	if i < 0 {
		return Span{}, false
	}
	return b.Spans[i], true
}

// AimAt sets what the boot aimed at, the first of the goals that was reached.
// The boot then counts as ready when that was, and not when the last job had
// ended, which is later.
func (b *Boot) AimAt(goals ...string) {
	for _, goal := range goals {
		if s, ok := b.Span(goal); ok && s.End.Known && b.Ready.Known &&
			s.End.Value <= b.Ready.Value {
			b.Goal, b.Ready = goal, s.End
			return
		}
	}
}

// Fit reports whether the boot can be compared with others: it became ready,
// and nothing about it is odd.
func (b Boot) Fit() bool { return b.Ready.Known && len(b.Odd) == 0 }

// Fit returns those of the boots that can be compared, at most the last n.
func Fit(boots []Boot, n int) []Boot {
	var fit []Boot
	for _, b := range boots {
		if b.Fit() {
			fit = append(fit, b)
		}
	}
	return fit[max(0, len(fit)-n):]
}

// A Key names an item across boots.
type Key struct{ Native, Owner string }

// An OwnTime is the own time of an item over several boots.
type OwnTime struct {
	Median    time.Duration
	Boots     int // in how many boots it was measured
	Of        int // of how many
	From      Source
	Simulated bool
}

// OwnTimes returns the own time of each item over the given boots.
func OwnTimes(boots []Boot) map[Key]OwnTime {
	seen := map[Key][]time.Duration{}
	from := map[Key]Source{}
	simulated := false
	for _, b := range boots {
		simulated = simulated || b.Simulated
		for _, s := range b.Spans {
			if own := s.OwnTime(); own.Known {
				key := Key{s.Native, s.Owner}
				seen[key] = append(seen[key], own.Value)
				from[key] = own.From
			}
		}
	}
	times := make(map[Key]OwnTime, len(seen))
	for key, all := range seen {
		times[key] = OwnTime{
			Median:    Median(all),
			Boots:     len(all),
			Of:        len(boots),
			From:      from[key],
			Simulated: simulated,
		}
	}
	return times
}

// Median returns the middle value, or the mean of the two middle ones. values
// must not be empty; it is left as it is.
func Median[N ~int64](values []N) N {
	sorted := slices.Sorted(slices.Values(values))
	n := len(sorted)
	if n%2 == 1 {
		return sorted[n/2]
	}
	low, high := sorted[n/2-1], sorted[n/2]
	return low + (high-low)/2
}
