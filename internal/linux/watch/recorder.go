// Package watch watches the boot of a Linux machine, and puts what does so into
// one. Those are the recorder's host and the boot guard's (packages recorder
// and guard).
package watch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/secret"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/activity"
	"calmdawn/internal/linux/conditions"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/linux/manager"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
)

const (
	displayed  = "display-manager.service" // the name that login screens share
	aliasedFor = "/etc/systemd/system/" + displayed
)

// A host is the running machine that is watched, with what was seen of it.
type host struct {
	seen      recorder.Seen // so far, when a record is made
	origin    time.Duration // when the service manager began
	root      *machine.Root
	clock     clock
	users     []account.User
	groups    *activity.Groups
	processes *activity.Processes
	counters  counters

	listened bool // the kernel was asked to tell of processes

	read   int64
	busy   time.Duration // of the disk
	logins map[string]manager.Login
	asked  map[string]bool // sessions, people's or not
}

// Watch watches the boot that is running, as [recorder.Watch] does.
func (Kit) Watch(ctx context.Context, r *machine.Root, o recorder.Options) error {
	clock, err := startClock()
	if err != nil {
		return err
	}
	rec := &host{
		root:   r,
		clock:  clock,
		logins: map[string]manager.Login{},
		asked:  map[string]bool{},
	}
	rec.users, _ = account.Read(r)
	recorder.GiveBack()
	if rec.groups, err = activity.Follow(activity.Folder); err != nil {
		return fmt.Errorf("%w, so what each unit uses cannot be told", err)
	}
	defer rec.groups.Close()
	rec.groups.Closely = inSession
	rec.processes = activity.FollowProcesses("/proc", inSession)
	rec.processes.Still = rec.groups.Still
	defer rec.processes.Close()
	rec.counters = openCounters()
	defer rec.counters.close()
	recorder.GiveBack()
	return recorder.Watch(ctx, rec, o)
}

func (rec *host) Now() time.Duration { return rec.clock.now() }

func (rec *host) Sleep(ctx context.Context, d time.Duration) bool {
	for until := rec.Now() + d; ctx.Err() == nil; {
		left := until - rec.Now()
		if left <= 0 {
			return true
		}
		rec.clock.sleep(left)
	}
	return false
}

func (rec *host) Foreign(own time.Duration) (time.Duration, bool) {
	return rec.counters.foreign(own)
}

// inSession reports whether a control group is that of a login session, whose
// programs may have no groups of their own.
func inSession(group string) bool {
	_, ok := activity.SessionOf(group)
	return ok
}

func (rec *host) CanLogIn() bool {
	screen := ""
	if target, err := rec.root.ReadLink(aliasedFor); err == nil {
		screen = path.Base(target)
	}
	return slices.ContainsFunc(rec.groups.All(), func(g *activity.Group) bool {
		at := g.Native == screen || g.Native == displayed || consoles.MatchString(g.Native)
		return at && !g.Gone
	})
}

// consoles are the services at which somebody can log in without a screen, or
// on one of its consoles.
var consoles = regexp.MustCompile(`^(autovt|getty|serial-getty|container-getty)@|^console-getty`)

// names maps the numbers of users to their names.
func (rec *host) names() map[string]string {
	names := map[string]string{}
	for _, u := range rec.users {
		names[strconv.Itoa(u.UID)] = u.Name
	}
	return names
}

// people are those who logged in, the first first.
func (rec *host) people() []boot.Login {
	names := rec.names()
	var all []boot.Login
	for _, l := range rec.logins {
		all = append(all, boot.Login{User: names[fmt.Sprint(l.UID)], Began: l.Began - rec.origin})
	}
	slices.SortFunc(all, func(a, b boot.Login) int {
		return cmp.Or(cmp.Compare(a.Began, b.Began), cmp.Compare(a.User, b.User))
	})
	return all
}

// rest is what the sessions used of the processors that none of their programs
// is known to have.
func (rec *host) rest() boot.Figure {
	sum := time.Duration(0)
	for _, g := range rec.groups.All() {
		if !inSession(g.Path) {
			continue
		}
		sum += g.CPU()
		// A container's group may go on from that of the container before it.
		// Then it had used more than it can have since the boot began.
		if len(g.Course) > 0 {
			first := g.Course[0]
			can := (first.At - rec.origin) * time.Duration(rec.counters.processors())
			if first.CPU > can {
				sum -= first.CPU
			}
		}
	}
	for _, p := range rec.processes.InSessions() {
		sum -= p.CPU()
	}
	return boot.Of(max(0, sum), boot.Recorder)
}

