// Package recorder watches one boot as it happens: what each unit, and each
// program of a login, uses of the processors and the disks, until the machine
// has gone quiet. It then asks the service managers for their clocks and makes
// one boot of it all.
//
// It is to disturb little: what is idle is looked at less often, files stay
// open, and it holds a few megabytes. What it used itself stands in the record.
// It runs on the machine that it watches and nowhere else.
package recorder

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/activity"
	"calmdawn/internal/linux/conditions"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/linux/manager"
	"calmdawn/internal/machine"
)

// Version is the form of the record.
const Version = 1

// How often it looks.
const (
	beat       = 100 * time.Millisecond
	slowBeat   = time.Second // while it waits for somebody to log in
	perSecond  = int(time.Second / beat)
	maxCourse  = 12000
	displayed  = "display-manager.service" // the name that login screens share
	aliasedFor = "/etc/systemd/system/" + displayed
)

// Options say how long to watch.
type Options struct {
	// after ready, or after a login: a machine that is not quiet by then is
	// recorded as it is
	Longest   time.Duration
	LoginWait time.Duration // how long to wait for a login where there is a login screen
	// Save is given the record: when the machine is quiet, and once more when
	// somebody logged in and it is quiet again.
	Save func(boot.Boot) error
}

type recorder struct {
	Options
	root      *machine.Root
	clock     clock
	users     []account.User
	groups    *activity.Groups
	processes *activity.Processes
	counters  counters

	began    time.Duration // all moments are on the kernel's clock until the record is made
	course   []boot.Use
	samples  int
	read     int64
	busy     time.Duration // of the disk
	origin   time.Duration
	finished time.Duration // of the start-up; 0 while it is not
	foreign  []boot.Use    // what others took, by moment
	logins   map[string]manager.Login
	asked    map[string]bool // sessions, people's or not
	notes    []string
}

// Record watches the boot that is running until the machine is quiet, or ctx
// ends; what was seen by then is saved.
func Record(ctx context.Context, r *machine.Root, o Options) error {
	clock, err := startClock()
	if err != nil {
		return err
	}
	rec := &recorder{
		Options: o,
		root:    r,
		clock:   clock,
		logins:  map[string]manager.Login{},
		asked:   map[string]bool{},
	}
	rec.began = clock.now()
	rec.users, _ = account.Read(r)
	GiveBack()
	if rec.groups, err = activity.Follow(activity.Folder); err != nil {
		return fmt.Errorf("%w, so what each unit uses cannot be told", err)
	}
	defer rec.groups.Close()
	rec.processes = activity.FollowProcesses("/proc", inSession)
	rec.processes.Still = rec.groups.Still
	defer rec.processes.Close()
	rec.counters = openCounters()
	defer rec.counters.close()
	GiveBack()
	quiet := rec.untilQuiet(ctx, beat, 0)
	GiveBack()
	if err := rec.save(quiet); err != nil {
		return err
	}
	if ctx.Err() != nil || !quiet || len(rec.logins) > 0 || !rec.hasLoginScreen() {
		return nil
	}
	if !rec.untilLogin(ctx) {
		return nil
	}
	return rec.save(rec.untilQuiet(ctx, beat, rec.firstLogin()))
}

// inSession reports whether a control group is that of a login session, whose
// programs may have no groups of their own.
func inSession(group string) bool {
	return strings.HasPrefix(group, "/user.slice/") &&
		strings.HasPrefix(path.Base(group), "session-")
}

func (rec *recorder) hasLoginScreen() bool {
	if _, err := rec.root.Lstat(aliasedFor); err != nil {
		return false
	}
	target, err := rec.root.ReadLink(aliasedFor)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(rec.groups.All(), func(g *activity.Group) bool {
		return !g.Gone && g.Native == path.Base(target)
	})
}

func (rec *recorder) firstLogin() time.Duration {
	first := time.Duration(0)
	for _, l := range rec.logins {
		if first == 0 || l.Began < first {
			first = l.Began
		}
	}
	return first
}

