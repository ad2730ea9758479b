package unit

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// Prefix begins the ids of services.
const Prefix = "service:"

// reached maps each unit that the next boot launches to the one that pulled it in first; the goal maps to itself.
type reached map[string]string

// reach walks from the default target over everything that pulls a unit in.
func (t *Tree) reach() reached {
	goal := t.load("default.target")
	got := reached{}
	if goal.file == nil || goal.hidden != "" {
		return got
	}
	got[goal.name] = goal.name
	queue := []string{goal.name}
	for len(queue) > 0 {
		u := t.load(queue[0])
		queue = queue[1:]
		if u.file == nil || u.hidden != "" {
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

// pulledBy lists the names that a unit pulls in, by its text and by the links in the folders of all its names.
func (t *Tree) pulledBy(u *unit) []string {
	names := t.byText(u)
	for _, puller := range t.pullers(u) {
		for _, p := range t.pulls[puller] {
			if !p.hidden {
				names = append(names, instantiate(p.name, u.name))
			}
		}
	}
	return slices.DeleteFunc(names, func(n string) bool { return !validName(n) || splitName(n).isTemplate() })
}

func (t *Tree) byText(u *unit) []string {
	return u.unitNames("Unit", "Wants", "Requires", "BindsTo", "Upholds")
}

// pullers lists the names whose link folders count for a unit.
func (t *Tree) pullers(u *unit) []string {
	pullers := append([]string{u.name}, t.names[u.name]...)
	if n := splitName(u.name); n.instance != "" {
		pullers = append(pullers, n.template())
	}
	return pullers
}

// instantiate gives a template link in a template's folder the instance of the unit that pulls.
func instantiate(name, puller string) string {
	if n := splitName(name); n.isTemplate() {
		if p := splitName(puller); p.instance != "" {
			return n.withInstance(p.instance)
		}
	}
	return name
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

// Survey returns the services that the next boot launches, and those that could be enabled and are not. remembered
// names units to look at besides: instances that were switched off leave nothing on the disk to find them by.
func (t *Tree) Survey(remembered []string) []item.Item {
	got := t.reach()
	needed, starters := t.relations(got)
	names := map[string]bool{}
	for name := range got {
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
	for _, name := range remembered {
		names[t.load(name).name] = true
	}
	var items []item.Item
	for name := range names {
		if splitName(name).suffix != "service" || splitName(name).isTemplate() {
			continue
		}
		if it, ok := t.item(t.load(name), got); ok {
			it.NeededBy, it.Starters = needed[name], starters[name]
			items = append(items, it)
		}
	}
	return items
}

// item describes one service; false for one that is no item: it is not launched, and there is no switch for it.
func (t *Tree) item(u *unit, got reached) (item.Item, bool) {
	_, on := got[u.name]
	it := item.Item{ID: Prefix + u.name, Kind: item.Service, Native: u.name, Title: u.name, When: item.AtBoot, State: item.Off}
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
	case u.hidden != "":
		it.File, it.Why = u.file.entry, u.hidden
		return t.behindMask(u, it), on || u.masked && u.file.level <= slices.Index(t.folders, adminFolder)
	case !on && !u.hasInstall() && t.hiddenPull(u.name) == "":
		return it, false
	}
	t.describe(u, &it)
	if !on {
		it.Why = "not enabled"
		if p := t.hiddenPull(u.name); p != "" {
			it.Why = "switched off by " + p
		}
		return it, true
	}
	it.State, it.Because = item.On, got.chain(u.name)
	if missing := t.missingProgram(u); missing != "" {
		it.State, it.Why = item.Broken, missing+" is not there"
	}
	return it, true
}

func (t *Tree) describe(u *unit, it *item.Item) {
	it.File = u.file.path
	if title := u.last("Unit", "Description"); title != "" {
		it.Title = title
	}
	if lines := u.list("Service", "ExecStart"); len(lines) > 0 {
		it.Command = lines[0]
		it.Program = t.program(lines[0])
	}
	for _, s := range u.settings {
		if s.section == "Unit" && (strings.HasPrefix(s.key, "Condition") || strings.HasPrefix(s.key, "Assert")) && s.value != "" {
			it.Conditions = append(it.Conditions, s.key+"="+s.value)
		}
	}
}

// behindMask describes a masked unit by the weaker file that the mask hides.
func (t *Tree) behindMask(u *unit, it item.Item) item.Item {
	for _, name := range []string{u.name, splitName(u.name).template()} {
		for _, folder := range t.folders[u.file.level+1:] {
			p := path.Join(folder, name)
			info, err := t.root.Stat(p)
			if err != nil || info.Kind != machine.Regular || info.Size == 0 {
				continue
			}
			below := &unit{name: u.name, file: &file{path: p, entry: p}}
			below.settings = t.readText(p, below)
			t.describe(below, &it)
			return it
		}
	}
	return it
}

// relations works out which services each service is required by, and which activators can start it.
func (t *Tree) relations(got reached) (needed, starters map[string][]string) {
	needed, starters = map[string][]string{}, map[string][]string{}
	for name := range got {
		u := t.load(name)
		if u.file == nil || u.hidden != "" {
			continue
		}
		n := splitName(name)
		switch n.suffix {
		case "service":
			for _, dep := range u.unitNames("Unit", "Requires", "BindsTo", "Requisite") {
				dep = t.load(dep).name
				needed[dep] = append(needed[dep], Prefix+name)
			}
		case "socket", "path", "timer":
			target := n.prefix + ".service"
			for _, key := range []string{"Service", "Unit"} {
				section := strings.ToUpper(n.suffix[:1]) + n.suffix[1:]
				if named := u.last(section, key); named != "" {
					target = named
				}
			}
			target = t.load(target).name
			starters[target] = append(starters[target], name)
		}
	}
	for _, m := range []map[string][]string{needed, starters} {
		for key := range m {
			slices.Sort(m[key])
			m[key] = slices.Compact(m[key])
		}
	}
	return needed, starters
}

// adminLink returns a link under /etc that pulls a unit in by name.
func (t *Tree) adminLink(name string) string {
	return t.firstPull(name, func(p *pull) bool { return !p.hidden && inAdmin(p.paths[0]) })
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

// programPath is where the service manager looks a bare program name up, systemd.exec(5).
var programPath = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"}

// program returns the path of the program that a launch line starts, found or not; empty where it cannot be told.
func (t *Tree) program(line string) string {
	word := strings.TrimLeft(line, "@-:+!")
	if quoted, ok := strings.CutPrefix(word, `"`); ok {
		word, _, _ = strings.Cut(quoted, `"`)
	} else if fields := strings.Fields(word); len(fields) > 0 {
		word = fields[0]
	}
	if word == "" || strings.ContainsAny(word, `%\$`) {
		return ""
	}
	return t.root.FindProgram(word, programPath)
}

// missingProgram names the first program that is gone and without which nothing of the service runs.
func (t *Tree) missingProgram(u *unit) string {
	lines := u.list("Service", "ExecStart")
	if len(lines) == 0 || u.last("Service", "RootDirectory") != "" || u.last("Service", "RootImage") != "" {
		return ""
	}
	before := slices.DeleteFunc(u.list("Service", "ExecStartPre"), func(line string) bool { return strings.HasPrefix(line, "-") })
	for _, line := range append(before, lines[0]) {
		if p := t.program(line); p != "" && !t.root.IsFile(p) {
			return p
		}
	}
	return ""
}

// Lookup returns the item of a service that no survey finds by itself: an instance of a template that is there.
func (t *Tree) Lookup(name string) (item.Item, error) {
	u := t.load(name)
	if u.file == nil {
		return item.Item{}, fmt.Errorf("there is no unit %s", name)
	}
	it, ok := t.item(u, t.reach())
	if !ok {
		return item.Item{}, fmt.Errorf("%s starts only when something asks for it; there is no switch to turn", name)
	}
	return it, nil
}
