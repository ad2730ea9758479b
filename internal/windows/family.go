// Package windows surveys what a Windows machine launches by itself, from its
// disk.
//
// Each launch mechanism is a package of its own below this one; here they are
// put together. docs/windows.md says what is known of the formats and how.
package windows

import (
	_ "embed"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/guard"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
	"calmdawn/internal/windows/app"
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

// Fits reports whether a disk has the hives of a Windows machine.
func (Family) Fits(r *machine.Root) bool {
	_, err := registry.FindConfig(registry.NewDisk(r))
	return err == nil
}

func (Family) Home() machine.Home {
	return machine.Home{
		Casebook:  "/ProgramData/calmdawn",
		Elsewhere: "/ProgramData/calmdawn/elsewhere",
		ID:        machineID,
	}
}

func (Family) Rules() []byte { return roles }

// machineID is the id that the machine was given when it was set up.
func machineID(r *machine.Root) string {
	reg, err := registry.Open(r)
	if err != nil {
		return ""
	}
	defer reg.Close()
	id, _ := reg.Text(reg.Machine(`SOFTWARE\Microsoft\Cryptography`), "MachineGuid")
	return strings.ToLower(id)
}

func (Family) Host(r *machine.Root) string {
	reg, err := registry.Open(r)
	if err != nil {
		return ""
	}
	defer reg.Close()
	return host(reg)
}

func host(reg *registry.Registry) string {
	const names = `SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName`
	name, _ := reg.Text(reg.Machine(names), "ComputerName")
	return name
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

// A mechanism is one way in which a Windows machine launches things.
type mechanism interface {
	Name() string
	Survey() []item.Item
	Key(it item.Item) (boot.Key, bool)
	Plan(d *machine.Draft) item.Plan
}

// An inventory is the survey of a machine.
type inventory struct {
	item.Survey
	mechanisms []mechanism
	people     []string
}

func (Family) Survey(r *machine.Root, o family.Options) family.Inventory {
	v := &inventory{}
	reg, err := registry.Open(r)
	if err != nil {
		v.Unread = append(v.Unread, item.Unread{
			Path: "/Windows/System32/config/SYSTEM", Reason: machine.Reason(err),
		})
		return v
	}
	defer reg.Close()
	v.OS, v.Host = version(reg), host(reg)
	for _, u := range reg.Users {
		if u.Account == registry.Person {
			v.people = append(v.people, u.Name)
		}
	}
	v.mechanisms = []mechanism{
		service.Read(reg), run.Read(reg), startup.Read(reg), task.Read(reg, o.Now),
		app.Read(reg),
	}
	for _, m := range v.mechanisms {
		items := m.Survey()
		for i := range items {
			items[i].Mechanism = m.Name()
		}
		v.Items = append(v.Items, items...)
	}
	naming.Apart(v.Items)
	identify(reg, v.Items)
	refer(reg, v.Items)
	register(reg, v.Items)
	shareProgram(v.Items)
	v.Unread, v.Remarks = reg.Unread, reg.Notes
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
	item.Sort(v.Items)
	return v
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

func (v *inventory) Found() item.Survey                  { return v.Survey }
func (v *inventory) Lookup(id string) (item.Item, bool)  { return v.Find(id) }
func (v *inventory) Order(boots []boot.Boot) []boot.Boot { return boots }
func (v *inventory) Uses() advice.Uses                   { return nil }
func (v *inventory) People() []string                    { return v.people }

func (v *inventory) Key(it item.Item) (boot.Key, bool) {
	for _, m := range v.mechanisms {
		if m.Name() == it.Mechanism {
			return m.Key(it)
		}
	}
	return boot.Key{}, false
}

// Plan begins a plan, which refuses everything so far.
func (v *inventory) Plan(*machine.Draft) family.Plan { return refusing{} }

type refusing struct{ service.ReadOnly }

func (refusing) TurnStarter(it item.Item, _ string, to item.State) error {
	return service.ReadOnly{}.Turn(it, to, 0)
}

// Log is the folder of the event logs.
func (Family) Log() string { return "/Windows/System32/winevt/Logs" }

// Boots are not read from such disks yet.
func (Family) Boots(*machine.Root, int) family.Boots { return family.Boots{} }

func (Family) Label(boots []boot.Boot) []boot.Boot                { return boots }
func (Family) Running(*machine.Root) string                       { return "" }
func (Family) Installs(*machine.Root) []time.Time                 { return nil }
func (Family) Events(*machine.Root, *time.Location) []drift.Event { return nil }
func (Family) Away(*machine.Root) []string                        { return nil }
func (Family) Live(*machine.Root) family.Live                     { return nil }
func (Family) Recorder() recorder.Kit                             { return nil }
func (Family) Guard() guard.Kit                                   { return nil }

// Failed is the condition that services of a boot failed.
func (Family) Failed(boot.Boot) boot.Condition {
	return boot.Condition{Name: "failed services", Value: "not known", When: "last boot"}
}

// Frozen says why no byte may be written to a disk: a hibernated system still
// holds what it knew of it, and would write that over whatever is changed.
// Shut down with fast start-up, a machine is hibernated.
func (Family) Frozen(r *machine.Root) string {
	p, err := registry.NewDisk(r).Find("hiberfil.sys")
	if err != nil {
		return ""
	}
	f, err := r.OpenFile(p)
	if err != nil {
		return "whether it is hibernated cannot be told: " + p + " " + machine.Reason(err)
	}
	defer f.Close()
	head := make([]byte, 4)
	if _, err := f.ReadAt(head, 0); err != nil {
		return "" // it holds nothing
	}
	if strings.EqualFold(string(head), "hibr") {
		return "it is hibernated, as machines are that were shut down with fast start-up: have " +
			"it restart once, and switch it off before Windows begins"
	}
	return ""
}
