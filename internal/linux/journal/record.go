package journal

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/label"
)

// The kinds of message that tell of a boot, as fields.
const (
	msgStarting  = "MESSAGE_ID=7d4958e842da4a758f6c1cdc7b36dcc5"
	msgStarted   = "MESSAGE_ID=39f53479d3a045ac8e11786248231fbf"
	msgFailed    = "MESSAGE_ID=be02cf6855d2428ba40df7e9d022f03d"
	msgResult    = "MESSAGE_ID=d9b373ed55a64feb8242e02dbe79a49c" // failed, after it started too
	msgRestart   = "MESSAGE_ID=5eb03494b6584870a536b337290809b3" // is to be started once more
	msgStopping  = "MESSAGE_ID=de5b426a63be47a7b6ac3eaac82e2f6f"
	msgReady     = "MESSAGE_ID=b07a249cd024414a82dd00cd181378ff"
	msgUserReady = "MESSAGE_ID=eed00a68ffd84e31882105fd973abdd1"
	msgResources = "MESSAGE_ID=ae8f7b866b0347b9af31fe1c80b127c0"
	msgSleep     = "MESSAGE_ID=6bbd95ee977941e497c48be27c254128"
	msgClock     = "MESSAGE_ID=c7a787079b354eaaa9e77b371893cd27"
	// the kernel's name of the program that opens encrypted disks, comm is 15
	// bytes
	cryptSetup = "_COMM=systemd-cryptse"
	// the daemon of a bus, which says who asked for what it starts
	busDaemon = "_COMM=dbus-daemon"
)

// Which of them tell of units, and which of the machine.
var (
	ofUnits = []string{
		msgStarting, msgStarted, msgFailed, msgResources, msgResult, msgRestart, msgStopping,
	}
	ofMachine = []string{msgReady, msgUserReady, msgSleep, msgClock, cryptSetup, busDaemon}
)

const (
	kernelTalk = 600  // messages at a boot's begin among which the kernel tells of the hardware
	maxSpans   = 5000 // units of a boot that are believed
	maxTries   = 1000 // starts of one unit that are counted
	// stopsSoon is how long after the end of the start-up a unit's total may
	// come and still be called the boot's.
	stopsSoon = 30 * time.Second
)

// A record collects what the files say of one boot. It does not matter in which
// order the files are read, and several may be at once.
type record struct {
	mu          sync.Mutex
	id          ID
	sequence    ID
	first, last Entry
	simulated   bool
	index       map[boot.Key]int // of the units
	units       []unit
	ready       *finish
	clock       *Entry        // the first entry after the clock was set
	slept       time.Duration // when it was first put to sleep; 0 for never
	opened      []time.Duration
	asks        []boot.Ask

	kernel     string
	memory     int64
	processors int
}

// A unit is what the files say of one unit, by the boot's clock.
type unit struct {
	key                 boot.Key
	begin, end, stopped instant
	cpu                 time.Duration // until it stopped
	failed, skipped     bool
	wrong, halted       instant         // when it failed first, and when it was told to stop
	again               []time.Duration // when it was to be started once more
	begins, ends        []time.Duration // of tries after the first, in any order
}

// An instant may be unknown.
type instant struct {
	at    time.Duration
	known bool
}

// A finish is the message with which the service manager ends the start-up.
type finish struct {
	at     time.Duration // by the boot's clock
	entry  Entry
	phases []boot.Phase
}

var (
	kernelText = regexp.MustCompile(`^Linux version (\S+) `)
	memoryText = regexp.MustCompile(`^Memory: \d+K/(\d+)K available`)
	smpText    = regexp.MustCompile(`^smp: Brought up \d+ nodes?, (\d+) CPUs?`)
)

// introduce reads what the kernel says of itself and the hardware; true when
// all is known.
func (c *collector) introduce(r *record, f *File, e Entry) bool {
	text := f.Message(e)
	r.mu.Lock()
	defer r.mu.Unlock()
	if m := kernelText.FindSubmatch(text); m != nil {
		r.kernel = string(m[1])
	} else if m := memoryText.FindSubmatch(text); m != nil {
		n, _ := strconv.ParseInt(string(m[1]), 10, 50)
		r.memory = n << 10
	} else if m := smpText.FindSubmatch(text); m != nil {
		r.processors, _ = strconv.Atoi(string(m[1]))
	}
	silent := r.kernel == "" && e.Seqnum > r.first.Seqnum+20 // a container: no kernel speaks
	return silent || e.Seqnum > r.first.Seqnum+kernelTalk ||
		r.kernel != "" && r.memory > 0 && r.processors > 0
}

