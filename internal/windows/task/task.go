// Package task reads the scheduled tasks of a Windows machine: their files, and
// the scheduler's own list, by which it goes.
package task

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
)

// Mechanism names items of this package.
const Mechanism = "task"

const (
	cache     = `SOFTWARE\` + registry.CurrentNT + `\Schedule\TaskCache`
	mostTasks = 20_000
	deepest   = 32 // folders in folders
)

// A task is one path, by its file, the scheduler's list, or both.
type task struct {
	path   string // \Folder\Name
	file   string // inside the machine; empty where there is none
	listed bool
	id     string // in the list
	secret bool   // the list has nobody who may see it
}

// A reader reads the tasks of a machine.
type reader struct {
	reg    *registry.Registry
	finder launch.Finder
	now    time.Time
	tasks  map[string]*task // by path in upper case
	dark   []string         // paths whose folders could not be read
	items  []launched.Item
	// how many definitions are those that the list has the sums of, and which
	// items are of others
	same    int
	another []int
}

// Read reads the tasks; now is when the next boot is taken to be.
func Read(reg *registry.Registry, now time.Time) []launched.Item {
	l := &reader{reg: reg, finder: launch.Finder{Reg: reg}, now: now, tasks: map[string]*task{}}
	l.list(reg.Machine(cache+`\Tree`), "", 0)
	if dir, err := reg.Find(path.Join(reg.Windows, "System32/Tasks")); err == nil {
		l.files(dir, "", 0)
	} else if !errors.Is(err, fs.ErrNotExist) {
		l.dark = append(l.dark, "")
	}
	for _, key := range slices.Sorted(maps.Keys(l.tasks)) {
		l.add(l.tasks[key])
	}
	l.doubt()
	return l.items
}

// at is the task of a path.
func (l *reader) at(p string) *task {
	key := hive.Upper(p)
	if l.tasks[key] == nil {
		l.tasks[key] = &task{path: p}
	}
	return l.tasks[key]
}

// list reads the scheduler's own list.
func (l *reader) list(place registry.Place, above string, depth int) {
	for _, k := range l.reg.Keys(place) {
		p := above + `\` + k.Key.Name()
		if id, ok := l.reg.Text(k, "Id"); ok && len(l.tasks) < mostTasks {
			t := l.at(p)
			t.listed, t.id = true, id
			_, seen := l.reg.Value(k, "SD")
			t.secret = !seen
		}
		if depth < deepest {
			l.list(k, p, depth+1)
		}
	}
}

// files reads the folder of definitions.
func (l *reader) files(dir, above string, depth int) {
	entries, err := l.reg.Root.ReadDir(dir)
	if err != nil {
		l.reg.Unread = append(l.reg.Unread, machine.Unread(dir, err))
		l.dark = append(l.dark, above)
		return
	}
	for _, e := range entries {
		p := above + `\` + e.Name
		switch {
		case e.Kind == machine.Folder && depth < deepest:
			l.files(path.Join(dir, e.Name), p, depth+1)
		case len(l.tasks) >= mostTasks:
		case e.Kind == machine.Regular || l.reg.Hindered(path.Join(dir, e.Name)) != "":
			l.at(p).file = path.Join(dir, e.Name)
		}
	}
}

// whom is the name of a user that a task means by an id or a name.
func (l *reader) whom(id string) string {
	for _, u := range l.reg.Users {
		if strings.EqualFold(u.SID, id) {
			return u.Name
		}
	}
	return id[strings.LastIndex(id, `\`)+1:]
}

// person is the user of a profile that a task means; empty for none.
func (l *reader) person(id string) string {
	name := l.whom(id)
	for _, u := range l.reg.Users {
		if u.Account == registry.Person && strings.EqualFold(u.Name, name) {
			return u.Name
		}
	}
	return ""
}

// add makes an item of a task.
func (l *reader) add(t *task) {
	it := item.Item{
		Kind:    item.Task,
		Native:  t.path,
		Title:   t.path[strings.LastIndex(t.path, `\`)+1:],
		When:    item.Later,
		State:   item.On,
		Because: []string{"Schedule", t.path},
		File:    t.file,
	}
	defer func() {
		it.ID = naming.Path(item.Task, t.path, "")
		l.items = append(l.items, launched.Item{Item: it, Turn: launched.Refuse(errOnDisk)})
	}()
	if t.file == "" {
		l.cached(t, &it)
		return
	}
	raw, err := l.reg.Root.ReadFile(t.file, maxDefinition)
	if err != nil {
		why := cmp.Or(l.reg.Hindered(t.file), machine.Reason(err))
		l.reg.Unread = append(l.reg.Unread, item.Unread{Path: t.file, Reason: why})
		l.cached(t, &it)
		it.Why, it.Opaque = "its definition cannot be read: "+why, "its definition cannot be read"
		return
	}
	d, wrong := parse(raw)
	if wrong != nil {
		it.State, it.Why = item.Broken, "its definition is damaged"
		return
	}
	it.Summary = strings.TrimSpace(d.Info.Description)
	switch l.known(t, raw) {
	case same:
		l.same++
	case another:
		l.another = append(l.another, len(l.items))
	}
	l.action(d, &it)
	l.moment(d, &it)
	if yes(d.Settings.Hidden) || t.listed && t.secret {
		it.Traits = append(it.Traits, "hidden")
		it.Conditions = append(it.Conditions, "ordinary views do not show it")
	}
	if ran := l.lastRun(t); ran != "" && it.State.Launched() {
		it.Fires = strings.TrimPrefix(it.Fires+"; "+ran, "; ")
	}
	switch {
	case t.listed || !it.State.Launched():
	case l.reg.Software == nil:
		it.Unsure, it.Why = true, "the scheduler's own list, by which it goes, cannot be read"
	default:
		it.State, it.Why = item.Off, "the scheduler's own list, by which it goes, does not have it"
	}
}

// cached fills in what the scheduler's list alone tells of a task.
func (l *reader) cached(t *task, it *item.Item) {
	for _, kind := range []struct {
		key  string
		when item.When
	}{{"Boot", item.AtBoot}, {"Logon", item.AtLogin}} {
		if l.reg.Machine(cache + `\` + kind.key + `\` + t.id).There {
			it.When = kind.when
			break
		}
	}
	it.Unsure = true
	if it.When == item.Later {
		it.Fires = "at a time that is not known"
	}
	if v, ok := l.reg.Value(l.reg.Machine(cache+`\Tasks\`+t.id), "Actions"); ok && t.id != "" {
		if data, err := v.Data(); err == nil {
			if d := cachedActions(data); len(d.Actions.Exec)+len(d.Actions.Handler) > 0 {
				l.action(d, it)
			}
		}
	}
	if t.file != "" {
		return
	}
	it.File = `HKLM\` + cache + `\Tree` + t.path
	if l.unread(t.path) {
		it.Why = "the folder of its definition cannot be read"
		it.Opaque = it.Why
		return
	}
	it.Why = "the scheduler's list has it, and its definition is gone: it hides from what goes " +
		"by definitions"
	it.Traits = append(it.Traits, "hidden")
	if it.State == item.Broken {
		it.State = item.On // what it launches is all that is known of it
	}
}

// unread reports whether the folder of a task's definition could not be read.
func (l *reader) unread(p string) bool {
	return slices.ContainsFunc(l.dark, func(dir string) bool {
		return strings.HasPrefix(hive.Upper(p), hive.Upper(dir)+`\`)
	})
}

// doubt tells of tasks whose definitions are others than the scheduler's list
// has the sums of. Where most are, it is our knowledge of how a sum is made
// that is wrong, and nothing is told.
func (l *reader) doubt() {
	if len(l.another) > l.same {
		return
	}
	for _, i := range l.another {
		l.items[i].Conditions = append(l.items[i].Conditions, "its definition differs from the "+
			"one the scheduler has the checksum of; it may be refused")
	}
}

// What a definition is to the sum that the scheduler's list has.
type likeness int

const (
	without likeness = iota // there is none
	same
	another
)

// known compares a definition with the sum that the scheduler's list has of one
// (SHA-256, FIPS 180-4).
func (l *reader) known(t *task, raw []byte) likeness {
	v, ok := l.reg.Value(l.reg.Machine(cache+`\Tasks\`+t.id), "Hash")
	if !ok || t.id == "" {
		return without
	}
	sum, err := v.Data()
	own := sha256.Sum256(raw)
	switch {
	case err != nil || len(sum) != len(own):
		return without
	case bytes.Equal(sum, own[:]):
		return same
	}
	return another
}

// action fills in what a task launches: of several things the first that is
// there.
func (l *reader) action(d definition, it *item.Item) {
	var targets []launch.Target
	var commands []string
	for _, a := range d.Actions.Exec {
		command := strings.Trim(strings.TrimSpace(a.Command), `"`)
		commands = append(commands, strings.TrimSpace(command+" "+a.Arguments))
		line := `"` + command + `" ` + a.Arguments
		target := l.finder.Find(launch.Line{Text: line, User: l.userOf(it.Owner)})
		targets = append(targets, target)
	}
	for _, a := range d.Actions.Handler {
		class := strings.TrimSpace(a.ClassID)
		commands, targets = append(commands, "the class "+class), append(targets, l.class(class))
	}
	if len(targets) == 0 {
		it.State, it.Why = item.Broken, "it launches nothing"
		return
	}
	first := max(0, slices.IndexFunc(targets, func(t launch.Target) bool {
		return t.Fate != launch.Missing && t.Fate != launch.Unnamed
	}))
	it.Command = commands[first]
	targets[first].Tell(it)
	if n := len(targets); n > 1 {
		others := slices.Delete(slices.Clone(commands), first, first+1)
		it.Conditions = append(it.Conditions, fmt.Sprintf("it launches %d more: %s", n-1,
			strings.Join(others[:min(3, len(others))], "; ")))
	}
}

