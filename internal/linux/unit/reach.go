package unit

import (
	"path"
	"slices"
	"strings"
)

// reached maps each unit that the next boot or login launches to the one that
// pulled it in first; a goal maps to itself.
type reached map[string]string

// reach walks from the goals over everything that pulls a unit in. What it
// returns is kept until a unit is turned, and must not be changed.
func (t *Tree) reach(goals ...string) reached {
	key := strings.Join(goals, " ")
	if got, ok := t.reached[key]; ok {
		return got
	}
	got := t.walk(goals)
	t.reached[key] = got
	return got
}

// forgetReached is called where a unit was turned, or names mean others.
func (t *Tree) forgetReached() {
	t.reached, t.order = map[string]reached{}, nil
}

func (t *Tree) walk(goals []string) reached {
	got := make(reached, len(t.files))
	var queue []string
	for _, name := range append([]string{"default.target"}, goals...) {
		if goal := t.load(name); goal.file != nil && goal.hidden == "" && got[goal.name] == "" {
			got[goal.name] = goal.name
			queue = append(queue, goal.name)
		}
	}
	for len(queue) > 0 {
		u := t.load(queue[0])
		queue = queue[1:]
		made := u.file == nil && splitName(u.name).suffix == "slice" // they need no file
		if u.file == nil && !made || u.hidden != "" {
			continue
		}
		for _, name := range t.pulledBy(u) {
			name = t.load(name).name
			if _, seen := got[name]; !seen {
				got[name] = u.name
				queue = append(queue, name)
			}
		}
	}
	return got
}

// pulledBy lists the names that a unit pulls in. It does so by its text, by the
// links in the folders of all its names. A path unit whose condition holds when
// the machine boots pulls in what it activates.
func (t *Tree) pulledBy(u *unit) []string {
	names := slices.Concat(u.unitNames("Unit", "Wants", "Requires", "BindsTo", "Upholds"),
		t.implied(u))
	for _, puller := range t.pullers(u) {
		for _, p := range t.pulls[puller] {
			if !p.hidden {
				names = append(names, instantiate(p.name, u.name))
			}
		}
	}
	if splitName(u.name).suffix == "path" && t.pathHolds(u) {
		names = append(names, t.activates(u).name)
	}
	return slices.DeleteFunc(names, func(n string) bool {
		return !validName(n) || splitName(n).isTemplate()
	})
}

// implied lists what a unit pulls in without naming it in [Unit]. That is its
// slice and those above that, its sockets, the bus that it has to be on. What
// follows its success is among it, where that is all that it does.
func (t *Tree) implied(u *unit) []string {
	n := splitName(u.name)
	var names []string
	switch n.suffix {
	case "slice":
		if at := strings.LastIndex(n.prefix, "-"); at > 0 {
			names = append(names, n.prefix[:at]+".slice")
		}
	case "service", "socket", "mount", "swap", "scope":
		section := strings.ToUpper(n.suffix[:1]) + n.suffix[1:]
		slice := u.last(section, "Slice")
		switch {
		case slice != "":
		case n.instance != "" && n.suffix != "mount":
			slice = t.sliceOfAll() + "-" + strings.ReplaceAll(n.prefix, "-", `\x2d`) + ".slice"
		default:
			slice = t.sliceOfAll() + ".slice"
		}
		names = append(names, slice)
	}
	if n.suffix == "service" {
		names = append(names, u.unitNames("Service", "Sockets")...)
		kind := u.serviceType()
		if kind == "dbus" {
			names = append(names, "dbus.socket")
		}
		if kind == "oneshot" && !isTrue(u.last("Service", "RemainAfterExit")) &&
			t.judge(u, "Condition").truth == holds && t.program(u).Missing == "" {
			names = append(names, u.unitNames("Unit", "OnSuccess")...)
		}
	}
	return names
}

// sliceOfAll is the slice of what names none: system.slice, or app.slice.
func (t *Tree) sliceOfAll() string {
	if t.owner.Name != "" {
		return "app"
	}
	return "system"
}

// insisted returns the chain of units by which the goal requires a unit, from
// the goal on; nil where nothing but wishes lead to it. If one of such a chain
// is masked, the service manager refuses the whole start, before it has started
// anything.
func (t *Tree) insisted(name string) (chain []string) {
	from := t.required()
	if _, ok := from[name]; !ok {
		return nil
	}
	for at := name; at != ""; at = from[at] {
		chain = append([]string{at}, chain...)
	}
	return chain
}

// required maps each unit that the goal requires, by way of others too, to the
// one that does; the goal to nothing.
func (t *Tree) required() map[string]string {
	goal := t.load("default.target").name
	from := map[string]string{goal: ""}
	for queue := []string{goal}; len(queue) > 0; queue = queue[1:] {
		u := t.load(queue[0])
		names := u.unitNames("Unit", "Requires", "BindsTo", "Requisite")
		for _, puller := range t.pullers(u) {
			for _, p := range t.pulls[puller] {
				if !p.hidden && strings.HasSuffix(p.folder, ".requires") {
					names = append(names, instantiate(p.name, u.name))
				}
			}
		}
		for _, n := range names {
			if n = t.load(n).name; validName(n) {
				if _, seen := from[n]; !seen {
					from[n] = u.name
					queue = append(queue, n)
				}
			}
		}
	}
	return from
}

