//go:build linux

package machine

import (
	"errors"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/core/change"
	"calmdawn/internal/testtree"
)

// TestReachOfOlderRecords goes by what the machine's tables say, where a record
// does not tell what was mounted.
func TestReachOfOlderRecords(t *testing.T) {
	r, err := Open(testtree.Make(t, map[string]string{"home/maria/x": "x", "etc/x": "x"}))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	r.Home.Away = func(*Root) []string { return []string{"/home/maria"} }
	for p, want := range map[string]bool{
		"/home/maria/x": true, "/home/maria": false, "/home/maria2/x": false, "/etc/x": false,
		"registry:HKLM\\a": false,
	} {
		err := r.Reach(change.Edit{Path: p})
		if away := (*Away)(nil); errors.As(err, &away) != want {
			t.Errorf("%s: %v", p, err)
		} else if want && !SaysAway(away.Why()) {
			t.Errorf("%q is not known again", away.Why())
		}
	}
	if err := r.Reach(change.Edit{Path: "/home/maria/x", Mounts: []string{}}); err != nil {
		t.Errorf("what is on record does not count: %v", err)
	}
}

// TestMounts mounts a file system over a folder, and another below it.
func TestMounts(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting takes root")
	}
	dir := testtree.Make(t, map[string]string{"home/maria/.config/x": "x"})
	r, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	const p = "/home/maria/.config/x"
	has := func(want ...string) {
		t.Helper()
		if got := r.Mounts(p); !slices.Equal(got, want) {
			t.Errorf("mounted at %q, not %q", got, want)
		}
	}
	has()
	before := change.Edit{Path: p, Mounts: r.Mounts(p)}
	bind := func(at string) {
		t.Helper()
		if err := unix.Mount(dir+at, dir+at, "", unix.MS_BIND, ""); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = unix.Unmount(dir+at, unix.MNT_DETACH) })
	}
	bind("/home/maria") // with the device number of what is around it
	has("/home/maria")
	during := change.Edit{Path: p, Mounts: r.Mounts(p)}
	bind("/home")
	has("/home")
	for i, c := range []struct {
		edit  change.Edit
		mount string
		kind  AwayKind
	}{{before, "/home", Covered}, {during, "/home/maria", NotMounted}} {
		away := (*Away)(nil)
		if err := r.Reach(c.edit); !errors.As(err, &away) || away.At != c.mount ||
			away.Kind != c.kind {
			t.Errorf("%d: %v", i, err)
		}
	}
	if r.Mounts("registry:x") != nil {
		t.Error("a value has mounts")
	}
}

// TestAFileThatCannotBeReadHasNoState reads one whose disk fails amid it: what
// came before that is not its state.
func TestAFileThatCannotBeReadHasNoState(t *testing.T) {
	r, err := Open(testtree.Make(t, map[string]string{"etc/x": "x"}))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	fault := errors.New("the disk says no")
	r.Hook = func(op Op) error {
		if op.Name == "read" {
			return fault
		}
		return nil
	}
	if n, err := r.Node("/etc/x", ""); !errors.Is(err, fault) || n.Kind != change.Absent {
		t.Errorf("%v, %v", n.Kind, err)
	}
}

// A sealedHome is a machine with a folder whose key is away.
type sealedHome struct {
	*kernel
	folder string
}

func (s *sealedHome) sealed(p string) (bool, error) {
	if _, err := s.kernel.sealed(p); err != nil {
		return false, err
	}
	return p == s.folder, nil
}

// TestWhatIsSealedIsAway looks for a path of which no name is to be found, for
// its folder is encrypted and the key is away.
func TestWhatIsSealedIsAway(t *testing.T) {
	r, err := Open(testtree.Make(t, map[string]string{"home/maria/": "", "home/teo/x": "x"}))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	k, ok := r.files.(*kernel)
	if !ok {
		t.Fatalf("%T", r.files)
	}
	r.files = &sealedHome{k, "/home/maria"}
	for p, want := range map[string]string{
		"/home/maria/.config/autostart/x": "/home/maria", "/home/maria/x": "/home/maria",
		"/home/teo/x": "", "/home/teo/.config/x": "", "/home/maria": "",
	} {
		away := (*Away)(nil)
		err := r.Reach(change.Edit{Path: p, Mounts: r.Mounts(p)})
		if errors.As(err, &away); (away != nil) != (want != "") ||
			want != "" && (away.At != want || away.Kind != Sealed || !SaysAway(away.Why())) {
			t.Errorf("%s: %v", p, err)
		}
	}
}

// TestTimesBeyondRecordsAreRefused has a file and a folder of a year that
// nanoseconds since 1970 do not reach.
func TestTimesBeyondRecordsAreRefused(t *testing.T) {
	dir := testtree.Make(t, map[string]string{"etc/x": "x", "etc/y": "y", "opt/z": "z"})
	far := time.Date(2397, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, p := range []string{"/etc/x", "/opt"} {
		if err := os.Chtimes(dir+p, far, far); err != nil {
			t.Fatal(err)
		}
		if info, err := os.Stat(dir + p); err != nil || !info.ModTime().Equal(far) {
			t.Skip("this file system keeps no such time")
		}
	}
	r, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	_, err1 := r.Node("/etc/x", "")
	_, err2 := r.Folder("/opt", "")
	for _, err := range []error{err1, err2} {
		if err == nil || !strings.Contains(err.Error(), "of the year 2397") {
			t.Errorf("it would be lost: %v", err)
		}
	}
	if n, err := r.Node("/etc/y", ""); err != nil || n.ModTime == 0 {
		t.Errorf("%+v, %v", n, err)
	}
}
