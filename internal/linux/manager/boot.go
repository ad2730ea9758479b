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
	all := map[string]uint64{}
	var have map[string]dbus.Variant
	if err := m.bus.Object(name, object).Call("org.freedesktop.DBus.Properties.GetAll", 0,
		name+".Manager").Store(&have); err != nil {
		return t, err
	}
	for key, v := range have {
		if n, ok := v.Value().(uint64); ok {
			all[key] = n
		}
	}
	at := func(key string) time.Duration {
		return time.Duration(all[key+"TimestampMonotonic"]) * micro
	}
	contained := all["KernelTimestamp"] == 0
	if contained {
		t.Origin = at("Userspace")
	}
	t.Began = time.UnixMicro(int64(all["UserspaceTimestamp"])).Add(t.Origin - at("Userspace")).UTC()
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

// A listed unit is one as ListUnits gives it.
type listed struct {
	Name, Description, Load, Active, Sub, Following string
	Path                                            dbus.ObjectPath
	Job                                             uint32
	JobType                                         string
	JobPath                                         dbus.ObjectPath
}

// unitsAhead is how many units are asked about at once: the bus refuses a
// caller who waits for more than 128 answers.
const unitsAhead = 6

// What is asked of a unit, and of a service.
var (
	unitProperties = []string{
		"After", "Requires", "Wants", "BindsTo", "Upholds", "Triggers",
		"InactiveExitTimestampMonotonic",
		"ActiveEnterTimestampMonotonic", "InactiveEnterTimestampMonotonic", "ConditionResult",
		"ConditionTimestampMonotonic",
	}
	serviceProperties = []string{
		"Type",
		"RemainAfterExit",
		"ExecMainExitTimestampMonotonic",
		"CPUUsageNSec",
		"NRestarts",
	}
	useProperties   = []string{"MemoryPeak", "MemoryCurrent", "IOReadBytes"}
	loginProperties = []string{"Class", "Remote", "TimestampMonotonic"}
)

// wanted are the properties that anything here asks for.
func wanted() map[string]bool {
	all := map[string]bool{}
	for _, of := range [][]string{
		unitProperties,
		serviceProperties,
		useProperties,
		loginProperties,
	} {
		for _, p := range of {
			all[p] = true
		}
	}
	for _, of := range []string{"Firmware", "Loader", "Kernel", "InitRD", "Userspace", "Finish"} {
		all[of+"Timestamp"], all[of+"TimestampMonotonic"] = true, true
	}
	return all
}

// A Question is how the manager is to be asked for its units.
type Question struct {
	Use bool // for what they use of memory and disks too
	// FIFO says that one stands among the unit files: to look for a unit's file
	// the manager would open it, and hang for good, so that it is asked for
	// single properties.
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
		return u.Active != "inactive" || mounted(u.Name)
	})
	m.each(inactive,
		func(a *asked, _ listed) { a.get(name+".Unit", "ConditionTimestampMonotonic") },
		func(a *asked, u listed) {
			checked, told := a.values["ConditionTimestampMonotonic"].Value().(uint64)
			idle[u.Name] = told && checked == 0 // whatever starts has its conditions checked
		})
	units = slices.DeleteFunc(units, func(u listed) bool { return idle[u.Name] })
	var spans []boot.Span
	m.each(units, func(a *asked, u listed) { a.unit(u.Name, q) }, func(a *asked, u listed) {
		s := a.span(u.Name, m.Owner, origin, q.Use)
		if s.Failed = u.Active == "failed"; s.Failed {
			s.FailedAt = a.moment("InactiveEnter", origin)
		}
		if s.Begin.Known || s.End.Known || s.Skipped {
			spans = append(spans, s)
		}
	})
	boot.SortSpans(spans)
	return spans, nil
}

// list lists the units that are loaded. Devices and slices are left out, which
// are nothing that is launched, and mounts where it is a user's manager: what
// is mounted every manager repeats.
func (m *Manager) list() ([]listed, error) {
	kinds := []string{"*.service", "*.target", "*.socket", "*.timer", "*.path"}
	if m.Owner == "" {
		kinds = append(kinds, "*.mount", "*.automount", "*.swap")
	}
	var units []listed
	o := m.bus.Object(name, object)
	err := o.Call(name+".Manager.ListUnitsByPatterns", 0, []string{"loaded"}, kinds).Store(&units)
	if err != nil { // before 230
		err = o.Call(name+".Manager.ListUnits", 0).Store(&units)
	}
	return slices.DeleteFunc(units, func(u listed) bool {
		return u.Load != "loaded" || !slices.Contains(kinds, "*"+path.Ext(u.Name)) ||
			strings.HasPrefix(u.Name, "run-credentials-")
	}), err
}

