// Package startup reads the folders whose files a Windows machine launches at a
// login.
package startup

import (
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/shortcut"
)

// Mechanism names items of this package.
const Mechanism = "startup"

const (
	shellFolders = registry.CurrentVersion + `\Explorer\User Shell Folders`
	usual        = `\Microsoft\Windows\Start Menu\Programs\Startup`
	mostFiles    = 2000 // of one folder
)

// A reader reads the files of the folders.
type reader struct {
	reg      *registry.Registry
	finder   launch.Finder
	items    []launched.Item
	approves bool // the version keeps notes of what is off
}

// Read reads the folder of the machine and those of its users, wherever they
// were moved.
func Read(reg *registry.Registry) []launched.Item {
	l := &reader{reg: reg, finder: launch.Finder{Reg: reg}, approves: reg.Approves()}
	place, ok := reg.Text(reg.Machine(`SOFTWARE\`+shellFolders), "Common Startup")
	if !ok {
		place = "%ProgramData%" + usual
	}
	l.folder(place, nil, reg.Machine(`SOFTWARE\`+registry.Approved+`\StartupFolder`))
	for _, u := range reg.Users {
		if u.Account == registry.System || u.Profile == "" {
			continue
		}
		place, ok := reg.Text(reg.Of(u, `Software\`+shellFolders), "Startup")
		if !ok {
			place = "%APPDATA%" + usual
		}
		l.folder(place, u, reg.Of(u, `Software\`+registry.Approved+`\StartupFolder`))
	}
	return l.items
}

// folder adds the files of one.
func (l *reader) folder(place string, u *registry.User, approval registry.Place) {
	outside := l.reg.Expand(place, u)
	p, where, ok := l.reg.Local(outside)
	if !ok {
		l.reg.Unread = append(l.reg.Unread, item.Unread{
			Path:   outside,
			Reason: "this folder of programs for the login is on " + where + ", not on this disk",
		})
		return
	}
	dir, err := l.reg.Find(p)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	var entries []machine.Entry
	if err == nil {
		entries, err = l.reg.Root.ReadDir(dir)
	}
	if err != nil {
		l.reg.Unread = append(l.reg.Unread, machine.Unread(outside, err))
		return
	}
	called, err := l.reg.Called(p)
	if err != nil {
		called = dir
	}
	for _, e := range entries[:min(mostFiles, len(entries))] {
		if e.Kind == machine.Folder || strings.EqualFold(e.Name, "desktop.ini") {
			continue
		}
		native := l.reg.Outside(path.Join(called, e.Name))
		l.file(path.Join(dir, e.Name), native, u, approval)
	}
}

// file adds one file, which Windows calls by its native path.
func (l *reader) file(p, native string, u *registry.User, approval registry.Place) {
	name := path.Base(p)
	it := item.Item{
		Kind:    item.Program,
		Native:  native,
		Title:   strings.TrimSuffix(name, path.Ext(name)),
		When:    item.AtLogin,
		State:   item.On,
		Because: []string{native[:strings.LastIndex(native, `\`)]},
		Command: native,
		File:    p,
	}
	if u != nil {
		it.Owner = u.Name
	}
	it.ID = naming.ID(item.Program, "startup", name, it.Owner, native)
	switch strings.ToLower(path.Ext(name)) {
	case ".lnk":
		l.shortcut(p, u, &it)
	case ".url":
		l.address(p, &it)
	default:
		it.Program = p
	}
	if u != nil && u.Account == registry.New && it.Why == "" {
		it.Why = "everybody gets it who logs in for the first time"
	}
	w := way{approves: l.approves}
	if address, ok := approval.Address(name); ok && l.approves {
		w.note = address
	}
	if why := l.reg.SwitchedOff(approval, name, u); why != "" && l.approves {
		if it.State == item.Broken {
			why += "; besides, " + it.Why
		}
		it.State, it.Why = item.Off, why
	}
	l.items = append(l.items, launched.Item{Item: it, Turn: w.turn})
}

// shortcut fills in what a shortcut launches.
func (l *reader) shortcut(p string, u *registry.User, it *item.Item) {
	raw, err := l.reg.Root.ReadFile(p, shortcut.MaxSize)
	if err != nil {
		l.reg.Unread = append(l.reg.Unread, machine.Unread(p, err))
		return
	}
	link, err := shortcut.Parse(raw, l.reg.CodePage())
	if err != nil {
		it.State, it.Why = item.Broken, "its file is not a shortcut"
		return
	}
	it.Summary = link.Name
	targets := link.Targets
	if link.Relative != "" {
		beside := strings.ReplaceAll(path.Dir(p), "/", `\`)
		targets = append(targets, l.reg.Drive+beside+`\`+link.Relative)
	}
	var first launch.Target
	for n, target := range targets {
		line := `"` + target + `" ` + link.Arguments
		found := l.finder.Find(launch.Line{Text: line, User: u})
		if n == 0 || found.Fate == launch.Found {
			first = found
			it.Command = strings.TrimSpace(line)
		}
		if found.Fate == launch.Found {
			break
		}
	}
	switch {
	case len(targets) == 0 && link.Advertised:
		it.Conditions = append(it.Conditions, "what it launches is known to the installer alone")
	case len(targets) == 0:
		it.State, it.Why = item.Broken, "it names no program"
	default:
		first.Tell(it)
	}
}

// address fills in the address that a file of one opens.
func (l *reader) address(p string, it *item.Item) {
	const most = 64 << 10
	raw, err := l.reg.Root.ReadFile(p, most)
	if err != nil {
		l.reg.Unread = append(l.reg.Unread, machine.Unread(p, err))
		return
	}
	for line := range strings.Lines(registry.Text(raw)) {
		if name, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok &&
			strings.EqualFold(name, "URL") {
			it.Command = value
		}
	}
}

// A way is how a file is switched.
type way struct {
	note     string // the address of the note that it is off; empty where none can be
	approves bool
}

// turn plans a file on or off, by the note that Windows itself keeps of that;
// versions that keep none have the file taken away.
func (w way) turn(d *machine.Draft, it item.Item, to item.State, _ time.Duration) error {
	switch {
	case to == item.Delayed:
		return registry.ErrNoDelay
	case w.note != "":
		return registry.Approve(d, w.note, to == item.On)
	case to == item.On:
		return errors.New("it is on")
	case w.approves:
		return errors.New("its name is not text")
	}
	return d.Remove(it.File, "")
}
