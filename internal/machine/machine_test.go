//go:build linux

package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/core/change"
	"calmdawn/internal/testtree"
)

// open gives the same machine by each resolver: the kernel, our own walker, and
// that of other operating systems.
func open(t *testing.T, dir string) map[string]*Root {
	t.Helper()
	roots := map[string]*Root{}
	for _, name := range []string{"kernel", "walker", "portable"} {
		r, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		k := r.files.(*kernel)
		switch {
		case name == "portable":
			k.close()
			if r.files, err = openPortable(dir, r.hook); err != nil {
				t.Fatal(err)
			}
		case name == "kernel" && k.walker:
			t.Log("this kernel has no openat2: both runs use the walker")
		}
		k.walker = k.walker || name == "walker"
		t.Cleanup(func() { r.Close() })
		roots[name] = r
	}
	return roots
}

// TestAllResolversSeeTheSame compares them at every path of a tree of links.
func TestAllResolversSeeTheSame(t *testing.T) {
	dir := testtree.Make(t, map[string]string{
		"a/b/c": "text", "a/l": "-> b", "a/up": "-> ../a/b/c", "r": "-> /a/l", "a/b/dots": "-> ..",
		"self": "-> self", "gone": "-> nowhere", "out": "-> ../../../../a/b/c", "root": "-> /",
	})
	all := open(t, dir)
	for _, p := range []string{
		"/", "", "a", "/a/l", "/a/l/c", "/a/up", "/r/c", "/r/dots/b/c", "/self", "/gone", "/out",
		"/root/a/l/c", "/a/../a/./b//c", "/a/b/c/d", "/../../a", "/root/root/r/c",
		"/a/b\x00c", "/a/l/../l/c", "/nothing/at/all",
	} {
		said := map[string]string{}
		for name, r := range all {
			text, err1 := r.ReadFile(p, 100)
			real, err2 := r.Resolve(p)
			info, err3 := r.Stat(p)
			own, err4 := r.Lstat(p)
			target, err5 := r.ReadLink(p)
			entries, err6 := r.ReadDir(p)
			info.Size, own.Size = 0, 0 // of folders file systems tell what they like
			said[name] = fmt.Sprintf("%q %v %q %v %v %v %v %v %q %v %v %v", text, err1 != nil, real,
				err2 != nil, info, err3 != nil, own, err4 != nil, target, err5 != nil, entries,
				err6 != nil)
		}
		for name, what := range said {
			if what != said["kernel"] {
				t.Errorf("%q: %s says\n%s\nthe kernel\n%s", p, name, what, said["kernel"])
			}
		}
	}
}

func TestHostilePathsAreNeitherFollowedNorOpened(t *testing.T) {
	outside := testtree.Make(t, map[string]string{"secret": "secret"})
	dir := testtree.Make(t, map[string]string{
		"etc/plain":    "plain",
		"etc/absolute": "-> /etc/plain",
		"etc/up":       "-> ../../../../../../etc/plain",
		"etc/chain":    "-> chain2",
		"etc/chain2":   "-> /abs/plain",
		"abs":          "-> etc",
		"etc/out":      "-> " + outside + "/secret",
		"etc/dotdot":   "-> ../../" + filepath.Base(outside) + "/secret",
		"etc/loop":     "-> loop2",
		"etc/loop2":    "-> loop",
		"etc/dangling": "-> nothing",
		"etc/folder/x": "",
		"etc/magic":    "-> /proc/self/root/etc/passwd",
	})
	if err := unix.Mkfifo(filepath.Join(dir, "etc/fifo"), 0o644); err != nil {
		t.Fatal(err)
	}
	if fd, err := unix.Socket(unix.AF_UNIX, unix.SOCK_STREAM, 0); err == nil {
		defer unix.Close(fd)
		_ = unix.Bind(fd, &unix.SockaddrUnix{Name: filepath.Join(dir, "etc/socket")})
	}
	if os.Geteuid() == 0 {
		if err := unix.Mknod(filepath.Join(dir, "etc/device"), unix.S_IFCHR|0o644,
			int(unix.Mkdev(1, 5))); err != nil {
			t.Fatal(err)
		}
	}
	huge, err := os.Create(filepath.Join(dir, "etc/huge"))
	if err != nil {
		t.Fatal(err)
	}
	if err := huge.Truncate(2 << 30); err != nil {
		t.Fatal(err)
	}
	huge.Close()

	for name, r := range open(t, dir) {
		for _, p := range []string{
			"/etc/plain", "/etc/absolute", "/etc/up", "/etc/chain", "etc/plain", "/../etc/plain",
		} {
			if text, err := r.ReadFile(p, 100); err != nil || string(text) != "plain" {
				t.Errorf("%s: ReadFile(%s) = %q, %v; want plain", name, p, text, err)
			}
		}
		for p, want := range map[string]string{
			"/etc/fifo":   "a FIFO",
			"/etc/socket": "a socket",
			"/etc/device": "a device",
			"/etc/folder": "a folder",
			"/etc/huge":   "larger than",
			"/etc/loop":   "circle",
		} {
			if p == "/etc/device" && os.Geteuid() != 0 {
				continue
			}
			_, err := r.ReadFile(p, 1<<20)
			var refusal *Refusal
			if !errors.As(err, &refusal) || !strings.Contains(Reason(err), want) ||
				strings.Contains(err.Error(), "\n") {
				t.Errorf("%s: ReadFile(%s): %v; want a refusal with %q", name, p, err, want)
			}
		}
		for _, p := range []string{"/etc/out", "/etc/dotdot", "/etc/dangling", "/etc/magic"} {
			if _, err := r.ReadFile(p, 100); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s: ReadFile(%s): %v; want not there", name, p, err)
			}
		}
		if _, err := r.ReadDir("/etc/plain"); err == nil {
			t.Errorf("%s: a file was listed as a folder", name)
		}
		if real, err := r.Resolve("/abs/chain"); err != nil || real != "/etc/plain" {
			t.Errorf("%s: Resolve = %q, %v", name, real, err)
		}
	}
}

