package manager

import (
	"math"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/machine"
)

const micro = time.Microsecond

// Times are what the machine's service manager knows of the boot as a whole.
type Times struct {
	// where the boot begins on the kernel's clock: 0, in a container the
	// manager's start
	Origin   time.Duration
	Finished time.Duration // since then, until the start-up was finished; 0 while it is not
	Phases   []boot.Phase  // empty while it is not finished
	Began    time.Time
}

// Times asks for the clocks of the boot.
func (m *Manager) Times() (Times, error) {
	var t Times
	have, err := m.all(name, object, name+".Manager")
	if err != nil {
		return t, err
	}
	at := func(key string) time.Duration {
		return time.Duration(have.number(key+"TimestampMonotonic")) * micro
	}
	contained := have.number("KernelTimestamp") == 0
	if contained {
		t.Origin = at("Userspace")
	}
	userspace := time.UnixMicro(int64(have.number("UserspaceTimestamp")))
	t.Began = userspace.Add(t.Origin - at("Userspace")).UTC()
	if at("Finish") == 0 {
		return t, nil
	}
	t.Finished = at("Finish") - t.Origin
	add := func(name string, took time.Duration) {
		if took > 0 {
			t.Phases = append(t.Phases, boot.Phase{Name: name, Took: took})
		}
	}
	// both are told as the time from them to the kernel's begin
	add("firmware", at("Firmware")-at("Loader"))
	add("loader", at("Loader"))
	if !contained {
		initrd := at("InitRD")
		if initrd == 0 {
			add("kernel", at("Userspace"))
		} else {
			add("kernel", initrd)
			add("initrd", at("Userspace")-initrd)
		}
	}
	add("userspace", at("Finish")-at("Userspace"))
	return t, nil
}

// A Question is how the manager is to be asked for its units.
type Question struct {
	Use bool // for what they use of memory and disks too
	// FIFO says that one stands among the unit files. To look for a unit's file
	// the manager would open it, and hang for good. So it is asked for single
	// properties.
	FIFO bool
}

// Spans asks the manager for its units: times, kinds and dependencies as
// loaded, and their use of the processors so far. Moments count from origin on.
// Devices, slices and scopes are left out, and what was never started.
func (m *Manager) Spans(origin time.Duration, q Question) ([]boot.Span, error) {
	units, err := m.list()
	if err != nil {
		return nil, err
	}
	idle := map[string]bool{}
	inactive := slices.DeleteFunc(slices.Clone(units), func(u listed) bool {
		return u.active != "inactive" || mounted(u.name)
	})
	const checked = "ConditionTimestampMonotonic"
	err = m.each(inactive,
		func(listed) []request { return []request{{name + ".Unit", checked}} },
		func(u listed, have properties) {
			at, told := have.amount(checked)
			idle[u.name] = told && at == 0 // whatever starts has its conditions checked
		})
	if err != nil {
		return nil, err
	}
	units = slices.DeleteFunc(units, func(u listed) bool { return idle[u.name] })
	var spans []boot.Span
	err = m.each(units, q.of, func(u listed, have properties) {
		s := have.span(u.name, m.Owner, origin, q.Use)
		if s.Failed = u.active == "failed"; s.Failed {
			s.FailedAt = have.moment("InactiveEnter", origin)
		}
		if s.Begin.Known || s.End.Known || s.Skipped {
			spans = append(spans, s)
		}
	})
	boot.SortSpans(spans)
	return spans, err
}

// list lists the units that are loaded. Devices and slices are left out, which
// are nothing that is launched, and mounts where it is a user's manager. What
// is mounted every manager repeats.
func (m *Manager) list() ([]listed, error) {
	kinds := []string{"*.service", "*.target", "*.socket", "*.timer", "*.path"}
	if m.Owner == "" {
		kinds = append(kinds, "*.mount", "*.automount", "*.swap")
	}
	found, err := m.one(question{name, object, name + ".Manager.ListUnitsByPatterns",
		[]any{[]string{"loaded"}, kinds}})
	if err != nil { // before 230
		found, err = m.one(question{to: name, at: object, method: name + ".Manager.ListUnits"})
	}
	units := found.units
	return slices.DeleteFunc(units, func(u listed) bool {
		return u.load != "loaded" || !slices.Contains(kinds, "*"+path.Ext(u.name)) ||
			strings.HasPrefix(u.name, "run-credentials-")
	}), err
}

