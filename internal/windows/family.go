// Package windows surveys what a Windows machine launches by itself, from its
// disk.
//
// Each launch mechanism is a package of its own below this one; here they are
// put together. docs/windows.md says what is known of the formats and how.
package windows

import (
	"cmp"
	_ "embed"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/app"
	"calmdawn/internal/windows/boots"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/run"
	"calmdawn/internal/windows/service"
	"calmdawn/internal/windows/startup"
	"calmdawn/internal/windows/task"
)

//go:embed roles.toml
var roles []byte

// A Family is Windows, as a [family.Family].
type Family struct{}

// Name is what people call the family.
func (Family) Name() string { return "Windows" }

// Fits asks for the hives of a Windows machine.
func (Family) Fits(r *machine.Root) string {
	config, err := registry.FindConfig(registry.NewDisk(r))
	if err != nil {
		return ""
	}
	return config
}

// Scope says for help what is surveyed of such machines, and what is not.
func (Family) Scope() string {
	return `Services, and drivers with --all; the Run lists and start-up folders of the
machine and of each user; tasks; packaged apps. Shown, and never switched: scripts of
policies, what runs in the place of another program, and libraries that
programs load as they start.

Not looked at: ` + beyond + "."
}

// beyond is what is not looked at.
const beyond = `subscriptions to management events, extensions of programs,
and what programs launch in turn once they run`

// Beyond is what is not looked at.
func (*disk) Beyond() string { return strings.ReplaceAll(beyond, "\n", " ") }

// Home is where things of ours stand in such a machine.
func (Family) Home() machine.Home {
	return machine.Home{
		Casebook:  "/ProgramData/calmdawn",
		Elsewhere: "/ProgramData/calmdawn/elsewhere",
		Marked:    true,
		Private: machine.Private{
			Key:    registry.Descriptor,
			File:   registry.Private(false),
			Folder: registry.Private(true),
		},
		ID:   asked(func(d *disk) string { return d.id() }),
		Away: asked(func(d *disk) []string { return d.Away() }),
	}
}

// asked opens the registry of a machine for one question.
func asked[T any](question func(d *disk) T) func(r *machine.Root) T {
	return func(r *machine.Root) T {
		d := &disk{root: r}
		defer d.Forget()
		return question(d)
	}
}

// Open opens a machine, whose registry is then edited too.
func (f Family) Open(r *machine.Root) family.Machine {
	d := &disk{root: r}
	r.Home = f.Home()
	r.Home.ID = func(*machine.Root) string { return d.id() }
	// while it is written to, the registry is not what it was when d opened it
	values := registry.NewStore(r, asked(func(d *disk) string { return d.Frozen() }))
	r.Attach(registry.Scheme, values)
	r.Attach(registry.FileScheme, values.Files())
	return d
}

// A disk is a Windows machine. Its registry is opened when it is first asked
// for.
type disk struct {
	root   *machine.Root
	opened bool
	reg    *registry.Registry // nil where it cannot be opened
	err    error              // why not
}

func (d *disk) registry() (*registry.Registry, error) {
	if !d.opened {
		d.opened = true
		d.reg, d.err = registry.Open(d.root)
	}
	return d.reg, d.err
}

func (d *disk) Forget() {
	if d.reg != nil {
		d.reg.Close()
	}
	d.opened, d.reg = false, nil
}

func (*disk) Rules() []byte { return roles }

// id is the id that the machine was given when it was set up.
func (d *disk) id() string {
	reg, err := d.registry()
	if err != nil {
		return ""
	}
	id, _ := reg.Text(reg.Machine(`SOFTWARE\Microsoft\Cryptography`), "MachineGuid")
	return strings.ToLower(id)
}

func (d *disk) Host() string {
	reg, err := d.registry()
	if err != nil {
		return ""
	}
	return host(reg)
}

func host(reg *registry.Registry) string {
	const names = `SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName`
	name, _ := reg.Text(reg.Machine(names), "ComputerName")
	return name
}

// computer is the model and the id (SMBIOS) of the computer in which the disk
// was started last. They are empty where that start did not note them.
func computer(reg *registry.Registry) (model, id string) {
	const noted = `SYSTEM\CurrentControlSet\Control\SystemInformation`
	maker, _ := reg.Text(reg.Machine(noted), "SystemManufacturer")
	name, _ := reg.Text(reg.Machine(noted), "SystemProductName")
	id, _ = reg.Text(reg.Machine(`SYSTEM\HardwareConfig`), "LastConfig")
	return item.Model(maker, name), strings.ToLower(strings.Trim(id, "{}"))
}