// untilQuiet samples until the machine is quiet, since it was ready and since
// somebody logged in; false when that does not come about.
func (rec *recorder) untilQuiet(ctx context.Context, every, since time.Duration) bool {
	tick := time.NewTimer(0)
	defer tick.Stop()
	searched := time.Duration(0)
	for n, beats := 0, 0; ; n += beats {
		select {
		case <-ctx.Done():
			rec.notes = append(rec.notes, "the recorder was stopped before the machine was quiet")
			return false
		case <-tick.C:
		}
		rec.sample(n)
		if rec.finished > 0 && n%perSecond == perSecond-2 {
			from := max(rec.origin+rec.finished, rec.firstLogin(), since)
			if searched < from {
				searched = from
			}
			var quiet bool
			if searched, quiet = boot.QuietRule.Since(rec.course, searched); quiet {
				return true
			}
			if rec.clock.now()-from > rec.Longest {
				rec.notes = append(rec.notes,
					fmt.Sprintf("the machine was not quiet within %s", rec.Longest))
				return false
			}
		} else if n%perSecond == 0 && rec.clock.now()-rec.began > rec.Longest && rec.finished == 0 {
			rec.notes = append(rec.notes, fmt.Sprintf("the start-up was not finished within %s "+
				"of the recorder's start", rec.Longest))
			return false
		}
		beats = 1
		if n%2 == 0 && rec.idle() { // waking up costs more than looking
			beats = 2
		}
		tick.Reset(time.Duration(beats) * every)
	}
}

// idle reports whether the machine has hardly done anything in the last second:
// then half as many looks suffice.
func (rec *recorder) idle() bool {
	n := len(rec.course)
	if n == 0 || rec.course[n-1].At < rec.began+time.Second {
		return false
	}
	last := rec.course[n-1]
	used := last.CPU - boot.UsedBy(rec.course, last.At-time.Second)
	return used < 30*time.Millisecond
}

// untilLogin waits for somebody to log in, at little cost.
func (rec *recorder) untilLogin(ctx context.Context) bool {
	deadline := time.After(rec.LoginWait)
	tick := time.NewTicker(slowBeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return false
		case <-deadline:
			return false
		case <-tick.C:
		}
		rec.sample(0)
		if len(rec.logins) > 0 {
			return true
		}
	}
}

// sample looks at everything that is due in the n-th beat.
func (rec *recorder) sample(n int) {
	at := rec.clock.now()
	rec.groups.Discover()
	rec.groups.Sample(at)
	if n%perSecond == 0 {
		rec.processes.Sample(at)
		rec.groups.SampleDisks(at)
		byGroup := map[*activity.Group]int64{}
		sum := int64(0)
		for p, n := range rec.processes.ReadByGroup() {
			sum += n
			if g, ok := rec.groups.UnitOf(p); ok {
				byGroup[g] += n
			}
		}
		for g, n := range byGroup {
			g.NoteRead(at, n)
		}
		if paged, ok := rec.counters.paged(); ok && !rec.counters.contained {
			sum = paged
		}
		rec.read, rec.busy = max(rec.read, sum), max(rec.busy, rec.counters.diskBusy())
		rec.lookForLogins()
	}
	total := rec.groups.Total()
	if len(rec.course) < maxCourse {
		rec.course = append(rec.course, boot.Use{
			At:   at,
			CPU:  total,
			Read: rec.read,
			Disk: rec.busy,
		})
	}
	if n%perSecond == 0 {
		if foreign, ok := rec.counters.foreign(total); ok && rec.finished == 0 {
			rec.foreign = append(rec.foreign, boot.Use{At: at, CPU: foreign})
		}
	}
	if n%perSecond == perSecond/2-1 && rec.finished == 0 {
		rec.askForTheEnd()
	}
	rec.samples++
}

