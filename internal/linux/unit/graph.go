package unit

import (
	"slices"
	"strings"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/label"
)

// Graph returns what the unit files say of every unit that the next boot
// launches, and of the given ones besides. Those are spans without times. They
// have their kinds, what they are ordered after, what they pull in and trigger
// (systemd.unit(5), bootup(7)). Dependencies that the service manager adds by
// itself are among them as far as they bear on when something starts.
func (t *Tree) Graph(names []string) []boot.Span {
	got := t.reach()
	in := map[string]bool{}
	for name := range got {
		in[name] = true
	}
	for _, name := range names {
		in[t.load(name).name] = true
	}
	spans := map[string]*boot.Span{}
	for name := range in {
		if u := t.load(name); u.file != nil && u.hidden == "" {
			s := t.place(u)
			spans[name] = &s
		}
	}
	after := func(later, earlier string) {
		if s := spans[t.load(later).name]; s != nil && spans[earlier] != nil &&
			!slices.Contains(s.After, earlier) {
			s.After = append(s.After, earlier)
		}
	}
	// before reports whether a target says itself that it comes first: then it
	// waits for nothing of what it pulls in
	before := func(target *unit, name string) bool {
		return slices.ContainsFunc(target.unitNames("Unit", "Before"), func(other string) bool {
			return t.load(other).name == name
		})
	}
	for name, s := range spans {
		u := t.load(name)
		for _, other := range u.unitNames("Unit", "Before") {
			after(other, name)
		}
		for _, other := range s.Triggers {
			after(other, name)
		}
		if !defaults(u) {
			continue
		}
		if goal := map[string]string{
			"socket": "sockets.target",
			"timer":  "timers.target",
			"path":   "paths.target",
		}[splitName(name).suffix]; goal != "" {
			after(goal, name)
		}
		// it ran in a boot in which it was switched on, as its file suggests
		if _, now := got[name]; !now {
			for _, goal := range u.unitNames("Install", "WantedBy", "RequiredBy") {
				if o := t.load(goal); splitName(o.name).suffix == "target" &&
					spans[o.name] != nil && defaults(o) && !before(o, name) &&
					!slices.Contains(s.After, o.name) {
					after(o.name, name)
					spans[o.name].Pulls = append(spans[o.name].Pulls, name)
				}
			}
		}
		// a target waits for all that it pulls in, unless one of both forbids
		// it
		if splitName(name).suffix == "target" {
			for _, other := range s.Pulls {
				if o := t.load(other); o.file != nil && defaults(o) && !before(u, o.name) &&
					!slices.Contains(t.place(o).After, name) {
					after(name, o.name)
				}
			}
		}
	}
	all := make([]boot.Span, 0, len(spans))
	for _, s := range spans {
		all = append(all, *s)
	}
	boot.SortSpans(all)
	return all
}

func defaults(u *unit) bool {
	no := strings.ToLower(u.last("Unit", "DefaultDependencies"))
	return no != "no" && no != "false" && no != "0" && no != "off"
}

// place reads one unit.
func (t *Tree) place(u *unit) boot.Span {
	s := boot.Span{
		Native: u.name,
		Owner:  t.owner.Name,
		Labels: label.Of(u.name, t.owner.Name),
	}
	add := func(names ...string) {
		for _, name := range names {
			if validName(name) {
				if name = t.load(name).name; !slices.Contains(s.After, name) {
					s.After = append(s.After, name)
				}
			}
		}
	}
	add(u.unitNames("Unit", "After")...)
	for _, name := range t.pulledBy(u) {
		if name = t.load(name).name; !slices.Contains(s.Pulls, name) {
			s.Pulls = append(s.Pulls, name)
		}
	}
	suffix := splitName(u.name).suffix
	switch suffix {
	case "service":
		s.Type = strings.ToLower(u.last("Service", "Type"))
		switch {
		case s.Type == "" && u.last("Service", "BusName") != "":
			s.Type = "dbus"
		case s.Type == "" && len(u.list("Service", "ExecStart")) == 0:
			s.Type = "oneshot"
		case s.Type == "":
			s.Type = "simple"
		}
		stays := strings.ToLower(u.last("Service", "RemainAfterExit"))
		s.Stays = stays == "yes" || stays == "true" || stays == "1" || stays == "on"
	case "timer", "socket", "path":
		if target := t.activates(u); target.file != nil {
			s.Triggers = append(s.Triggers, target.name)
		}
	}
	if !defaults(u) {
		return s
	}
	switch {
	case t.owner.Name != "" && suffix == "service":
		add("basic.target")
	case t.owner.Name != "":
	case suffix == "service":
		add("sysinit.target", "basic.target")
		s.Pulls = append(s.Pulls, "sysinit.target")
	case suffix == "socket" || suffix == "timer" || suffix == "path":
		add("sysinit.target")
		s.Pulls = append(s.Pulls, "sysinit.target")
	}
	return s
}
