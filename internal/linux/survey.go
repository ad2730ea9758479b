// Package linux surveys what a Linux machine launches by itself and plans how
// an item is switched.
//
// Each launch mechanism is a package of its own below this one, of one shape.
// Here they are put together, and each item is told who made it.
package linux

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/autostart"
	"calmdawn/internal/linux/cron"
	"calmdawn/internal/linux/guest"
	"calmdawn/internal/linux/hook"
	"calmdawn/internal/linux/identity"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/linux/loginscript"
	"calmdawn/internal/linux/packages"
	"calmdawn/internal/linux/unit"
	"calmdawn/internal/machine"
)

// An Inventory is the survey of a machine together with the mechanisms that can
// switch its items, as a [family.Inventory]. The items are the caller's to
// complete.
type Inventory struct {
	item.Survey
	root       *machine.Root
	units      *unit.Managers
	mechanisms []mechanism
	release    map[string]string  // os-release(5)
	packages   *packages.Database // nil where there is none
	people     []string
}

// Found is the survey.
func (v *Inventory) Found() item.Survey { return v.Survey }

// People are the names of those who can log in, root aside.
func (v *Inventory) People() []string { return v.people }

// Survey reads a machine as its next boot would find it. It writes nothing;
// what could not be read is in Unread.
func Survey(r *machine.Root, o family.Options) *Inventory {
	v := &Inventory{root: r, release: identity.Release(r)}
	v.OS = v.release["PRETTY_NAME"]
	v.Host, v.Running = identity.Hostname(r), r.Live()
	if r.Live() { // a disk does not know in which computer it is
		v.Model, v.Hardware = identity.Computer(r)
	}
	for _, folder := range Unmounted(r) {
		v.gap(folder, "is a file system of its own that is not mounted here; what it launches is "+
			"missing from the list")
	}
	users, err := account.Read(r)
	v.note("/etc/passwd", err)
	v.strangers(users)
	for _, u := range users {
		if u.UID == 0 {
			continue
		}
		v.people = append(v.people, u.Name)
		if sealed := r.Sealed(u.Home); sealed == u.Home {
			v.gap(u.Home, "is encrypted and its key is not there; what it launches is missing "+
				"from the list")
		}
	}

	finder := launch.On(r)
	stopped := func(u account.User, name string) string {
		return cmp.Or(v.units.NeverStarts(u), v.units.Stopped(u, name))
	}
	entries := autostart.Read(r, finder, users, stopped, o.Language)
	v.units = unit.ReadManagers(r, finder, users, o.Now, entries.Desktop(),
		each(o.Remembered, item.RawID))
	scripts := loginscript.Read(r, finder, users, entries.Sessions())
	entries.LaunchedBy(scripts.Starters())
	guests := guest.Read(r, v.units.Launches, v.commandOf)
	v.Remarks = append(v.Remarks, guests.Remarks()...)
	v.mechanisms = []mechanism{
		v.units,
		entries,
		cron.Read(r, finder, users, v.units.Launches),
		scripts,
		guests,
		hook.Read(r, finder, v.units.Launches),
	}
	for _, m := range v.mechanisms {
		items := m.Survey()
		for i := range items {
			items[i].Mechanism = m.Name()
			items[i].ID = item.SafeID(items[i].ID)
			items[i].NeededBy = each(items[i].NeededBy, item.SafeID)
		}
		v.Items = append(v.Items, items...)
	}
	for _, m := range v.mechanisms {
		v.Unread = append(v.Unread, m.Unread()...)
	}
	v.startedOtherwise(startedBy(r))
	v.packages, err = packages.Read(r, packages.OS{ID: v.release["ID"], Name: v.release["NAME"]})
	v.note("the package database", err)
	v.attribute(v.Items)
	if v.packages != nil {
		v.Unread = append(v.Unread, v.packages.Unread()...)
		v.Guessed = v.packages.Guessed()
	}
	v.login()
	v.adminToo(users)
	v.foldHomes(users)
	item.Sort(v.Items)
	return v
}

// startedOtherwise leaves of a machine that no service manager of ours starts
// what is known all the same. That is what desktops launch, and what may be
// launched by the clock.
func (v *Inventory) startedOtherwise(by string) {
	if by == "" {
		return
	}
	v.gap("/sbin/init", "starts this machine by "+by+", which is not read yet; its services are "+
		"missing from the list, and nothing is switched")
	v.Items = slices.DeleteFunc(v.Items, func(it item.Item) bool {
		return it.Mechanism == unit.Mechanism
	})
	for i := range v.Items {
		if it := &v.Items[i]; it.Mechanism == cron.Mechanism {
			it.State, it.Unsure = item.On, true
			it.Why = "whether the daemon of crontabs is started by " + by + " is not known"
		}
	}
}

// foldHomes says of a home that may not be looked into so once, instead of for
// each place in it.
func (v *Inventory) foldHomes(users []account.User) {
	for _, u := range users {
		inside := func(p item.Unread) bool {
			return strings.HasPrefix(p.Path, u.Home+"/") && p.Kind == item.Denied
		}
		if slices.ContainsFunc(v.Unread, inside) {
			v.Unread = slices.DeleteFunc(v.Unread, inside)
			v.Unread = append(v.Unread, machine.Unread(u.Home, fs.ErrPermission))
		}
	}
}

