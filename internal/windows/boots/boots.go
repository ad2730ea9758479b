// Package boots finds the boots that a Windows machine remembers. It has their
// starts and ends in its event logs. It tells how long they took where it wrote
// that down, and what its logins launched in its traces of them.
//
// Which figure is which field stands in docs/windows.md.
package boots

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/events"
	"calmdawn/internal/windows/registry"
)

// Logs is the folder of the event logs, below the system's own.
const Logs = "System32/winevt/Logs"

// The logs that tell of boots, and who writes in them.
const (
	systemLog = "System.evtx"
	timesLog  = "Microsoft-Windows-Diagnostics-Performance%4Operational.evtx"

	general = "Microsoft-Windows-Kernel-General"
	kernel  = "Microsoft-Windows-Kernel-Boot"
	power   = "Microsoft-Windows-Kernel-Power"

	troubleshooter = "Microsoft-Windows-Power-Troubleshooter"

	service  = "EventLog"
	winlogon = "Microsoft-Windows-Winlogon"
	manager  = "Service Control Manager"
	times    = "Microsoft-Windows-Diagnostics-Performance"
)

// Simulated is the datum by which a simulator's start is known.
const Simulated = "CalmdawnSimulated"

const (
	mostEvents = 50_000
	mostBytes  = 32 << 20 // of what events tell
	mostBoots  = 2 * mostEvents
	sameStart  = 2 * time.Minute // two records of one start are no further apart
)

// wanted are the events that tell of boots.
func wanted(provider string, id uint16) bool {
	switch provider {
	case general:
		return id == 12 || id == 13 || id == 1
	case kernel:
		return id == 20 || id == 27 || id == 32
	case power:
		return id == 41 || id == 42 || id == 107
	case troubleshooter:
		return id == 1
	case service:
		return id == 6005 || id == 6006 || id == 6008
	case winlogon:
		return id == 7001
	case manager:
		return id == 7000 || id == 7001 || id == 7009 || id == 7022 || id == 7036
	case times:
		return id >= 100 && id <= 110
	}
	return false
}

// A reader puts boots together.
type reader struct {
	reg        *registry.Registry
	want       events.Wanted
	processors int
	boots      []boot.Boot // oldest first, once they are sorted
	starts     []time.Time // when each began by the machine's clock
	waits      []time.Duration
	logged     [][]time.Time   // the logins of each, by the machine's clock
	jumps      [][]jump        // of the clock, in each boot
	woken      []bool          // each has slept since it began
	cuts       []time.Time     // when it was told that the boot before was cut
	near       map[int64][]int // boots by when they began, in steps of sameStart
	// once they were asked for: services' keys by titles, and by keys in small
	// letters
	services, keys map[string]string
	found          family.Boots
}

// A jump is by how much the clock was set, and how long after the begin of the
// boot that was, by the clock before.
type jump struct{ at, by time.Duration }

// Read finds the last boots (0: all of them) of a machine.
func Read(reg *registry.Registry, last int) family.Boots {
	r := &reader{reg: reg, want: wanted, processors: processors(reg), near: map[int64][]int{}}
	r.system(r.log(systemLog))
	r.cut()
	r.times(r.log(timesLog))
	r.logins()
	r.clocks()
	r.firmware()
	r.traces()
	slices.SortStableFunc(r.boots, func(a, b boot.Boot) int { return a.Began.Compare(b.Began) })
	if last > 0 {
		r.boots = r.boots[max(0, len(r.boots)-last):]
	}
	r.found.Boots = r.boots
	r.untimed()
	return r.found
}

