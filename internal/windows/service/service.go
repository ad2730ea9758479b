// Package service reads the services and drivers that a Windows machine starts.
package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
)

// Mechanism names items of this package.
const Mechanism = "service"

// How a service starts, by the value Start: below auto the loader or the kernel
// loads it.
const (
	auto     = 2
	demand   = 3
	disabled = 4
	unknown  = ^uint64(0)
)

// What a service is, by bits of the value Type.
const (
	drivers  = 0x0F
	perUser  = 0x40
	instance = 0x80
)

// A service is one key of the list.
type service struct {
	key     registry.Place
	name    string
	kind    uint64
	start   uint64
	needs   []string // names of services
	group   string
	trigger string // what starts it, in words; empty for nothing
	target  launch.Target
	command string
	hosted  string // the group of a shared program in which it runs
	delayed bool
	// the running system refuses to have it changed
	protected bool
	item      item.Item
}

func (s *service) driver() bool { return s.kind&drivers != 0 }

// A reader reads the services of a machine.
type reader struct {
	reg    *registry.Registry
	finder launch.Finder
	all    map[string]*service // by name in upper case
	order  []*service
	late   time.Duration // after the boot delayed services start
}

// Read reads the services of the control set that the next boot uses.
func Read(reg *registry.Registry) []launched.Item {
	l := &reader{reg: reg, finder: launch.Finder{Reg: reg}, all: map[string]*service{}}
	l.late = usualDelay
	if n, ok := reg.Number(reg.Machine(`SYSTEM\CurrentControlSet\Control`), "AutoStartDelay"); ok {
		l.late = time.Duration(uint32(n)) * time.Second
	}
	for _, k := range reg.Keys(reg.Machine(`SYSTEM\CurrentControlSet\Services`)) {
		if s := l.read(k); s != nil {
			l.all[hive.Upper(s.name)] = s
			l.order = append(l.order, s)
		}
	}
	l.foldInstances()
	l.decide()
	all := make([]launched.Item, 0, len(l.order))
	for _, s := range l.order {
		all = append(all, launched.Item{Item: s.item, Turn: l.turn(s)})
	}
	return all
}

