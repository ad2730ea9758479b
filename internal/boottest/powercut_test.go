//go:build linux && amd64

package boottest_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"calmdawn/internal/ring"
	"calmdawn/internal/stoptest"
)

func TestMain(m *testing.M) {
	stoptest.Launch()
	code := m.Run()
	for _, build := range []func() (string, error){built, builtBurner} {
		if ring.Now() > ring.Inner { // nothing is built for no boot
			if p, err := build(); err == nil {
				os.RemoveAll(filepath.Dir(p))
			}
		}
	}
	os.Exit(code)
}

// TestGuardHealsWhatAPowerCutLeft stops a change amid its edits, as a power cut
// does. The machine cannot start without what was taken away. The guard stands
// already, settles first in the next start, and that one becomes ready.
func TestGuardHealsWhatAPowerCutLeft(t *testing.T) {
	t.Parallel()
	m, p := guardedMachine(t), program(t)
	link := filepath.Join(m.Dir, "etc/systemd/system/multi-user.target.wants/key.service")
	for n := 150; ; n += 4 { // until the item is off, and the change not closed
		r, err := stoptest.Run(n, syscall.SIGKILL, p, "--root", m.Dir, "disable", "--yes",
			"--guard", "on", "--insist", "service:key.service,service:cron.service",
			"service:key.service", "service:cron.service")
		ok(t, err)
		if !r.Stopped {
			t.Fatalf("it was over before it was stopped: %s", r.Output)
		}
		if _, err := os.Lstat(link); err != nil {
			break
		}
		calm(t, p, m, "undo", "--all", "--yes")
	}
	if story := calm(t, p, m, "history"); !strings.Contains(story, "one interrupted") {
		t.Fatal(story)
	}
	m.Boot(t)
	if got := m.Shared(t, "reached"); got != "active\nactive\n" {
		t.Errorf("the start after the power cut: %q", got)
	}
	if _, err := os.Lstat(link); err != nil {
		t.Error("the link is not back")
	}
	if story := calm(t, p, m, "history"); !strings.Contains(story, "interrupted, taken back on") {
		t.Error(story)
	}
	if left := trace(m); len(left) > 0 {
		t.Errorf("of the guard is left: %v", left)
	}
}
