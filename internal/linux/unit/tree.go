// Package unit reads the units of a Linux machine's service managers from its
// disk. It tells which of them the next boot or login launches, by which chain.
// It plans which edits switch one off or on (systemd.unit(5),
// systemd.service(5)).
//
// It works on files alone and asks no service manager. What is under /run is
// gone at the next boot and is not read, but for what generators made of the
// running machine (generated.go). A [Source] reads files once for all; a [Tree]
// is what one service manager makes of them.
package unit

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"calmdawn/internal/linux/account"
	"calmdawn/internal/machine"
)

// systemPath lists the folders of the system's unit files, the strongest first.
var systemPath = []string{
	"/etc/systemd/system.control",
	"/etc/systemd/system",
	"/etc/systemd/system.attached",
	"/usr/local/lib/systemd/system",
	"/usr/lib/systemd/system",
	"/lib/systemd/system", // its own folder only where /lib is no link
}

// userPath lists the folders of the users' unit files; those that do not begin
// with "/" stand in the home.
var userPath = []string{
	".config/systemd/user.control",
	".config/systemd/user",
	"/etc/xdg/systemd/user",
	"/etc/systemd/user",
	".local/share/systemd/user",
	"/usr/local/share/systemd/user",
	"/usr/share/systemd/user",
	"/usr/local/lib/systemd/user",
	"/usr/lib/systemd/user",
	"/lib/systemd/user",
}

const (
	adminFolder = "/etc/systemd/system"
	// stronger than adminFolder: masks what stands there
	maskFolder = "/etc/systemd/system.control"
	maxText    = 32 << 20
	maxTexts   = 256 << 20 // of all unit files together
)

// A file is what stands for a unit name in the search path.
type file struct {
	path   string // of the text, links followed; empty when hidden
	entry  string // of the name in the search path
	level  int    // index in the tree's folders
	alias  string // the name that this one is another name for
	script bool   // path is an old init script
	made   string // path is no unit, but of this kind, of which a generator makes one
	hidden string // why the name has no text although something stands there
	masked bool   // that is that somebody masked it
}

// A pull is a name in a .wants, .requires or .upholds folder.
type pull struct {
	name   string
	folder string // the folder's base name: "multi-user.target.wants"
	paths  []string
	hidden bool // the strongest entry is not a link to a unit, which hides weaker ones
}

// A Tree is the unit files that one service manager reads, indexed: the
// system's, or that of one user. It remembers what it worked out, and is for
// one goroutine at a time; a [Turner] works on a copy.
type Tree struct {
	*Source
	owner    account.User // of a user's manager; without a name for the system's
	home     string       // the owner's, links followed
	folders  []string     // the search path as it is on this machine, links followed
	files    map[string]*file
	pulls    map[string][]*pull // by the unit that pulls
	pulledAs map[string][]*pull // the same by the name that is pulled in
	dropins  map[string][]string
	names    map[string][]string // alias names by canonical name
	reached  map[string]reached  // by the goals
	order    *orders             // nil while nobody asked
	goals    []string            // besides the default one
	later    map[string]string   // what is started beside the goals, and when
	disk     *Tree               // the same without what generators made; nil where that is none
	more     []string            // specifiers, with their values

	mu    sync.Mutex // guards the cache
	cache map[string]*unit
}

// System indexes the unit files of the system's service manager, with the old
// init scripts that it wraps.
func (src *Source) System() *Tree {
	t := src.system(systemPath)
	if src.root.Live() {
		t = src.running(t)
	}
	return t
}

func (src *Source) system(folders []string) *Tree {
	t := src.tree(account.User{}, folders)
	t.addScripts()
	t.addRCLocal()
	t.addQuadlets()
	t.applyPresets()
	t.loadFiles()
	return t
}

// User indexes the unit files of a user's service manager.
func (src *Source) User(u account.User) *Tree {
	var folders []string
	for _, folder := range userPath {
		if folder[0] != '/' {
			folder = path.Join(u.Home, folder)
		}
		folders = append(folders, folder)
	}
	t := src.tree(u, folders)
	t.addQuadlets()
	return t
}

