//go:build linux && amd64

package stoptest_test

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// TestAUserWhoGetsInTheWay does in a home what a hostile user can. Meanwhile
// root switches an item of that home, and one of the machine, off and on again.
// The folder is exchanged for a link. Our unfinished files are made unreadable,
// taken away, or put in place by links to other files. Nothing outside the home
// is touched, and nothing is held up for good.
func TestAUserWhoGetsInTheWay(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	outside := testtree.Make(t, map[string]string{
		"lanternfile.desktop": "root's",
		"victim":              "root's",
	})
	theirs := testtree.Snapshot(t, outside, nil)
	home := func(p string) bool {
		return p == "/var/lib" || p == "/home/maria" || p == "/etc/calmdawn"
	}
	clean := testtree.Snapshot(t, dir+"/machine", home)
	folder := dir + "/machine/home/maria/.config/autostart"
	hostile := []func(){
		func() {
			_ = os.Symlink(outside, folder+".away")
			_ = unix.Renameat2(unix.AT_FDCWD, folder, unix.AT_FDCWD, folder+".away",
				unix.RENAME_EXCHANGE)
			_ = unix.Renameat2(unix.AT_FDCWD, folder, unix.AT_FDCWD, folder+".away",
				unix.RENAME_EXCHANGE)
			_ = os.Remove(folder + ".away")
		},
		func() { unfinished(folder, func(p string) { _ = os.Chmod(p, 0) }) },
		func() { unfinished(folder, func(p string) { _ = os.Remove(p) }) },
		func() {
			unfinished(folder, func(p string) {
				_ = os.Remove(p)
				_ = os.Symlink(outside+"/victim", p)
			})
		},
		func() {
			unfinished(folder, func(p string) {
				_ = os.Remove(p)
				_ = os.Link(outside+"/victim", p)
			})
		},
		func() { _ = os.Chmod(folder+"/lanternfile.desktop", 0) },
		func() { _ = os.Chmod(folder+"/lanternfile.desktop", 0o644) },
	}
	var owner unix.Stat_t
	must(t, unix.Stat(folder, &owner))
	stop := make(chan struct{})
	var wait sync.WaitGroup
	for n := range 2 {
		wait.Go(func() {
			runtime.LockOSThread() // the thread ends with its goroutine
			_, _ = unix.SetfsgidRetGid(int(owner.Gid))
			_, _ = unix.SetfsuidRetUid(int(owner.Uid))
			for i := n; ; i++ {
				select {
				case <-stop:
					return
				default:
					hostile[i%len(hostile)]()
				}
			}
		})
	}
	calls, machine := 0, 0
	for end := time.Now().Add(15 * time.Second); time.Now().Before(end); calls++ {
		calm(dir, "disable --yes program:lanternfile.desktop@maria service:star-index.service")
		if out, code := calm(dir, "disable --yes service:dome-agent.service"); code != 0 {
			t.Errorf("an item of the machine: %d %s", code, out)
		} else if strings.Contains(out, "Done") {
			machine++
		}
		if out, code := calm(dir,
			"undo --all --yes --overwrite"); strings.Contains(out, "panic") || code > 1 {
			t.Errorf("%d %s", code, out)
		}
	}
	close(stop)
	wait.Wait()
	t.Logf("%d rounds", calls)
	if machine < calls/2 || calls < 3 {
		t.Errorf("the machine's own item was switched off %d times in %d", machine, calls)
	}
	// One of the two may have exchanged what the other took away meanwhile.
	if target, err := os.Readlink(folder); err == nil && target == outside {
		must(t, unix.Renameat2(unix.AT_FDCWD, folder, unix.AT_FDCWD, folder+".away",
			unix.RENAME_EXCHANGE))
	}
	_ = os.Chmod(folder+"/lanternfile.desktop", 0o644)
	if out, code := calm(dir, "undo --all --yes --overwrite"); code != 0 {
		t.Errorf("when nobody is in the way any more: %d %s", code, out)
	}
	if d := testtree.Diff(clean, testtree.Snapshot(t, dir+"/machine", home)); d != "" {
		t.Errorf("outside the home, the machine is not as it was:\n%s", d)
	}
	if d := testtree.Diff(theirs, testtree.Snapshot(t, outside, nil)); d != "" {
		t.Errorf("what is not ours was touched:\n%s", d)
	}
}

// unfinished does something to what is being written in a folder.
func unfinished(folder string, do func(string)) {
	found, _ := filepath.Glob(folder + "/.calmdawn-*.tmp")
	for _, p := range found {
		do(p)
	}
}
