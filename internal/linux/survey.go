// Package linux surveys what a Linux machine launches by itself and plans how
// an item is switched.
//
// Each launch mechanism is a package of its own below this one; here they are
// put together, and each item is told who made it.
package linux

import (
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/autostart"
	"calmdawn/internal/linux/cron"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/linux/loginscript"
	"calmdawn/internal/linux/packages"
	"calmdawn/internal/linux/unit"
	"calmdawn/internal/machine"
)

// An Inventory is the survey of a machine together with the mechanisms that can
// switch its items.
type Inventory struct {
	item.Survey
	units   *unit.Tree
	users   map[string]*unit.Tree // by user name
	entries *autostart.Entries
	tables  *cron.Tables
}

// Options are what a survey is told besides the machine.
type Options struct {
	Now time.Time // when the next boot is taken to be
	// ids to look for besides: some items leave nothing behind on the disk when
	// they are off
	Remembered []string
	Language   string // of titles, as in locale(7); empty for the entries' own
}

// Survey reads a machine as its next boot would find it. It writes nothing;
// what could not be read is in Unread.
func Survey(r *machine.Root, o Options) *Inventory {
	v := &Inventory{users: map[string]*unit.Tree{}}
	release := osRelease(r)
	v.OS = release["PRETTY_NAME"]
	v.Host = hostname(r)
	for _, folder := range Unmounted(r) {
		v.Unread = append(v.Unread, item.Unread{Path: folder, Reason: "is a file system of its " +
			"own that is not mounted here; what it launches is missing from the list"})
	}
	users, err := account.Read(r)
	v.note("/etc/passwd", err)

	finder := launch.On(r)
	source := unit.Read(r, finder, o.Now)
	v.units = source.System()
	v.entries = autostart.Read(r, finder, users, o.Language)
	v.tables = cron.Read(r, finder, users)
	system := unit.Scope{When: item.AtBoot}
	for _, id := range o.Remembered {
		for _, prefix := range []string{unit.Prefix, unit.TimerPrefix} {
			if name, ok := strings.CutPrefix(id, prefix); ok && name[0] != '/' {
				system.Remembered = append(system.Remembered, name)
			}
		}
	}
	v.Items = v.units.Survey(system)
	for _, u := range users {
		tree := source.User(u)
		v.users[u.Name] = tree
		scope := unit.Scope{When: item.AtLogin, Desktop: v.entries.Desktop() && u.UID != 0}
		if u.Lingers {
			scope.When = item.AtBoot
		}
		v.Items = append(v.Items, tree.Survey(scope)...)
	}
	v.entries.Stopped = func(u account.User, name string) string {
		return v.users[u.Name].Stopped(name)
	}
	v.Items = append(v.Items, v.entries.Survey()...)
	v.Items = append(v.Items, v.tables.Survey(v.daemon)...)
	scripts, unread := loginscript.Survey(r, finder, users)
	v.Items = append(v.Items, scripts...)
	v.Unread = slices.Concat(v.Unread, source.Unread(), v.entries.Unread(), v.tables.Unread(),
		unread)
	v.name(r, release)
	v.foldHomes(users)
	item.Sort(v.Items)
	return v
}

// foldHomes says of a home that may not be looked into so once, instead of for
// each place in it.
func (v *Inventory) foldHomes(users []account.User) {
	for _, u := range users {
		inside := func(p item.Unread) bool {
			return strings.HasPrefix(p.Path, u.Home+"/") && p.Reason == machine.NoPermission
		}
		if slices.ContainsFunc(v.Unread, inside) {
			v.Unread = slices.DeleteFunc(v.Unread, inside)
			v.Unread = append(v.Unread, item.Unread{Path: u.Home, Reason: machine.NoPermission})
		}
	}
}

// daemon tells whether a system service is launched, and by which chain.
func (v *Inventory) daemon(name string) ([]string, bool) {
	it, err := v.units.Lookup(name)
	return it.Because, err == nil && it.State == item.On
}

func (v *Inventory) note(p string, err error) {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		v.Unread = append(v.Unread, item.Unread{Path: p, Reason: machine.Reason(err)})
	}
}

