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

func (Family) Home() machine.Home {
	return machine.Home{
		Casebook:  "/var/lib/calmdawn",
		Elsewhere: "/etc/calmdawn/elsewhere",
		ID:        identity.MachineID,
		Away:      Unmounted,
	}
}

func (Family) Attach(*machine.Root)          {}
func (Family) Rules() []byte                 { return nil }
func (Family) Frozen(r *machine.Root) string { return frozen(r) }

func (Family) Host(r *machine.Root) string { return identity.Hostname(r) }

func (Family) Survey(r *machine.Root, o family.Options) family.Inventory { return Survey(r, o) }

func (Family) Label(boots []boot.Boot) []boot.Boot {
	all := label.Boots(boots)
	for i, b := range all {
		if len(b.Waits) == 0 { // of some boots no log tells any more
			all[i] = boot.TakeOut(b, label.Questions(b.Spans, nil))
		}
	}
	return all
}

func (Family) Running(r *machine.Root) string { return journal.Present(r) }

func (Family) Log() string { return journal.Folder }

func (Family) Conditions(r *machine.Root) []boot.Condition { return conditions.Of(r) }

func (Family) Failed(b boot.Boot) boot.Condition { return conditions.Failed(b) }

func (Family) Installs(r *machine.Root) []time.Time { return packages.Installs(r) }

func (Family) Events(r *machine.Root, zone *time.Location) []drift.Event {
	return packages.Events(r, zone)
}

func (Family) Away(r *machine.Root) []string { return Unmounted(r) }

func (Family) Live(r *machine.Root) family.Live {
	if !r.Live() {
		return nil
	}
	return live{r}
}

func (Family) Recorder() recorder.Kit { return watch.Kit{} }

func (Family) Guard() guard.Kit { return watch.Guard{} }

// live is the machine that runs us.
type live struct{ root *machine.Root }

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