// lookForLogins asks the login manager when a session has appeared that is not
// known yet.
func (rec *recorder) lookForLogins() {
	var fresh []string
	for _, g := range rec.groups.All() {
		id, ok := strings.CutPrefix(strings.TrimSuffix(g.Native, ".scope"), "session-")
		if ok && !rec.asked[id] && !g.Gone && strings.HasSuffix(g.Native, ".scope") {
			fresh = append(fresh, id)
		}
	}
	if len(fresh) == 0 {
		return
	}
	m, err := manager.Connect()
	if err != nil {
		return
	}
	defer m.Close()
	found, err := m.Logins()
	if err != nil {
		return
	}
	for _, id := range fresh {
		rec.asked[id] = true
	}
	for _, l := range found {
		rec.logins[l.ID] = l
	}
}

// askForTheEnd asks the service manager whether the start-up is finished.
func (rec *recorder) askForTheEnd() {
	if _, err := os.Stat("/run/dbus/system_bus_socket"); err != nil {
		return
	}
	m, err := manager.Connect()
	if err != nil {
		return // the bus is only coming up
	}
	defer m.Close()
	if t, err := m.Times(); err == nil {
		rec.origin, rec.finished = t.Origin, t.Finished
	}
}

// save makes the record and hands it on.
func (rec *recorder) save(quiet bool) error {
	b, err := rec.make(quiet)
	if err != nil {
		return err
	}
	GiveBack()
	debug.FreeOSMemory()
	return rec.Save(b)
}

func (rec *recorder) make(quiet bool) (boot.Boot, error) {
	b := boot.Boot{
		ID:      journal.Present(rec.root),
		Sources: []boot.Source{boot.Recorder},
		Ending:  boot.Running,
		Notes:   slices.Clone(rec.notes),
	}
	if b.ID == "" {
		return b, errors.New("the machine does not tell the id of its boot")
	}
	m, err := manager.Connect()
	if err != nil {
		return b, err
	}
	defer m.Close()
	t, err := m.Times()
	if err != nil {
		return b, fmt.Errorf("the service manager does not tell the times of the boot: %w", err)
	}
	rec.origin = t.Origin
	b.Began, b.Phases = t.Began, t.Phases
	b.Processors, b.Memory = rec.counters.processors(), rec.counters.memory()
	b.Kernel = rec.counters.kernel()
	fifo := manager.FIFOs(rec.root)
	spans, err := m.Spans(t.Origin, manager.Question{FIFO: fifo})
	if err != nil {
		return b, fmt.Errorf("the service manager does not tell its units: %w", err)
	}
	for _, u := range rec.users {
		spans = append(spans, rec.userSpans(u, &b, fifo)...)
	}
	b.Spans = rec.withUse(spans)
	if t.Finished > 0 {
		b.Ready = boot.Of(t.Finished, boot.Bus)
		b.AimAt(label.Goals...)
	}
	rec.settle(&b, quiet)
	b.Course = rec.moved(rec.course)
	b.Programs = rec.programs()
	GiveBack()
	b.Conditions = conditions.OfBoot(rec.root, rec.processes.Names())
	b.Recording = rec.own(b.Ready)
	return b, nil
}

func (rec *recorder) settle(b *boot.Boot, quiet bool) {
	b.Settled.Rule = boot.QuietRule
	if !b.Ready.Known {
		return
	}
	ready := rec.origin + b.Ready.Value
	if at, ok := boot.QuietRule.Since(rec.course, ready); ok {
		b.Settled.FromReady = boot.Of(at-ready, boot.Recorder)
	}
	if login := rec.firstLogin(); login > 0 {
		b.Settled.Login = boot.Of(login-rec.origin, boot.Bus)
		if at, ok := boot.QuietRule.Since(rec.course, max(login, ready)); ok && quiet {
			b.Settled.FromLogin = boot.Of(at-login, boot.Recorder)
		}
	}
}

