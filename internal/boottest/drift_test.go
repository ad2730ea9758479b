//go:build linux

package boottest_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
	"calmdawn/internal/testtree"
)

// packed builds a package of a made-up service that enables itself whenever it
// is installed, as careless ones do.
func packed(t testing.TB, version string) string {
	t.Helper()
	dir := testtree.Make(t, map[string]string{
		"DEBIAN/control": fmt.Sprintf("Package: cuebox\nVersion: %s\n"+
			"Architecture: all\nMaintainer: Pellin Ticketworks <p@pellin.example>\nDescription: "+
			"A ticket box\n", version),
		"DEBIAN/postinst": "#!/bin/sh\nsystemctl enable cuebox.service\n",
		"lib/systemd/system/cuebox.service": "[Unit]\nDescription=Cue box\n[Service]\n" +
			"ExecStart=/bin/sleep 100\n[Install]\nWantedBy=multi-user.target\n",
	})
	ok(t, os.Chmod(dir, 0o755))
	ok(t, os.Chmod(filepath.Join(dir, "DEBIAN/postinst"), 0o755))
	file := filepath.Join(t.TempDir(), "cuebox-"+version+".deb")
	if out, err := exec.Command("dpkg-deb", "--root-owner-group", "-b", dir,
		file).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return file
}

// TestDriftAfterAnUpgrade has a running machine upgrade a package that switches
// its service on again.
func TestDriftAfterAnUpgrade(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		"etc/systemd/system/upgrade.service": "[Service]\nType=oneshot\n" +
			"ExecStart=/bin/sh -c 'exec dpkg -i /opt/*.deb'\n",
		"etc/systemd/system/multi-user.target.wants/upgrade.service": "-> ../upgrade.service",
		"opt/": "",
	})
	p := program(t)
	install := func(version string) {
		t.Helper()
		old, _ := filepath.Glob(filepath.Join(m.Dir, "opt/*.deb"))
		for _, file := range old {
			ok(t, os.Remove(file))
		}
		data, err := os.ReadFile(packed(t, version))
		ok(t, err)
		ok(t, os.WriteFile(filepath.Join(m.Dir, "opt", "cuebox-"+version+".deb"), data, 0o644))
		m.Boot(t)
	}
	drift := func() (string, int) {
		t.Helper()
		cmd := exec.Command(p, "--root", m.Dir, "drift")
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	install("1.0")
	calm(t, p, m, "disable", "--yes", "service:cuebox.service", "--guard", "off")
	calm(t, p, m, "drift", "--keep")
	if out, code := drift(); code != 0 || !strings.Contains(out, "Nothing is different") {
		t.Errorf("%d %s", code, out)
	}
	install("2.0")
	out, code := drift()
	if code != 3 || !strings.Contains(out, "on again") || !strings.Contains(out, "change 1 had "+
		"switched it off") || !strings.Contains(out, "package cuebox, upgraded on") {
		t.Errorf("%d %s", code, out)
	}
}