func TestHookCountsAndFailsOperations(t *testing.T) {
	dir := testtree.Make(t, map[string]string{"etc/a": "12345"})
	r := open(t, dir)["kernel"]
	var bytes int64
	r.Hook = func(op Op) error { bytes += op.Bytes; return nil }
	if _, err := r.ReadFile("/etc/a", 10); err != nil || bytes != 5 {
		t.Errorf("read %d bytes by the hook's count, %v", bytes, err)
	}
	broken := errors.New("broken")
	r.Hook = func(op Op) error {
		if op.Name == "read" {
			return broken
		}
		return nil
	}
	if _, err := r.ReadFile("/etc/a", 10); !errors.Is(err, broken) {
		t.Errorf("ReadFile = %v; want the hook's error", err)
	}
}

// TestAFaultOnTheWayIsAnError has steps fail that lead to an edit.
func TestAFaultOnTheWayIsAnError(t *testing.T) {
	for name, r := range open(t, testtree.Make(t, map[string]string{"etc/a": "1"})) {
		if _, err := r.Node("/etc/"+strings.Repeat("x", 300), ""); err == nil {
			t.Errorf("%s: a name that is too long is taken for absent", name)
		}
		if name != "portable" {
			continue // only that opens the folder by its name
		}
		e := change.Edit{Path: "/etc/b", Before: change.Node{Kind: change.Absent},
			After: change.Node{Kind: change.File, Mode: 0o644}}
		broken := errors.New("broken")
		r.Hook = func(op Op) error {
			if op.Name == "open" && op.Path == "/etc" {
				return broken
			}
			return nil
		}
		if err := r.Apply(e); !errors.Is(err, broken) {
			t.Errorf("%s: Apply = %v; want the hook's error", name, err)
		}
	}
}

// TestAFolderThatCannotBeHandedOver fails with the step that gives it to whose
// folder is around it.
func TestAFolderThatCannotBeHandedOver(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root hands folders over")
	}
	dir := testtree.Make(t, map[string]string{"theirs/": ""})
	if err := os.Chown(dir+"/theirs", 1000, 1000); err != nil {
		t.Fatal(err)
	}
	r := open(t, dir)["kernel"]
	broken := errors.New("broken")
	r.Hook = func(op Op) error {
		if op.Name == "chown" {
			return broken
		}
		return nil
	}
	if err := r.MakeFolder("/theirs/ours", "", 0o755); !errors.Is(err, broken) {
		t.Errorf("MakeFolder = %v; want the hook's error", err)
	}
}

