// Package guard puts the boot guard into a machine, and does its work there:
// three small units that count the boots since a change, and take it back when
// the machine has failed to become ready twice in a row. It is no part of the
// change it guards, but a chore of the ledger: it stands before the change's
// first edit, goes when nothing is guarded, and leaves no trace, so that the
// change can be undone as if it had never been there.
package guard

import (
	"errors"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/failures"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
)

// By is who takes changes back, in the ledger.
const By = "boot guard"

// Where the guard stands in a machine. All of it has to be on the file system
// of the root, for it runs before any other is there.
const (
	// not the recorder's: each comes and goes alone
	Program = "/usr/local/lib/calmdawn-guard/calmdawn"
	units   = "/etc/systemd/system/"
	begin   = "calmdawn-guard.service"
	good    = "calmdawn-guard-good.service"
	failed  = "calmdawn-guard-failed.service"
)

// The first unit counts the boot, before any file system but the root's is
// needed, and so before a start without them can end in an emergency. Its end
// is an orderly one. The second is started once the goal is reached; if the
// goal fails it fails with it, and the third notes that, as it does when the
// machine ends in an emergency or in a rescue.
var texts = map[string]string{
	begin: `[Unit]
Description=Calm Dawn boot guard
DefaultDependencies=no
ConditionPathExists=` + Program + `
After=systemd-remount-fs.service
Before=local-fs.target sysinit.target shutdown.target
Conflicts=shutdown.target

[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=-` + Program + ` guard begin
ExecStop=-` + Program + ` guard end
TimeoutStartSec=2min
TimeoutStopSec=10
`,
	good: `[Unit]
Description=Calm Dawn boot guard: the machine is ready
ConditionPathExists=` + Program + `
Requires=GOAL
After=GOAL ` + begin + `
OnFailure=` + failed + `

[Service]
Type=oneshot
ExecStart=-` + Program + ` guard good
`,
	failed: `[Unit]
Description=Calm Dawn boot guard: the machine does not become ready
DefaultDependencies=no
After=` + begin + `
ConditionPathExists=` + Program + `

[Service]
Type=oneshot
ExecStart=-` + Program + ` guard failed
`,
}

// links are what has the units started.
func links(goal string) map[string]string {
	return map[string]string{
		units + "sysinit.target.wants/" + begin:    units + begin,
		units + goal + ".wants/" + good:            units + good,
		units + "emergency.target.wants/" + failed: units + failed,
		units + "rescue.target.wants/" + failed:    units + failed,
	}
}

// Refused says why a machine cannot be guarded; empty where it can.
func Refused(r *machine.Root) string {
	if info, err := r.Stat("/usr/lib/systemd/system"); err != nil || info.Kind != machine.Folder {
		if info, err := r.Stat("/lib/systemd/system"); err != nil || info.Kind != machine.Folder {
			return "the machine has no service manager that could start it"
		}
	}
	root, err := r.Stat("/etc")
	if err != nil {
		return err.Error()
	}
	for _, p := range []string{"/usr", "/usr/local", "/usr/local/lib", "/var", "/var/lib"} {
		if info, err := r.Stat(p); err == nil && info.Device != root.Device {
			return p + " is a file system of its own, and the guard has to work before that is " +
				"there"
		}
	}
	return ""
}

// Goal is what the machine aims at when it starts: what default.target leads
// to.
func Goal(r *machine.Root) string {
	for _, p := range []string{
		units + "default.target",
		"/usr/lib/systemd/system/default.target",
		"/lib/systemd/system/default.target",
	} {
		if target, err := r.ReadLink(p); err == nil && strings.HasSuffix(target, ".target") {
			return path.Base(target)
		}
	}
	return "graphical.target"
}

// There reports whether the guard, or a part of it, is in the machine.
func There(r *machine.Root) bool {
	for _, p := range everything(r) {
		if _, err := r.Lstat(p); err == nil {
			return true
		}
	}
	return false
}

// everything lists the paths at which the guard, or one for another goal,
// stands.
func everything(r *machine.Root) []string {
	var paths []string
	for _, goal := range []string{Goal(r), "graphical.target", "multi-user.target"} {
		for link := range links(goal) {
			paths = append(paths, link)
		}
	}
	for name := range texts {
		paths = append(paths, units+name)
	}
	slices.Sort(paths)
	// links first: without its program no unit does anything
	return append(slices.Compact(paths), Program)
}

// Put puts the guard into the machine, for a change that is to be carried out
// next with Guarded among its terms, and has it count boots from now on.
// program is this program for the machine, usual how long the machine takes
// until it is ready. An error leaves the machine as it was.
func Put(
	led *ledger.Ledger,
	r *machine.Root,
	program []byte,
	usual time.Duration,
	at time.Time,
) error {
	goal := Goal(r)
	d := r.Draft(at)
	var errs []error
	create := func(p string, text []byte, like ...string) {
		if _, err := r.Lstat(p); err == nil {
			errs = append(errs, d.Remove(p, "")) // one that is left of another time
		}
		errs = append(errs, d.Create(p, "", text), d.LabelLike(p, like...))
	}
	create(Program, program, "/usr/bin/env", "/bin/sh")
	errs = append(errs, d.AllowRun(Program))
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		text := strings.ReplaceAll(texts[name], "GOAL", goal)
		create(units+name, []byte(text), "/usr/lib/systemd/system/basic.target",
			"/lib/systemd/system/basic.target")
	}
	starts := links(goal)
	for _, link := range slices.Sorted(maps.Keys(starts)) {
		errs = append(errs, d.Link(link, "", starts[link]))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	anew := func(s *failures.State) { *s = failures.State{Usual: usual} }
	if err := led.UpdateGuard(anew); err != nil {
		return err
	}
	edits := d.Edits()
	if len(edits) == 0 {
		return nil // it watches over another change already
	}
	_, err := led.CarryOut(change.Change{Verb: change.Watch, MadeAt: at, MadeBy: By, Edits: edits})
	return err
}

// Remove has no change guarded any more and takes the guard out of the machine,
// whoever put it there.
func Remove(led *ledger.Ledger, r *machine.Root, at time.Time) error {
	if err := led.Unguard(); err != nil {
		return err
	}
	d := r.Draft(at)
	for _, p := range everything(r) {
		if _, err := r.Lstat(p); err != nil {
			continue
		}
		if err := d.Remove(p, ""); err != nil {
			return err
		}
	}
	if len(d.Edits()) == 0 {
		return nil
	}
	_, err := led.CarryOut(change.Change{
		Verb:   change.Leave,
		MadeAt: at,
		MadeBy: By,
		Edits:  d.Edits(),
	})
	return err
}
