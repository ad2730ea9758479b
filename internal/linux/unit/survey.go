package unit

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
)

// servicePrefix begins the ids of services.
const servicePrefix = "service:"

// A Scope is what a survey of a tree needs to know besides the files.
type Scope struct {
	When item.When // when the manager starts: at the boot, or at its user's login
	// units to look at besides: instances that were switched off leave nothing
	// to find them by
	Remembered []string
}

// Survey returns the services and timers that are launched, and those that
// could be enabled and are not.
func (t *Tree) Survey(scope Scope) []item.Item {
	got, any := t.reach(t.goals...), t.reachAny()
	needed, starters := t.relations(any)
	names := make(map[string]bool, len(any))
	for name := range any {
		names[name] = true
	}
	for name := range t.files {
		if n := splitName(name); !n.isTemplate() {
			names[t.load(name).name] = true
		} else if u := t.load(name); u.file != nil && u.hidden == "" {
			if instance := u.last("Install", "DefaultInstance"); instance != "" {
				names[t.load(n.withInstance(instance)).name] = true
			}
		}
	}
	for _, name := range scope.Remembered {
		names[t.load(name).name] = true
	}
	var candidates []string
	for name := range names {
		n := splitName(name)
		ours := n.suffix == "timer" && strings.HasPrefix(name, delayPrefix)
		if !n.isTemplate() && !ours && (n.suffix == "service" || n.suffix == "timer") {
			candidates = append(candidates, name)
		}
	}
	slices.Sort(candidates)
	items, are := make([]item.Item, len(candidates)), make([]bool, len(candidates))
	held := t.delays(got)
	t.orders()
	if t.disk != nil {
		t.disk.reachAny() // remembered, so that all may ask it at once
		t.disk.orders()
	}
	machine.Each(len(candidates), func(i int) {
		name := candidates[i]
		u := t.load(name)
		if u.isListed() {
			return
		}
		items[i], are[i] = t.itemOf(u, got, any, scope.When)
		if timer := held[name]; timer != nil && items[i].State == item.Off &&
			u.hidden == "" {
			t.describeDelay(timer, got, &items[i])
			are[i] = true
		}
		for _, id := range needed[name] {
			items[i].NeededBy = append(items[i].NeededBy, t.id(id))
		}
		items[i].Generated = t.isMade(items[i])
		items[i].Starters = starters[name]
		items[i].Traits = t.traits(u, starters[name])
	})
	found := items[:0]
	for i, it := range items {
		if are[i] {
			found = append(found, it)
		}
	}
	return found
}

// id is the id of the item that a unit is.
func (t *Tree) id(name string) string {
	id := servicePrefix + name
	if strings.HasSuffix(name, ".timer") {
		id = timerPrefix + name
	}
	if t.owner.Name != "" {
		id += "@" + t.owner.Name
	}
	return id
}

// itemOf describes one service or timer, which may be started beside the goals;
// false for one that is no item.
func (t *Tree) itemOf(u *unit, got, any reached, when item.When) (item.Item, bool) {
	_, on := got[u.name]
	_, asked := any[u.name]
	if on || !asked {
		return t.item(u, got, when)
	}
	it, is := t.item(u, any, when)
	if is && it.State.Launched() && it.Kind == item.Service {
		if it.Fires = t.startedBy(u.name, any); it.Fires != whenRented {
			it.When = item.Later
		}
	}
	return it, is
}

// item describes one service or timer; false for one that is no item: it is not
// launched, and there is no switch for it.
func (t *Tree) item(u *unit, got reached, when item.When) (item.Item, bool) {
	_, on := got[u.name]
	it := item.Item{
		Ours:   strings.HasPrefix(u.name, item.OwnName),
		ID:     t.id(u.name),
		Kind:   item.Service,
		Native: u.name,
		Title:  u.name,
		Owner:  t.owner.Name,
		When:   when,
		State:  item.Off,
	}
	if splitName(u.name).suffix == "timer" {
		it.Kind, it.When = item.Task, item.Later
	}
	switch {
	case u.file == nil && on:
		link := t.adminLink(u.name)
		if link == "" {
			return it, false // an optional wish of some text
		}
		it.State, it.File, it.Why = item.Broken, link, "its unit file is gone"
		it.Because = got.chain(u.name)
		return it, true
	case u.file == nil:
		return it, false
	case u.masked:
		it.File, it.Why, it.Masked = u.file.entry, u.hidden, true
		return t.behindMask(u, it), on || t.ownFile(u.file.entry)
	case u.hidden != "":
		it.File, it.Why = u.file.entry, u.hidden
		return it, on
	case !on && !u.hasInstall() && t.hiddenPull(u.name) == "" && !u.file.script:
		return it, false
	case !on && t.owner.Name != "" && !t.ownFile(u.file.entry) && t.hiddenPull(u.name) == "":
		return it, false // set up for all users, and on for none
	}
	program := t.describe(u, &it)
	if !on {
		it.Why = "not enabled"
		if p := t.hiddenPull(u.name); p != "" {
			it.Why = "switched off by " + p
			if isRCLocal(p) {
				it.Why = "it cannot be executed"
			}
		}
		return it, true
	}
	if why := t.heldBack(u, got); why != "" {
		it.Why = why
		return it, true
	}
	if why := t.doubt(u, nil); why != "" {
		it.Unsure, it.Why = true, why
	}
	if it.Kind == item.Task {
		t.describeTimer(u, got, &it)
		return it, true
	}
	it.State, it.Because = item.On, got.chain(u.name)
	if program.Missing != "" {
		it.State, it.Why = item.Broken, program.Missing+" is not there"
	}
	return it, true
}