func (src *Source) tree(owner account.User, folders []string) *Tree {
	t := &Tree{
		Source:   src,
		owner:    owner,
		files:    map[string]*file{},
		pulls:    map[string][]*pull{},
		pulledAs: map[string][]*pull{},
		dropins:  map[string][]string{},
		names:    map[string][]string{},
		cache:    map[string]*unit{},
		reached:  map[string]reached{},
	}
	t.more = t.specifiers()
	if owner.Name != "" {
		t.home, _ = src.root.Resolve(owner.Home) // without a home nothing in it is theirs
	}
	for _, folder := range folders {
		real, err := src.root.Resolve(folder)
		if errors.Is(err, fs.ErrNotExist) || slices.Contains(t.folders, real) {
			continue
		}
		if err != nil {
			t.skip(folder, err)
			continue
		}
		t.folders = append(t.folders, real)
	}
	if owner.Name == "" { // the system's units are many: room for them at once
		total := 0
		for _, folder := range t.folders {
			entries, _ := t.list(folder)
			total += len(entries)
		}
		t.files, t.cache, t.pulledAs = make(map[string]*file,
			total), make(map[string]*unit, total), make(map[string][]*pull, total)
	}
	for level, folder := range t.folders {
		t.readFolder(folder, level)
	}
	for name, f := range t.files {
		if f.alias != "" {
			t.names[f.alias] = append(t.names[f.alias], name)
		}
	}
	for _, names := range t.names {
		slices.Sort(names)
	}
	return t
}

func (t *Tree) readFolder(folder string, level int) {
	entries, err := t.list(folder)
	if err != nil {
		t.skip(folder, err)
		return
	}
	t.fetch(folder, entries)
	for _, e := range entries {
		p := folder + "/" + e.Name
		base, ext := strings.TrimSuffix(e.Name, path.Ext(e.Name)), path.Ext(e.Name)
		switch {
		case ext == ".d" && e.Kind != machine.Regular:
			t.readDropins(p, e.Name)
		case ext == ".wants" || ext == ".requires" || ext == ".upholds" && t.readsUpholds():
			if validName(base) && e.Kind != machine.Regular {
				t.readPulls(p, base)
			}
		case validName(e.Name):
			if _, stronger := t.files[e.Name]; !stronger {
				if f := t.readEntry(p, e, level); f != nil {
					t.files[e.Name] = f
				}
			}
		}
	}
}

func (t *Tree) readDropins(folder, name string) {
	entries, err := t.list(folder)
	if err != nil {
		t.skip(folder, err)
		return
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name, ".conf") && e.Name[0] != '.' {
			t.dropins[name] = append(t.dropins[name], path.Join(folder, e.Name))
		}
	}
}

func (t *Tree) readPulls(folder, puller string) {
	entries, err := t.list(folder)
	if err != nil {
		t.skip(folder, err)
		return
	}
	base := path.Base(folder)
	for _, e := range entries {
		if !validName(e.Name) || e.Name[0] == '.' {
			continue
		}
		p := folder + "/" + e.Name
		if i := slices.IndexFunc(t.pulledAs[e.Name], func(q *pull) bool {
			return q.folder == base
		}); i >= 0 {
			q := t.pulledAs[e.Name][i]
			q.paths = append(q.paths, p)
			continue
		}
		q := &pull{
			name:   e.Name,
			folder: base,
			paths:  []string{p},
			hidden: e.Kind != machine.Symlink,
		}
		q.hidden = q.hidden || e.Target == "" || e.Target == "/dev/null"
		t.addPull(puller, q)
	}
}

func (t *Tree) addPull(puller string, p *pull) {
	t.pulls[puller] = append(t.pulls[puller], p)
	t.pulledAs[p.name] = append(t.pulledAs[p.name], p)
}

// readEntry works out what a name in the search path stands for; nil where the
// service manager passes it over.
func (t *Tree) readEntry(p string, e machine.Entry, level int) *file {
	f := &file{path: p, entry: p, level: level}
	switch e.Kind {
	case machine.Regular:
		if t.texts[p].empty {
			f.path, f.hidden, f.masked = "", "masked by an empty file at "+p, true
		}
		return f
	case machine.Symlink:
		return t.readLink(f, e.Target)
	case machine.FIFO, machine.Socket, machine.Device:
		t.skip(p, &machine.Refusal{Path: p, Reason: "is " + e.Kind.String() + " where a unit " +
			"file is expected; not opened"})
	}
	return nil
}