// userSpans asks the service manager of a user who has one. fifo says that one
// stands among the machine's unit files.
func (rec *recorder) userSpans(u account.User, b *boot.Boot, fifo bool) []boot.Span {
	if _, err := os.Stat(fmt.Sprintf("/run/user/%d/bus", u.UID)); err != nil {
		return nil
	}
	m, err := manager.ConnectUser(u.Name, u.UID, u.GID)
	if err != nil {
		b.Notes = append(b.Notes, err.Error())
		return nil
	}
	defer m.Close()
	spans, err := m.Spans(rec.origin, manager.Question{
		FIFO: fifo || manager.HomeFIFOs(rec.root, u.Home),
	})
	if err != nil {
		b.Notes = append(b.Notes, fmt.Sprintf("the service manager of %s does not tell its "+
			"units: %v", u.Name, err))
	}
	return spans
}

// withUse adds to the spans what the samples say.
func (rec *recorder) withUse(spans []boot.Span) []boot.Span {
	names := map[string]string{}
	for _, u := range rec.users {
		names[strconv.Itoa(u.UID)] = u.Name
	}
	at := map[boot.Key]int{}
	for i, s := range spans {
		at[boot.Key{Native: s.Native, Owner: s.Owner}] = i
		if s.CPU.Known {
			spans[i].CPU.From = boot.Recorder // asked at the end of the boot, which is what counts
		}
	}
	for _, g := range rec.groups.All() {
		key := boot.Key{Native: g.Native, Owner: names[g.UID]}
		i, known := at[key]
		if !known {
			if g.UID != "" && key.Owner == "" || len(g.Course) == 0 {
				continue
			}
			begin := boot.Of(g.Course[0].At-rec.origin, boot.Recorder)
			spans = append(spans, boot.Span{Native: key.Native, Owner: key.Owner, Begin: begin})
			i = len(spans) - 1
			at[key] = i
		}
		s := &spans[i]
		s.Course = rec.moved(g.Course)
		if !s.CPU.Known || s.CPU.Value < g.CPU() {
			s.CPU = boot.Of(g.CPU(), boot.Recorder)
		}
		most := (rec.clock.now() - rec.origin) * time.Duration(rec.counters.processors())
		if g.CPU() > most {
			// a container's first group goes on from that of the container
			// before it
			s.CPU.Value -= g.Course[0].CPU
		}
		if n, ok := g.Read(); ok || n > 0 {
			s.DiskRead = boot.Bytes(n, boot.Recorder)
		}
		if g.Memory > 0 {
			s.Memory = boot.Bytes(g.Memory, boot.Recorder)
		}
	}
	boot.SortSpans(spans)
	return spans
}

// moved counts a course from the boot's begin.
func (rec *recorder) moved(course []boot.Use) []boot.Use {
	course = slices.Clone(course)
	for i := range course {
		course[i].At -= rec.origin
	}
	return course
}

// programs lists the processes of sessions with their parents.
func (rec *recorder) programs() []boot.Program {
	const most = 1000
	seen := rec.processes.InSessions()
	seen = seen[:min(len(seen), most)]
	owners := map[string]string{}
	for _, u := range rec.users {
		owners[fmt.Sprintf("user-%d.slice", u.UID)] = u.Name
	}
	var all []boot.Program
	index := map[int]int{}
	for _, p := range seen {
		parent, ok := index[p.Parent]
		if !ok {
			parent = -1
		}
		index[p.PID] = len(all)
		owner := owners[path.Base(path.Dir(p.Group))]
		began := time.Duration(p.Began)*time.Second/100 - rec.clock.behind - rec.origin
		all = append(all, boot.Program{
			Name:   p.Name,
			Words:  p.Words,
			Owner:  owner,
			Parent: parent,
			Began:  began,
			CPU:    p.CPU(),
			Read:   p.Read(),
			Course: rec.moved(p.Course),
		})
	}
	return all
}

func (rec *recorder) own(ready boot.Figure) *boot.Recording {
	cpu, memory := ownUse()
	r := &boot.Recording{
		Began:   rec.began - rec.origin,
		Ended:   rec.clock.now() - rec.origin,
		Samples: rec.samples,
		CPU:     cpu,
		Memory:  memory,
		Version: Version,
	}
	if n := len(rec.foreign); n > 0 && ready.Known {
		r.Foreign = boot.UsedBy(rec.foreign, rec.origin+ready.Value) - rec.foreign[0].CPU
	}
	return r
}
