//go:build linux

package boottest_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"calmdawn/internal/boottest"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// guardedMachine cannot reach its goal without key.service. Each boot ends as
// the file /etc/ends says. "late" is after the goal was reached or not. "early"
// is by a person who switches it off before anything can be told.
func guardedMachine(t testing.TB) *boottest.Machine {
	return boottest.New(t, map[string]string{
		"etc/systemd/system/key.service": "[Service]\nType=oneshot\n" +
			"RemainAfterExit=yes\nExecStart=/usr/bin/touch /run/key\n[Install]\n" +
			"WantedBy=multi-user.target\n",
		"etc/systemd/system/multi-user.target.wants/key.service": "-> ../key.service",
		"etc/systemd/system/gate.service": "[Unit]\n" +
			"Wants=key.service\nAfter=key.service\n[Service]\nType=oneshot\nRemainAfterExit=yes\n" +
			"ExecStart=/usr/bin/test -e /run/key\n",
		"etc/systemd/system/multi-user.target.requires/gate.service": "-> ../gate.service",
		"etc/ends": "late\n",
		"usr/bin/watch": "sleep $1\nsystemctl is-active graphical.target > " +
			"/share/reached\nsystemctl is-active key.service >> /share/reached\nsystemctl " +
			"--no-block poweroff\n",
		"usr/bin/impatient": "read how < /etc/ends\n[ $how = early ] && systemctl " +
			"--no-block poweroff && sleep 30\nexit 0\n",
		"etc/systemd/system/watch.service": "[Unit]\nDefaultDependencies=no\n[Service]\n" +
			"ExecStart=/bin/sh /usr/bin/watch 12\n",
		"etc/systemd/system/last.service": "[Unit]\nAfter=graphical.target\n[Service]\n" +
			"ExecStart=/bin/sh /usr/bin/watch 3\n",
		"etc/systemd/system/sysinit.target.wants/watch.service": "-> ../watch.service",
		"etc/systemd/system/impatient.service": "[Unit]\n" +
			"DefaultDependencies=no\nAfter=calmdawn-guard.service\nBefore=sysinit.target\n" +
			"[Service]\nType=oneshot\nExecStart=/bin/sh /usr/bin/impatient\n",
		"etc/systemd/system/sysinit.target.wants/impatient.service": "-> ../impatient.service",
		// teo's home is mounted during the boot, after the guard has worked
		"etc/systemd/system/home-teo.mount": "[Unit]\nAfter=calmdawn-guard.service\n[Mount]\n" +
			"What=/disk/teo\nWhere=/home/teo\nType=none\nOptions=bind\n",
		"etc/systemd/system/local-fs.target.requires/home-teo.mount": "-> ../home-teo.mount",
		"disk/teo/.config/autostart/lamp.desktop": "[Desktop Entry]\nType=Application\n" +
			"Name=Lamp\nExec=/usr/bin/mark lamp\n",
	})
}

// trace lists what of the guard stands in a machine.
func trace(m *boottest.Machine) (left []string) {
	for _, pattern := range []string{
		"etc/calmdawn", "etc/systemd/system/calmdawn-guard*",
		"etc/systemd/system/*.wants/calmdawn-guard*", "usr/local/lib/calmdawn*",
		"etc/systemd/system/emergency.target.wants",
	} {
		found, _ := filepath.Glob(filepath.Join(m.Dir, pattern))
		left = append(left, found...)
	}
	return left
}

// TestGuardTakesBack disables what the machine cannot start without, and boots.
// Two boots fail, with one between that a person ended. In the next one the
// change is taken back, and the machine becomes ready.
func TestGuardTakesBack(t *testing.T) {
	t.Parallel()
	m, p := guardedMachine(t), program(t)
	m.Boot(t)
	if got := m.Shared(t, "reached"); got != "active\nactive\n" {
		t.Fatalf("the machine does not become ready by itself: %q", got)
	}
	home, disk := filepath.Join(m.Dir, "home/teo"), filepath.Join(m.Dir, "disk/teo")
	ok(t, unix.Mount(disk, home, "", unix.MS_BIND, ""))
	before := testtree.Snapshot(t, disk, nil)
	says := calm(t, p, m, "disable", "--yes", "--insist", "service:key.service",
		"service:key.service", "lamp.desktop@teo", "--guard", "on")
	ok(t, unix.Unmount(home, unix.MNT_DETACH))
	for _, want := range []string{"The boot guard is on", "could not reach /home/teo/"} {
		if !strings.Contains(says, want) {
			t.Fatalf("without %q: %s", want, says)
		}
	}
	for n, how := range []string{"late", "early", "late"} {
		ok(t, os.WriteFile(filepath.Join(m.Dir, "etc/ends"), []byte(how+"\n"), 0o644))
		m.Boot(t)
		if got := m.Shared(t, "reached"); how == "late" && strings.HasPrefix(got, "active") {
			t.Fatalf("boot %d became ready without the key: %q", n+1, got)
		}
		if how == "late" {
			continue
		}
		if status := calm(t, p, m, "guard"); !strings.Contains(status, "ended by a person before "+
			"it was due") {
			t.Errorf("a person's power-off: %s", status)
		}
	}
	if status := calm(t, p, m, "guard"); strings.Count(status, "did not become ready") != 2 {
		t.Errorf("before the last boot: %s", status)
	}
	m.Boot(t)
	if got := m.Shared(t, "reached"); got != "active\nactive\n" {
		t.Errorf("after the guard has acted: %q\n%s", got, calm(t, p, m, "guard"))
	}
	if left := trace(m); len(left) > 0 {
		t.Errorf("of the guard is left: %v", left)
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, disk, nil)); d != "" {
		t.Errorf("what was in the home is not as it was:\n%s", d)
	}
	if story := calm(t, p, m, "history"); !strings.Contains(story, "The boot guard took change 1 "+
		"back") || !strings.Contains(story, "undone by 2") {
		t.Error(story)
	}
	if story := calm(t, p, m); !strings.Contains(story, "The boot guard took change 1 back") {
		t.Error(story)
	}
}