// version is what people call the operating system: what it calls itself is not
// true of the newest.
func version(reg *registry.Registry) string {
	build, ok := reg.Text(reg.Machine(`SOFTWARE\`+registry.CurrentNT), "CurrentBuild")
	if !ok {
		return "Windows"
	}
	return "Windows, build " + build
}

// An inventory is the survey of a machine.
type inventory struct {
	item.Survey
	turns  []launched.Turn // by the handles of items, less one
	people []string
}

func (d *disk) Survey(o family.Options) family.Inventory {
	v := &inventory{}
	reg, err := d.registry()
	if err != nil {
		v.Unread = append(v.Unread, machine.Unread("/Windows/System32/config/SYSTEM", err))
		return v
	}
	v.OS, v.Host = version(reg), host(reg)
	v.Model, v.Hardware = computer(reg)
	for _, u := range reg.Users {
		if u.Account == registry.Person {
			v.people = append(v.people, u.Name)
		}
	}
	for _, m := range []struct {
		name  string
		items []launched.Item
	}{
		{service.Mechanism, service.Read(reg)},
		{run.Mechanism, run.Read(reg)},
		{startup.Mechanism, startup.Read(reg)},
		{task.Mechanism, task.Read(reg, o.Now)},
		{app.Mechanism, app.Read(reg)},
	} {
		for _, found := range m.items {
			v.turns = append(v.turns, found.Turn)
			it := found.Item
			it.Mechanism, it.Handle = m.name, len(v.turns)
			v.Items = append(v.Items, it)
		}
	}
	naming.Apart(v.Items)
	identify(reg, v.Items)
	refer(reg, v.Items)
	register(reg, v.Items)
	serve(reg, v.Items)
	shareProgram(v.Items)
	tellReturns(v.Items)
	tellRuns(reg, v.Items)
	v.Unread, v.Remarks = slices.Clone(reg.Unread), slices.Clone(reg.Notes)
	if reg.Other != "" {
		v.Remarks = append(v.Remarks, item.Unread{
			Path: "/Windows/System32/config/SYSTEM",
			Reason: "the next boot uses " + reg.Set + ", which is shown, and the last one used " +
				reg.Other,
		})
	}
	if inSetup(reg) {
		v.Remarks = append(v.Remarks, item.Unread{
			Path:   `HKLM\SYSTEM\Setup`,
			Reason: "an upgrade, or the first set-up, is not at its end",
		})
	}
	v.returning(reg)
	v.opaque(reg)
	item.Sort(v.Items)
	return v
}

// opaque counts the programs that cannot be read, by why.
func (v *inventory) opaque(reg *registry.Registry) {
	const most = 3 // that are named
	programs := map[string][]string{}
	for _, it := range v.Items {
		if why := it.Unread; why != "" && !slices.Contains(programs[why], it.Program) {
			programs[why] = append(programs[why], it.Program)
		}
	}
	for _, why := range slices.Sorted(maps.Keys(programs)) {
		all := programs[why]
		slices.Sort(all)
		named := strings.Join(all[:min(most, len(all))], ", ")
		if more := len(all) - most; more > 0 {
			named += fmt.Sprintf(" and %d more", more)
		}
		reason := fmt.Sprintf("%d programs that are launched cannot be read (%s), each for this "+
			"reason: %s. What they are is not known, so each is protected", len(all), named, why)
		if len(all) == 1 {
			reason = fmt.Sprintf("1 program that is launched cannot be read (%s): %s. What it "+
				"is is not known, so it is protected", named, why)
		}
		v.Remarks = append(v.Remarks, item.Unread{Path: reg.Windows, Reason: reason})
	}
}

// returning tells what may change back what is changed on the disk.
func (v *inventory) returning(reg *registry.Registry) {
	if all := reg.Waiting(); len(all) > 0 {
		v.Remarks = append(v.Remarks, item.Unread{
			Path: reg.Windows,
			Reason: "updates wait to be put in (" + strings.Join(all, ", ") + "): the next start " +
				"may change things back",
		})
	}
	for _, u := range reg.Users {
		if server := u.Server; server != "" {
			v.Remarks = append(v.Remarks, item.Unread{
				Path: cmp.Or(u.Profile, u.Name),
				Reason: "is a profile that a server keeps too (" + server + "): the next login " +
					"may change things of " + u.Name + " back",
			})
		}
	}
}

// shareProgram tells items which others launch the same program: an updater
// often stands in several places.
func shareProgram(items []item.Item) {
	const most = 8 // that are named
	shared := map[string][]int{}
	for i, it := range items {
		name := strings.ToLower(path.Base(it.Program))
		wrapper := strings.HasSuffix(name, "svchost.exe")
		if it.Program != "" && !it.System && !wrapper {
			shared[strings.ToLower(it.Program)] = append(shared[strings.ToLower(it.Program)], i)
		}
	}
	for _, all := range shared {
		for _, i := range all {
			for _, j := range all[:min(most, len(all))] {
				if i != j {
					items[i].Twins = append(items[i].Twins, items[j].ID)
				}
			}
		}
	}
}

func (v *inventory) Found() item.Survey                 { return v.Survey }
func (v *inventory) Lookup(id string) (item.Item, bool) { return v.Find(id) }
func (v *inventory) People() []string                   { return v.people }

// Key: boots know services alone.
func (v *inventory) Key(it item.Item) (boot.Key, bool) {
	return boot.Key{Native: it.Native}, it.Mechanism == service.Mechanism
}

// Turner returns what turns items; its edits go into d.
func (v *inventory) Turner(d *machine.Draft) family.Turner { return turner{v.turns, d} }

// A turner turns each item by its own switch.
type turner struct {
	turns []launched.Turn
	draft *machine.Draft
}

func (p turner) Turn(it item.Item, to item.State, by time.Duration) error {
	return p.turns[it.Handle-1](p.draft, it, to, by)
}

// TurnStarter has nothing to turn: items of Windows have no starters of their
// own.
func (turner) TurnStarter(_ item.Item, starter item.Starter, _ item.State) error {
	return fmt.Errorf("%s is nothing that is switched", starter)
}

// Installs are when updates and packages were put in or taken away.
func (d *disk) Installs() (all []time.Time) {
	for _, e := range d.Events(nil) {
		all = append(all, e.At)
	}
	return all
}

// Events are what the logs tell of that.
func (d *disk) Events(*time.Location) []drift.Event {
	reg, err := d.registry()
	if err != nil {
		return nil
	}
	return boots.Installs(reg)
}

// Log is the folder of the event logs.
func (*disk) Log() string { return "/Windows/System32/winevt/Logs" }

// Boots are what the event logs, and the traces of logins, tell of.
func (d *disk) Boots(last int) family.Boots {
	reg, err := d.registry()
	if err != nil {
		return family.Boots{Unread: []item.Unread{{
			Path: "/Windows/System32/config/SYSTEM", Reason: machine.Reason(err),
		}}}
	}
	return boots.Read(reg, last)
}

// Away lists the folders of profiles that the registry names on this disk and
// that are not there. They may be on a volume of their own.
func (d *disk) Away() (folders []string) {
	reg, err := d.registry()
	if err != nil {
		return nil
	}
	return reg.Away()
}

// Failed is the condition that services of a boot failed.
func (*disk) Failed(b boot.Boot) boot.Condition {
	var names []string
	for _, s := range b.Spans {
		if s.Failed {
			names = append(names, s.Native)
		}
	}
	c := boot.Condition{
		Name:  "failed services",
		Value: "none known of",
		Why:   "one that fails may hold others back each time",
		When:  "last boot",
	}
	if len(names) > 0 {
		c.Value, c.Bad = strings.Join(names, ", "), true
	}
	return c
}

// Frozen says why no byte may be written to a disk. A hibernated system still
// holds what it knew of it, and would write that over whatever is changed. Shut
// down with fast start-up, a machine is hibernated. And one that is being set
// up is not yet what it will be.
func (d *disk) Frozen() string {
	if why := hibernated(d); why != "" {
		return why
	}
	if reg, err := d.registry(); err == nil && inSetup(reg) {
		return "an upgrade, or the first set-up, is not at its end: have Windows finish it first"
	}
	return ""
}

// Thaw says what ends a hibernation, the easiest way first.
func (d *disk) Thaw() []string {
	if hibernated(d) == "" {
		return nil
	}
	return []string{
		"Easiest: start the machine, hold Shift and choose Shut down; or call shutdown /s /t 0 " +
			"in a command window there.",
		"Or choose Restart, and switch it off while its maker's sign shows, before Windows begins.",
		"Where it no longer starts: what its session had not saved is lost if hiberfil.sys is " +
			"given up. calmdawn does not do that.",
	}
}

// hibernated says that a machine is hibernated, as a clause; empty where it is
// not.
func hibernated(d *disk) string {
	p, err := registry.NewDisk(d.root).Find("hiberfil.sys")
	if err != nil {
		return ""
	}
	info, err := d.root.Stat(p)
	if err != nil {
		return "whether it is hibernated cannot be told: " + p + " " + machine.Reason(err)
	}
	f, err := d.root.OpenFile(p)
	if err != nil {
		return "whether it is hibernated cannot be told: " + p + " " + machine.Reason(err)
	}
	defer f.Close()
	head := make([]byte, 4)
	if _, err := f.ReadAt(head, 0); err != nil {
		return "" // it holds nothing
	}
	switch strings.ToLower(string(head)) {
	case "hibr":
		return "it is hibernated, as machines are that were shut down with fast start-up"
	case "rstr": // while it wakes up, and on some machines for long after
		if d.startedInFull(info.ModTime) {
			return ""
		}
		return "it was stopped while it woke up, and no full start since is on record"
	}
	return ""
}

// startedInFull reports whether the machine's log holds a full start after an
// instant.
func (d *disk) startedInFull(after time.Time) bool {
	return slices.ContainsFunc(d.Boots(0).Boots, func(b boot.Boot) bool {
		return b.Start == boot.FullStart && b.Began.After(after)
	})
}