// read reads one key; nil for one that is no service, as performance counters
// have them.
func (l *reader) read(k registry.Place) *service {
	s := &service{key: k, name: k.Key.Name(), start: unknown}
	kind, typed := l.reg.Number(k, "Type")
	if start, ok := l.reg.Number(k, "Start"); ok {
		s.start = start
	} else if !typed {
		return nil
	}
	s.kind = kind
	s.group, _ = l.reg.Text(k, "Group")
	if v, ok := l.reg.Value(k, "DependOnService"); ok {
		s.needs, _ = v.Texts()
	}
	late, _ := l.reg.Number(k, "DelayedAutostart")
	s.delayed = late != 0 && s.start == auto
	s.trigger = l.triggers(k)
	protected, _ := l.reg.Number(k, "LaunchProtected")
	s.protected = protected != 0
	image, _ := l.reg.Text(k, "ImagePath")
	s.command = image
	if s.driver() {
		if image == "" {
			image = `System32\drivers\` + s.name + ".sys"
		}
		s.target = l.finder.Find(launch.Line{Text: image, Service: true})
		return s
	}
	narrow, _ := l.reg.Number(k, "WOW64")
	s.target = l.finder.Find(launch.Line{Text: image, Service: true, Narrow: narrow != 0})
	l.host(s)
	return s
}

// host finds the program of a service that shares a process with others: a
// library that its key names.
func (l *reader) host(s *service) {
	lower := launch.Small(s.command)
	if !strings.Contains(lower, "svchost") {
		return
	}
	if _, after, ok := strings.Cut(lower, "-k "); ok {
		group := strings.TrimSpace(s.command[len(s.command)-len(after):])
		s.hosted, _, _ = strings.Cut(group, " ")
	}
	library, ok := l.reg.Text(l.reg.Below(s.key, "Parameters"), "ServiceDll")
	if !ok {
		library, ok = l.reg.Text(s.key, "ServiceDll")
	}
	if !ok {
		return
	}
	through := s.target.Program
	quoted := `"` + strings.Trim(library, `"`) + `"`
	s.target = l.finder.Find(launch.Line{Text: quoted, Service: true})
	s.target.Through = through
}

// listed reports whether the group that a hosted service names has it, where
// the group is known.
func (l *reader) listed(s *service) bool {
	v, ok := l.reg.Value(l.reg.Machine(`SOFTWARE\`+registry.CurrentNT+`\Svchost`), s.hosted)
	if !ok {
		return true
	}
	names, _ := v.Texts()
	return slices.ContainsFunc(names, func(n string) bool { return hive.Same(n, s.name) })
}

// triggerWords say what a trigger of a number waits for.
var triggerWords = map[uint64]string{
	1:  "when a device arrives",
	2:  "when the network has an address",
	3:  "when the machine joins a domain or leaves it",
	4:  "when a port of the firewall opens or closes",
	5:  "when a policy changes",
	6:  "when something asks for it over the network",
	7:  "when the system reaches a state",
	20: "when an event is reported",
}

// triggers says what starts a service that waits to be triggered.
func (l *reader) triggers(k registry.Place) string {
	const starts, most = 1, 4
	var all []string
	for _, t := range l.reg.Keys(l.reg.Below(k, "TriggerInfo")) {
		kind, ok := l.reg.Number(t, "Type")
		action, _ := l.reg.Number(t, "Action")
		words := triggerWords[kind]
		if words == "" {
			words = "by a trigger"
		}
		if ok && action == starts && !slices.Contains(all, words) && len(all) < most {
			all = append(all, words)
		}
	}
	return strings.Join(all, ", or ")
}

// foldInstances leaves out the copies that each login makes of a template: what
// they do is decided there.
func (l *reader) foldInstances() {
	l.order = slices.DeleteFunc(l.order, func(s *service) bool {
		i := strings.LastIndex(s.name, "_")
		if s.kind&instance == 0 || i < 0 {
			return false
		}
		_, ok := l.all[hive.Upper(s.name[:i])]
		if ok {
			delete(l.all, hive.Upper(s.name))
		}
		return ok
	})
}

// decide makes the items.
func (l *reader) decide() {
	wanted := l.wanted()
	for _, s := range l.order {
		it := item.Item{
			ID:         naming.ID(item.Service, "", s.name, "", s.name),
			Kind:       item.Service,
			Native:     s.name,
			Title:      l.title(s),
			When:       item.AtBoot,
			Command:    s.command,
			File:       s.key.Name,
			Because:    []string{s.name},
			Traits:     l.traits(s),
			Conditions: slices.Clone(s.target.Risks),
			Aside:      s.driver(),
		}
		it.Summary, _ = l.reg.Text(s.key, "Description")
		if line, ok := l.reg.Text(s.key, "FailureCommand"); ok && strings.TrimSpace(line) != "" {
			it.Conditions = append(it.Conditions, "when it fails, this may be run: "+line)
		}
		if s.target.Fate == launch.Found || s.target.Fate == launch.Unreadable {
			it.Program = s.target.Program
		}
		l.state(s, &it, wanted)
		s.item = it
	}
	for _, s := range l.order {
		for _, name := range s.needs {
			if needed := l.all[hive.Upper(name)]; needed != nil && s.item.State.Launched() {
				needed.item.NeededBy = append(needed.item.NeededBy, s.item.ID)
			}
		}
	}
}

// title is the name for people, which may be a reference to another file.
func (l *reader) title(s *service) string {
	text, _ := l.reg.Text(s.key, "DisplayName")
	return cmp.Or(text, s.name)
}

func (l *reader) traits(s *service) (all []string) {
	if s.group != "" {
		all = append(all, "group "+s.group)
	}
	if s.protected {
		all = append(all, "launch protected")
	}
	for _, name := range s.needs {
		all = append(all, "needs "+name)
	}
	if s.hosted != "" {
		all = append(all, "hosted "+s.hosted)
	}
	if s.trigger != "" {
		all = append(all, "triggered")
	}
	if s.driver() {
		all = append(all, "driver")
	}
	if s.hosted != "" || launch.Folder(l.named(s), l.reg.Windows) {
		all = append(all, item.SystemPlace)
	}
	return all
}

// named is the path inside the machine of a service's image as its key has it,
// whatever stands there.
func (l *reader) named(s *service) string {
	switch {
	case s.command == "":
		return ""
	case s.target.Through != "":
		return s.target.Through
	}
	if s.target.Fate == launch.Missing {
		p, _, _ := l.reg.Local(s.target.Program)
		return strings.ReplaceAll(p, `\`, "/")
	}
	return s.target.Program
}

// wanted are the services that start on demand and are needed by ones that
// start by themselves, each with whom that is, from the top.
func (l *reader) wanted() map[string][]string {
	chains := map[string][]string{}
	var queue []*service
	for _, s := range l.order {
		if s.start <= auto {
			queue = append(queue, s)
		}
	}
	for len(queue) > 0 {
		s := queue[0]
		queue = queue[1:]
		for _, name := range s.needs {
			key := hive.Upper(name)
			needed := l.all[key]
			if needed == nil || needed.start != demand || chains[key] != nil {
				continue
			}
			above := chains[hive.Upper(s.name)]
			if above == nil {
				above = []string{s.name}
			}
			chains[key] = append(slices.Clone(above), needed.name)
			queue = append(queue, needed)
		}
	}
	return chains
}

// state tells what the next boot does with a service.
func (l *reader) state(s *service, it *item.Item, wanted map[string][]string) {
	template := s.kind&perUser != 0 && s.kind&instance == 0
	if template {
		it.When = item.AtLogin
	}
	switch {
	case s.start == unknown:
		it.State, it.Why = item.Off, "its start type is missing"
		return
	case s.start == disabled:
		it.State, it.Why = item.Off, "its start type is disabled"
		return
	case s.start > disabled:
		it.State = item.Off
		it.Why = fmt.Sprintf("its start type is %d, which means nothing", s.start)
		return
	case s.start == demand:
		chain := wanted[hive.Upper(s.name)]
		switch {
		case chain != nil:
			it.State, it.Because = item.On, chain
			it.Why = chain[len(chain)-2] + " needs it"
		case s.driver():
			it.State, it.When, it.Fires = item.On, item.Later, "when its device is there"
		case s.trigger != "":
			it.State, it.When, it.Fires = item.On, item.Later, s.trigger
		default:
			it.State, it.Why = item.Off, "it is started on demand only"
			return
		}
	case s.delayed:
		it.State, it.Why = item.Delayed, "it starts about "+inWords(l.late)+" after the boot"
	default:
		it.State = item.On
	}
	if flags, ok := l.reg.Number(s.key, "UserServiceFlags"); template && ok && flags == 0 {
		it.State, it.Why = item.Off, "no user gets one of it"
		return
	}
	if why := l.blocked(s, map[*service]bool{}); why != "" {
		it.State, it.Why = item.Off, why
		return
	}
	s.target.Tell(it)
	if s.hosted != "" && !l.listed(s) {
		it.State = item.Broken
		it.Why = "the group " + s.hosted + ", in which it is to run, does not list it"
	}
}

// blocked says why a service cannot start for what it needs; empty where it
// can. above are those that need it.
func (l *reader) blocked(s *service, above map[*service]bool) string {
	const deepest = 40
	if len(above) > deepest {
		return ""
	}
	above[s] = true
	defer delete(above, s)
	for _, name := range s.needs {
		needed := l.all[hive.Upper(name)]
		switch {
		case needed == nil:
			return "it needs " + name + ", which is not there"
		case needed.start == disabled:
			return "it needs " + needed.name + ", which is off"
		case above[needed]:
			return "it needs " + needed.name + ", which needs it: neither can start"
		case l.blocked(needed, above) != "":
			return "it needs " + needed.name + ", which cannot start"
		}
	}
	return ""
}