// adminToo marks what root's login launches only for being set up for all users
// alike.
func (v *Inventory) adminToo(users []account.User) {
	for _, u := range users {
		for i := range v.Items {
			it := &v.Items[i]
			it.AdminToo = it.AdminToo || u.UID == 0 && it.Owner == u.Name &&
				it.Kind != item.Program && it.When != item.AtBoot &&
				!strings.HasPrefix(it.File, u.Home+"/")
		}
	}
}

// gap notes that all that stands at a path is missing.
func (v *Inventory) gap(p, reason string) {
	v.Unread = append(v.Unread, item.Unread{Path: p, Reason: reason, Kind: item.Gap})
}

func (v *Inventory) note(p string, err error) {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		v.Unread = append(v.Unread, machine.Unread(p, err))
	}
}

// attribute tells each item its package, its maker, and whether it belongs to
// the operating system.
func (v *Inventory) attribute(items []item.Item) {
	if v.packages == nil {
		return
	}
	var paths []string
	for _, it := range items {
		paths = append(paths, it.File, it.Program)
	}
	owners := v.packages.Owners(paths)
	for i := range items {
		it := &items[i]
		p, ok := owners[it.File]
		it.Hold, it.Undone = hold(*it, p), p.Keeps == packages.Replaces
		if app := packages.AppOf(it.Program, it.Args); !ok && app != "" {
			p, ok = v.packages.App(app), true
		}
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
		it.Archive, it.Came = p.Archive, p.Came
		if p.System && p.Maker == "" {
			it.Maker = p.Archive
		}
	}
}

// hold says what may undo a switch that rewrites the file of a package.
func hold(it item.Item, p packages.Package) string {
	if it.Owner != "" || it.Mechanism != autostart.Mechanism && it.Mechanism != cron.Mechanism {
		return ""
	}
	switch p.Keeps {
	case packages.Replaces:
		return fmt.Sprintf("an update of the package %s writes %s anew, which takes this back",
			p.Name, it.File)
	case packages.Asks:
		return fmt.Sprintf("%s is configuration of the package %s: updates leave it, or ask",
			it.File, p.Name)
	}
	return ""
}

// Lookup returns the item with an id that the survey may not hold. That is an
// instance of a template that is there, or an entry of the machine as one user
// has it. It takes ids of earlier versions too, which held names as they were.
func (v *Inventory) Lookup(id string) (item.Item, bool) {
	if it, ok := v.Find(id); ok {
		return it, true
	}
	if it, ok := v.Find(item.SafeID(id)); ok {
		return it, true
	}
	for _, m := range v.mechanisms {
		if it, ok := m.Lookup(item.RawID(id), v.Survey); ok {
			found := []item.Item{it}
			found[0].Mechanism = m.Name()
			found[0].ID = item.SafeID(it.ID)
			v.attribute(found)
			return found[0], true
		}
	}
	return item.Item{}, false
}

// each is all of some texts, changed.
func each(texts []string, to func(string) string) []string {
	changed := slices.Clone(texts)
	for i, text := range changed {
		changed[i] = to(text)
	}
	return changed
}

// Key is the name by which an item's start is found in a boot; false for one
// that has none of its own there. An entry of the machine is started for each
// user: its key has no owner.
func (v *Inventory) Key(it item.Item) (boot.Key, bool) {
	for _, m := range v.mechanisms {
		if m.Name() == it.Mechanism {
			return m.Key(it)
		}
	}
	return boot.Key{}, false
}

// Order gives boots of which only the log speaks the order that the unit files
// set up, as they are now. The boots given stay as they are.
func (v *Inventory) Order(boots []boot.Boot) []boot.Boot { return v.units.Order(boots) }

// A turner turns items of one inventory, whatever their mechanisms.
type turner struct {
	by    map[string]item.Turner
	draft *machine.Draft
}

// Turner returns what turns items; its edits go into d, which shows each item
// what was turned before it.
func (v *Inventory) Turner(d *machine.Draft) family.Turner {
	p := turner{map[string]item.Turner{}, d}
	for _, m := range v.mechanisms {
		p.by[m.Name()] = m.Turner(d)
	}
	return p
}

// Turn plans what turns an item on, off or delayed; by is for how long it is
// held back then. An error says why it cannot be; the turner and its draft are
// then to be thrown away.
func (p turner) Turn(it item.Item, to item.State, by time.Duration) error {
	m, ok := p.by[it.Mechanism]
	if !ok {
		return fmt.Errorf("nothing in this survey launches %s", it.ID)
	}
	it.ID = item.RawID(it.ID) // mechanisms know names as they are
	if err := m.Turn(it, to, by); err != nil {
		return err
	}
	return unkept(p.draft.Edits())
}

// TurnStarter plans the same for a socket, path or timer that can start an item
// on demand.
func (p turner) TurnStarter(it item.Item, starter item.Starter, to item.State) error {
	starts := item.Item{Native: starter.Name, Owner: it.Owner}
	if err := p.by[unit.Mechanism].Turn(starts, to, 0); err != nil {
		return err
	}
	return unkept(p.draft.Edits())
}

// Masks reports whether edits mask the unit that an item is.
func (v *Inventory) Masks(edits []change.Edit, it item.Item) bool {
	return it.Mechanism == unit.Mechanism && slices.ContainsFunc(edits, func(e change.Edit) bool {
		return path.Base(e.Path) == it.Native && e.After.Target == "/dev/null"
	})
}
