package autostart

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
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/desktop"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
)

// Mechanism is the mechanism of items that a desktop launches.
const Mechanism = "autostart"

// prefix begins the ids of programs.
const prefix = "program:"

const (
	machineFolder = "/etc/xdg/autostart"
	homeFolder    = ".config/autostart"
	maxText       = 1 << 20
)

// Entries are a machine's autostart entries.
type Entries struct {
	root     *machine.Root
	finder   *launch.Finder
	language string // of titles, as in locale(7)
	users    []account.User
	sessions []desktop.Session
	starters map[string]bool // of managers' names: their lists launch entries
	unread   []item.Unread
	stopped  Stopped
}

// Stopped says why a user's service manager would not start the unit that it
// makes of an entry; empty where it would.
type Stopped func(user account.User, unit string) string

// Read prepares the survey of a machine for the given users; titles are in the
// given language where entries give them.
func Read(
	r *machine.Root,
	finder *launch.Finder,
	users []account.User,
	stopped Stopped,
	language string,
) *Entries {
	e := &Entries{
		root:     r,
		finder:   finder,
		language: language,
		users:    users,
		stopped:  stopped,
	}
	e.sessions, e.unread = desktop.Sessions(r, func(text []byte) (map[string]string, error) {
		d, err := parse(text)
		return d.keys, err
	})
	return e
}

// Desktop reports whether somebody can log in to a desktop on this machine.
func (e *Entries) Desktop() bool {
	return slices.ContainsFunc(e.sessions, func(s desktop.Session) bool { return s.Installed })
}

// Sessions are those that people can log in to.
func (e *Entries) Sessions() []desktop.Session { return e.sessions }

// LaunchedBy says of which session managers the lists have entries launched. It
// is called before Survey.
func (e *Entries) LaunchedBy(starters map[string]bool) { e.starters = starters }

// Name is the mechanism that items carry.
func (e *Entries) Name() string { return Mechanism }

// Key is the name by which boots know an entry: that of the unit which the
// user's service manager makes of it. An entry of the machine is started for
// each user: its key has no owner.
func (e *Entries) Key(it item.Item) (boot.Key, bool) {
	return boot.Key{Native: unitOf(it.Native), Owner: it.Owner}, true
}

// Unread names the places that could not be read.
func (e *Entries) Unread() []item.Unread { return e.unread }

func (e *Entries) skip(p string, err error) {
	if !errors.Is(err, fs.ErrNotExist) {
		e.unread = append(e.unread, machine.Unread(p, err))
	}
}

// Survey returns the entries of the machine and of each user.
func (e *Entries) Survey() []item.Item {
	items := e.folder(machineFolder, account.User{})
	for i := range items {
		e.forAll(&items[i])
	}
	for _, u := range e.users {
		own := e.folder(path.Join(u.Home, homeFolder), u)
		for i := range own {
			if why := e.stopped(u, unitOf(own[i].Native)); why != "" && own[i].State.Launched() {
				bar(&own[i], why)
			}
		}
		items = append(items, own...)
	}
	return items
}

// unitOf is the name of the unit that a user's service manager makes of an
// entry, systemd-xdg-autostart-generator(8).
func unitOf(name string) string {
	var b strings.Builder
	for i, c := range []byte(strings.TrimSuffix(name, ".desktop")) {
		plain := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
			c == '_' || c == ':' || c == '.' && i > 0
		switch {
		case c == '/':
			b.WriteByte('-')
		case plain:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "\\x%02x", c)
		}
	}
	return "app-" + b.String() + "@autostart.service"
}

// forAll switches off an entry of the machine that reaches none of the people
// who log in. Each has one of the same name, or has it stopped.
func (e *Entries) forAll(it *item.Item) {
	if !it.State.Launched() {
		return
	}
	why := ""
	people := 0
	for _, u := range e.users {
		if u.UID == 0 {
			continue
		}
		people++
		stopped := e.stopped(u, unitOf(it.Native))
		switch {
		case e.overrides(u, it.Native):
			why = "every user has an entry of the same name in its place"
		case stopped != "":
			why = stopped
		default:
			return
		}
	}
	if people > 0 {
		bar(it, why)
	}
}

// bar has an entry be off for what no switch of ours changes.
func bar(it *item.Item, why string) {
	it.State, it.Why, it.Because, it.Barred = item.Off, why, nil, why
}

// overrides reports whether a user has an entry that hides the machine's of the
// same name: any file does, empty or broken ones too.
func (e *Entries) overrides(u account.User, name string) bool {
	return e.root.IsFile(path.Join(u.Home, homeFolder, name))
}

