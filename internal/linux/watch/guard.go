package watch

import (
	"errors"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/guard"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

// A Guard is the boot guard of Linux machines, as a [guard.Kit]: a program and
// three small units.
type Guard struct{}

// Where the guard stands in a machine. All of it has to be on the file system
// of the root, for it runs before any other is there.
const (
	// not the recorder's: each comes and goes alone
	guardProgram = "/usr/local/lib/calmdawn-guard/calmdawn"
	units        = "/etc/systemd/system/"
	begin        = "calmdawn-guard.service"
	good         = "calmdawn-guard-good.service"
	failed       = "calmdawn-guard-failed.service"
)

// The first unit counts the boot, before any file system but the root's is
// needed. That is before a start without them can end in an emergency. Its end
// is an orderly one. The second is started once the goal is reached. If the
// goal fails it fails with it, and the third notes that. The third does so too
// when the machine ends in an emergency or in a rescue.
var texts = map[string]string{
	begin: `[Unit]
Description=Calm Dawn boot guard
DefaultDependencies=no
ConditionPathExists=` + guardProgram + `
After=systemd-remount-fs.service
Before=local-fs.target sysinit.target shutdown.target
Conflicts=shutdown.target

[Service]
Type=oneshot
MemoryMax=256M
NoNewPrivileges=yes
RemainAfterExit=yes
ExecStart=-` + guardProgram + ` guard begin
ExecStop=-` + guardProgram + ` guard end
TimeoutStartSec=2min
TimeoutStopSec=10
`,
	good: `[Unit]
Description=Calm Dawn boot guard: the machine is ready
ConditionPathExists=` + guardProgram + `
Requires=GOAL
After=GOAL ` + begin + `
OnFailure=` + failed + `

[Service]
Type=oneshot
MemoryMax=256M
NoNewPrivileges=yes
ExecStart=-` + guardProgram + ` guard good
`,
	failed: `[Unit]
Description=Calm Dawn boot guard: the machine does not become ready
DefaultDependencies=no
After=` + begin + `
ConditionPathExists=` + guardProgram + `

[Service]
Type=oneshot
MemoryMax=256M
NoNewPrivileges=yes
ExecStart=-` + guardProgram + ` guard failed
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

// Refused says why a change of some paths cannot be guarded; empty where it
// can. beyond are those on file systems of their own: the guard works before
// they are mounted.
func (Guard) Refused(r *machine.Root, paths []string) (why string, beyond []string) {
	if info, err := r.Stat("/usr/lib/systemd/system"); err != nil || info.Kind != machine.Folder {
		if info, err := r.Stat("/lib/systemd/system"); err != nil || info.Kind != machine.Folder {
			return "the machine has no service manager that could start it", nil
		}
	}
	root, err := r.Stat("/etc")
	if err != nil {
		return err.Error(), nil
	}
	for _, p := range []string{"/usr", "/usr/local", "/usr/local/lib", "/var", "/var/lib"} {
		if info, err := r.Stat(p); err == nil && info.Device != root.Device {
			return p + " is a file system of its own, and the guard has to work before that is " +
				"there", nil
		}
	}
	for _, p := range paths {
		if len(r.Mounts(p)) > 0 {
			beyond = append(beyond, p)
		}
	}
	if len(paths) > 0 && len(beyond) == len(paths) {
		return "all that it changes is on file systems of their own, and the guard has to work " +
			"before they are there", beyond
	}
	return "", beyond
}

// goalOf is what the machine aims at when it starts: what default.target leads
// to.
func goalOf(r *machine.Root) string {
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

// Paths lists the paths at which the guard, or one for another goal,
// stands.
func (Guard) Paths(r *machine.Root) []string {
	var paths []string
	for _, goal := range []string{goalOf(r), "graphical.target", "multi-user.target"} {
		for link := range links(goal) {
			paths = append(paths, link)
		}
	}
	for name := range texts {
		paths = append(paths, units+name)
	}
	slices.Sort(paths)
	// links first: without its program no unit does anything
	return append(slices.Compact(paths), guardProgram)
}

// Install plans what puts the guard in: its program, its units, and what has
// them started.
func (Guard) Install(d *machine.Draft, r *machine.Root, program []byte) error {
	goal := goalOf(r)
	if err := othersMayWrite(r, guardProgram, units+begin); err != nil {
		return err
	}
	var errs []error
	create := func(p string, text []byte, like ...string) {
		if _, err := r.Lstat(p); err == nil {
			errs = append(errs, d.Remove(p, "")) // one that is left of another time
		}
		errs = append(errs, d.Create(p, "", text), d.LabelLike(p, like...))
	}
	create(guardProgram, program, "/usr/bin/env", "/bin/sh")
	errs = append(errs, d.AllowRun(guardProgram))
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		text := strings.ReplaceAll(texts[name], "GOAL", goal)
		create(units+name, []byte(text), "/usr/lib/systemd/system/basic.target",
			"/lib/systemd/system/basic.target")
	}
	starts := links(goal)
	for _, link := range slices.Sorted(maps.Keys(starts)) {
		errs = append(errs, d.Link(link, "", starts[link]))
	}
	return errors.Join(errs...)
}

// Start is the start of the machine that runs us.
func (Guard) Start(r *machine.Root) guard.Host { return start{r} }

type start struct{ root *machine.Root }

func (s start) ID() string { return journal.Present(s.root) }

// Asked looks at the kernel's command line (kernel-command-line(7)).
func (start) Asked() bool {
	text, err := os.ReadFile("/proc/cmdline")
	if err != nil || inContainer() { // a container sees the words of the computer around it
		return false
	}
	for word := range strings.FieldsSeq(string(text)) {
		switch word {
		case "single", "s", "S", "1", "rescue", "emergency", "-b":
			return true
		}
		if strings.HasPrefix(word, "systemd.unit=") || strings.HasPrefix(word, "init=") {
			return true
		}
	}
	return false
}

func inContainer() bool {
	environ, _ := os.ReadFile("/proc/1/environ")
	return strings.HasPrefix(string(environ), "container=") ||
		strings.Contains(string(environ), "\x00container=")
}