func TestApplyAndItsInverseRestoreThePath(t *testing.T) {
	old := time.Date(2019, 3, 4, 5, 6, 7, 89, time.UTC)
	for _, c := range []struct {
		name  string
		files map[string]string
		path  string
		after change.Node
	}{
		{
			"rewrite a file",
			map[string]string{"etc/a": "one\n"},
			"/etc/a",
			change.Node{Kind: change.File, Data: []byte("two\n"), Mode: 0o640},
		},
		{
			"remove a link",
			map[string]string{"etc/a": "-> /usr/b"},
			"/etc/a",
			change.Node{Kind: change.Absent},
		},
		{
			"remove a file",
			map[string]string{"etc/a": "one"},
			"/etc/a",
			change.Node{Kind: change.Absent},
		},
		{
			"make a link",
			map[string]string{"etc/": ""},
			"/etc/a",
			change.Node{Kind: change.Link, Target: "/dev/null"},
		},
		{
			"replace a file by a link",
			map[string]string{"etc/a": "one"},
			"/etc/a",
			change.Node{Kind: change.Link, Target: "x"},
		},
	} {
		for name, r := range open(t, testtree.Make(t, c.files)) {
			full := filepath.Join(r.Dir(), c.path)
			if info, err := os.Lstat(full); err == nil && info.Mode().IsRegular() {
				if err := errors.Join(unix.Chmod(full, 0o4711),
					unix.Setxattr(full, "user.note", []byte("keep"), 0),
					os.Chtimes(full, old, old)); err != nil {
					t.Fatal(err)
				}
			}
			inside := func() string {
				if _, err := os.Lstat(full); err != nil {
					return "absent"
				}
				return testtree.Snapshot(t, full, nil)
			}
			before := inside()
			now, err := r.Node(c.path, "")
			if err != nil {
				t.Fatal(err)
			}
			e := change.Edit{Path: c.path, Before: now, After: c.after}
			e.After.UID, e.After.GID, e.After.ModTime = os.Geteuid(), os.Getegid(), time.Now().
				UnixNano()
			if err := r.Apply(e); err != nil {
				t.Fatalf("%s, %s: %v", c.name, name, err)
			}
			var conflict *change.Conflict
			if err := r.Apply(e); !errors.As(err, &conflict) {
				t.Errorf("%s, %s: the same edit again: %v; want a conflict", c.name, name, err)
			}
			if err := r.Apply(e.Inverse()); err != nil {
				t.Fatalf("%s, %s: back: %v", c.name, name, err)
			}
			if d := testtree.Diff(before, inside()); d != "" {
				t.Errorf("%s, %s: not as it was:\n%s", c.name, name, d)
			}
		}
	}
}

func TestHardLinksStayTogether(t *testing.T) {
	dir := testtree.Make(t, map[string]string{"etc/a": "one"})
	if err := os.Link(dir+"/etc/a", dir+"/etc/b"); err != nil {
		t.Fatal(err)
	}
	for name, r := range open(t, dir) {
		d := r.Draft(time.Now())
		if err := d.Rewrite("/etc/a", "", func([]byte) ([]byte, error) {
			return []byte(name), nil
		}); err != nil {
			t.Fatal(err)
		}
		if err := r.Apply(d.Edits()[0]); err != nil {
			t.Fatal(err)
		}
		if text, _ := os.ReadFile(dir + "/etc/b"); string(text) != name {
			t.Errorf("%s: the other name holds %q", name, text)
		}
	}
}

func TestEditsInAHomeStayThereAndAreTheUsersOwn(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("changing file-system ids needs root")
	}
	dir := testtree.Make(t, map[string]string{
		"home/maria/.config/a.desktop": "x",
		"home/maria/out":               "-> /etc",
		"etc/a.desktop":                "root's",
		"home/maria/locked/a":          "x",
	})
	for _, p := range []string{"home/maria", "home/maria/.config", "home/maria/.config/a.desktop"} {
		if err := os.Lchown(filepath.Join(dir, p), 1001, 1001); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	// the way to the test's folder has to be open to the user
	for up := dir; up != "/"; up = filepath.Dir(up) {
		if info, err := os.Stat(up); err == nil && strings.HasPrefix(up, os.TempDir()+"/") {
			_ = os.Chmod(up, info.Mode().Perm()|0o011)
		}
	}
	for name, r := range open(t, dir) {
		edit := func(p string) error {
			now, err := r.Node(p, "/home/maria")
			if err != nil {
				return err
			}
			after := now
			after.Data = append(after.Data, '!')
			return r.Apply(change.Edit{Path: p, Home: "/home/maria", Before: now, After: after})
		}
		if err := edit("/home/maria/.config/a.desktop"); err != nil {
			t.Errorf("%s: the user's own file: %v", name, err)
		}
		if err := edit("/home/maria/out/a.desktop"); err == nil {
			t.Errorf("%s: a link out of the home was followed", name)
		}
		if err := edit("/home/maria/locked/a"); !errors.Is(err, fs.ErrPermission) {
			t.Errorf("%s: a file of root in the home: %v; want no permission", name, err)
		}
		same := func(b []byte) ([]byte, error) { return b, nil }
		d := r.Draft(time.Now())
		if err := d.Rewrite("/home/maria/out/a.desktop", "/home/maria", same); err == nil {
			t.Errorf("%s: a draft left the home", name)
		}
	}
	if text, _ := os.ReadFile(dir + "/etc/a.desktop"); string(text) != "root's" {
		t.Errorf("a file outside the home became %q", text)
	}
	if unix.Geteuid() != 0 {
		t.Error("the thread kept the user's ids")
	}
}

