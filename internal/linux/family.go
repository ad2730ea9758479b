package linux

import (
	"os"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/guard"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/activity"
	"calmdawn/internal/linux/conditions"
	"calmdawn/internal/linux/identity"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/linux/manager"
	"calmdawn/internal/linux/packages"
	"calmdawn/internal/linux/watch"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
)

// A Family is Linux, as a [family.Family].
type Family struct{}

// Name is what people call the family.
func (Family) Name() string { return "Linux" }

// signs are what only the root of a Linux machine has, or what it has beside a
// folder /etc. Other systems have one of these too.
var signs = []string{
	"/etc/os-release", "/usr/lib/os-release", "/etc/machine-id", "/usr/lib/systemd",
	"/lib/systemd", "/etc/systemd", "/etc/fstab", "/etc/init.d", "/lib/modules",
	"/usr/lib/modules", "/etc/xdg", "/etc/cron.d", "/etc/crontab", "/etc/hostname",
}

// Fits asks for a folder /etc and one sign more, and for none of a Mac's, whose
// disks have such a folder too.
func (Family) Fits(r *machine.Root) string {
	info, err := r.Stat("/etc")
	_, mac := r.Lstat("/System/Library/CoreServices")
	if err != nil || info.Kind != machine.Folder || mac == nil {
		return ""
	}
	for _, p := range signs {
		if _, err := r.Lstat(p); err == nil {
			return p
		}
	}
	return ""
}

// Scope says for help what is surveyed of such machines, and what is not.
func (Family) Scope() string {
	return `Services, timers and the programs of desktop logins, of the machine and of each
user; old init scripts and rc.local; every line of the crontabs and the scripts
that they run; files of which podman makes units. With low confidence: what
login scripts and the lists of window managers launch. With --all, and never
switched: containers and virtual machines that daemons start, and what devices,
the network, logins, at jobs and the first image of a boot call.

Not looked at: ` + beyond + "."
}

// beyond is what is not looked at.
const beyond = `mounts and swap, what runs inside containers, guests in a
daemon's own database, other init systems than systemd, kernel command lines
that name another goal, on a disk what other generators make as a boot begins,
and what programs launch in turn once they run`

// Beyond is what is not looked at.
func (disk) Beyond() string { return strings.ReplaceAll(beyond, "\n", " ") }

// Home is where things of ours stand in such a machine.
func (Family) Home() machine.Home {
	return machine.Home{
		Casebook:  "/var/lib/calmdawn",
		Elsewhere: "/etc/calmdawn/elsewhere",
		ID:        identity.MachineID,
		Away:      Unmounted,
	}
}

// Open opens a machine; it is a [family.Live] where it runs us.
func (f Family) Open(r *machine.Root) family.Machine {
	r.Home = f.Home()
	d := disk{r}
	if r.Live() {
		return live{d}
	}
	return d
}

// A disk is a Linux machine as its disk shows it.
type disk struct{ root *machine.Root }

func (disk) Forget() {}

func (d disk) Frozen() string { return frozen(d.root) }

func (d disk) Host() string { return identity.Hostname(d.root) }

func (d disk) Survey(o family.Options) family.Inventory { return Survey(d.root, o) }

func (disk) Label(boots []boot.Boot) []boot.Boot {
	all := label.Boots(boots)
	for i, b := range all {
		if len(b.Waits) == 0 { // of some boots no log tells any more
			all[i] = boot.TakeOut(b, label.Questions(b.Spans, nil))
		}
	}
	return all
}

func (disk) Log() string { return journal.Folder }

func (d disk) Conditions() []boot.Condition { return conditions.Of(d.root) }

func (disk) Failed(b boot.Boot) boot.Condition { return conditions.Failed(b) }

func (d disk) Installs() []time.Time { return packages.Installs(d.root) }

func (d disk) Events(zone *time.Location) []drift.Event { return packages.Events(d.root, zone) }

func (d disk) Away() []string { return Unmounted(d.root) }

func (disk) Recorder() recorder.Kit { return watch.Kit{} }

func (disk) Guard() guard.Kit { return watch.Guard{} }

// live is the machine that runs us.
type live struct{ disk }

func (l live) Running() string { return journal.Present(l.root) }

func (l live) Present(during time.Duration) (family.Now, error) {
	users, err := account.Read(l.root)
	if err != nil {
		return family.Now{}, err
	}
	owners := map[int]string{}
	for _, u := range users {
		if u.UID != 0 {
			owners[u.UID] = u.Name
		}
	}
	return activity.Look("/proc", during, owners), nil
}

// Told has the service manager read changed unit files anew, so that its own
// tools agree.
func (live) Told(edits []change.Edit) error {
	units := slices.ContainsFunc(edits, func(e change.Edit) bool {
		return strings.Contains(e.Path, "/systemd/") || strings.HasPrefix(e.Path, "/etc/rc") ||
			strings.HasPrefix(e.Path, "/etc/init.d/")
	})
	if !units {
		return nil
	}
	return manager.Reload()
}

// Stop stops a service; programs of a login end when their user closes them.
func (live) Stop(id string) error {
	unit, ok := strings.CutPrefix(item.RawID(id), "service:")
	if !ok || strings.Contains(unit, ".service@") {
		return nil
	}
	return manager.Stop(unit)
}

func (live) Ways() []string { return []string{"ssh.service", "sshd.service"} }

func (live) Booted() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil
}
