// Package guard puts the boot guard into a machine, and does its work there: three small units that count the boots since a change, and take it back
// when the machine has failed to become ready twice in a row. It is no part of the change it guards: it comes and goes without a trace, so that
// the change can be undone as if it had never been there.
package guard

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/guard"
	"calmdawn/internal/machine"
)

// By is who takes changes back, in the ledger.
const By = "boot guard"

// Where the guard stands in a machine. All of it has to be on the file system of the root, for it runs before any other is there.
const (
	Program = "/usr/local/lib/calmdawn-guard/calmdawn" // not the recorder's: each comes and goes alone
	State   = "/etc/calmdawn/guard.json"
	units   = "/etc/systemd/system/"
	begin   = "calmdawn-guard.service"
	good    = "calmdawn-guard-good.service"
	failed  = "calmdawn-guard-failed.service"
)

const maxState = 1 << 20

// The first unit counts the boot, before any file system but the root's is needed, and so before a start without them can end in an emergency. Its
// end is an orderly one. The second is started once the goal is reached; if the goal fails it fails with it, and the third notes that, as it does
// when the machine ends in an emergency or in a rescue.
var texts = map[string]string{
	begin: `[Unit]
Description=Calm Dawn boot guard
DefaultDependencies=no
ConditionPathExists=` + State + `
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
ConditionPathExists=` + State + `
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
ConditionPathExists=` + State + `

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
			return p + " is a file system of its own, and the guard has to work before that is there"
		}
	}
	return ""
}

// Goal is what the machine aims at when it starts: what default.target leads to.
func Goal(r *machine.Root) string {
	for _, p := range []string{units + "default.target", "/usr/lib/systemd/system/default.target", "/lib/systemd/system/default.target"} {
		if target, err := r.ReadLink(p); err == nil && strings.HasSuffix(target, ".target") {
			return path.Base(target)
		}
	}
	return "graphical.target"
}

// Read returns the guard's state; false where the machine has no guard.
func Read(r *machine.Root) (guard.State, bool, error) {
	var s guard.State
	text, err := r.ReadFile(State, maxState)
	if errors.Is(err, fs.ErrNotExist) {
		return s, false, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	if err == nil && s.Format != guard.Format {
		err = fmt.Errorf("its format is %d, and this calmdawn knows %d", s.Format, guard.Format)
	}
	if err != nil {
		return s, true, fmt.Errorf("the boot guard's state (%s) cannot be read: %w", State, err)
	}
	return s, true, nil
}

// There reports whether anything of the guard stands in a machine, be it what a power cut left.
func There(r *machine.Root) bool {
	for _, p := range []string{State, Program, units + begin, units + good, units + failed} {
		if _, err := r.Lstat(p); err == nil {
			return true
		}
	}
	return false
}

// Install has the machine guard a change, besides those it guards already. program is ours; usual is how long the machine takes until it is
// ready, 0 where that is not known.
func Install(r *machine.Root, program []byte, id int64, usual time.Duration, at time.Time) error {
	if why := Refused(r); why != "" {
		return errors.New(why)
	}
	s, there, err := Read(r)
	if there && err == nil && !s.Acted {
		if !slices.Contains(s.Changes, id) {
			s.Changes = append(s.Changes, id)
		}
		s.Usual, s.Boots = usual, nil
		return save(r, s, at)
	}
	if err := Remove(r, at); err != nil { // what is left of one that has done its work, or cannot be read
		return err
	}
	s = guard.State{Format: guard.Format, Usual: usual}
	goal := Goal(r)
	d := r.Draft(at)
	if err := d.Create(Program, "", program); err != nil {
		return err
	}
	if err := d.Chmod(Program, true); err != nil {
		return err
	}
	labels := []error{d.LabelLike(Program, "/usr/bin/env", "/bin/sh")}
	for name, text := range texts {
		if err := d.Create(units+name, "", []byte(strings.ReplaceAll(text, "GOAL", goal))); err != nil {
			return err
		}
		labels = append(labels, d.LabelLike(units+name, "/usr/lib/systemd/system/basic.target", "/lib/systemd/system/basic.target"))
	}
	if err := errors.Join(labels...); err != nil {
		return err
	}
	for link, target := range links(goal) {
		if err := d.Link(link, "", target); err != nil {
			return err
		}
	}
	s.Made = missing(r, append(d.Edits(), change.Edit{Path: State}), s.Made)
	err = save(r, s, at) // what was made is known before it is made
	if err == nil {
		err = carry(r, d.Edits())
	}
	if err == nil {
		s.Changes = []int64{id} // last: without changes it does nothing
		err = save(r, s, at)
	}
	if err != nil {
		return errors.Join(err, Remove(r, at))
	}
	return nil
}

// missing adds the folders that edits need and that are not there to those already known.
func missing(r *machine.Root, edits []change.Edit, known []string) []string {
	var add func(dir string)
	add = func(dir string) {
		if _, err := r.Stat(dir); err != nil && !slices.Contains(known, dir) {
			add(path.Dir(dir))
			known = append(known, dir)
		}
	}
	for _, e := range edits {
		add(path.Dir(e.Path))
	}
	return known
}

// Remove takes the guard out of the machine.
func Remove(r *machine.Root, at time.Time) error {
	s, _, _ := Read(r) // one that cannot be read names no folders; the rest is known
	d := r.Draft(at)
	paths := []string{State}
	for _, goal := range []string{Goal(r), "graphical.target", "multi-user.target"} {
		for link := range links(goal) {
			paths = append(paths, link)
		}
	}
	for name := range texts {
		paths = append(paths, units+name)
	}
	paths = append(paths, Program)
	slices.Sort(paths[1 : len(paths)-1])
	for _, p := range slices.Compact(paths) {
		if _, err := r.Lstat(p); err != nil {
			continue
		}
		if err := d.Remove(p, ""); err != nil {
			return err
		}
	}
	if err := carry(r, d.Edits()); err != nil {
		return err
	}
	for _, dir := range slices.Backward(s.Made) {
		if state, err := r.Folder(dir, ""); err != nil || !state.Exists || !state.Empty {
			continue // somebody uses it
		}
		if err := keepingTime(r, path.Dir(dir), func() error { return r.RemoveFolder(dir, "") }); err != nil {
			return err
		}
	}
	return nil
}

// Forget has a change guarded no more; with the last one the guard goes.
func Forget(r *machine.Root, id int64, at time.Time) error {
	s, there, err := Read(r)
	if !there || err == nil && !slices.Contains(s.Changes, id) {
		return err
	}
	s.Changes = slices.DeleteFunc(s.Changes, func(n int64) bool { return n == id })
	if err != nil || len(s.Changes) == 0 {
		return Remove(r, at)
	}
	return save(r, s, at)
}

func save(r *machine.Root, s guard.State, at time.Time) error {
	text, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	d := r.Draft(at)
	if _, err := r.Lstat(State); err == nil {
		err = d.Rewrite(State, "", func([]byte) ([]byte, error) { return append(text, '\n'), nil })
		if err != nil {
			return err
		}
	} else if err := d.Create(State, "", append(text, '\n')); err != nil {
		return err
	}
	return carry(r, d.Edits())
}

// carry makes edits and gives the folders around them their times back: the ledger goes by those. Folders that are missing are made.
func carry(r *machine.Root, edits []change.Edit) error {
	for _, e := range edits {
		dir := path.Dir(e.Path)
		if e.After.Kind != change.Absent {
			if err := makeFolder(r, dir); err != nil {
				return err
			}
		}
		if err := keepingTime(r, dir, func() error { return r.Apply(e) }); err != nil {
			return err
		}
	}
	return nil
}

func makeFolder(r *machine.Root, dir string) error {
	if _, err := r.Stat(dir); err == nil {
		return nil
	}
	if err := makeFolder(r, path.Dir(dir)); err != nil {
		return err
	}
	return keepingTime(r, path.Dir(dir), func() error { return r.MakeFolder(dir, "", 0o755) })
}

func keepingTime(r *machine.Root, dir string, do func() error) error {
	before, err := r.Folder(dir, "")
	if err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return r.SetFolderTime(dir, "", before.ModTime)
}