// TestAUserWhoSwapsFoldersGainsNothing exchanges a folder of a home for links
// to other places while root edits in it.
func TestAUserWhoSwapsFoldersGainsNothing(t *testing.T) {
	outside := testtree.Make(t, map[string]string{"a.desktop": "root's", "b": ""})
	dir := testtree.Make(t, map[string]string{"home/maria/.config/a.desktop": "x", "etc/": ""})
	before := testtree.Snapshot(t, outside, nil)
	config := dir + "/home/maria/.config"
	roots := slices.Collect(maps.Values(open(t, dir)))
	var swaps atomic.Int64
	done := make(chan struct{})
	go func() {
		defer close(done)
		for targets := []string{
			outside,
			"/etc",
			"../../.." + outside,
		}; swaps.Load() < 3000; swaps.Add(1) {
			_ = os.Symlink(targets[swaps.Load()%int64(len(targets))], config+".away")
			_ = unix.Renameat2(unix.AT_FDCWD, config, unix.AT_FDCWD, config+".away",
				unix.RENAME_EXCHANGE)
			_ = unix.Renameat2(unix.AT_FDCWD, config, unix.AT_FDCWD, config+".away",
				unix.RENAME_EXCHANGE)
			_ = os.Remove(config + ".away")
		}
	}()
	made := map[*Root]int{}
	for i := 0; swaps.Load() < 3000; i++ {
		r := roots[i%len(roots)]
		now, err := r.Node("/home/maria/.config/a.desktop", "/home/maria")
		if err != nil {
			continue
		}
		after := change.Node{
			Kind: change.File,
			Data: []byte(fmt.Sprint("edit ", i)),
			Mode: 0o644,
			UID:  os.Geteuid(),
			GID:  os.Getegid(),
		}
		if r.Apply(change.Edit{
			Path:   "/home/maria/.config/a.desktop",
			Home:   "/home/maria",
			Before: now,
			After:  after,
		}) == nil {
			made[r]++
		}
	}
	<-done
	if d := testtree.Diff(before, testtree.Snapshot(t, outside, nil)); d != "" {
		t.Errorf("outside the home:\n%s", d)
	}
	if _, err := os.Lstat(dir + "/etc/a.desktop"); err == nil {
		t.Error("a file was made in another place of the machine")
	}
	for _, r := range roots {
		if made[r] == 0 {
			t.Errorf("%T made no edit at all", r.files)
		}
		t.Logf("%T: %d edits were made among %d swaps", r.files, made[r], swaps.Load())
	}
}

// TestAttributesThatSayNothing: only what a file system makes up is passed
// over.
// TestEveryAttributeIsWritten gives a file several, and takes all away again.
func TestEveryAttributeIsWritten(t *testing.T) {
	r := open(t, testtree.Make(t, map[string]string{"a": "1"}))["kernel"]
	before, err := r.Node("/a", "")
	if err != nil {
		t.Fatal(err)
	}
	after := before
	after.Xattrs = map[string][]byte{
		"user.one": []byte("1"), "user.two": []byte("2"), "user.three": []byte("3"),
	}
	e := change.Edit{Path: "/a", Before: before, After: after}
	err = r.Apply(e)
	if errors.Is(err, errors.ErrUnsupported) {
		t.Skip("this file system has no attributes")
	}
	now, nodeErr := r.Node("/a", "")
	if err != nil || nodeErr != nil || len(now.Xattrs) != 3 {
		t.Errorf("%v, %v: %q", err, nodeErr, now.Xattrs)
	}
	e.Before, e.After = now, before
	err = r.Apply(e)
	if now, _ = r.Node("/a", ""); err != nil || len(now.Xattrs) > 0 {
		t.Errorf("%v: left are %q", err, now.Xattrs)
	}
}

func TestAttributesThatSayNothing(t *testing.T) {
	for _, c := range []struct {
		key, value string
		nothing    bool
	}{
		{"osx.com.apple.FinderInfo", strings.Repeat("\x00", 32), true},
		{"osx.com.apple.FinderInfo", "????????" + strings.Repeat("\x00", 24), true},
		{"osx.com.apple.FinderInfo", "TEXTttxt", false},
		{"user.mark", "", false}, {"user.mark", "????????", false},
	} {
		if got := saysNothing(c.key, []byte(c.value)); got != c.nothing {
			t.Errorf("%s %q says nothing: %v", c.key, c.value, got)
		}
	}
}