// mounted reports whether a unit may have become active without having been
// started: by what somebody else mounted.
func mounted(name string) bool { return path.Ext(name) == ".mount" || path.Ext(name) == ".swap" }

// A request is for one property of an interface, or for all of them where it
// has no name.
type request struct{ of, property string }

// of is what is asked of a unit, for its span.
func (q Question) of(u listed) (all []request) {
	service := strings.HasSuffix(u.name, ".service")
	if !q.FIFO && service {
		return []request{{}} // of every interface
	} else if !q.FIFO {
		return []request{{of: name + ".Unit"}}
	}
	add := func(of string, properties []string) {
		for _, p := range properties {
			all = append(all, request{of, p})
		}
	}
	add(name+".Unit", unitProperties)
	if service {
		add(name+".Service", serviceProperties)
	}
	if service && q.Use {
		add(name+".Service", useProperties)
	}
	return all
}

// each asks something about every unit, of many at once, and hands on the
// answers in the same order. What is refused is missing: an older manager does
// not know a property, or the unit is gone.
func (m *Manager) each(
	units []listed,
	wanted func(listed) []request,
	answered func(listed, properties),
) error {
	var questions []question
	var names []string // of the properties
	var waiting []int  // how many of the questions each unit has
	next := 0
	flush := func() error {
		answers, err := m.skim.ask(questions...)
		if err != nil {
			return err
		}
		at := 0
		for _, n := range waiting {
			var have properties
			for i, a := range answers[at : at+n] {
				if names[at+i] == "" {
					have = a.have
				} else if len(a.have) == 1 {
					have = append(have, property{names[at+i], a.have[0].value})
				}
			}
			answered(units[next], have)
			at += n
			next++
		}
		questions, names, waiting = nil, nil, nil
		return nil
	}
	for _, u := range units {
		requests := wanted(u)
		if len(questions)+len(requests) > atOnce {
			if err := flush(); err != nil {
				return err
			}
		}
		for _, r := range requests {
			q := question{name, u.path, getAll, []any{r.of}}
			if r.property != "" {
				q = question{name, u.path, get, []any{r.of, r.property}}
			}
			questions, names = append(questions, q), append(names, r.property)
		}
		waiting = append(waiting, len(requests))
	}
	if len(questions) == 0 {
		return nil
	}
	return flush()
}

// one asks one question; a refusal is an error.
func (m *Manager) one(q question) (answer, error) {
	answers, err := m.skim.ask(q)
	if err != nil {
		return answer{}, err
	}
	return answers[0], answers[0].err
}

// all asks an object for the properties of an interface.
func (m *Manager) all(of string, at dbus.ObjectPath, inter string) (properties, error) {
	found, err := m.one(question{of, at, getAll, []any{inter}})
	return found.have, err
}

func (p properties) moment(key string, origin time.Duration) boot.Figure {
	n := p.number(key + "TimestampMonotonic")
	if n == 0 || n > math.MaxInt64/uint64(micro) { // the greatest number says never
		return boot.Figure{}
	}
	return boot.Of(time.Duration(n)*micro-origin, boot.Bus)
}