// ownFile reports whether a path belongs to whom the manager is for: the
// administrator, or the user.
func (t *Tree) ownFile(p string) bool {
	if t.owner.Name == "" {
		return strings.HasPrefix(p, "/etc/")
	}
	return t.home != "" && strings.HasPrefix(p, t.home+"/")
}

// heldBack says why a unit is not launched although it is pulled in.
func (t *Tree) heldBack(u *unit, got reached) string {
	if why := t.orders().kept[u.name]; why != "" {
		return why
	}
	if v := t.judge(u, "Condition"); v.truth == fails {
		return v.because + " does not hold"
	}
	if v := t.judge(u, "Assert"); v.truth == fails {
		return v.because + " does not hold"
	}
	if d := t.blocked(u, got, nil); d != "" {
		return d + ", which it requires, cannot start"
	}
	return ""
}

// describeTimer says when a timer that is armed goes off, and what with.
func (t *Tree) describeTimer(u *unit, got reached, it *item.Item) {
	f := t.fires(u, got)
	if f.never != "" {
		it.Why = f.never
		return
	}
	target := t.activates(u)
	if why := t.heldBack(target, got); why != "" {
		it.Why = target.name + ", which it starts, is held back: " + why
		return
	}
	it.State, it.When, it.Fires = item.On, f.when, f.words
	it.Because = append(got.chain(u.name), target.name)
	if missing := t.program(target).Missing; missing != "" {
		it.State, it.Why = item.Broken, missing+" is not there"
	}
}

// describe fills in what the unit's text tells, and returns the program that
// it, or what it activates, runs.
func (t *Tree) describe(u *unit, it *item.Item) launch.Program {
	it.File = u.file.path
	it.Conditions = slices.Concat(t.judge(u, "Condition").open, t.judge(u, "Assert").open)
	if title := u.last("Unit", "Description"); title != "" {
		it.Title = title
	}
	if it.Kind == item.Task {
		u = t.activates(u)
		if title := u.last("Unit", "Description"); title != "" {
			it.Title = title
		}
	}
	program := t.program(u)
	if lines := u.list("Service", "ExecStart"); len(lines) > 0 {
		it.Command, it.Program = lines[0], program.Path
	}
	return program
}

// behindMask describes a masked unit by the weaker file that the mask hides.
func (t *Tree) behindMask(u *unit, it item.Item) item.Item {
	for _, name := range []string{u.name, splitName(u.name).template()} {
		for _, folder := range t.folders[min(u.file.level+1, len(t.folders)):] {
			p := path.Join(folder, name)
			info, err := t.root.Stat(p)
			if err != nil || info.Kind != machine.Regular || info.Size == 0 {
				continue
			}
			below := &unit{name: u.name, file: &file{path: p, entry: p}}
			below.settings = t.text(p).settings
			t.describe(below, &it)
			return it
		}
	}
	return it
}

// relations works out which services each service is required by, and which
// activators can start it.
func (t *Tree) relations(got reached) (
	needed map[string][]string, starters map[string][]item.Starter,
) {
	needed, starters = map[string][]string{}, map[string][]item.Starter{}
	for name := range got {
		u := t.load(name)
		if u.file == nil || u.hidden != "" {
			continue
		}
		switch splitName(name).suffix {
		case "service":
			for _, dep := range u.unitNames("Unit", "Requires", "BindsTo", "Requisite") {
				dep = t.load(dep).name
				needed[dep] = append(needed[dep], name)
			}
		case "socket", "path", "timer":
			if strings.HasPrefix(name, delayPrefix) {
				continue
			}
			target := t.activates(u).name
			starters[target] = append(starters[target], item.Starter{Name: name})
		}
	}
	for bus, service := range t.busNames() {
		target := t.load(service).name
		starters[target] = append(starters[target], item.Starter{Name: bus, Bus: true})
	}
	for key := range needed {
		slices.Sort(needed[key])
		needed[key] = slices.Compact(needed[key])
	}
	for key := range starters {
		slices.SortFunc(starters[key], func(a, b item.Starter) int {
			return strings.Compare(a.String(), b.String())
		})
		starters[key] = slices.Compact(starters[key])
	}
	return needed, starters
}