// mounted reports whether a unit may have become active without having been
// started: by what somebody else mounted.
func mounted(name string) bool { return path.Ext(name) == ".mount" || path.Ext(name) == ".swap" }

// asked is what was asked of one unit, and the answers.
type asked struct {
	of     dbus.BusObject
	calls  []*dbus.Call
	names  []string // of the properties; empty for all at once
	values map[string]dbus.Variant
}

// each asks something about every unit, some of them ahead, and hands on the
// answers in the same order.
func (m *Manager) each(units []listed, put, answered func(*asked, listed)) {
	var waiting []*asked
	next := 0
	answer := func() {
		waiting[0].wait()
		answered(waiting[0], units[next])
		waiting = waiting[1:]
		next++
	}
	for _, u := range units {
		a := &asked{of: m.bus.Object(name, u.Path), values: map[string]dbus.Variant{}}
		if put(a, u); len(waiting) == unitsAhead {
			answer()
		}
		waiting = append(waiting, a)
	}
	for len(waiting) > 0 {
		answer()
	}
}

// unit asks for what a span is made of.
func (a *asked) unit(native string, q Question) {
	service := strings.HasSuffix(native, ".service")
	switch {
	case !q.FIFO && service:
		a.all("") // of every interface
	case !q.FIFO:
		a.all(name + ".Unit")
	default:
		a.get(name+".Unit", unitProperties...)
		if service {
			a.get(name+".Service", serviceProperties...)
		}
		if service && q.Use {
			a.get(name+".Service", useProperties...)
		}
	}
}

func (a *asked) all(of string) { a.call("GetAll", "", of) }

func (a *asked) get(of string, properties ...string) {
	for _, p := range properties {
		a.call("Get", p, of, p)
	}
}

func (a *asked) call(method, property string, words ...any) {
	a.calls = append(a.calls,
		a.of.Go("org.freedesktop.DBus.Properties."+method, 0, make(chan *dbus.Call, 1), words...))
	a.names = append(a.names, property)
}

func (a *asked) wait() {
	for i, c := range a.calls {
		if <-c.Done; c.Err != nil || len(c.Body) != 1 {
			continue // an older manager does not know the property, or the unit is gone
		}
		switch v := c.Body[0].(type) {
		case map[string]dbus.Variant:
			a.values = v
		case dbus.Variant:
			a.values[a.names[i]] = v
		}
	}
}

func (a *asked) moment(key string, origin time.Duration) boot.Figure {
	n, _ := a.values[key+"TimestampMonotonic"].Value().(uint64)
	if n == 0 || n == math.MaxUint64 {
		return boot.Figure{}
	}
	return boot.Of(time.Duration(n)*micro-origin, boot.Bus)
}

func (a *asked) span(native, owner string, origin time.Duration, use bool) boot.Span {
	s := boot.Span{Native: native, Owner: owner}
	moment := func(key string) boot.Figure { return a.moment(key, origin) }
	words := func(keys ...string) (all []string) {
		for _, key := range keys {
			list, _ := a.values[key].Value().([]string)
			all = append(all, list...)
		}
		return all
	}
	amount := func(keys ...string) boot.Amount {
		for _, key := range keys {
			if n, ok := a.values[key].Value().(uint64); ok && n < math.MaxInt64 {
				return boot.Bytes(int64(n), boot.Bus)
			}
		}
		return boot.Amount{}
	}
	s.Begin, s.End = moment("InactiveExit"), moment("ActiveEnter")
	// others have some properties of these names too, with another meaning
	service := strings.HasSuffix(native, ".service")
	if service {
		s.Type, _ = a.values["Type"].Value().(string)
		s.Stays, _ = a.values["RemainAfterExit"].Value().(bool)
		if n, _ := a.values["NRestarts"].Value().(uint32); n > 0 {
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
	held, told := a.values["ConditionResult"].Value().(bool)
	s.Skipped = told && !held && moment("Condition").Known && !s.Begin.Known
	s.After = words("After")
	s.Pulls = words("Requires", "Wants", "BindsTo", "Upholds")
	s.Triggers = words("Triggers")
	if n, ok := a.values["CPUUsageNSec"].Value().(uint64); ok && service && n < math.MaxInt64 {
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
		var have map[string]dbus.Variant
		if m.bus.Object(login, s.Path).Call("org.freedesktop.DBus.Properties.GetAll", 0,
			login+".Session").Store(&have) != nil {
			continue // it has just ended
		}
		class, _ := have["Class"].Value().(string)
		remote, _ := have["Remote"].Value().(bool)
		began, _ := have["TimestampMonotonic"].Value().(uint64)
		if strings.HasPrefix(class, "user") && !remote { // newer ones tell kinds of users apart
			all = append(all, Login{s.ID, s.UID, time.Duration(began) * micro})
		}
	}
	return all, nil
}