func (l *reader) userOf(name string) *registry.User {
	for _, u := range l.reg.Users {
		if name != "" && u.Name == name {
			return u
		}
	}
	return nil
}

// class finds the library or program of a class: the machine's, a user's, or a
// package's.
func (l *reader) class(id string) launch.Target {
	asked := launch.Target{
		Program: "the class " + id, Fate: launch.Asked,
		Why: "the class is registered without a file",
	}
	for _, u := range l.reg.Users {
		for _, server := range []string{"InprocServer32", "LocalServer32"} {
			key := l.reg.ClassesOf(u, `CLSID\`+id+`\`+server)
			if text, ok := l.reg.Text(key, ""); ok && text != "" {
				return l.finder.Find(launch.Line{Text: text, User: u})
			}
		}
	}
	for _, view := range []string{"", `Wow6432Node\`} {
		for _, server := range []string{"InprocServer32", "LocalServer32"} {
			key := l.reg.Machine(`SOFTWARE\Classes\` + view + `CLSID\` + id + `\` + server)
			if text, ok := l.reg.Text(key, ""); ok && text != "" {
				return l.finder.Find(launch.Line{Text: text})
			}
		}
	}
	for _, place := range []string{`CLSID\`, `Wow6432Node\CLSID\`, `PackagedCom\ClassIndex\`} {
		if l.reg.Machine(`SOFTWARE\Classes\` + place + id).There {
			return asked
		}
	}
	if l.reg.Software == nil || slices.ContainsFunc(l.reg.Users, func(u *registry.User) bool {
		return u.Dark
	}) {
		asked.Why = "what is registered as the class cannot all be read"
		return asked
	}
	return launch.Target{Fate: launch.Missing, Program: "the class " + id}
}

// moment fills in when a task is launched, and whether.
func (l *reader) moment(d definition, it *item.Item) {
	var words []string
	live, expired := 0, time.Time{}
	held, atOnce := time.Duration(0), false
	users := map[string]bool{}
	for _, t := range d.Triggers.All {
		end, ends := t.ends()
		switch {
		case no(t.Enabled):
			continue
		case ends && end.Before(l.now):
			expired = end
			continue
		}
		live++
		said := t.words(l.whom)
		if late := t.late(); late > 0 {
			said += fmt.Sprintf(", %s later", late)
		}
		switch kind := t.XMLName.Local; kind {
		case "BootTrigger", "LogonTrigger", "EventTrigger":
			when := item.AtBoot
			if kind == "EventTrigger" {
				when = t.reported()
			}
			if when == item.Later {
				break
			}
			if kind == "LogonTrigger" || when == item.AtLogin {
				when = item.AtLogin
				users[l.person(t.UserID)] = true
			}
			if it.When == item.Later || when == item.AtBoot {
				it.When = when
			}
			held = max(held, t.late())
			atOnce = atOnce || t.late() == 0
		}
		if !slices.Contains(words, said) && len(words) < 5 {
			words = append(words, said)
		}
	}
	if len(users) == 1 && !users[""] && it.When == item.AtLogin {
		for name := range users {
			it.Owner = name
		}
	}
	it.Fires = strings.Join(words, "; ")
	if live > 0 && it.When == item.Later && yes(d.Settings.StartWhenAvailable) {
		it.Conditions = append(it.Conditions, "where its time has passed while the machine was "+
			"off, it is launched soon after the boot")
	}
	switch {
	case no(d.Settings.Enabled):
		it.State, it.Why = item.Off, "it is disabled"
	case len(d.Triggers.All) == 0 && d.Settings.Maintenance != nil:
		it.Fires = "in the maintenance of Windows, when the machine is idle"
	case len(d.Triggers.All) == 0:
		it.State, it.Why = item.Off, "it has no trigger: it is started on demand only"
	case live == 0 && !expired.IsZero():
		it.State, it.Why = item.Off, "its time ended on "+expired.Format("2 Jan 2006")
	case live == 0:
		it.State, it.Why = item.Off, "all its triggers are off"
	case it.State == item.On && held > 0 && !atOnce:
		it.State, it.Why = item.Delayed, "it waits "+held.String()
	}
}

// lastRun says when a task ran last, and how it ended, as far as the
// scheduler's list tells.
func (l *reader) lastRun(t *task) string {
	v, ok := l.reg.Value(l.reg.Machine(cache+`\Tasks\`+t.id), "DynamicInfo")
	if !ok || t.id == "" {
		return ""
	}
	data, err := v.Data()
	if err != nil || len(data) < 28 {
		return ""
	}
	ran := hive.Time(binary.LittleEndian.Uint64(data[12:]))
	if ran.IsZero() {
		return ""
	}
	said := "last on " + ran.Local().Format("2 Jan 2006")
	if code := binary.LittleEndian.Uint32(data[24:]); code != 0 {
		said += fmt.Sprintf(", ended with %#x", code)
	}
	return said
}

// errOnDisk refuses to switch a task: the scheduler refuses a definition whose
// sum its own list does not have.
var errOnDisk = errors.New("the scheduler of Windows would take a task that was changed on its " +
	"disk for a damaged one: switch it off in the running Windows")
