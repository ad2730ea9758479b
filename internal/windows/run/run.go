// Package run reads what a Windows machine launches at a login out of the
// registry: its Run lists, and what stands beside them.
package run

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
)

// Mechanism names items of this package.
const Mechanism = "run"

const (
	current  = registry.CurrentVersion
	wow      = `Wow6432Node\`
	approved = registry.Approved
	policies = current + `\Policies\Explorer`
	winlogon = registry.CurrentNT + `\Winlogon`
)

// A reader reads what the registry launches at logins.
type reader struct {
	reg       *registry.Registry
	finder    launch.Finder
	approvals bool // the version honours them
	items     []launched.Item
}

// A way is how an entry is switched.
type way struct {
	refused string // why it is not, as a clause
	bound   string // why it stays off whatever is noted of it
	note    string // the address of the note that it is off
	value   string // its own, where it is taken away instead
	empty   bool   // its value stays, and says nothing
}

// Read reads the lists of the machine and of all its users.
func Read(reg *registry.Registry) []launched.Item {
	l := &reader{reg: reg, finder: launch.Finder{Reg: reg}, approvals: reg.Approves()}
	l.machine()
	for _, u := range reg.Users {
		if u.Hive != nil && u.Account != registry.System {
			l.user(u)
		}
	}
	l.session()
	return l.items
}

// A list is one key of entries.
type list struct {
	place    string // in ids
	key      registry.Place
	user     *registry.User // nil for the machine's
	narrow   bool           // it is the list of 32-bit programs
	once     bool           // each entry is launched once, and then taken away
	approval registry.Place // where Windows notes what is off
	policy   string         // the policy that switches the whole list off
	why      string         // what is to be known of every entry, as a clause
	fixed    string         // why none of them is switched, as a clause
	fires    string         // when, where that is no login
}

// Why entries of some places are not switched.
const (
	ofPolicy = "a policy launches it, and Windows puts it back: it goes with the policy"
	ofOnce   = "it is launched once, and Windows itself takes it away then"
	ofLogin  = "every login goes through it; were it wrong, nobody could log in. Change it in " +
		"the running Windows only"
	ofSetup   = "it sets something up once for each user, and is done then"
	ofSession = "it runs before any service does, and with it wrong the machine may not " +
		"start: it is changed in the running Windows alone"
)

func (l *reader) machine() {
	for _, v := range []struct{ view, end string }{{"", ""}, {wow, "32"}} {
		software := func(p string) registry.Place { return l.reg.Machine(`SOFTWARE\` + v.view + p) }
		l.entries(list{
			place:    "run" + v.end,
			key:      software(current + `\Run`),
			narrow:   v.end != "",
			approval: l.reg.Machine(`SOFTWARE\` + approved + `\Run` + v.end),
			policy:   "DisableLocalMachineRun",
		})
		once := []registry.Place{software(current + `\RunOnce`)}
		once = append(once, l.reg.Keys(software(current+`\RunOnceEx`))...)
		for _, key := range once {
			l.entries(list{
				place:  "once" + v.end,
				key:    key,
				narrow: v.end != "",
				once:   true,
				policy: "DisableLocalMachineRunOnce",
				fixed:  ofOnce,
			})
		}
	}
	l.entries(list{
		place: "policy",
		key:   l.reg.Machine(`SOFTWARE\` + policies + `\Run`),
		why:   "a policy launches it",
		fixed: ofPolicy,
	})
	l.chain(l.reg.Machine(`SOFTWARE\`+winlogon), nil)
	l.setups()
	l.scripts()
	l.rare()
}

func (l *reader) user(u *registry.User) {
	own := func(p string) registry.Place { return l.reg.Of(u, p) }
	why := ""
	if u.Account == registry.New {
		why = "everybody gets it who logs in for the first time"
	}
	l.entries(list{
		place:    "run",
		key:      own(`Software\` + current + `\Run`),
		user:     u,
		approval: own(`Software\` + approved + `\Run`),
		policy:   "DisableCurrentUserRun",
		why:      why,
	})
	l.entries(list{
		place:  "once",
		key:    own(`Software\` + current + `\RunOnce`),
		user:   u,
		once:   true,
		policy: "DisableCurrentUserRunOnce",
		why:    why,
		fixed:  ofOnce,
	})
	l.entries(list{
		place: "policy",
		key:   own(`Software\` + policies + `\Run`),
		user:  u,
		why:   cmp.Or(why, "a policy launches it"),
		fixed: ofPolicy,
	})
	old := own(`Software\` + registry.CurrentNT + `\Windows`)
	for _, name := range []string{"load", "run"} {
		l.single(list{key: old, user: u, why: why}, name, name, true)
	}
	l.single(list{
		key:  own("Environment"),
		user: u,
		why:  cmp.Or(why, "it is a script of the login"),
	}, "script", "UserInitMprLogonScript", false)
	l.chain(own(`Software\`+winlogon), u)
	l.rareOf(u)
}

// single adds the line of one value that is no list; empty says that Windows
// expects the value to be there.
func (l *reader) single(of list, name, value string, empty bool) {
	if line, ok := l.reg.Text(of.key, value); ok && strings.TrimSpace(line) != "" {
		l.add(entry{
			list: of, name: name, value: value, line: line, empty: empty,
		})
	}
}

// entries adds the values of a list.
func (l *reader) entries(of list) {
	for _, v := range l.reg.Values(of.key) {
		line, ok := v.Text()
		if !ok {
			l.reg.Unread = append(l.reg.Unread, item.Unread{
				Path:   of.key.Name + `\` + v.Name,
				Reason: "is not text, so it launches nothing",
			})
			continue
		}
		name := v.Name
		if of.once { // signs before it say when it is taken away
			name = strings.TrimLeft(name, "!*")
			line = piped(line)
		}
		l.add(entry{list: of, name: name, value: v.Name, line: line, title: name})
	}
}

// piped is the command of a line in the form LIBRARY|FUNCTION|ARGUMENTS, or
// ||COMMAND; any other line is one itself.
func piped(line string) string {
	if command, ok := strings.CutPrefix(line, "||"); ok {
		return command
	}
	if library, _, ok := strings.Cut(line, "|"); ok {
		return `"` + library + `"`
	}
	return line
}

// An entry is one line of a list.
type entry struct {
	list
	name  string // in its id
	title string // empty where it has none
	value string // its value's name
	line  string
	aside bool // it belongs to the login itself
	empty bool // it is taken away by a text that says nothing
}

// add makes an item of an entry.
func (l *reader) add(e entry) *item.Item {
	target := l.finder.Find(launch.Line{Text: e.line, User: e.user, Narrow: e.narrow})
	native, owner := e.key.Name+`\`+e.value, ""
	if e.user != nil {
		owner = e.user.Name
	}
	it := item.Item{
		ID:         naming.ID(item.Program, e.place, e.name, owner, native),
		Kind:       item.Program,
		Native:     native,
		Title:      cmp.Or(e.title, stem(target.Program), "without a name"),
		Owner:      owner,
		When:       item.AtLogin,
		State:      item.On,
		Why:        e.why,
		Because:    []string{e.key.Name},
		Command:    e.line,
		File:       e.key.Name,
		Conditions: slices.Clone(target.Risks),
		Aside:      e.aside,
	}
	if text := launch.Encoded(e.line); text != "" {
		it.Conditions = append(it.Conditions, "its encoded command is: "+text)
	}
	if e.place != "" {
		it.Traits = append(it.Traits, "list "+e.place)
	}
	if e.fires != "" {
		it.When, it.Fires = item.Later, e.fires
	}
	if e.once {
		it.Why = "it is launched once, and then taken from the list"
	}
	target.Tell(&it)
	if why := l.off(e); why != "" {
		if it.State == item.Broken {
			why += "; besides, " + it.Why
		}
		it.State, it.Why = item.Off, why
	}
	l.items = append(l.items, launched.Item{Item: it, Turn: l.way(e).turn})
	return &l.items[len(l.items)-1].Item
}

// stem is the name of a program without its end.
func stem(p string) string {
	name := p[strings.LastIndexAny(p, `\/`)+1:]
	return strings.TrimSuffix(name, path.Ext(name))
}

// way tells how an entry is switched.
func (l *reader) way(e entry) way {
	w := way{refused: e.fixed, bound: l.offByPolicy(e), empty: e.empty}
	known := false
	if e.approval.Name != "" && l.approvals {
		w.note, known = e.approval.Address(e.value)
	} else {
		w.value, known = e.key.Address(e.value)
	}
	if !known && w.refused == "" {
		w.refused = "its name is not text"
	}
	return w
}

// offByPolicy says which policy switches the whole list of an entry off; empty
// where none does.
func (l *reader) offByPolicy(e entry) string {
	for _, p := range l.policiesOf(e.user) {
		if n, _ := l.reg.Number(p, e.policy); e.policy != "" && n != 0 {
			return "a policy (" + e.policy + ") switches the whole list off"
		}
	}
	return ""
}

// off says why an entry is not launched although it stands there; empty where
// it is.
func (l *reader) off(e entry) string {
	if why := l.offByPolicy(e); why != "" {
		return why
	}
	if !l.approvals {
		return ""
	}
	return l.reg.SwitchedOff(e.approval, e.value, e.user)
}

// policiesOf are the keys whose values switch lists off.
func (l *reader) policiesOf(u *registry.User) []registry.Place {
	all := []registry.Place{l.reg.Machine(`SOFTWARE\` + policies)}
	if u != nil {
		all = append(all, l.reg.Of(u, `Software\`+policies))
	}
	return all
}

// chain adds what stands between the login and the desktop. The system's own
// part of it only where all items are shown; what was added to it always.
func (l *reader) chain(key registry.Place, u *registry.User) {
	for _, c := range []struct{ value, own string }{
		{"Userinit", "userinit.exe"},
		{"Shell", "explorer.exe"},
		{"VmApplet", "systempropertiesperformance.exe"},
		{"Taskman", "taskman.exe"},
	} {
		text, ok := l.reg.Text(key, c.value)
		if !ok {
			continue
		}
		n := 0
		for line := range strings.SplitSeq(text, ",") {
			if line = strings.TrimSpace(line); line == "" {
				continue
			}
			n++
			first, _, _ := strings.Cut(strings.ToLower(line), " ")
			e := entry{
				list: list{
					place: strings.ToLower(c.value), key: key, user: u, fixed: ofLogin,
				},
				name:  fmt.Sprint(n),
				value: c.value,
				line:  line,
				aside: strings.HasSuffix(strings.Trim(first, `"`), c.own),
			}
			e.why = "it was added to what every login goes through"
			if e.aside {
				e.why = "every login goes through it"
			}
			l.add(e)
		}
	}
}

