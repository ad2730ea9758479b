package unit

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// admin is the folder in which the administrator, or the user, sets units up.
func (t *Tree) admin() string {
	if t.owner.Name != "" {
		return path.Join(t.owner.Home, ".config/systemd/user")
	}
	return adminFolder
}

// stronger is the folder whose masks hide what stands in the admin folder.
func (t *Tree) stronger() string {
	if t.owner.Name != "" {
		return path.Join(t.owner.Home, ".config/systemd/user.control")
	}
	return maskFolder
}

// A Turner turns units of one service manager one after another, on a copy of
// its tree. Each sees what was turned before it, and the tree stays as the disk
// is.
type Turner struct {
	*Tree
	draft *machine.Draft
}

// Turner returns what turns items; its edits go into d.
func (t *Tree) Turner(d *machine.Draft) *Turner { return &Turner{t.copy(), d} }

// copy returns a tree of its own on the same source.
func (t *Tree) copy() *Tree {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := &Tree{
		Source:   t.Source,
		owner:    t.owner,
		home:     t.home,
		folders:  t.folders,
		files:    maps.Clone(t.files),
		pulls:    make(map[string][]*pull, len(t.pulls)),
		pulledAs: make(map[string][]*pull, len(t.pulledAs)),
		dropins:  t.dropins,
		names:    maps.Clone(t.names),
		reached:  maps.Clone(t.reached),
		goals:    t.goals,
		later:    t.later,
		more:     t.more,
		cache:    make(map[string]*unit, len(t.cache)),
	}
	twins := map[*pull]*pull{} // each stands in both maps
	for puller, pulls := range t.pulls {
		for _, p := range pulls {
			twin := *p
			twin.paths = slices.Clone(p.paths)
			twins[p] = &twin
			c.pulls[puller] = append(c.pulls[puller], &twin)
		}
	}
	for name, pulls := range t.pulledAs {
		for _, p := range pulls {
			c.pulledAs[name] = append(c.pulledAs[name], twins[p])
		}
	}
	units := make(map[*unit]*unit, len(t.cache)) // several names may mean one
	for name, u := range t.cache {
		if units[u] == nil {
			twin := *u
			units[u] = &twin
		}
		c.cache[name] = units[u]
	}
	return c
}

// remove and plant plan edits in the user's name, where the manager is a
// user's.
func (t *Turner) remove(p string) error { return t.draft.Remove(p, t.owner.Home) }
func (t *Turner) plant(p, target string) error {
	return t.draft.Link(p, t.owner.Home, target)
}

// Turn plans what makes the next boot launch a service or timer, not launch it,
// or launch it some time after the goal. After an error it is to be
// thrown away.
func (t *Turner) Turn(it item.Item, to item.State, by time.Duration) error {
	if err := t.undelay(it.Native); err != nil {
		return err
	}
	switch to {
	case item.Off:
		return t.turnOff(it.Native)
	case item.Delayed:
		return t.turnDelayed(it.Native, by)
	}
	return t.turnOn(it.Native)
}

// turnOff takes away what enabling made, hides vendors' links, and masks the
// unit if some text still pulls it in.
func (t *Turner) turnOff(name string) error {
	for _, v := range t.withAlso(name) {
		if err := t.unlink(v); err != nil {
			return err
		}
	}
	t.forgetReached()
	if _, still := t.reachAny()[t.load(name).name]; !still {
		return nil
	}
	return t.mask(t.load(name))
}

// withAlso lists a unit and those that its [Install] section enables and
// disables with it.
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

func (t *Turner) unlink(name string) error {
	for _, as := range append([]string{name}, t.names[name]...) {
		for _, p := range t.pulledAs[as] {
			if p.hidden {
				continue
			}
			if err := t.hide(p); err != nil {
				return err
			}
		}
		if f := t.files[as]; as != name && f != nil && t.ownFile(f.entry) {
			if err := t.remove(f.entry); err != nil {
				return err
			}
		}
	}
	return nil
}

// hide plans that a pull has no effect. Links of the administrator's or the
// user's go, and those of vendors are hidden. An old script's S link is made a
// K link, and rc.local loses its execute bits.
func (t *Turner) hide(p *pull) error {
	if slices.ContainsFunc(p.paths, isEarly) {
		return nil // nothing hides it; its unit is masked
	}
	vendor := false
	for _, link := range p.paths {
		var err error
		switch {
		case isRCLocal(link):
			err = t.draft.ForbidRun(link)
		case isRunlevel(path.Dir(link)):
			err = t.renumber(link, "K")
		case isQuadlet(link):
			vendor = true // it is no link
		case t.ownFile(link):
			err = t.remove(link)
		default:
			vendor = true
		}
		if err != nil {
			return err
		}
	}
	p.hidden = true
	if !vendor {
		return nil
	}
	return t.plant(path.Join(t.admin(), p.folder, p.name), "/dev/null")
}

func isRunlevel(folder string) bool {
	for _, level := range runlevels {
		if level.folder == folder {
			return true
		}
	}
	return false
}

// renumber plans another letter for the link of an old script; its number and
// what it leads to stay.
func (t *Turner) renumber(link, letter string) error {
	target, err := t.root.ReadLink(link)
	if err != nil {
		return err
	}
	if err := t.draft.Remove(link, ""); err != nil {
		return err
	}
	return t.draft.Link(path.Join(path.Dir(link), letter+path.Base(link)[1:]), "", target)
}

