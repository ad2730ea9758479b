// Package app reads what packaged apps have Windows launch at a login.
package app

import (
	"cmp"
	"encoding/xml"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
)

// Mechanism names items of this package.
const Mechanism = "app"

const (
	model    = `Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\`
	mostApps = 2000 // of one user
)

// A manifest is what a package says of itself, as far as it is asked.
type manifest struct {
	Properties struct {
		DisplayName          string
		PublisherDisplayName string
	}
	Extensions []extension `xml:"Applications>Application>Extensions>Extension"`
}

type extension struct {
	Category   string `xml:"Category,attr"`
	Executable string `xml:"Executable,attr"`
	Task       struct {
		ID      string `xml:"TaskId,attr"`
		Enabled string `xml:"Enabled,attr"`
		Title   string `xml:"DisplayName,attr"`
	} `xml:"StartupTask"`
}

// A reader reads the start-up tasks of the packages that users have.
type reader struct {
	reg       *registry.Registry
	manifests map[string]*manifest
	folders   map[string]string // of packages, by their full names
	items     []launched.Item
}

// Read reads those of all users.
func Read(reg *registry.Registry) []launched.Item {
	l := &reader{reg: reg, manifests: map[string]*manifest{}, folders: map[string]string{}}
	for _, u := range reg.Users {
		if u.Classes == nil || u.Account != registry.Person {
			continue
		}
		packages := reg.Keys(reg.ClassesOf(u, model+`Repository\Packages`))
		for _, k := range packages[:min(mostApps, len(packages))] {
			l.place(k)
			l.packaged(u, k.Key.Name())
		}
	}
	return l.items
}

// place notes where a package stands that is outside the usual folder, as those
// on other drives and of developers are. Of several users' notes the first
// counts.
func (l *reader) place(k registry.Place) {
	text, ok := l.reg.Text(k, "PackageRootFolder")
	if !ok || l.folders[k.Key.Name()] != "" {
		return
	}
	if p, _, here := l.reg.Local(text); here {
		l.folders[k.Key.Name()] = strings.ReplaceAll(p, `\`, "/")
	}
}

// folder is where a package stands.
func (l *reader) folder(full string) string {
	return cmp.Or(l.folders[full], path.Join("Program Files/WindowsApps", full))
}

// familyOf is the family of a package: the first and the last part of its full
// name, which is NAME_VERSION_ARCHITECTURE_RESOURCE_PUBLISHER.
func familyOf(full string) string {
	parts := strings.Split(full, "_")
	return parts[0] + "_" + parts[len(parts)-1]
}

// packaged adds what a package of a user has launched.
func (l *reader) packaged(u *registry.User, full string) {
	m := l.manifest(full)
	if m == nil {
		return
	}
	for _, e := range m.Extensions {
		if e.Category == "windows.startupTask" && e.Task.ID != "" {
			l.add(u, full, *m, e)
		}
	}
}

// manifest reads that of a package, once; nil where it has none.
func (l *reader) manifest(full string) *manifest {
	if m, known := l.manifests[full]; known {
		return m
	}
	l.manifests[full] = nil
	p, err := l.reg.Find(path.Join(l.folder(full), "AppxManifest.xml"))
	if err != nil {
		return nil // of the system's own many have none there
	}
	const most = 1 << 20
	raw, err := l.reg.Root.ReadFile(p, most)
	m := &manifest{}
	if err == nil {
		dec := xml.NewDecoder(strings.NewReader(registry.Text(raw)))
		dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
		err = dec.Decode(m)
	}
	if err != nil {
		reason := machine.Reason(err)
		if !errors.Is(err, fs.ErrPermission) {
			reason = "is not a readable manifest"
		}
		l.reg.Unread = append(l.reg.Unread, item.Unread{Path: p, Reason: reason})
		return nil
	}
	l.manifests[full] = m
	return m
}

// What the value State says.
const (
	off = iota
	offByUser
	on
	offByPolicy
	onByPolicy
)

func (l *reader) add(u *registry.User, full string, m manifest, e extension) {
	family := familyOf(full)
	native := family + "!" + e.Task.ID
	title := e.Task.Title
	if title == "" || strings.HasPrefix(title, "ms-resource:") {
		title = m.Properties.DisplayName
	}
	if title == "" || strings.HasPrefix(title, "ms-resource:") {
		title, _, _ = strings.Cut(family, "_")
	}
	key := l.reg.ClassesOf(u, model+`SystemAppData\`+family+`\`+e.Task.ID)
	it := item.Item{
		ID:      naming.Path(item.Program, `app\`+family+`\`+e.Task.ID, u.Name),
		Kind:    item.Program,
		Native:  native,
		Title:   title,
		Owner:   u.Name,
		When:    item.AtLogin,
		State:   item.On,
		Because: []string{full},
		Command: e.Executable,
		File:    key.Name,
		Package: full,
		Maker:   strings.TrimSpace(m.Properties.PublisherDisplayName),
	}
	if strings.HasPrefix(it.Maker, "ms-resource:") {
		it.Maker = ""
	}
	address, _ := key.Address("State")
	state, known := l.reg.Number(key, "State")
	switch {
	case !known && strings.EqualFold(e.Task.Enabled, "true"):
	case !known:
		it.State, it.Why = item.Off, "its maker has it off until somebody switches it on"
	case state == off:
		it.State, it.Why = item.Off, "it is off"
	case state == offByUser:
		it.State, it.Why = item.Off, u.Name+" switched it off"
	case state == offByPolicy:
		it.State, it.Why = item.Off, "a policy has it off"
	case state == onByPolicy:
		it.Why = "a policy has it on"
	case state != on:
		it.State, it.Why = item.Off, "its state is a number that means nothing"
	}
	program := path.Join("/", l.folder(full),
		strings.ReplaceAll(cmp.Or(e.Executable, "."), `\`, "/"))
	found, ok, err := l.reg.IsFile(program)
	switch {
	case ok:
		it.Program = found
	case err != nil:
		it.Program, it.Opaque = program, "whether its program is there cannot be told"
	case it.State == item.On && e.Executable != "":
		it.State, it.Why = item.Broken, "its program is gone: "+l.reg.Outside(program)
	}
	l.items = append(l.items, launched.Item{Item: it, Turn: stateAt(address).turn})
}

// stateAt is the address of what says whether a start-up task is on.
type stateAt string

// turn plans a start-up task on, or off as by its user. What a policy decides
// stays.
func (address stateAt) turn(
	d *machine.Draft,
	_ item.Item,
	to item.State,
	_ time.Duration,
) error {
	if to == item.Delayed {
		return registry.ErrNoDelay
	}
	now, err := d.Node(string(address), "")
	if err != nil {
		return err
	}
	if len(now.Data) == 4 && (now.Data[0] == offByPolicy || now.Data[0] == onByPolicy) {
		return errors.New("a policy decides on it: it goes with the policy")
	}
	state := uint32(on)
	if to == item.Off {
		state = offByUser
	}
	return d.Set(string(address), uint32(hive.DWord), registry.Number(state))
}