// The fields that are looked at: first those whose values many entries share.
const (
	fUnit = iota
	fUserUnit
	fPID
	fUID
	fSystemdUnit
	fSystemdUserUnit
	fMessage
	fKernel
	fInitrd
	fUserspace
	fCPU
	fMonotonic
	fRealtime
	fInvocation
	fUserInvocation
	lastField
	lastShared = fSystemdUserUnit
)

var wanted = []string{
	"UNIT", "USER_UNIT", "_PID", "_UID", "_SYSTEMD_UNIT", "_SYSTEMD_USER_UNIT", "MESSAGE",
	"KERNEL_USEC", "INITRD_USEC", "USERSPACE_USEC",
	"CPU_USAGE_NSEC", "_SOURCE_MONOTONIC_TIMESTAMP", "_SOURCE_REALTIME_TIMESTAMP", "INVOCATION_ID",
	"USER_INVOCATION_ID",
}

func (c *collector) take(r *record, f *File, kind string, e Entry) error {
	m, err := f.pick(e)
	if err != nil {
		return err
	}
	at := moment(e, m)
	r.mu.Lock()
	defer r.mu.Unlock()
	if kind == busDaemon {
		r.ask(m, at, c.users)
		return nil
	}
	if kind == cryptSetup {
		if strings.HasPrefix(m.of(fMessage), "Set cipher ") {
			r.opened = append(r.opened, at)
		}
		return nil
	}
	var key boot.Key
	switch {
	case m.of(fPID) == "1":
		key.Native = m.of(fUnit)
	case m.of(fSystemdUserUnit) == "init.scope" &&
		m.of(fSystemdUnit) == "user@"+m.of(fUID)+".service":
		key = boot.Key{Native: m.of(fUserUnit), Owner: c.users[m.of(fUID)]}
		if key.Owner == "" || kind == msgUserReady {
			return nil
		}
	case kind == msgSleep: // the program that puts the machine to sleep says so itself
		if m.of(fUID) == "0" && (r.slept == 0 || at < r.slept) {
			r.slept = at
		}
		return nil
	default:
		return nil // only the machine's own service manager is believed, and a user's of that user
	}
	r.tell(kind, key, at, e, m)
	return nil
}

// asked is how the daemon of a bus says that it starts something, and for whom.
var asked = regexp.MustCompile(`Activating (?:via systemd: )?service name='([^']+)'` +
	`(?: unit='([^']*)')? requested by '[^']*' \(uid=\d+ pid=(\d+) comm="([^" ]*)`)

// ask notes what a bus was asked to start: the machine's bus, or a user's of
// that user.
func (r *record) ask(m *message, at time.Duration, users map[string]string) {
	const most = 1000
	owner := ""
	switch {
	case m.of(fSystemdUnit) == "dbus.service":
	case m.of(fSystemdUserUnit) == "dbus.service" &&
		m.of(fSystemdUnit) == "user@"+m.of(fUID)+".service" && users[m.of(fUID)] != "":
		owner = users[m.of(fUID)]
	default:
		return // whoever calls himself so
	}
	said := asked.FindStringSubmatch(m.of(fMessage))
	if said == nil || len(r.asks) >= most {
		return
	}
	pid, _ := strconv.Atoi(said[3])
	r.asks = append(r.asks, boot.Ask{
		Name: said[1], Unit: said[2], By: said[4], PID: pid, Owner: owner, At: at,
	})
}

func (r *record) tell(kind string, key boot.Key, at time.Duration, e Entry, m *message) {
	if kind == msgReady || kind == msgUserReady {
		if r.ready == nil || at < r.ready.at {
			r.ready = &finish{at, e, phasesOf(m)}
		}
		return
	}
	if kind == msgClock {
		if r.clock == nil || e.Monotonic < r.clock.Monotonic {
			r.clock = &e
		}
		return
	}
	u := r.unit(key)
	if u == nil {
		return
	}
	switch kind { // restarted later: the first start counts
	case msgStarting:
		u.begin.first(at, &u.begins)
	case msgStarted, msgFailed:
		if u.end.first(at, &u.ends) {
			u.failed, u.skipped = kind == msgFailed, kind == msgStarted && skipped(m)
		}
	case msgResult:
		u.wrong.earliest(at)
	case msgStopping:
		u.halted.earliest(at)
	case msgRestart:
		if len(u.again) < maxTries {
			u.again = append(u.again, at)
		}
	case msgResources:
		if n, err := strconv.ParseInt(m.of(fCPU), 10, 64); err == nil && u.stopped.earliest(at) {
			u.cpu = time.Duration(n)
		}
	}
}