func (p properties) span(native, owner string, origin time.Duration, use bool) boot.Span {
	s := boot.Span{Native: native, Owner: owner}
	moment := func(key string) boot.Figure { return p.moment(key, origin) }
	words := func(keys ...string) (all []string) {
		for _, key := range keys {
			all = append(all, p.texts(key)...)
		}
		return all
	}
	amount := func(keys ...string) boot.Amount {
		for _, key := range keys {
			if n, ok := p.amount(key); ok {
				return boot.Bytes(n, boot.Bus)
			}
		}
		return boot.Amount{}
	}
	s.Begin, s.End = moment("InactiveExit"), moment("ActiveEnter")
	// others have some properties of these names too, with another meaning
	service := strings.HasSuffix(native, ".service")
	if service {
		s.Type = p.text("Type")
		s.Stays, _ = p.truth("RemainAfterExit")
		if n := p.number("NRestarts"); n > 0 && n < math.MaxInt32 {
			s.Tries = int(n) + 1
		}
	}
	s.Exited = moment("ExecMainExit")
	if left := moment("InactiveEnter"); s.Type == "oneshot" && !s.Stays && left.Known &&
		s.Begin.Known && left.Value >= s.Begin.Value {
		s.End = left // it never counts as active: it is done when it has ended
	}
	if s.End.Known && s.Begin.Known && s.End.Value < s.Begin.Value {
		s.End = boot.Figure{} // of an earlier start
	}
	if s.Tries > 1 {
		s.End, s.Exited = boot.Figure{}, boot.Figure{} // of the last try; nothing waited for that
	}
	held, told := p.truth("ConditionResult")
	s.Skipped = told && !held && moment("Condition").Known && !s.Begin.Known
	s.After = words("After")
	s.Pulls = words("Requires", "Wants", "BindsTo", "Upholds")
	s.Triggers = words("Triggers")
	if n, ok := p.amount("CPUUsageNSec"); ok && service {
		s.CPU = boot.Of(time.Duration(n), boot.Bus)
	}
	if service && use {
		s.Memory, s.DiskRead = amount("MemoryPeak", "MemoryCurrent"), amount("IOReadBytes")
	}
	return s
}

var unitFolders = []string{
	"/etc/systemd/system", "/etc/systemd/system.control", "/etc/systemd/user",
	"/run/systemd/system", "/run/systemd/generator",
	"/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/usr/lib/systemd/user",
	"/usr/share/systemd/user",
}

// FIFOs reports whether a FIFO stands among the unit files of the machine.
func FIFOs(r *machine.Root) bool {
	// else it is one of the others
	if _, err := r.ReadLink("/lib"); err != nil && holdsFIFO(r, "/lib/systemd/system") {
		return true
	}
	return holdsFIFO(r, unitFolders...)
}

// HomeFIFOs reports whether a FIFO stands among the unit files of a user's own.
func HomeFIFOs(r *machine.Root, home string) bool {
	return holdsFIFO(r, path.Join(home, ".config/systemd/user"),
		path.Join(home, ".local/share/systemd/user"))
}

func holdsFIFO(r *machine.Root, folders ...string) bool {
	return slices.ContainsFunc(folders, func(folder string) bool {
		entries, err := r.ReadDir(folder)
		return err == nil &&
			slices.ContainsFunc(entries, func(e machine.Entry) bool {
				return e.Kind == machine.FIFO
			})
	})
}

// A Login is the session of a person, as the login manager knows it.
type Login struct {
	ID    string
	UID   uint32
	Began time.Duration // on the kernel's clock
}

// Logins asks the login manager (org.freedesktop.login1(5)) for the sessions of
// people at the machine; greeters and sessions from elsewhere are none.
func (m *Manager) Logins() ([]Login, error) {
	const login = "org.freedesktop.login1"
	var sessions []struct {
		ID   string
		UID  uint32
		User string
		Seat string
		Path dbus.ObjectPath
	}
	if err := m.bus.Object(login, "/org/freedesktop/login1").Call(login+".Manager.ListSessions",
		0).Store(&sessions); err != nil {
		return nil, err
	}
	var all []Login
	for _, s := range sessions {
		have, err := m.all(login, s.Path, login+".Session")
		if err != nil {
			continue // it has just ended
		}
		// newer ones tell kinds of users apart
		remote, _ := have.truth("Remote")
		if strings.HasPrefix(have.text("Class"), "user") && !remote {
			began := time.Duration(have.number("TimestampMonotonic")) * micro
			all = append(all, Login{s.ID, s.UID, began})
		}
	}
	return all, nil
}