// traits are what else a unit's text, and what can start it, tell of what it is
// for.
func (t *Tree) traits(u *unit, starters []item.Starter) (all []string) {
	add := func(what string, values ...string) {
		for _, value := range values {
			if trait := what + " " + value; value != "" && !slices.Contains(all, trait) {
				all = append(all, trait)
			}
		}
	}
	add("bus", u.last("Service", "BusName"))
	for _, starter := range starters {
		if starter.Bus {
			add("bus", starter.Name)
		} else if s := t.load(starter.Name); s.file != nil {
			add("socket", s.list("Socket", "ListenStream")...)
			add("socket", s.list("Socket", "ListenDatagram")...)
		}
	}
	add("target", u.unitNames("Install", "WantedBy", "Alias")...)
	if slices.Contains(u.unitNames("Unit", "After"), "network-online.target") {
		add("network", "first")
	}
	return all
}

// busNames maps the bus names that start a unit when somebody calls them to
// that unit.
func (t *Tree) busNames() map[string]string {
	folders := []string{
		"/usr/share/dbus-1/system-services",
		"/usr/local/share/dbus-1/system-services",
		"/etc/dbus-1/system-services",
	}
	if t.owner.Name != "" {
		folders = []string{"/usr/share/dbus-1/services", "/usr/local/share/dbus-1/services"}
	}
	found := map[string]string{}
	for _, folder := range folders {
		entries, err := t.list(folder)
		if err != nil {
			t.skip(folder, err)
			continue
		}
		for _, e := range entries {
			if path.Ext(e.Name) != ".service" || e.Kind == machine.Folder {
				continue
			}
			text := t.text(path.Join(folder, e.Name))
			if text.err != nil {
				continue
			}
			for _, s := range text.settings {
				if s.section == "D-BUS Service" && s.key == "SystemdService" {
					found[strings.TrimSuffix(e.Name, ".service")] = s.value
				}
			}
		}
	}
	return found
}

// adminLink returns a link of the administrator's or the user's that pulls a
// unit in by name.
func (t *Tree) adminLink(name string) string {
	return t.firstPull(name, func(p *pull) bool { return !p.hidden && t.ownFile(p.paths[0]) })
}

// hiddenPull returns the entry that hides a vendor's link to the unit.
func (t *Tree) hiddenPull(name string) string {
	return t.firstPull(name, func(p *pull) bool { return p.hidden && len(p.paths) > 1 })
}

func (t *Tree) firstPull(name string, fits func(*pull) bool) string {
	first := ""
	for _, p := range t.pulledAs[name] {
		if fits(p) && (first == "" || p.paths[0] < first) {
			first = p.paths[0]
		}
	}
	return first
}

// programPath is where the service manager looks a bare program name up,
// systemd.exec(5).
var programPath = []string{
	"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin",
}

// program finds what a service runs, and what is missing of it: its first
// program, or one that has to run before it.
func (t *Tree) program(u *unit) launch.Program {
	lines := u.list("Service", "ExecStart")
	if len(lines) == 0 || u.last("Service", "RootDirectory") != "" ||
		u.last("Service", "RootImage") != "" {
		return launch.Program{}
	}
	main := t.resolve(lines[0])
	for _, line := range u.list("Service", "ExecStartPre") {
		if !strings.HasPrefix(strings.TrimLeft(line, "@:+!"), "-") && main.Missing == "" {
			main.Missing = t.resolve(line).Missing
		}
	}
	return main
}

// Lookup returns the item of a service that no survey finds by itself: an
// instance of a template that is there.
func (t *Tree) Lookup(name string) (item.Item, error) {
	u := t.load(name)
	if u.file == nil {
		return item.Item{}, fmt.Errorf("there is no unit %s", name)
	}
	it, ok := t.itemOf(u, t.reach(t.goals...), t.reachAny(), item.AtBoot)
	if !ok {
		return item.Item{}, fmt.Errorf("%s starts only when something asks for it; there is no "+
			"switch to turn", name)
	}
	it.Generated = t.isMade(it)
	return it, nil
}