func (t *Tree) readLink(f *file, target string) *file {
	name := path.Base(f.entry)
	if target == "/dev/null" {
		f.path, f.hidden, f.masked = "", "masked by "+f.entry, true
		return f
	}
	real, err := t.root.Resolve(f.entry)
	if errors.Is(err, fs.ErrNotExist) {
		f.path, f.hidden = "", "its link "+f.entry+" leads nowhere"
		return f
	}
	if err != nil {
		var refusal *machine.Refusal
		t.skip(f.entry, err)
		if errors.As(err, &refusal) && path.Base(target) == name {
			return nil // the service manager passes a link to itself over
		}
		f.path, f.hidden = "", "its link "+f.entry+" cannot be followed"
		return f
	}
	info, err := t.root.Lstat(real)
	switch {
	case err == nil && (info.Null || info.Kind == machine.Regular && info.Size == 0):
		f.path, f.hidden, f.masked = "", "masked by "+f.entry, true
	case err == nil && info.Kind != machine.Regular:
		t.skip(f.entry, &machine.Refusal{
			Path:   f.entry,
			Reason: "leads to " + info.Kind.String() + "; not opened",
		})
		return nil
	default:
		f.path = real
	}
	if other := path.Base(real); other != name && validName(other) &&
		slices.Contains(t.folders, path.Dir(real)) {
		f.alias = other
		if n, o := splitName(name), splitName(other); o.isTemplate() && n.instance != "" {
			f.alias = o.withInstance(n.instance)
		}
	}
	return f
}

// A unit is one loaded unit: its text with its drop-ins.
type unit struct {
	name     string // canonical: aliases resolved
	file     *file  // nil when the name stands nowhere
	hidden   string // why it cannot be launched although something stands there: masked, refused
	masked   bool
	settings []setting
	own      int // how many of the settings stand in the unit's own file; the others in drop-ins
	dropins  []string
	more     []string // specifiers of the service manager, with their values
}

// load returns the unit of a name, which may be an alias or an instance; one
// that is nowhere has no file.
func (t *Tree) load(name string) *unit {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.find(name)
}

func (t *Tree) find(name string) *unit {
	if u, ok := t.cache[name]; ok {
		return u
	}
	u := &unit{name: name, more: t.more}
	t.cache[name] = u
	f := t.files[name]
	if n := splitName(name); f == nil && n.instance != "" {
		f = t.files[n.template()]
		if f != nil && f.alias != "" {
			alias := *f
			alias.alias = splitName(f.alias).withInstance(n.instance)
			f = &alias
		}
	}
	if f == nil {
		return u
	}
	if f.alias != "" && f.alias != name {
		canonical := t.find(f.alias)
		t.cache[name] = canonical
		return canonical
	}
	t.read(u, f)
	return u
}

// loadFiles loads the units of all plain files at once, on all processors.
func (t *Tree) loadFiles() {
	units := make([]*unit, 0, len(t.files))
	for name, f := range t.files {
		if _, known := t.cache[name]; !known && f.alias == "" {
			u := &unit{name: name, more: t.more}
			t.cache[name] = u
			units = append(units, u)
		}
	}
	machine.Each(len(units), func(i int) { t.read(units[i], t.files[units[i].name]) })
}

// read fills a unit in from its file and its drop-ins.
func (t *Tree) read(u *unit, f *file) {
	u.file = f
	if f.hidden != "" {
		u.hidden, u.masked = f.hidden, f.masked
		return
	}
	why := ""
	switch {
	case f.script:
		u.settings, why = withoutFaults(t.scriptSettings(f.path))
	case f.made != "":
		u.settings, why = t.quadletSettings(f)
	default:
		text := t.text(f.path)
		if text.err != nil {
			u.hidden = fmt.Sprintf("%s: %s", f.path, machine.Reason(text.err))
			return
		}
		u.settings, why = text.settings, text.refused
	}
	u.own = len(u.settings)
	for _, p := range t.dropinsOf(u) {
		more := t.text(p)
		u.settings = append(u.settings[:len(u.settings):len(u.settings)], more.settings...)
		u.dropins = append(u.dropins, p)
		why = cmp.Or(why, more.refused)
	}
	u.hidden = cmp.Or(why, u.refused())
}