// unit is what is known of a unit; nil where no more units of this boot are
// believed.
func (r *record) unit(key boot.Key) *unit {
	if i, known := r.index[key]; known {
		return &r.units[i]
	}
	if key.Native == "" || len(r.units) >= maxSpans {
		return nil
	}
	r.index[key] = len(r.units)
	r.units = append(r.units, unit{key: key})
	return &r.units[len(r.units)-1]
}

// earliest takes over a moment that is earlier than what was known.
func (f *instant) earliest(at time.Duration) bool {
	if f.known && at >= f.at {
		return false
	}
	*f = instant{at, true}
	return true
}

// first does the same, and keeps the later of the two moments among others.
func (f *instant) first(at time.Duration, others *[]time.Duration) bool {
	if f.known && len(*others) < maxTries {
		*others = append(*others, max(at, f.at))
	}
	return f.earliest(at)
}

// skipped reports whether a unit was skipped for a condition: that is logged
// like a start, of no invocation.
func skipped(m *message) bool {
	return m.emptyYetTold(fInvocation) || m.emptyYetTold(fUserInvocation)
}

// moment is when an entry was written, on the boot's clock. The sender's own
// clock is up to milliseconds better than the log's, where it is there and
// plausible.
func moment(e Entry, m *message) time.Duration {
	const micro = time.Microsecond
	if own, ok := digits(m.value(fMonotonic)); ok && own <= e.Monotonic {
		return time.Duration(own) * micro
	}
	own, ok := digits(m.value(fRealtime))
	late := e.Realtime - own
	if ok && own <= e.Realtime && late < uint64(time.Second/micro) && late <= e.Monotonic {
		return time.Duration(e.Monotonic-late) * micro
	}
	return time.Duration(e.Monotonic) * micro
}

// digits reads a number of up to 18 digits; most entries lack the fields that
// have one, which must cost nothing.
func digits(text []byte) (n uint64, ok bool) {
	if len(text) == 0 || len(text) > 18 {
		return 0, false
	}
	for _, c := range text {
		d := c - '0'
		if d > 9 {
			return 0, false
		}
		n = n*10 + uint64(d)
	}
	return n, true
}

// phasesOf reads the phases of the message that ends the start-up: from its
// fields, and firmware and loader, which have none, from its text.
func phasesOf(m *message) []boot.Phase {
	took := map[string]time.Duration{}
	for _, part := range phaseText.FindAllStringSubmatch(m.of(fMessage), -1) {
		if d, ok := parseSpan(part[1]); ok && (part[2] == "firmware" || part[2] == "loader") {
			took[part[2]] = d
		}
	}
	for name, field := range map[string]int{
		"kernel":    fKernel,
		"initrd":    fInitrd,
		"userspace": fUserspace,
	} {
		n, err := strconv.ParseUint(m.of(field), 10, 50)
		if err == nil && (n > 0 || name == "userspace") {
			took[name] = time.Duration(n) * time.Microsecond
		}
	}
	var phases []boot.Phase
	for _, name := range boot.PhaseNames {
		if d, ok := took[name]; ok {
			phases = append(phases, boot.Phase{Name: name, Took: d})
		}
	}
	return phases
}