// untimed says why no boot may have its times, where none has.
func (r *reader) untimed() {
	if len(r.boots) == 0 || slices.ContainsFunc(r.boots, func(b boot.Boot) bool {
		return b.Ready.Known
	}) {
		return
	}
	why := "as servers do, and machines whose diagnostic policy service is off"
	services := r.reg.Machine(`SYSTEM\CurrentControlSet\Services\DPS`)
	channel := r.reg.Machine(`SOFTWARE\Microsoft\Windows\CurrentVersion\WINEVT\Channels\` +
		`Microsoft-Windows-Diagnostics-Performance/Operational`)
	const off = 4
	if start, ok := r.reg.Number(services, "Start"); ok && start == off {
		why = "since its diagnostic policy service (DPS) is off"
	} else if on, ok := r.reg.Number(channel, "Enabled"); ok && on == 0 {
		why = "since that log is switched off"
	}
	r.found.Remarks = append(r.found.Remarks, "The machine wrote down when it started, and not "+
		"how long that took, "+why+".")
}

// firmware gives the newest boot what the firmware took before it, which the
// system keeps of the last start alone.
func (r *reader) firmware() {
	power := r.reg.Machine(`SYSTEM\CurrentControlSet\Control\Session Manager\Power`)
	n, ok := r.reg.Number(power, "FwPOSTTime") // milliseconds
	const most = 10 * 60 * 1000
	if !ok || n == 0 || n > most || len(r.boots) == 0 {
		return
	}
	newest := 0
	for i := range r.starts {
		if r.starts[i].After(r.starts[newest]) {
			newest = i
		}
	}
	b := &r.boots[newest]
	b.Phases = slices.Insert(b.Phases, 0, boot.Phase{
		Name: "firmware", Took: time.Duration(n) * time.Millisecond,
	})
}

// processors is how many the machine has, as its last start noted it; 0 where
// that is not known.
func processors(reg *registry.Registry) (n int) {
	variables := reg.Machine(`SYSTEM\CurrentControlSet\Control\Session Manager\Environment`)
	text, _ := reg.Text(variables, "NUMBER_OF_PROCESSORS")
	const most = 4096
	if n, err := strconv.Atoi(text); err == nil && n > 0 && n <= most {
		return n
	}
	return 0
}

// log reads what is wanted of a log, in the order of its records.
func (r *reader) log(name string) []events.Event {
	p, err := r.reg.Find(path.Join(r.reg.Windows, Logs, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	unread := func(reason string) {
		r.found.Unread = append(r.found.Unread, item.Unread{Path: cmp.Or(p, name), Reason: reason})
	}
	if err != nil {
		unread(machine.Reason(err))
		return nil
	}
	f, err := r.reg.Root.OpenFile(p)
	if err != nil {
		unread(machine.Reason(err))
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		unread(machine.Reason(err))
		return nil
	}
	var all []events.Event
	bytes, left := 0, 0
	size := func(e events.Event) (n int) {
		for _, f := range e.Data {
			n += len(f.Name) + len(f.Value.Data)
		}
		return n
	}
	byRecord := func(a, b events.Event) int { return cmp.Compare(a.Record, b.Record) }
	report, err := events.Read(f, info.Size(), r.want, func(e events.Event) {
		all, bytes = append(all, e), bytes+size(e)
		if len(all) <= mostEvents && bytes <= mostBytes {
			return
		}
		slices.SortStableFunc(all, byRecord)
		half := (len(all) + 1) / 2 // the newer ones stay
		for _, e := range all[:half] {
			bytes -= size(e)
		}
		all, left = slices.Clone(all[half:]), left+half
	})
	switch {
	case err != nil:
		unread(machine.Reason(err))
	case left > 0:
		unread(fmt.Sprintf("tells too much of boots: the %d oldest records were left out", left))
	case report.Damaged > 0 || report.Lost > 0:
		unread(fmt.Sprintf("%d of %d parts are damaged, and %d records lost", report.Damaged,
			report.Chunks, report.Lost))
	}
	slices.SortStableFunc(all, byRecord)
	return all
}

// begin adds a boot that began at an instant; nil where there are too many.
func (r *reader) begin(at time.Time) *boot.Boot {
	if len(r.boots) == mostBoots {
		return nil
	}
	at = at.UTC()
	step := at.Unix() / int64(sameStart.Seconds())
	r.near[step] = append(r.near[step], len(r.boots))
	r.boots = append(r.boots, boot.Boot{
		ID:         at.Truncate(time.Second).Format(time.RFC3339),
		Began:      at,
		Sources:    []boot.Source{boot.Log},
		Unwritten:  true,
		Processors: r.processors,
	})
	r.starts, r.waits = append(r.starts, at), append(r.waits, 0)
	r.jumps, r.woken = append(r.jumps, nil), append(r.woken, false)
	r.logged = append(r.logged, nil)
	return &r.boots[len(r.boots)-1]
}

// system finds the starts and ends in the system's log.
func (r *reader) system(all []events.Event) {
	var now *boot.Boot
	for _, e := range all {
		key := fmt.Sprintf("%s %d", e.Provider, e.ID)
		switch {
		case key == general+" 12":
			began := e.Time
			if v, ok := e.Field("StartTime"); ok {
				if at, ok := v.Time(); ok {
					began = at
				}
			}
			if now = r.begin(began); now != nil {
				now.Kernel = release(e)
				_, now.Simulated = e.Field(Simulated)
			}
		case key == kernel+" 27":
			kind, ok := e.Number("BootType")
			if ok && kind == 1 && (now == nil || now.Start != "" || now.Ending == boot.Clean) {
				now = r.begin(e.Time) // such a start may have no other record
			}
			if ok && now != nil && now.Start == "" {
				now.Start = map[int64]boot.Start{
					0: boot.FullStart, 1: boot.FastStart, 2: boot.Resumed,
				}[kind]
			}
		case key == power+" 41", key == service+" 6008": // of the boot before
			r.cuts = append(r.cuts, e.Time)
		case now == nil:
		case key == general+" 13", key == service+" 6006":
			now.Ending = boot.Clean
		case key == power+" 42", key == power+" 107", key == troubleshooter+" 1":
			r.woken[len(r.woken)-1] = true
			now.Slept = now.Slept || e.ID == 42 && e.Time.Sub(now.Began) < sameStart
		case key == general+" 1":
			r.clock(now.Began, e)
		case key == winlogon+" 7001":
			r.login(now, e)
		case key == kernel+" 20", key == kernel+" 32":
			loader(now, e)
		case key == service+" 6005":
			started(now, "EventLog", e.Time)
		case key == manager+" 7036":
			r.changed(now, e)
		case e.Provider == manager:
			r.failed(now, e)
		}
	}
}

// loader notes what the boot loader told the kernel. No document says how its
// data are called, so this decides on nothing.
func loader(b *boot.Boot, e events.Event) {
	const most = 20
	for _, f := range e.Data {
		n, ok := f.Value.Number()
		switch waited := time.Duration(n) * time.Millisecond; {
		case len(b.Notes) == most:
			return
		case e.ID == 32 && ok && waited >= time.Second && waited < 24*time.Hour:
			b.Notes = append(b.Notes, fmt.Sprintf("before it, the boot menu waited %.0f s for a "+
				"person", waited.Seconds()))
			return
		case e.ID == 20 && f.Name == "LastShutdownGood" && f.Value.Text() == "false":
			b.Notes = append(b.Notes, "its loader was told that the shutdown before it failed")
		}
	}
}

// release is the version of the system that started.
func release(e events.Event) string {
	var parts []string
	for _, name := range []string{"MajorVersion", "MinorVersion", "BuildVersion"} {
		if n, ok := e.Number(name); ok {
			parts = append(parts, fmt.Sprint(n))
		}
	}
	return strings.Join(parts, ".")
}

// byTime are the numbers of the boots by when they began.
func (r *reader) byTime() []int {
	order := make([]int, len(r.starts))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return r.starts[a].Compare(r.starts[b]) })
	return order
}

// cut marks the boots that were cut. The start that finds it out tells of it.
// The record may stand before the one of that start, so its time decides.
func (r *reader) cut() {
	order := r.byTime()
	for _, at := range r.cuts {
		next, _ := slices.BinarySearchFunc(order, at.Add(time.Second),
			func(i int, at time.Time) int { return r.starts[i].Compare(at) })
		// next-1 is the start that tells of it
		if before := next - 2; before >= 0 {
			r.boots[order[before]].Ending = boot.Cut
		}
	}
}

// waking is the reason of a clock that was set as the machine woke up: it goes
// on from how late it had become meanwhile.
const waking = 2

// clock notes by how much the clock was set in the last boot, which began at an
// instant. What follows a sleep is no jump.
func (r *reader) clock(began time.Time, e events.Event) {
	to, _ := e.Field("NewTime")
	from, _ := e.Field("OldTime")
	after, ok1 := to.Time()
	before, ok2 := from.Time()
	reason, _ := e.Number("Reason")
	n := len(r.boots) - 1
	const most = 200 // of one boot
	if ok1 && ok2 && reason != waking && !r.woken[n] && len(r.jumps[n]) < most {
		r.jumps[n] = append(r.jumps[n], jump{before.Sub(began), after.Sub(before)})
	}
}

// clocks gives each boot the largest jump of its clock until ready. One before
// it began is that of a machine that woke up.
func (r *reader) clocks() {
	for i := range r.boots {
		b := &r.boots[i]
		until := sameStart
		if b.Ready.Known {
			until = b.Ready.Value + r.waits[i]
		}
		for _, j := range r.jumps[i] {
			if j.at >= -time.Second && j.at <= until && j.by.Abs() > b.Jump.Value.Abs() {
				b.Jump = boot.Of(j.by, boot.Log)
			}
		}
	}
}

// login notes who logged in.
func (r *reader) login(b *boot.Boot, e events.Event) {
	user := ""
	for _, u := range r.reg.Users {
		if u.SID != "" && u.SID == e.Text("UserSid") {
			user = u.Name
		}
	}
	const most = 200
	if len(b.Logins) == most {
		return
	}
	b.Logins = append(b.Logins, boot.Login{User: user, Began: e.Time.Sub(b.Began)})
	n := len(r.boots) - 1
	r.logged[n] = append(r.logged[n], e.Time)
}

// failed notes a service that did not start.
func (r *reader) failed(b *boot.Boot, e events.Event) {
	name := e.Text("param1")
	if e.ID == 7009 { // its first parameter is how long was waited
		name = e.Text("param2")
	}
	if name == "" {
		return
	}
	if key, _ := r.told(e); key != "" {
		name = key
	} else if key := r.serviceOf(name); key != "" {
		name = key
	}
	if s := spanOf(b, name); s != nil && !s.Failed {
		s.Failed, s.FailedAt = true, boot.Of(e.Time.Sub(b.Began), boot.Log)
	}
}

// spanOf is what a boot knows of a service; nil where it knows too much.
func spanOf(b *boot.Boot, key string) *boot.Span {
	const most = 1000
	i := slices.IndexFunc(b.Spans, func(s boot.Span) bool { return s.Native == key })
	if i < 0 && len(b.Spans) == most {
		return nil
	}
	if i < 0 {
		i, b.Spans = len(b.Spans), append(b.Spans, boot.Span{Native: key})
	}
	return &b.Spans[i]
}

// running is the state of a service that runs, as the manager numbers states
// ([MS-SCMR] 2.2.47).
const running = "4"

// changed notes the first start of a service. Machines before Windows 10 note
// each of them; the state stands behind the service's key.
func (r *reader) changed(b *boot.Boot, e events.Event) {
	if key, state := r.told(e); key != "" && state == running {
		started(b, key, e.Time)
	}
}

// started notes that a service had started at an instant, unless it had before.
func started(b *boot.Boot, key string, at time.Time) {
	if s := spanOf(b, key); s != nil && !s.End.Known {
		s.End = boot.Of(at.Sub(b.Began), boot.Log)
	}
}

// told is the key of a service that an event carries in its binary data, in
// front of a slash, and what stands behind that. The key is empty where the
// event has none, or no service has it.
func (r *reader) told(e events.Event) (key, behind string) {
	v, ok := e.Field("Binary")
	raw := v.Data
	if !ok || v.Type != events.TypeBinary {
		raw, _ = hex.DecodeString(v.Text())
	}
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	name, _, _ := strings.Cut(string(utf16.Decode(units)), "\x00")
	name, behind, _ = strings.Cut(name, "/")
	r.readServices()
	return r.keys[strings.ToLower(name)], behind
}

// readServices reads the keys and titles of services, once.
func (r *reader) readServices() {
	if r.services != nil {
		return
	}
	r.services, r.keys = map[string]string{}, map[string]string{}
	for _, k := range r.reg.Keys(r.reg.Machine(`SYSTEM\CurrentControlSet\Services`)) {
		r.keys[strings.ToLower(k.Key.Name())] = k.Key.Name()
		if text, ok := r.reg.Text(k, "DisplayName"); ok {
			r.services[text] = k.Key.Name()
		}
	}
}

// serviceOf is the key of a service by its title; empty for none.
func (r *reader) serviceOf(title string) string {
	r.readServices()
	return r.services[title]
}

// of finds the boot that began about then; -1 for none.
func (r *reader) of(at time.Time) int {
	best, step := -1, at.Unix()/int64(sameStart.Seconds())
	for _, i := range slices.Concat(r.near[step-1], r.near[step], r.near[step+1]) {
		far := at.Sub(r.starts[i]).Abs()
		if far <= sameStart && (best < 0 || far < at.Sub(r.starts[best]).Abs()) {
			best = i
		}
	}
	return best
}

// phases are how long parts of a boot took, by the fields that tell it.
var phases = []struct{ field, name string }{
	{"OSLoaderDuration", "loader"},
	{"BootKernelInitTime", "kernel"},
	{"BootDriverInitTime", "drivers"},
	{"BootDevicesInitTime", "devices"},
	{"BootPrefetchInitTime", "prefetch"},
	{"BootAutoChkTime", "disk check"},
	{"BootSmssInitTime", "session"},
	{"BootCriticalServicesInitTime", "services"},
	{"BootMachineProfileProcessingTime", "machine policies"},
	{"BootUserProfileProcessingTime", "profile"},
	{"BootExplorerInitTime", "desktop"},
}

// times takes what the machine measured of its boots.
func (r *reader) times(all []events.Event) {
	for _, e := range all {
		if e.ID == 100 {
			r.measured(e)
		}
	}
	for _, e := range all {
		if e.ID > 100 {
			r.slow(e)
		}
	}
	for i := range r.boots {
		b := &r.boots[i]
		for k := range b.Logins {
			b.Logins[k].Began = max(0, b.Logins[k].Began-r.waits[i])
		}
		if len(b.Waits) > 0 && len(b.Logins) > 0 { // it waited until then
			b.Waits[0].At = min(b.Waits[0].At, b.Logins[0].Began)
		}
		for k := range b.Spans {
			withoutWaits(&b.Spans[k].End, b.Waits)
			withoutWaits(&b.Spans[k].FailedAt, b.Waits)
		}
	}
}

// withoutWaits takes the waiting for a person out of a moment.
func withoutWaits(at *boot.Figure, waits []boot.Wait) {
	for _, w := range waits {
		if at.Known && at.Value > w.At {
			at.Value = max(w.At, at.Value-w.Took)
		}
	}
}

// measured takes one record of how long a boot took.
func (r *reader) measured(e events.Event) {
	field, _ := e.Field("BootStartTime")
	at, ok := field.Time()
	if !ok {
		return
	}
	i := r.of(at)
	if i < 0 { // the system's log does not reach back so far
		if r.begin(at) == nil {
			return
		}
		i = len(r.boots) - 1
	}
	b := &r.boots[i]
	took := func(name string) (time.Duration, bool) {
		n, ok := e.Number(name)
		const most = 24 * 60 * 60 * 1000
		return time.Duration(n) * time.Millisecond, ok && n >= 0 && n < most
	}
	main, ok := took("MainPathBootTime")
	wait, _ := took("UserLogonWaitDuration")
	if !ok {
		return
	}
	ready := main
	if wait > 0 {
		var note string
		ready, note = withoutWait(main, wait, partsOf(took))
		b.Notes = append(b.Notes, note)
		b.Waits = append(b.Waits, boot.Wait{
			What: "somebody to log in", At: max(0, main-wait), Took: wait,
		})
		r.waits[i] = wait
	}
	b.Unwritten, b.Goal = false, "the desktop"
	b.Ready = boot.Of(ready, boot.Log)
	if post, ok := took("BootPostBootTime"); ok {
		b.Settled.FromReady = boot.Of(post, boot.Log)
		b.Worked = boot.Of(ready+post, boot.Log)
	}
	for _, p := range phases {
		if took, ok := took(p.field); ok && took > 0 {
			b.Phases = append(b.Phases, boot.Phase{Name: p.name, Took: took})
		}
	}
	setBeside(b.Phases, ready)
	if check, ok := took("BootAutoChkTime"); ok && check >= boot.LongCheck {
		b.Odd = append(b.Odd, fmt.Sprintf("a disk was checked, for %.0f s", check.Seconds()))
	}
	if after := e.Text("BootIsRebootAfterInstall"); after == "true" || after == "1" {
		b.Odd = append(b.Odd, "it is the first after updates were put in")
	}
	_, simulated := e.Field(Simulated)
	b.Simulated = b.Simulated || simulated
}

// mainPath are the fields that tell parts of the time until the desktop, one
// after the other. The person's wait is in none of them.
var mainPath = []string{
	"BootKernelInitTime", "BootDriverInitTime", "BootDevicesInitTime", "BootAutoChkTime",
	"BootSmssInitTime", "WinLogonStartTimeMS", "BootMachineProfileProcessingTime",
	"BootUserProfileProcessingTime", "OtherLogonInitActivityDuration", "BootExplorerInitTime",
}

// partsOf are the sums that the parts of a record may come to, without the
// prefetching and with it. There are none where the record lacks some.
func partsOf(took func(string) (time.Duration, bool)) (sums []time.Duration) {
	sum := time.Duration(0)
	for _, name := range mainPath {
		part, ok := took(name)
		if !ok && (name == "WinLogonStartTimeMS" || name == "BootExplorerInitTime") {
			return nil
		}
		sum += part
	}
	sums = append(sums, sum)
	if prefetch, ok := took("BootPrefetchInitTime"); ok && prefetch > 0 {
		sums = append(sums, sum+prefetch)
	}
	return sums
}

// withoutWait takes a person's wait out of the time until the desktop, if it is
// in it, and says which way that was decided. It is disputed whether it is, so
// the sums of the record's own parts decide. Without them it is taken out where
// it fits.
func withoutWait(main, wait time.Duration, sums []time.Duration) (time.Duration, string) {
	if wait > main {
		return main, "the wait for a person is longer than the time until the desktop, so it was " +
			"not taken out of that"
	}
	if len(sums) == 0 {
		return main - wait, "the wait for a person was taken out of the time until the desktop; " +
			"the record does not tell whether it is in there"
	}
	off := func(of time.Duration) time.Duration {
		least := (of - sums[0]).Abs()
		for _, sum := range sums {
			least = min(least, (of - sum).Abs())
		}
		return least
	}
	if off(main) < off(main-wait) {
		return main, "its parts add up to the time until the desktop, so no wait for a person " +
			"was taken out of that"
	}
	return main - wait, "its parts add up to the time until the desktop without the wait for a " +
		"person, so that was taken out"
}

// setBeside marks phases that ran beside the others: all together they take
// longer than ready. The prefetching does in records of Windows 7. Services
// stay where more than half of them fits in.
func setBeside(phases []boot.Phase, ready time.Duration) {
	const rounded = 100 * time.Millisecond // what rounding alone adds at most
	over := -ready
	for _, p := range phases {
		if p.Name != "loader" { // which is before the kernel
			over += p.Took
		}
	}
	for i := range phases { // the prefetching first, as they stand
		p := &phases[i]
		mostFits := p.Name == "services" && over < p.Took/2
		if over > rounded && (p.Name == "prefetch" || p.Name == "services") && !mostFits {
			p.Beside = true
			over -= p.Took
		}
	}
}

// kinds are what the machine notes as slow, by the ids of events.
var kinds = map[uint16]string{101: "program", 102: "driver", 103: "service", 109: "device"}

// slow takes what the machine noted as slower than usual.
func (r *reader) slow(e events.Event) {
	field, _ := e.Field("StartTime")
	at, ok := field.Time()
	i := r.of(at)
	const most = 200 // of one boot
	if !ok || i < 0 || kinds[e.ID] == "" || len(r.boots[i].Slow) >= most {
		return
	}
	file := e.Text("Path")
	if inside, _, ok := r.reg.Local(file); ok {
		if found, err := r.reg.Find(inside); err == nil {
			file = found
		}
	}
	took, _ := e.Number("TotalTime")
	by, _ := e.Number("DegradationTime")
	r.boots[i].Slow = append(r.boots[i].Slow, boot.Slow{
		Kind:  kinds[e.ID],
		Name:  e.Text("Name"),
		Path:  file,
		Title: e.Text("FriendlyName"),
		Took:  time.Duration(took) * time.Millisecond,
		By:    time.Duration(by) * time.Millisecond,
	})
}