// name tells each item its package, its maker, and whether it belongs to the
// operating system.
func (v *Inventory) name(r *machine.Root, release map[string]string) {
	db, err := packages.Read(r, packages.OS{ID: release["ID"], Name: release["NAME"]})
	if err != nil {
		v.note("the package database", err)
		return
	}
	var paths []string
	for _, it := range v.Items {
		paths = append(paths, it.File, it.Program)
	}
	owners := db.Owners(paths)
	v.Unread = append(v.Unread, db.Unread()...)
	for i := range v.Items {
		it := &v.Items[i]
		p, ok := owners[it.File]
		if !ok {
			p, ok = owners[it.Program]
			p.System = false // set up by hand, whatever program it starts
		}
		if !ok {
			continue
		}
		it.Package, it.Version, it.Section = p.Name, p.Version, p.Section
		it.Summary, it.Installed = p.Summary, p.Installed
		it.Maker, it.System, it.Leftover = p.Maker, p.System, p.Gone
		if p.System {
			it.Maker = release["NAME"]
		}
	}
}

// Turn plans in d what turns an item on, off or delayed; by is for how long it
// is held back then. An error says why it cannot be.
func (v *Inventory) Turn(d *machine.Draft, it item.Item, to item.State, by time.Duration) error {
	switch {
	case it.Unsure:
		return errors.New("it stands in a login script, which is never edited; change that by hand")
	case strings.HasPrefix(it.ID, cron.Prefix):
		return v.tables.Turn(d, it, to, by)
	case strings.HasPrefix(it.ID, autostart.Prefix):
		return v.entries.Turn(d, it, to, by)
	case it.Owner != "":
		return v.users[it.Owner].Turn(d, it, to, by)
	}
	return v.units.Turn(d, it, to, by)
}

// TurnStarter plans the same for a socket, path or timer that can start an item
// on demand.
func (v *Inventory) TurnStarter(
	d *machine.Draft,
	it item.Item,
	starter string,
	to item.State,
) error {
	tree := v.units
	if it.Owner != "" {
		tree = v.users[it.Owner]
	}
	return tree.Turn(d, item.Item{ID: starter, Native: starter}, to, 0)
}

// Lookup returns the item with an id that the survey may not hold: an instance
// of a template that is there, or an entry of the machine as one user has it.
func (v *Inventory) Lookup(id string) (item.Item, bool) {
	if it, ok := v.Find(id); ok {
		return it, true
	}
	if at := strings.LastIndex(id, "@"); at > 0 && strings.HasPrefix(id, autostart.Prefix) {
		if it, ok := v.Find(id[:at]); ok {
			return v.entries.ForUser(it, id[at+1:])
		}
	}
	name, ok := strings.CutPrefix(id, unit.Prefix)
	if !ok || !strings.Contains(name, "@") {
		return item.Item{}, false
	}
	it, err := v.units.Lookup(name)
	return it, err == nil
}

// osRelease reads os-release(5).
func osRelease(r *machine.Root) map[string]string {
	values := map[string]string{}
	for _, p := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		text, err := r.ReadFile(p, 64<<10)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			key, value, ok := strings.Cut(strings.TrimSpace(line), "=")
			if ok && !strings.HasPrefix(key, "#") {
				values[key] = strings.Trim(value, `"'`)
			}
		}
		break
	}
	return values
}

func hostname(r *machine.Root) string {
	text, err := r.ReadFile("/etc/hostname", 4096)
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return line
		}
	}
	return ""
}

// Complete gives boots of which only the log speaks the order that the unit
// files set up, as they are now.
func (v *Inventory) Complete(boots []boot.Boot) []boot.Boot {
	all := slices.Clone(boots)
	for i, b := range all {
		if b.Ordered() {
			continue
		}
		names := map[string][]string{}
		for _, s := range b.Spans {
			names[s.Owner] = append(names[s.Owner], s.Native)
		}
		all[i] = boot.Fill(b, v.units.Graph(names[""]))
		for owner, tree := range v.users {
			if len(names[owner]) > 0 {
				all[i] = boot.Fill(all[i], tree.Graph(names[owner]))
			}
		}
	}
	return all
}