var (
	phaseText = regexp.MustCompile(
		`([0-9][0-9a-z. ]*) \((firmware|loader|kernel|initrd|userspace)\)`,
	)
	spanPart = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?)(h|min|s|ms|us)$`)
)

// parseSpan reads a time span as the service manager writes it: "1min 2.345s".
func parseSpan(s string) (time.Duration, bool) {
	units := map[string]time.Duration{
		"h":   time.Hour,
		"min": time.Minute,
		"s":   time.Second,
		"ms":  time.Millisecond,
		"us":  time.Microsecond,
	}
	var sum time.Duration
	for word := range strings.FieldsSeq(s) {
		m := spanPart.FindStringSubmatch(word)
		if m == nil {
			return 0, false
		}
		n, err := strconv.ParseFloat(m[1], 64)
		if err != nil {
			return 0, false
		}
		sum += time.Duration(n * float64(units[m[2]]))
	}
	return sum, true
}

// boot puts the record together: everything counts from the moment the kernel
// began, which the end of the start-up gives away by its phases.
func (r *record) boot() boot.Boot {
	b := boot.Boot{
		ID:         r.id.String(),
		Simulated:  r.simulated,
		Sources:    []boot.Source{boot.Log},
		Kernel:     r.kernel,
		Memory:     r.memory,
		Processors: r.processors,
		Ending:     boot.Cut,
	}
	origin := time.Duration(0)
	reference := r.last
	if r.ready != nil {
		b.Phases = r.ready.phases
		var sum time.Duration
		for _, name := range []string{"kernel", "initrd", "userspace"} {
			sum += b.Phase(name).Value
		}
		if !b.Phase("kernel").Known { // a container: its clock is that of the computer around it
			origin = max(0, r.ready.at-sum)
		}
		b.Ready = boot.Of(r.ready.at-origin, boot.Log)
		reference = r.ready.entry
		b.Slept = r.slept > 0 && r.slept < r.ready.at
	} else if first := time.Duration(r.first.Monotonic) * time.Microsecond; first > 10*time.Minute {
		origin = first
	}
	if r.clock != nil &&
		(r.slept == 0 || time.Duration(r.clock.Monotonic)*time.Microsecond < r.slept) {
		reference = *r.clock // before that, the clock was wrong
	}
	if jump := reference.clock() - r.first.clock(); jump.Abs() > time.Second {
		b.Jump = boot.Of(jump, boot.Log)
	}
	b.Began = time.UnixMicro(int64(reference.Realtime - reference.Monotonic)).Add(origin).UTC()
	r.addSpans(&b, origin)
	for _, a := range r.asks {
		a.At -= origin
		b.Asks = append(b.Asks, a)
	}
	slices.SortFunc(b.Asks, func(x, y boot.Ask) int {
		return cmp.Or(cmp.Compare(x.At, y.At), cmp.Compare(x.Name, y.Name))
	})
	var opened []time.Duration
	for _, at := range r.opened {
		opened = append(opened, at-origin)
	}
	return boot.TakeOut(b, label.Questions(b.Spans, opened))
}

func (r *record) addSpans(b *boot.Boot, origin time.Duration) {
	inOrder := make([]*unit, 0, len(r.units))
	for i := range r.units {
		inOrder = append(inOrder, &r.units[i])
	}
	slices.SortFunc(inOrder, func(x, y *unit) int {
		return cmp.Or(cmp.Compare(x.first(), y.first()), cmp.Compare(x.key.Native, y.key.Native),
			cmp.Compare(x.key.Owner, y.key.Owner))
	})
	figure := func(f instant) boot.Figure {
		if !f.known {
			return boot.Figure{}
		}
		return boot.Of(f.at-origin, boot.Log)
	}
	b.Spans = make([]boot.Span, 0, len(r.units))
	for _, u := range inOrder {
		if u.key == (boot.Key{Native: "shutdown.target"}) {
			b.Ending = boot.Clean
			continue
		}
		s := boot.Span{
			Native:  u.key.Native,
			Owner:   u.key.Owner,
			Begin:   figure(u.began()),
			End:     figure(u.end),
			Failed:  u.failed,
			Skipped: u.skipped,
		}
		// later, it is of days, not of the boot
		if u.stopped.known && r.ready != nil && u.stopped.at <= r.ready.at+stopsSoon {
			s.CPU = boot.Of(u.cpu, boot.Log)
		}
		r.addTries(&s, u, origin)
		b.Spans = append(b.Spans, s)
	}
	b.AimAt(label.Goals...)
}

// addTries tells a span when it failed, and how often it was started. What goes
// wrong when it is told to stop is no failure of the boot, and later tries are
// none of its.
func (r *record) addTries(s *boot.Span, u *unit, origin time.Duration) {
	over := r.last.Monotonic
	if r.ready != nil {
		over = uint64((r.ready.at + stopsSoon) / time.Microsecond)
	}
	soon := func(at time.Duration) bool { return uint64(at/time.Microsecond) <= over }
	wrong := u.wrong
	if u.failed && (!wrong.known || u.end.at < wrong.at) {
		wrong = u.end
	}
	if wrong.known && soon(wrong.at) && (!u.halted.known || wrong.at < u.halted.at) {
		s.Failed, s.FailedAt = true, boot.Of(wrong.at-origin, boot.Log)
	}
	for _, at := range u.again {
		if soon(at) {
			s.Tries = max(s.Tries, 1) + 1
		}
	}
	if s.Tries == 0 {
		return
	}
	slices.Sort(u.begins)
	slices.Sort(u.ends)
	for i, begin := range u.begins {
		at, _ := slices.BinarySearch(u.ends, begin)
		next := i+1 < len(u.begins) && at < len(u.ends) && u.begins[i+1] < u.ends[at]
		if at < len(u.ends) && soon(begin) && !next {
			s.Again = append(s.Again, boot.Try{Begin: begin - origin, End: u.ends[at] - origin})
		}
	}
}

// began is when the start began whose end is known; one after that is of a
// later start, and then the first was not logged.
func (u *unit) began() instant {
	if u.begin.known && u.end.known && u.begin.at > u.end.at {
		return instant{}
	}
	return u.begin
}

func (u *unit) first() time.Duration {
	if begin := u.began(); begin.known {
		return begin.at
	}
	return u.end.at
}
