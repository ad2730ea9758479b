//go:build linux

package ledger_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// coarse makes a tree behave as on a file system that keeps whole seconds.
// Every new file gets an attribute there which it does not let go of.
func coarse(t *testing.T, dir string, r *machine.Root) {
	cut := func() {
		_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err != nil || strings.HasPrefix(p, dir+"/var") {
				return err
			}
			info, err := d.Info()
			if err == nil && info.ModTime().Nanosecond() != 0 {
				whole := unix.NsecToTimespec(info.ModTime().Truncate(time.Second).UnixNano())
				err = unix.UtimesNanoAt(unix.AT_FDCWD, p, []unix.Timespec{
					{Nsec: unix.UTIME_OMIT},
					whole,
				}, unix.AT_SYMLINK_NOFOLLOW)
			}
			return err
		})
	}
	cut()
	r.Hook = func(o machine.Op) error {
		cut()
		switch o.Name {
		case "write":
			news, _ := filepath.Glob(filepath.Join(dir, filepath.Dir(o.Path),
				machine.TempPrefix+"*"))
			for _, p := range news {
				if err := unix.Lsetxattr(p, "user.born", []byte("by itself"), 0); err != nil {
					t.Skipf("no attributes here: %v", err)
				}
			}
		case "xattr":
			t.Errorf("an attribute of %s is touched", o.Path)
		}
		return nil
	}
}

// TestFileSystemsOfTheirOwnKind changes, interrupts and undoes on a tree whose
// times and attributes are not quite what was written.
func TestFileSystemsOfTheirOwnKind(t *testing.T) {
	dir, r := tree(t)
	coarse(t, dir, r)
	clean := undated(testtree.Snapshot(t, dir, skip))
	times := testtree.Snapshot(t, dir, skip)
	all := func(d *machine.Draft) error {
		return errors.Join(drafts[0](d), drafts[2](d), drafts[3](d), drafts[4](d),
			d.Create("/etc/made", "", []byte("x")))
	}
	var ids []int64
	for _, draft := range []func(*machine.Draft) error{all, drafts[1], drafts[5]} {
		id, err := do(r, draft, 0)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, id)
	}
	for _, id := range []int64{ids[1], ids[0], ids[2]} {
		if _, err := do(r, nil, id); err != nil {
			t.Fatalf("undo %d: %v", id, err)
		}
	}
	r.Hook(machine.Op{}) // cut the last times too
	if d := testtree.Diff(clean, undated(testtree.Snapshot(t, dir, skip))); d != "" {
		t.Errorf("not as it was:\n%s", d)
	}
	for line := range strings.Lines(testtree.Diff(times, testtree.Snapshot(t, dir, skip))) {
		if !strings.Contains(line, "user.born") && !strings.Contains(line, "/etc/table") {
			t.Errorf("a time is lost: %s", line)
		}
	}

	// The same, interrupted at each of its renames.
	for _, path := range []string{"/etc/table", "/etc/w/other", "/etc/made"} {
		dir, r := tree(t)
		coarse(t, dir, r)
		clean := undated(testtree.Snapshot(t, dir, skip))
		usual := r.Hook
		r.Hook = func(o machine.Op) error {
			if err := usual(o); err != nil || o.Name != "sync" || o.Path != path {
				return err
			}
			if now, err := os.Lstat(dir + path); err == nil && now.ModTime().Year() > 2020 {
				panic(errInjected)
			}
			return nil
		}
		func() {
			defer func() { _ = recover() }()
			_, _ = do(r, all, 0)
		}()
		r.Hook = usual
		led := opened(t, r)
		if got := led.Changes(); len(got) != 1 || got[0].Status != change.Failed {
			t.Errorf("%s: %+v", path, got)
		}
		if d := testtree.Diff(clean, undated(testtree.Snapshot(t, dir, skip))); d != "" {
			t.Errorf("stopped at %s, it is not as it was:\n%s", path, d)
		}
	}
}

// undated leaves out of a snapshot its times, and the attribute of new files.
func undated(snapshot string) string {
	var lines []string
	for l := range strings.Lines(snapshot) {
		f := strings.Fields(l)
		f[3], f[4] = "", strings.ReplaceAll(f[4], "user.born=627920697473656c66", "-")
		lines = append(lines, strings.Join(f, " "))
	}
	return strings.Join(lines, "\n")
}