func (t *Turner) mask(u *unit) error {
	folder := t.admin()
	if u.file != nil && (path.Dir(u.file.entry) == t.admin() || isEarly(u.file.entry)) {
		folder = t.stronger()
	}
	p := path.Join(folder, u.name)
	if chain := t.insisted(u.name); chain != nil && t.owner.Name == "" {
		return fmt.Errorf("the machine's goal requires it (%s): with it masked, the service "+
			"manager would refuse the whole start", strings.Join(chain, " requires "))
	}
	if u.file != nil && path.Dir(u.file.entry) == t.stronger() {
		return fmt.Errorf("%s is set up in %s itself, where no mask can hide it; move it to %s "+
			"first", u.name, t.stronger(), t.admin())
	}
	if err := t.plant(p, "/dev/null"); err != nil {
		return err
	}
	f := &file{entry: p, hidden: "masked by " + p, masked: true}
	t.files[u.name] = f
	u.file, u.hidden, u.masked = f, f.hidden, true
	t.forgetReached()
	return nil
}

// turnOn takes masks and hiding entries away and makes the links that the
// unit's [Install] section asks for.
func (t *Turner) turnOn(name string) error {
	for i, v := range t.withAlso(name) {
		if err := t.unmask(v); err != nil {
			if i == 0 {
				return err
			}
			continue // a unit that comes along stays as its own mask says
		}
		if err := t.link(v); err != nil {
			return err
		}
	}
	u := t.load(name)
	if u.file == nil {
		return fmt.Errorf("its unit file is gone; reinstall its program, or leave it off")
	}
	t.forgetReached()
	if _, on := t.reachAny()[u.name]; !on {
		return fmt.Errorf("%s has nothing in its [Install] section that a boot of this machine "+
			"reaches; if calmdawn switched it off, undo that change (calmdawn history)", u.name)
	}
	return nil
}

func (t *Turner) unmask(name string) error {
	for {
		u := t.load(name)
		if u.file == nil || !u.masked {
			return nil
		}
		if !t.ownFile(u.file.entry) {
			return fmt.Errorf("%s is %s, by its vendor; it is not for us to switch on", name,
				u.hidden)
		}
		if err := t.remove(u.file.entry); err != nil {
			return err
		}
		t.uncover(u)
	}
}

// uncover shows the next weaker file of a unit whose mask goes.
func (t *Turner) uncover(u *unit) {
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

func (t *Turner) link(name string) error {
	for _, p := range t.pulledAs[name] {
		if err := t.show(p); err != nil {
			return err
		}
	}
	u := t.load(name)
	if u.file == nil || u.hidden != "" || isGenerated(u.file.path) || u.file.made != "" {
		return nil
	}
	if u.file.script {
		return t.linkScript(name)
	}
	for _, verb := range []struct{ key, folder string }{
		{"WantedBy", ".wants"},
		{"RequiredBy", ".requires"},
		{"UpheldBy", ".upholds"},
	} {
		for _, puller := range u.unitNames("Install", verb.key) {
			if err := t.addLink(u, puller, verb.folder); err != nil {
				return err
			}
		}
	}
	for _, alias := range u.unitNames("Install", "Alias") {
		if f := t.files[alias]; !validName(alias) || f != nil {
			continue
		}
		if err := t.plant(path.Join(t.admin(), alias), u.file.path); err != nil {
			return err
		}
		names := t.names[u.name]
		t.names[u.name] = append(names[:len(names):len(names)], alias)
	}
	return nil
}

// show plans that what hides a vendor's link goes, or that rc.local can be
// executed again.
func (t *Turner) show(p *pull) error {
	if !p.hidden || len(p.paths) < 2 {
		return nil
	}
	if script := p.paths[0]; isRCLocal(script) {
		p.hidden = false
		return t.draft.AllowRun(script)
	}
	ours := func(p string) bool { return t.ownFile(p) && !isQuadlet(p) }
	for ours(p.paths[0]) && len(p.paths) > 1 {
		if err := t.remove(p.paths[0]); err != nil {
			return err
		}
		p.paths = p.paths[1:]
	}
	p.hidden = ours(p.paths[0])
	return nil
}

// linkScript plans S links for an old script in the place of its K links; where
// it has none, for the usual runlevels.
func (t *Turner) linkScript(name string) error {
	found := false
	for _, level := range runlevels {
		entries, err := t.list(level.folder)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if len(e.Name) < 4 || e.Name[0] != 'K' || scriptUnit(e.Name[3:]) != name {
				continue
			}
			found = true
			p := path.Join(level.folder, e.Name)
			if err := t.renumber(p, "S"); err != nil {
				return err
			}
			t.addPull(level.target, &pull{
				name:   name,
				folder: level.target + ".wants",
				paths:  []string{path.Join(level.folder, "S"+e.Name[1:])},
			})
		}
	}
	if found {
		return nil
	}
	script := t.load(name).file.path
	for _, level := range runlevels {
		p := path.Join(level.folder, "S01"+path.Base(script))
		if err := t.draft.Link(p, "", "../init.d/"+path.Base(script)); err != nil {
			return err
		}
		t.addPull(level.target, &pull{
			name:   name,
			folder: level.target + ".wants",
			paths:  []string{p},
		})
	}
	return nil
}

func (t *Turner) addLink(u *unit, puller, folder string) error {
	standing := slices.ContainsFunc(t.pulledAs[u.name], func(p *pull) bool {
		return !p.hidden && p.folder == puller+folder
	})
	if standing || !validName(puller) {
		return nil
	}
	p := path.Join(t.admin(), puller+folder, u.name)
	if err := t.plant(p, u.file.path); err != nil {
		return err
	}
	t.addPull(puller, &pull{name: u.name, folder: puller + folder, paths: []string{p}})
	return nil
}
