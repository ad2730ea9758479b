package watch

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
)

// Where the recorder stands in a machine.
const (
	Program = "/usr/local/lib/calmdawn/calmdawn"
	Name    = item.OwnName + "recorder.service"
	Unit    = "/etc/systemd/system/" + Name
	Link    = "/etc/systemd/system/sysinit.target.wants/" + Name
)

// The unit may write its casebook, its lock and its own link, and nothing else:
// it reads what users have made. It waits for nothing but its own program's
// disk, and nothing waits for it: it is wanted, not ordered.
const unitText = `# Made by calmdawn. "calmdawn recorder off" takes it away again.
[Unit]
Description=Calm Dawn boot recorder
DefaultDependencies=no
RequiresMountsFor=/usr/local/lib/calmdawn
Conflicts=shutdown.target
Before=shutdown.target

[Service]
Type=simple
ExecStart=-%s record --boots %d --since %s
NotifyAccess=main
TimeoutStopSec=5
MemoryMax=256M
NoNewPrivileges=yes
ProtectHome=read-only
ProtectSystem=strict
ReadWritePaths=-%s -/etc/systemd/system/sysinit.target.wants
RuntimeDirectory=calmdawn
RuntimeDirectoryMode=0700
RuntimeDirectoryPreserve=yes

[Install]
WantedBy=sysinit.target
`

// A Kit is the recorder for Linux machines, as a [recorder.Kit]: a program, a
// unit, and the link that has it started.
type Kit struct{}

// Install plans what puts the recorder in: its program, its unit and its link.
// It refuses a machine whose services systemd does not start.
func (Kit) Install(d *machine.Draft, r *machine.Root, o recorder.Order) error {
	if !r.IsFile("/usr/lib/systemd/systemd") && !r.IsFile("/lib/systemd/systemd") &&
		!isFolder(r, "/usr/lib/systemd/system") {
		return errors.New("the machine has no service manager that could start it")
	}
	if err := sameArchitecture(r, o.Program); err != nil {
		return err
	}
	if where := noExec(r); where != "" {
		return fmt.Errorf("the machine lets no program run from %s (noexec)", where)
	}
	if err := othersMayWrite(r, Program, Unit, Link); err != nil {
		return err
	}
	if err := d.Create(Program, "", o.Program); err != nil {
		return err
	}
	if err := d.AllowRun(Program); err != nil {
		return err
	}
	text := fmt.Sprintf(unitText, Program, o.Boots, o.At.UTC().Format(time.RFC3339), o.Keeps)
	if err := d.Create(Unit, "", []byte(text)); err != nil {
		return err
	}
	if err := d.Link(Link, "", Unit); err != nil {
		return err
	}
	// On a machine that goes by labels, what was made from outside would have
	// none, and would not be run.
	return errors.Join(d.LabelLike(Program, "/usr/bin/env", "/bin/sh"),
		d.LabelLike(Unit, "/usr/lib/systemd/system/basic.target",
			"/lib/systemd/system/basic.target"))
}

// Uninstall plans what takes the recorder away, whoever put it there.
func (Kit) Uninstall(d *machine.Draft, r *machine.Root) error {
	for _, p := range []string{Link, Unit, Program} {
		if _, err := r.Lstat(p); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err := d.Remove(p, ""); err != nil {
			return err
		}
	}
	return nil
}

// StateOf looks for the recorder in a machine.
func (Kit) StateOf(r *machine.Root) recorder.State {
	_, link := r.Lstat(Link)
	installed := r.IsFile(Unit) && r.IsFile(Program)
	return recorder.State{Installed: installed, Armed: installed && link == nil}
}

// Disarm plans what takes away the link that has the recorder started.
func (Kit) Disarm(d *machine.Draft) error { return d.Remove(Link, "") }

func isFolder(r *machine.Root, p string) bool {
	info, err := r.Stat(p)
	return err == nil && info.Kind == machine.Folder
}

// sameArchitecture compares the program with one of the machine's own, elf(5).
func sameArchitecture(r *machine.Root, program []byte) error {
	ours, err := elf.NewFile(bytes.NewReader(program))
	if err != nil {
		return fmt.Errorf("this program is in no form that Linux runs: %w", err)
	}
	for _, p := range []string{"/bin/sh", "/usr/bin/env", "/sbin/init"} {
		file, err := r.OpenFile(p)
		if err != nil {
			continue
		}
		theirs, err := elf.NewFile(file)
		file.Close()
		if err != nil {
			continue
		}
		if theirs.Machine != ours.Machine &&
			!(theirs.Machine == elf.EM_386 && ours.Machine == elf.EM_X86_64) {
			return fmt.Errorf("the machine's processor is of another kind (%s, this program is "+
				"for %s); use a calmdawn that was built for it", kindOf(theirs.Machine),
				kindOf(ours.Machine))
		}
		if theirs.Machine != ours.Machine {
			return fmt.Errorf("the machine's system is a 32-bit one, this program has 64; use a " +
				"calmdawn that was built for it")
		}
		return nil
	}
	return nil // nothing to compare with
}

func kindOf(m elf.Machine) string { return strings.ToLower(strings.TrimPrefix(m.String(), "EM_")) }

// noExec names the folder from which the machine runs no programs, after its
// fstab(5): of Program or above it.
func noExec(r *machine.Root) string {
	text, err := r.ReadFile("/etc/fstab", 1<<20)
	if err != nil {
		return ""
	}
	where, deepest := "", -1
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 4 || strings.HasPrefix(f[0], "#") {
			continue
		}
		inside := f[1] == "/" || strings.HasPrefix(Program, strings.TrimSuffix(f[1], "/")+"/")
		if !inside || len(f[1]) <= deepest {
			continue
		}
		deepest, where = len(f[1]), ""
		for option := range strings.SplitSeq(f[3], ",") {
			switch option {
			case "noexec", "user", "users":
				where = f[1]
			case "exec":
				where = ""
			}
		}
	}
	return where
}