func (e *Entries) folder(folder string, owner account.User) []item.Item {
	entries, err := e.root.ReadDir(folder)
	if err != nil {
		e.skip(folder, err)
		return nil
	}
	entries = slices.DeleteFunc(entries, func(f machine.Entry) bool {
		// the service manager takes entries of any name, but no folders
		return machine.Leftover(f.Name) ||
			f.Kind == machine.Folder && !strings.HasSuffix(f.Name, ".desktop")
	})
	items, are := make([]item.Item, len(entries)), make([]bool, len(entries))
	errs := make([]error, len(entries))
	machine.Each(len(entries), func(i int) {
		p := path.Join(folder, entries[i].Name)
		read := e.root.ReadFile
		if entries[i].Kind == machine.Regular {
			read = e.root.ReadListed
		}
		var text []byte
		if text, errs[i] = read(p, maxText); errs[i] == nil {
			items[i], are[i] = e.item(p, owner, text)
		}
	})
	found := items[:0]
	for i, f := range entries {
		if are[i] {
			found = append(found, items[i])
		}
		if errs[i] != nil { // a link to nothing hides nothing and launches nothing
			p := path.Join(folder, f.Name)
			if info, err := e.root.Stat(p); err != nil || !info.Null {
				e.skip(p, errs[i])
			}
		}
	}
	return found
}

func (e *Entries) item(p string, owner account.User, text []byte) (item.Item, bool) {
	name := path.Base(p)
	it := item.Item{
		ID:      prefix + name,
		Kind:    item.Program,
		Native:  name,
		Title:   strings.TrimSuffix(name, ".desktop"),
		Owner:   owner.Name,
		When:    item.AtLogin,
		State:   item.On,
		File:    p,
		Because: []string{"desktop login", name},
	}
	if owner.Name != "" {
		it.ID += "@" + owner.Name
	}
	d, err := parse(text)
	if err != nil {
		bar(&it, "no desktop launches it: "+err.Error())
		return it, len(text) > 0 && strings.HasSuffix(name, ".desktop")
	}
	if title := d.localised("Name", e.language); title != "" {
		it.Title = title
	}
	for _, category := range list(d.keys["Categories"]) {
		it.Traits = append(it.Traits, "category "+category)
	}
	command, delay := d.command()
	it.Command = command
	program := e.finder.Resolve(launch.Split(it.Command), searchPath)
	it.Program, it.Args = program.Path, launch.Arguments(launch.Split(bare(it.Command)))
	if d.keys["Type"] != "Application" || it.Command == "" {
		return it, d.hidden && e.overridden(name)
	}
	for _, key := range []string{
		"AutostartCondition",
		"X-GNOME-AutostartCondition",
		"X-KDE-autostart-condition",
	} {
		if v := d.keys[key]; v != "" {
			it.Conditions = append(it.Conditions, key+"="+v)
		}
	}
	switch why, barred := e.heldBack(d); {
	case barred:
		bar(&it, why)
	case why != "":
		it.State, it.Why, it.Because = item.Off, why, nil
	case program.Missing != "":
		it.State, it.Why = item.Broken, program.Missing+" is not there"
	case delay > 0:
		it.State, it.When, it.Fires = item.Delayed, item.Later, fmt.Sprintf("%d s after login",
			delay)
	}
	return it, true
}

// overridden reports whether the machine has an entry of this name, which a
// user's would hide.
func (e *Entries) overridden(name string) bool {
	_, err := e.root.Stat(path.Join(machineFolder, name))
	return err == nil
}

// heldBack says why no desktop on this machine launches the entry; empty when
// one does. Barred: it is for nothing that a switch of ours changes.
func (e *Entries) heldBack(d entry) (why string, barred bool) {
	if d.hidden {
		return "switched off by Hidden=true", false
	}
	if try := d.keys["TryExec"]; try != "" && !e.finder.IsFile(e.finder.Look(try, searchPath)) {
		return "its TryExec program " + try + " is not there", true
	}
	if len(e.sessions) == 0 {
		return withoutSession(d)
	}
	best := against{rank: len(e.sessions) + mostRank}
	for _, s := range e.sessions {
		h := e.by(s, d)
		if h.why == "" {
			return "", false
		}
		if h.rank < best.rank {
			best = h
		}
	}
	return best.why, best.rank != ofSwitch
}

// An against is why a session does not launch an entry.
type against struct {
	why  string
	rank int // of several sessions the lowest is told
}

// The ranks of reasons: what a switch changes comes first.
const (
	ofSwitch = iota
	ofPhase
	ofDesktop
	ofManager
	mostRank
)