// refused says why the service manager refuses a service whose text it can
// read.
func (u *unit) refused() string {
	if splitName(u.name).suffix != "service" {
		return ""
	}
	starts, kind := 0, u.serviceType()
	for _, value := range u.list("Service", "ExecStart") {
		line, _ := readLaunch(value)
		starts += line.commands
	}
	stays := isTrue(u.last("Service", "RemainAfterExit"))
	ends := u.last("Unit", "SuccessAction") != ""
	switch {
	case starts > 1 && kind != "oneshot":
		return "the service manager refuses it: several ExecStart= outside Type=oneshot"
	case starts == 0 && !ends && len(u.list("Service", "ExecStop")) == 0,
		starts == 0 && kind != "oneshot",
		starts == 0 && !ends && !stays:
		return "the service manager refuses it: it has no ExecStart="
	case kind == "dbus" && u.last("Service", "BusName") == "":
		return "the service manager refuses it: it has no BusName="
	}
	return ""
}

// serviceType is the type of a service, which has one where none is set.
func (u *unit) serviceType() string {
	kind := ""
	for _, value := range u.list("Service", "Type") {
		switch value {
		case "simple", "exec", "forking", "oneshot", "dbus", "notify", "notify-reload", "idle":
			kind = value
		}
	}
	switch {
	case kind != "":
		return kind
	case u.last("Service", "BusName") != "":
		return "dbus"
	case len(u.list("Service", "ExecStart")) == 0:
		return "oneshot"
	}
	return "simple"
}

// isTrue reads a boolean, systemd.syntax(7).
func isTrue(value string) bool {
	switch strings.ToLower(value) {
	case "1", "yes", "y", "true", "t", "on":
		return true
	}
	return false
}

// dropinsOf lists the drop-ins of a unit in the order in which they apply. Of
// several with one file name the one in the strongest folder of the search path
// counts. There the one counts in the folder that is nearest to the unit's
// name.
func (t *Tree) dropinsOf(u *unit) []string {
	type found struct {
		path        string
		level, away int
	}
	var best map[string]found
	for folder, paths := range t.dropins {
		away, applies := t.away(u, strings.TrimSuffix(folder, ".d"))
		if !applies {
			continue
		}
		for _, p := range paths {
			this := found{p, slices.Index(t.folders, path.Dir(path.Dir(p))), away}
			old, ok := best[path.Base(p)]
			if !ok || this.level < old.level || this.level == old.level && this.away < old.away {
				if best == nil {
					best = map[string]found{}
				}
				best[path.Base(p)] = this
			}
		}
	}
	var paths []string
	for _, name := range slices.Sorted(maps.Keys(best)) {
		paths = append(paths, best[name].path)
	}
	return paths
}

// away tells whether a drop-in folder is for a unit, and how far its name is
// from the unit's. It has the unit's own name or an alias, its template, a
// prefix that ends in "-", or the type of unit alone.
func (t *Tree) away(u *unit, folder string) (int, bool) {
	if folder == u.name || slices.Contains(t.names[u.name], folder) {
		return 0, true
	}
	n := splitName(u.name)
	if n.instance != "" && folder == n.template() {
		return 1, true
	}
	if folder == n.suffix {
		return 1 << 20, true
	}
	prefix, ok := strings.CutSuffix(folder, "."+n.suffix)
	if ok && strings.HasSuffix(prefix, "-") && strings.HasPrefix(n.prefix, prefix) {
		return 2 + len(n.prefix) - len(prefix), true
	}
	return 0, false
}

// last returns the last value of a key, specifiers expanded; empty when it is
// not set.
func (u *unit) last(section, key string) string {
	value := ""
	for _, s := range u.settings {
		if s.section == section && s.key == key {
			value = s.value
		}
	}
	return expand(value, u.name, u.more...)
}

// list returns all values of a key; an empty one resets what stood before.
func (u *unit) list(section, key string) []string {
	var values []string
	for _, s := range u.settings {
		switch {
		case s.section != section || s.key != key:
		case s.value == "":
			values = nil
		default:
			values = append(values, expand(s.value, u.name, u.more...))
		}
	}
	return values
}

// unitNames returns the unit names in all values of some keys. Dependencies
// cannot be reset, and an [Install] section counts in the unit's own file
// alone.
func (u *unit) unitNames(section string, keys ...string) []string {
	var names []string
	settings := u.settings
	if section == "Install" {
		settings = settings[:u.own]
	}
	for _, s := range settings {
		if s.section == section && slices.Contains(keys, s.key) {
			names = append(names, words(expand(s.value, u.name, u.more...))...)
		}
	}
	return names
}

// hasInstall reports whether the unit can be enabled by links.
func (u *unit) hasInstall() bool {
	return len(u.unitNames("Install", "WantedBy", "RequiredBy", "UpheldBy", "Alias", "Also")) > 0
}