// setups adds what is set up once for each user: it is launched for those whose
// own registry does not say that it was.
func (l *reader) setups() {
	const components = `Microsoft\Active Setup\Installed Components`
	for _, view := range []string{"", wow} {
		for _, k := range l.reg.Keys(l.reg.Machine(`SOFTWARE\` + view + components)) {
			line, ok := l.reg.Text(k, "StubPath")
			installed, known := l.reg.Number(k, "IsInstalled")
			if !ok || line == "" || known && installed == 0 {
				continue
			}
			version, _ := l.reg.Text(k, "Version")
			var left []string
			for _, u := range l.reg.Users {
				done := l.reg.Of(u, `Software\`+view+components+`\`+k.Key.Name())
				if u.Account == registry.Person && u.Hive != nil && !l.doneWith(done, version) {
					left = append(left, u.Name)
				}
			}
			title, _ := l.reg.Text(k, "")
			it := l.add(entry{
				list:  list{place: "setup", key: k, narrow: view != "", fixed: ofSetup},
				name:  k.Key.Name(),
				title: title,
				value: "StubPath",
				line:  line,
				aside: true,
			})
			it.Why = "it is launched once for each user, and next for " + strings.Join(left, ", ")
			if len(left) == 0 {
				it.State, it.Why = item.Off, "every user has had it"
			}
		}
	}
}

// doneWith reports whether a user's mark is of that version or a newer one.
func (l *reader) doneWith(done registry.Place, version string) bool {
	have, _ := l.reg.Text(done, "Version")
	return done.There && compareVersions(have, version) >= 0
}

// compareVersions compares numbers divided by commas, as 1,0,0,12; what is no
// number counts as 0.
func compareVersions(a, b string) int {
	x, y := strings.Split(a, ","), strings.Split(b, ",")
	number := func(parts []string, i int) (n int) {
		if i < len(parts) {
			_, _ = fmt.Sscan(parts[i], &n)
		}
		return n
	}
	for i := range max(len(x), len(y)) {
		if c := cmp.Compare(number(x, i), number(y, i)); c != 0 {
			return c
		}
	}
	return 0
}

// session adds what runs before any service does.
func (l *reader) session() {
	manager := l.reg.Machine(`SYSTEM\CurrentControlSet\Control\Session Manager`)
	for _, value := range []string{"BootExecute", "SetupExecute"} {
		v, ok := l.reg.Value(manager, value)
		if !ok {
			continue
		}
		lines, _ := v.Texts()
		for _, line := range lines {
			native := manager.Name + `\` + value
			name, _, _ := strings.Cut(line, " ")
			l.items = append(l.items, launched.Item{Item: item.Item{
				ID:      naming.ID(item.Service, "session", name, "", native),
				Kind:    item.Service,
				Native:  native,
				Title:   line,
				When:    item.AtBoot,
				State:   item.On,
				Why:     "it runs before any service does",
				Because: []string{manager.Name},
				Command: line,
				File:    manager.Name,
				Aside:   true,
			}, Turn: launched.Refuse(errors.New(ofSession))})
		}
	}
}

// turn plans an entry on or off. It does so by the note that Windows itself
// keeps of that. Where it keeps none, it takes the entry away.
func (w way) turn(d *machine.Draft, _ item.Item, to item.State, _ time.Duration) error {
	switch {
	case w.refused != "":
		return errors.New(w.refused)
	case to == item.Delayed:
		return registry.ErrNoDelay
	case to == item.On && w.bound != "":
		return errors.New(w.bound)
	case w.note != "":
		return registry.Approve(d, w.note, to == item.On)
	case to == item.On:
		return errors.New("it is on")
	case !w.empty:
		return d.Remove(w.value, "")
	}
	n, err := d.Node(w.value, "")
	if err != nil {
		return err
	}
	return d.Set(w.value, n.Type, []byte{0, 0}) // a text without letters
}