// withoutSession is why an entry is not launched where nobody can log in to a
// desktop: others may do it.
func withoutSession(d entry) (why string, barred bool) {
	skip, err := boolean(d.keys["X-systemd-skip"])
	only := list(d.keys["OnlyShowIn"])
	switch phase := d.keys[phaseKey]; {
	case phase != "":
		return noPhase(phase), true
	case err == nil && skip:
		return "switched off by X-systemd-skip", false
	case len(only) > 0:
		return "it is for " + strings.Join(only, ", ") + " only, and no desktop is installed", true
	}
	return "", false
}

const phaseKey = "X-GNOME-Autostart-Phase"

func noPhase(phase string) string {
	return "its phase " + phase + " is started by a session manager that this machine does " +
		"not have"
}

// by says why a session does not launch an entry; no reason where it does, or
// where that is not known.
func (e *Entries) by(s desktop.Session, d entry) against {
	m := s.Manager
	only, not := list(d.keys["OnlyShowIn"]), list(d.keys["NotShowIn"])
	in := func(set []string) bool {
		return slices.ContainsFunc(s.Names, func(n string) bool { return slices.Contains(set, n) })
	}
	if len(only) > 0 && !in(only) || in(not) {
		return against{"not for the desktop of this machine (" + e.desktops() + ")", ofDesktop}
	}
	if phase := d.keys[phaseKey]; phase != "" && m.Phases == desktop.Leaves {
		return against{noPhase(phase), ofPhase}
	}
	if skip, err := boolean(d.keys["X-systemd-skip"]); err == nil && skip &&
		m.Entries == desktop.Units {
		return against{"switched off by X-systemd-skip", ofSwitch}
	}
	for _, key := range m.Off {
		if on, err := boolean(d.keys[key]); err == nil && !on {
			return against{"switched off by " + key + "=false", ofSwitch}
		}
	}
	if m.Entries == desktop.Nobody && !e.starters[m.Name] {
		return against{m.Name + " launches no autostart entries, and its lists call nothing " +
			"that does", ofManager}
	}
	return against{}
}

// desktops names the desktops of the machine.
func (e *Entries) desktops() string {
	var names []string
	for _, s := range e.sessions {
		name := strings.Join(s.Names, ";")
		if name = cmp.Or(name, s.Manager.Name); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, ", ")
}

var searchPath = []string{"/usr/local/bin", "/usr/bin", "/bin", "/usr/local/games", "/usr/games"}

// Turner returns what turns items; its edits go into d.
func (e *Entries) Turner(d *machine.Draft) item.Turner { return turner{e, d} }

type turner struct {
	*Entries
	draft *machine.Draft
}

// Turn plans the entry's Hidden key, or that its program is held back. The
// machine's entries are turned for all users.
func (e turner) Turn(it item.Item, to item.State, by time.Duration) error {
	d, home := e.draft, ""
	if i := slices.IndexFunc(e.users, func(u account.User) bool {
		return u.Name == it.Owner
	}); i >= 0 && it.Owner != "" {
		home = e.users[i].Home
	}
	if to != item.Off && it.Barred != "" {
		return errors.New(it.Barred)
	}
	setTo := func(text []byte) ([]byte, error) {
		switch to {
		case item.Off:
			return setHidden(text, true)
		case item.Delayed:
			return setDelay(switchedOn(text), int(by.Seconds()))
		}
		return setDelay(switchedOn(text), 0)
	}
	now, err := d.Node(it.File, home)
	if err != nil {
		return err
	}
	if home == "" || now.Kind != change.Absent {
		return d.Rewrite(it.File, home, setTo)
	}
	text, err := e.root.ReadFile(path.Join(machineFolder, it.Native), maxText)
	if err == nil {
		text, err = setTo(text)
	}
	if err != nil {
		return err
	}
	return d.Create(it.File, home, text)
}

// Lookup returns the item that an entry of the machine is to one user who has
// none of its name. What is turned is an entry of theirs in its place.
func (e *Entries) Lookup(id string, of item.Survey) (item.Item, bool) {
	at := strings.LastIndex(id, "@")
	if at < 0 {
		return item.Item{}, false
	}
	it, ok := of.Find(item.SafeID(id[:at]))
	i := slices.IndexFunc(e.users, func(u account.User) bool { return u.Name == id[at+1:] })
	if !ok || i < 0 || it.Mechanism != Mechanism || it.Owner != "" ||
		e.overrides(e.users[i], it.Native) {
		return item.Item{}, false
	}
	it.ID, it.Owner = id, e.users[i].Name
	it.File = path.Join(e.users[i].Home, homeFolder, it.Native)
	return it, true
}