// pullers lists the names whose link folders count for a unit.
func (t *Tree) pullers(u *unit) []string {
	pullers := append([]string{u.name}, t.names[u.name]...)
	if n := splitName(u.name); n.instance != "" {
		pullers = append(pullers, n.template())
	}
	return pullers
}

// instantiate gives a link to a template the instance of the unit that pulls;
// one that has none, its name.
func instantiate(name, puller string) string {
	n := splitName(name)
	if !n.isTemplate() {
		return name
	}
	p := splitName(puller)
	if p.instance == "" {
		return n.withInstance(p.prefix)
	}
	return n.withInstance(p.instance)
}

func (r reached) chain(name string) []string {
	chain := []string{name}
	for r[name] != name {
		name = r[name]
		chain = append(chain, name)
	}
	slices.Reverse(chain)
	return chain
}

// pathHolds reports whether a path unit activates at the boot for what is on
// the disk already, systemd.path(5).
func (t *Tree) pathHolds(u *unit) bool {
	for _, key := range []string{"PathExists", "PathExistsGlob", "DirectoryNotEmpty"} {
		for _, value := range u.list("Path", key) {
			if path.IsAbs(value) && t.condition(key, value) == holds {
				return true
			}
		}
	}
	return false
}

// blocked names the unit whose failure keeps u from starting: one that it
// requires, that is ordered before it, and that cannot start itself. One that
// is masked or not there at all does not keep it.
func (t *Tree) blocked(u *unit, got reached, above []string) string {
	if slices.Contains(above, u.name) || len(above) > 50 {
		return ""
	}
	for _, name := range u.unitNames("Unit", "Requisite") {
		d := t.load(name)
		_, pulled := got[d.name]
		if !pulled && d.file != nil && d.hidden == "" && d != u && t.ordered(d, u) {
			return d.name
		}
	}
	for _, name := range u.unitNames("Unit", "Requires", "BindsTo", "Requisite") {
		d := t.load(name)
		if t.orders().kept[d.name] != "" {
			return d.name // its start is not even tried, whatever the order
		}
		_, pulled := got[d.name]
		if !pulled || d.file == nil || d.hidden != "" || d == u || !t.ordered(d, u) {
			continue
		}
		bound := slices.Contains(u.unitNames("Unit", "BindsTo"), name)
		if bound && splitName(d.name).suffix == "service" && (d.serviceType() == "oneshot" &&
			!isTrue(d.last("Service", "RemainAfterExit")) ||
			t.judge(d, "Condition").truth == fails) {
			return d.name // it is over, or never begins, when this is to start
		}
		if t.judge(d, "Assert").truth == fails || t.blocked(d, got, append(above, u.name)) != "" {
			return d.name
		}
		kind := d.serviceType()
		waits := kind != "simple" && kind != "idle"
		if waits && splitName(d.name).suffix == "service" &&
			t.judge(d, "Condition").truth != fails && t.program(d).Missing != "" && !forgiven(d) {
			return d.name
		}
	}
	return ""
}

// forgiven reports whether the service's first program may fail.
func forgiven(u *unit) bool {
	lines := u.list("Service", "ExecStart")
	return len(lines) > 0 && strings.HasPrefix(strings.TrimLeft(lines[0], "@:+!"), "-")
}

// ordered reports whether d is started before u.
func (t *Tree) ordered(d, u *unit) bool {
	names := func(of *unit) []string { return append([]string{of.name}, t.names[of.name]...) }
	has := func(list, of []string) bool {
		return slices.ContainsFunc(list, func(n string) bool { return slices.Contains(of, n) })
	}
	return has(u.unitNames("Unit", "After"), names(d)) ||
		has(d.unitNames("Unit", "Before"), names(u))
}

// stopped says why a user's service manager would not start the unit that is
// made of an autostart entry.
func (t *Tree) stopped(name string) string {
	if u := t.load(name); u.masked {
		return u.hidden
	}
	return t.autostartCircle()
}

// autostartCircle names the unit that wants the entries' target and is ordered
// before what that target waits for. The manager then drops every entry to
// break the circle.
func (t *Tree) autostartCircle() string {
	const autostart, session = "xdg-desktop-autostart.target", "graphical-session.target"
	for name := range t.reach() {
		u := t.load(name)
		if slices.Contains(u.unitNames("Unit", "Wants", "Requires", "BindsTo"), autostart) &&
			slices.Contains(u.unitNames("Unit", "Before"), session) {
			return u.name + " wants " + autostart + " and is ordered before " + session +
				": the circle is broken by dropping the entries"
		}
	}
	return ""
}