func (rec *host) FirstLogin() time.Duration {
	first := time.Duration(0)
	for _, l := range rec.logins {
		if first == 0 || l.Began < first {
			first = l.Began
		}
	}
	return first
}

func (rec *host) Sample(at time.Duration, whole bool) boot.Use {
	rec.groups.Discover()
	rec.groups.Sample(at)
	if !rec.listened && rec.groups.Has(activity.UserSlice) {
		rec.listened = true
		rec.processes.Listen(rec.groups.Folder(activity.UserSlice))
	}
	if !whole {
		rec.processes.SampleFresh(at, rec.groups.Busy(at))
	} else {
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
	return boot.Use{At: at, CPU: rec.groups.Total(), Read: rec.read, Disk: rec.busy}
}

// lookForLogins asks the login manager when a session has appeared that is not
// known yet.
func (rec *host) lookForLogins() {
	var fresh []string
	for _, g := range rec.groups.All() {
		id := strings.TrimSuffix(strings.TrimPrefix(g.Native, "session-"), ".scope")
		if inSession(g.Path) && !rec.asked[id] && !g.Gone {
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

func (rec *host) End() (origin, finished time.Duration) {
	if _, err := os.Stat("/run/dbus/system_bus_socket"); err != nil {
		return 0, 0
	}
	m, err := manager.Connect()
	if err != nil {
		return 0, 0 // the bus is only coming up
	}
	defer m.Close()
	t, err := m.Times()
	if err != nil {
		return 0, 0
	}
	return t.Origin, t.Finished
}

// Tell tells the service manager how it stands, sd_notify(3); where nobody
// listens it is not told.
func (rec *host) Tell(status string) {
	where := os.Getenv("NOTIFY_SOCKET")
	if where == "" {
		return
	}
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: where, Net: "unixgram"})
	if err != nil {
		return
	}
	defer c.Close()
	_, _ = c.Write([]byte("STATUS=" + status))
}

// Record makes one boot of what was seen and of the service managers' clocks.
func (rec *host) Record(seen recorder.Seen, quiet bool) (boot.Boot, error) {
	rec.seen = seen
	b := boot.Boot{
		ID:      journal.Present(rec.root),
		Sources: []boot.Source{boot.Recorder},
		Ending:  boot.Running,
		Notes:   seen.Notes,
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
	// Side by side: what listens at a user's socket may let one wait.
	all, notes := make([][]boot.Span, len(rec.users)), make([]string, len(rec.users))
	machine.EachWaiting(len(rec.users), func(i int) {
		all[i], notes[i] = rec.userSpans(rec.users[i], fifo)
	})
	spans = slices.Concat(append(all, spans)...)
	b.Notes = append(b.Notes, slices.DeleteFunc(notes, func(n string) bool { return n == "" })...)
	b.Spans = rec.withUse(spans)
	if t.Finished > 0 {
		b.Ready = boot.Of(t.Finished, boot.Bus)
		b.AimAt(label.Goals...)
	}
	rec.settle(&b, quiet)
	b.Course = rec.moved(rec.seen.Course)
	b.Programs, b.Rest, b.Logins = rec.programs(), rec.rest(), rec.people()
	if rec.processes.Missed() {
		b.Notes = append(b.Notes, "there were more processes than could be followed: what some "+
			"programs used is not known")
	}
	if rec.groups.Missed() {
		b.Notes = append(b.Notes, "there were more control groups than could be followed: what "+
			"some units used is not known")
	}
	recorder.GiveBack()
	b.Conditions = conditions.OfBoot(rec.root, rec.processes.Names())
	b.Recording = rec.own(b.Ready)
	return b, nil
}

func (rec *host) settle(b *boot.Boot, quiet bool) {
	b.Settled.Rule = boot.QuietRule
	if !b.Ready.Known {
		return
	}
	ready := rec.origin + b.Ready.Value
	if at, ok := boot.QuietRule.Since(rec.seen.Course, ready); ok {
		b.Settled.FromReady = boot.Of(at-ready, boot.Recorder)
	}
	if login := rec.FirstLogin(); login > 0 {
		b.Settled.Login = boot.Of(login-rec.origin, boot.Bus)
		if at, ok := boot.QuietRule.Since(rec.seen.Course, max(login, ready)); ok && quiet {
			b.Settled.FromLogin = boot.Of(at-login, boot.Recorder)
		}
	}
}

// userSpans asks the service manager of a user who has one; note says what it
// does not tell. fifo says that one stands among the machine's unit files.
func (rec *host) userSpans(u account.User, fifo bool) (spans []boot.Span, note string) {
	if _, err := os.Stat(fmt.Sprintf("/run/user/%d/bus", u.UID)); err != nil {
		return nil, ""
	}
	m, err := manager.ConnectUser(u.Name, u.UID, u.GID)
	if err != nil {
		return nil, err.Error()
	}
	defer m.Close()
	spans, err = m.Spans(rec.origin, manager.Question{
		FIFO: fifo || manager.HomeFIFOs(rec.root, u.Home),
	})
	if err != nil {
		note = fmt.Sprintf("the service manager of %s does not tell its units: %v", u.Name, err)
	}
	return spans, note
}

// withUse adds to the spans what the samples say.
func (rec *host) withUse(spans []boot.Span) []boot.Span {
	names := rec.names()
	at := map[boot.Key]int{}
	for i, s := range spans {
		at[boot.Key{Native: s.Native, Owner: s.Owner}] = i
		if s.CPU.Known {
			spans[i].CPU.From = boot.Recorder // asked at the end of the boot, which is what counts
		}
	}
	seen := map[*activity.Group][]int{}
	for p, pids := range rec.processes.Seen() {
		if g, ok := rec.groups.UnitOf(p); ok && !inSession(p) {
			const most = 50
			slices.Sort(pids)
			seen[g] = append(seen[g], pids[:min(most, len(pids))]...)
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
			before := g.Course[0].CPU
			s.CPU.Value -= before
			for i := range s.Course {
				s.Course[i].CPU -= before
			}
		}
		if n, ok := g.Read(); ok || n > 0 {
			s.DiskRead = boot.Bytes(n, boot.Recorder)
		}
		if g.Memory > 0 {
			s.Memory = boot.Bytes(g.Memory, boot.Recorder)
		}
		s.PIDs = seen[g]
	}
	boot.SortSpans(spans)
	return spans
}

// moved counts a course from the boot's begin.
func (rec *host) moved(course []boot.Use) []boot.Use {
	course = slices.Clone(course)
	for i := range course {
		course[i].At -= rec.origin
	}
	return course
}

// programs lists the processes of sessions, each with the one that made it.
func (rec *host) programs() []boot.Program {
	seen := bounded(rec.processes.InSessions())
	names := rec.names()
	var all []boot.Program
	index := map[*activity.Process]int{}
	for _, p := range seen {
		parent, ok := p.Maker(index)
		under := boot.Key{}
		if !ok {
			parent = -1
			above := p.Parent
			if p.From != nil {
				above = p.From.PID
			}
			if g, known := rec.groups.UnitOf(rec.processes.GroupOf(above)); known {
				under = boot.Key{Native: g.Native, Owner: names[g.UID]}
			}
		}
		index[p] = len(all)
		uid, _ := activity.SessionOf(p.Group)
		owner := names[uid]
		began := p.Made
		if began == 0 {
			began = time.Duration(p.Began)*time.Second/100 - rec.clock.behind
		}
		all = append(all, boot.Program{
			Name:    p.Name,
			Words:   secret.Words(p.Words),
			Names:   p.Names,
			Owner:   owner,
			Foreign: p.Foreign,
			PID:     p.PID,
			Parent:  parent,
			Under:   under,
			Began:   began - rec.origin,
			CPU:     p.CPU(),
			Read:    p.Read(),
			Memory:  p.Most,
			Course:  rec.moved(p.Course),
		})
	}
	return all
}

// bounded leaves of too many processes those out that used nothing.
func bounded(all []*activity.Process) []*activity.Process {
	const most = 1000
	if len(all) <= most {
		return all
	}
	all = slices.DeleteFunc(all, func(p *activity.Process) bool { return p.Gone && p.CPU() == 0 })
	return all[:min(len(all), most)]
}

func (rec *host) own(ready boot.Figure) *boot.Recording {
	cpu, memory := ownUse()
	r := &boot.Recording{
		Began:   rec.seen.Began - rec.origin,
		Ended:   rec.clock.now() - rec.origin,
		Samples: rec.seen.Samples,
		CPU:     cpu,
		Memory:  memory,
		Version: recorder.Version,
	}
	if rec.seen.Waits {
		r.LoginWait = rec.seen.LoginWait
	}
	if n := len(rec.seen.Others); n > 0 && ready.Known {
		r.Foreign = boot.UsedBy(rec.seen.Others, rec.origin+ready.Value) - rec.seen.Others[0].CPU
	}
	return r
}
