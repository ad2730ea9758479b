//go:build linux

package watch

import (
	"os"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// TestInstallRefusesWhereItWouldNotRun goes through machines on which the
// recorder could not be started.
func TestInstallRefusesWhereItWouldNotRun(t *testing.T) {
	own, err := os.ReadFile("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	// another kind of processor, elf(5)
	other := []byte(string(own[:18]) + "\xb7\x00" + string(own[20:]))
	narrow := "/dev/a / ext4 defaults 0 1\n"
	for want, files := range map[string]map[string]string{
		"": {
			"usr/lib/systemd/systemd": "x",
			"etc/fstab":               narrow,
			"bin/sh":                  string(own),
		},
		"no service manager": {"etc/fstab": narrow},
		"of another kind":    {"usr/lib/systemd/systemd": "x", "bin/sh": string(other)},
		"from /usr (noexec)": {
			"usr/lib/systemd/systemd": "x",
			"etc/fstab":               narrow + "/dev/b /usr ext4 noexec,ro 0 1\n",
		},
		"from / (noexec)": {"usr/lib/systemd/systemd": "x", "etc/fstab": "/dev/a / " +
			"ext4 defaults,noexec 0 1\n"},
		"usr/local/lib/calmdawn/calm": {
			"usr/lib/systemd/systemd":         "x",
			"usr/local/lib/calmdawn/calmdawn": "somebody's",
		},
	} {
		dir := testtree.Make(t, files)
		r, err := machine.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		d := r.Draft(time.Now())
		err = Kit{}.Install(d, r, own, 3, time.Now())
		if want == "" && err != nil ||
			want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v", want, err)
		}
		if want == "" && len(d.Edits()) != 3 {
			t.Errorf("%d edits", len(d.Edits()))
		}
		r.Close()
	}
}
