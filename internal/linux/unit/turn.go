package unit

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// inAdmin reports whether a path is in a folder that belongs to the machine's administrator.
func inAdmin(p string) bool { return strings.HasPrefix(p, "/etc/") }

// Turn plans what makes the next boot launch the service, or not. The tree then shows the units as they will be, so that
// several can be turned one after another.
func (t *Tree) Turn(d *machine.Draft, it item.Item, to item.State) error {
	name := it.Native
	if t.owner.Name != "" {
		return errors.New("units of a user's own service manager cannot be switched yet")
	}
	if u := t.load(name); u.file != nil && u.file.script {
		return errors.New("old init scripts cannot be switched yet")
	}
	switch to {
	case item.Off:
		return t.turnOff(d, name)
	case item.On:
		return t.turnOn(d, name)
	}
	return fmt.Errorf("%s cannot be turned to %q", it.ID, to)
}

// turnOff takes away what enabling made, hides vendors' links, and masks the unit if some text still pulls it in.
func (t *Tree) turnOff(d *machine.Draft, name string) error {
	for _, v := range t.withAlso(name) {
		if err := t.unlink(d, v); err != nil {
			return err
		}
	}
	clear(t.reached)
	if _, still := t.reach()[t.load(name).name]; !still {
		return nil
	}
	return t.mask(d, t.load(name))
}

// withAlso lists a unit and those that its [Install] section enables and disables with it.
func (t *Tree) withAlso(name string) []string {
	all := []string{t.load(name).name}
	for i := 0; i < len(all); i++ {
		for _, also := range t.load(all[i]).unitNames("Install", "Also") {
			if also = t.load(also).name; !slices.Contains(all, also) {
				all = append(all, also)
			}
		}
	}
	return all
}

func (t *Tree) unlink(d *machine.Draft, name string) error {
	for _, as := range append([]string{name}, t.names[name]...) {
		for _, p := range t.pulledAs[as] {
			if p.hidden {
				continue
			}
			vendor := false
			for _, link := range p.paths {
				if !inAdmin(link) {
					vendor = true
				} else if err := d.Remove(link, ""); err != nil {
					return err
				}
			}
			p.hidden = true
			if vendor {
				if err := d.Link(path.Join(adminFolder, p.folder, p.name), "/dev/null"); err != nil {
					return err
				}
			}
		}
		if f := t.files[as]; as != name && f != nil && inAdmin(f.entry) {
			if err := d.Remove(f.entry, ""); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *Tree) mask(d *machine.Draft, u *unit) error {
	folder := adminFolder
	if u.file != nil && path.Dir(u.file.entry) == adminFolder {
		folder = maskFolder
	}
	p := path.Join(folder, u.name)
	if u.file != nil && path.Dir(u.file.entry) == maskFolder {
		return fmt.Errorf("%s is set up in %s itself, where no mask can hide it; move it to %s first", u.name, maskFolder, adminFolder)
	}
	if err := d.Link(p, "/dev/null"); err != nil {
		return err
	}
	f := &file{entry: p, hidden: "masked by " + p}
	t.files[u.name] = f
	u.file, u.hidden, u.masked = f, f.hidden, true
	clear(t.reached)
	return nil
}

// turnOn takes masks and hiding entries away and makes the links that the unit's [Install] section asks for.
func (t *Tree) turnOn(d *machine.Draft, name string) error {
	for i, v := range t.withAlso(name) {
		if err := t.unmask(d, v); err != nil {
			if i == 0 {
				return err
			}
			continue // a unit that comes along stays as its own mask says
		}
		if err := t.link(d, v); err != nil {
			return err
		}
	}
	u := t.load(name)
	if u.file == nil {
		return fmt.Errorf("its unit file is gone; reinstall its program, or leave it off")
	}
	clear(t.reached)
	if _, on := t.reach()[u.name]; !on {
		return fmt.Errorf("%s has nothing in its [Install] section that a boot of this machine reaches; if calmdawn switched it off, undo that change (calmdawn history)", u.name)
	}
	return nil
}

func (t *Tree) unmask(d *machine.Draft, name string) error {
	for {
		u := t.load(name)
		if u.file == nil || !u.masked {
			return nil
		}
		if !inAdmin(u.file.entry) {
			return fmt.Errorf("%s is %s, by its vendor; it is not for us to switch on", name, u.hidden)
		}
		if err := d.Remove(u.file.entry, ""); err != nil {
			return err
		}
		t.uncover(u)
	}
}

// uncover shows the next weaker file of a unit whose mask goes.
func (t *Tree) uncover(u *unit) {
	masked := u.file.entry
	delete(t.files, u.name)
	delete(t.cache, u.name)
	below := false
	for level, folder := range t.folders {
		p := path.Join(folder, u.name)
		if below = below || p == masked; !below || p == masked {
			continue
		}
		entries, _ := t.list(folder)
		i := slices.IndexFunc(entries, func(e machine.Entry) bool { return e.Name == u.name })
		if i < 0 {
			continue
		}
		if f := t.readEntry(p, entries[i], level); f != nil {
			t.files[u.name] = f
			return
		}
	}
}

func (t *Tree) link(d *machine.Draft, name string) error {
	for _, p := range t.pulledAs[name] {
		if !p.hidden || len(p.paths) < 2 || !inAdmin(p.paths[0]) {
			continue
		}
		for inAdmin(p.paths[0]) && len(p.paths) > 1 {
			if err := d.Remove(p.paths[0], ""); err != nil {
				return err
			}
			p.paths = p.paths[1:]
		}
		p.hidden = inAdmin(p.paths[0])
	}
	u := t.load(name)
	if u.file == nil || u.hidden != "" {
		return nil
	}
	for _, verb := range []struct{ key, folder string }{{"WantedBy", ".wants"}, {"RequiredBy", ".requires"}, {"UpheldBy", ".upholds"}} {
		for _, puller := range u.unitNames("Install", verb.key) {
			if err := t.addLink(d, u, puller, verb.folder); err != nil {
				return err
			}
		}
	}
	for _, alias := range u.unitNames("Install", "Alias") {
		if f := t.files[alias]; !validName(alias) || f != nil {
			continue
		}
		if err := d.Link(path.Join(adminFolder, alias), u.file.path); err != nil {
			return err
		}
		t.names[u.name] = append(t.names[u.name], alias)
	}
	return nil
}

func (t *Tree) addLink(d *machine.Draft, u *unit, puller, folder string) error {
	standing := slices.ContainsFunc(t.pulledAs[u.name], func(p *pull) bool { return !p.hidden && p.folder == puller+folder })
	if standing || !validName(puller) {
		return nil
	}
	p := path.Join(adminFolder, puller+folder, u.name)
	if err := d.Link(p, u.file.path); err != nil {
		return err
	}
	t.addPull(puller, &pull{name: u.name, folder: puller + folder, paths: []string{p}})
	return nil
}
