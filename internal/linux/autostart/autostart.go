package autostart

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/machine"
)

// Prefix begins the ids of programs.
const Prefix = "program:"

const (
	machineFolder = "/etc/xdg/autostart"
	homeFolder    = ".config/autostart"
	maxText       = 1 << 20
)

// Entries are a machine's autostart entries.
type Entries struct {
	root     *machine.Root
	users    []account.User
	desktops []string // the names of the desktops that are installed; none where that is not known
	unread   []item.Unread
}

// Read prepares the survey of a machine for the given users.
func Read(r *machine.Root, users []account.User) *Entries {
	e := &Entries{root: r, users: users}
	e.desktops = e.installedDesktops()
	return e
}

// Unread names the places that could not be read.
func (e *Entries) Unread() []item.Unread { return e.unread }

func (e *Entries) skip(p string, err error) {
	if !errors.Is(err, fs.ErrNotExist) {
		e.unread = append(e.unread, item.Unread{Path: p, Reason: machine.Reason(err)})
	}
}

// Survey returns the entries of the machine and of each user.
func (e *Entries) Survey() []item.Item {
	items := e.folder(machineFolder, account.User{})
	for _, u := range e.users {
		items = append(items, e.folder(path.Join(u.Home, homeFolder), u)...)
	}
	return items
}

func (e *Entries) folder(folder string, owner account.User) []item.Item {
	entries, err := e.root.ReadDir(folder)
	if err != nil {
		e.skip(folder, err)
		return nil
	}
	var items []item.Item
	for _, f := range entries {
		if strings.HasSuffix(f.Name, ".desktop") {
			if it, ok := e.item(path.Join(folder, f.Name), owner); ok {
				items = append(items, it)
			}
		}
	}
	return items
}

func (e *Entries) item(p string, owner account.User) (item.Item, bool) {
	name := path.Base(p)
	it := item.Item{
		ID: Prefix + name, Kind: item.Program, Native: name, Title: strings.TrimSuffix(name, ".desktop"),
		Owner: owner.Name, When: item.AtLogin, State: item.On, File: p, Because: []string{"desktop login", name},
	}
	if owner.Name != "" {
		it.ID += "@" + owner.Name
	}
	text, err := e.root.ReadFile(p, maxText)
	if err != nil {
		if info, statErr := e.root.Stat(p); statErr != nil || info.Null {
			return it, false // a link to nothing hides nothing and launches nothing
		}
		e.skip(p, err)
		return it, false
	}
	d, err := parse(text)
	if err != nil {
		it.State, it.Why, it.Because = item.Off, "no desktop launches it: "+err.Error(), nil
		return it, len(text) > 0
	}
	if title := d.keys["Name"]; title != "" {
		it.Title = title
	}
	it.Command = d.keys["Exec"]
	it.Program = e.find(program(it.Command))
	if d.keys["Type"] != "Application" || it.Command == "" {
		return it, d.hidden && e.overridden(name)
	}
	for _, key := range []string{"OnlyShowIn", "NotShowIn", "TryExec", "AutostartCondition"} {
		if v := d.keys[key]; v != "" {
			it.Conditions = append(it.Conditions, key+"="+v)
		}
	}
	switch why := e.heldBack(d); {
	case why != "":
		it.State, it.Why, it.Because = item.Off, why, nil
	case it.Program != "" && !e.root.IsFile(it.Program):
		it.State, it.Why = item.Broken, it.Program+" is not there"
	}
	return it, true
}

// overridden reports whether the machine has an entry of this name, which a user's would hide.
func (e *Entries) overridden(name string) bool {
	_, err := e.root.Stat(path.Join(machineFolder, name))
	return err == nil
}

// heldBack says why no desktop on this machine launches the entry; empty when one does.
func (e *Entries) heldBack(d entry) string {
	if d.hidden {
		return "switched off by Hidden=true"
	}
	if try := d.keys["TryExec"]; try != "" && !e.root.IsFile(e.find(try)) {
		return "its TryExec program " + try + " is not there"
	}
	if len(e.desktops) == 0 {
		return ""
	}
	only, not := list(d.keys["OnlyShowIn"]), list(d.keys["NotShowIn"])
	shown := slices.ContainsFunc(e.desktops, func(session string) bool {
		names := list(session)
		in := func(set []string) bool {
			return slices.ContainsFunc(names, func(n string) bool { return slices.Contains(set, n) })
		}
		return (len(only) == 0 || in(only)) && !in(not)
	})
	if !shown {
		return "not for the desktop of this machine (" + strings.Join(e.desktops, ", ") + ")"
	}
	return ""
}

// installedDesktops returns the DesktopNames of each session that can be logged in to.
func (e *Entries) installedDesktops() []string {
	var names []string
	for _, folder := range []string{"/usr/share/xsessions", "/usr/share/wayland-sessions"} {
		entries, err := e.root.ReadDir(folder)
		if err != nil {
			e.skip(folder, err)
			continue
		}
		for _, f := range entries {
			text, err := e.root.ReadFile(path.Join(folder, f.Name), maxText)
			if err != nil {
				continue
			}
			if d, err := parse(text); err == nil && d.keys["DesktopNames"] != "" && !slices.Contains(names, d.keys["DesktopNames"]) {
				names = append(names, d.keys["DesktopNames"])
			}
		}
	}
	return names
}

var searchPath = []string{"/usr/local/bin", "/usr/bin", "/bin", "/usr/local/games", "/usr/games"}

// find looks a bare program name up; what is not found is returned as it is.
func (e *Entries) find(word string) string {
	if word == "" || strings.ContainsAny(word, "$`") {
		return word
	}
	return e.root.FindProgram(word, searchPath)
}

// Turn plans the entry's Hidden key. The machine's entries are turned for all users.
func (e *Entries) Turn(d *machine.Draft, it item.Item, to item.State) error {
	home := ""
	if i := slices.IndexFunc(e.users, func(u account.User) bool { return u.Name == it.Owner }); i >= 0 && it.Owner != "" {
		home = e.users[i].Home
	}
	if to != item.On && to != item.Off {
		return fmt.Errorf("%s cannot be turned to %q", it.ID, to)
	}
	if to == item.On && it.State == item.Off && !strings.HasPrefix(it.Why, "switched off") {
		return errors.New(it.Why)
	}
	return d.Rewrite(it.File, home, func(text []byte) ([]byte, error) { return setHidden(text, to == item.Off) })
}