// TestGuardBeforeAnEmergency has the file systems fail without the item, so
// that the start ends in an emergency: the guard has to be there before.
func TestGuardBeforeAnEmergency(t *testing.T) {
	t.Parallel()
	ring.Needs(t, ring.Outer)
	const early = "[Unit]\nDefaultDependencies=no\nConflicts=shutdown.target\n" +
		"Before=shutdown.target\n"
	const run = "[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart="
	m := boottest.New(t, map[string]string{
		"etc/systemd/system/key.service": early + run +
			"/usr/bin/touch /run/key\n[Install]\nWantedBy=sysinit.target\n",
		"etc/systemd/system/sysinit.target.wants/key.service": "-> ../key.service",
		"etc/systemd/system/gate.service": early + "Wants=key.service\n" +
			"After=key.service\nBefore=local-fs.target\n" + run + "/usr/bin/test -e /run/key\n",
		"etc/systemd/system/local-fs.target.requires/gate.service": "-> ../gate.service",
		"etc/systemd/system/off.service": early + "After=calmdawn-guard-failed.service\n" +
			"[Service]\nExecStart=/bin/sh -c 'sleep 1; systemctl --no-block poweroff'\n",
		"etc/systemd/system/emergency.target.wants/off.service": "-> ../off.service",
	})
	p := program(t)
	m.Boot(t)
	calm(t, p, m, "disable", "--yes", "--insist", "service:key.service", "service:key.service",
		"--guard", "on")
	m.Boot(t)
	m.Boot(t)
	if status := calm(t, p, m, "guard"); strings.Count(status, "did not become ready") != 2 {
		t.Errorf("after two emergencies: %s", status)
	}
	if list := calm(t, p, m, "boots"); strings.Count(list, "did not get as far as the goal") != 2 {
		t.Errorf("emergencies are no measure of the machine: %s", list)
	}
	m.Boot(t)
	if story := calm(t, p, m); !strings.Contains(story, "The boot guard took change 1 back") {
		t.Error(story)
	}
	// what failed before the guard had taken the change back is good from the
	// next start on
	m.Boot(t)
	ok(t, os.Remove(filepath.Join(m.Dir, "etc/systemd/system/emergency.target.wants/off.service")))
	ok(t, os.Remove(filepath.Join(m.Dir, "etc/systemd/system/emergency.target.wants")))
	if left := trace(m); len(left) > 0 {
		t.Errorf("of the guard is left: %v", left)
	}
}

// TestWhatStopsEveryStartIsRefused has a chain of requirements end in the item.
// Masked, it would keep the service manager from starting anything, the guard
// too, so that nobody may insist.
func TestWhatStopsEveryStartIsRefused(t *testing.T) {
	t.Parallel()
	m, p := guardedMachine(t), program(t)
	gate := filepath.Join(m.Dir, "etc/systemd/system/gate.service")
	text, err := os.ReadFile(gate)
	ok(t, err)
	ok(t,
		os.WriteFile(gate, []byte(strings.Replace(string(text), "Wants=", "Requires=", 1)), 0o644))
	out, err := exec.Command(p, "--root", m.Dir, "disable", "--yes", "--insist",
		"service:key.service", "service:key.service").CombinedOutput()
	if err == nil || !strings.Contains(string(out), "multi-user.target requires gate.service "+
		"requires key.service") {
		t.Errorf("%v\n%s", err, out)
	}
}

// TestGuardGoes has a good boot remove the guard without a trace: the change
// can then be undone, and every folder has its time back.
func TestGuardGoes(t *testing.T) {
	t.Parallel()
	m, p := guardedMachine(t), program(t)
	m.Boot(t)
	folders := []string{
		"etc", "etc/systemd/system", "etc/systemd/system/multi-user.target.wants",
		"etc/systemd/system/sysinit.target.wants", "usr/local/lib",
	}
	times := func() (all []int64) {
		for _, f := range folders {
			info, err := os.Stat(filepath.Join(m.Dir, f))
			ok(t, err)
			all = append(all, info.ModTime().UnixNano())
		}
		return all
	}
	before := times()
	calm(t, p, m, "disable", "--yes", "service:cron.service", "--insist",
		"service:cron.service", "--guard", "on")
	if len(trace(m)) < 6 {
		t.Fatalf("of the guard there is only %v", trace(m))
	}
	m.Boot(t)
	if left := trace(m); len(left) > 0 {
		t.Errorf("of the guard is left: %v", left)
	}
	if story := calm(t, p, m, "history"); !strings.Contains(story, "1 change, 1 in force") {
		t.Error(story)
	}
	calm(t, p, m, "undo", "1", "--yes")
	for i, now := range times() {
		if now != before[i] {
			t.Errorf("the time of /%s is another one", folders[i])
		}
	}
}
