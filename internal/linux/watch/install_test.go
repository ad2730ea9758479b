//go:build linux

package watch

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
	"calmdawn/internal/testtree"
)

func order(program []byte) recorder.Order {
	return recorder.Order{Program: program, Boots: 3, At: time.Now(), Keeps: "/var/lib/calmdawn"}
}

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
		err = Kit{}.Install(d, r, order(own))
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

// TestInstallRefusesWhereOthersMayWrite has folders on the way that somebody
// else may write into.
func TestInstallRefusesWhereOthersMayWrite(t *testing.T) {
	own, err := os.ReadFile("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		folder string
		mode   os.FileMode
		staff  string
		want   string
	}{
		{"usr/local", 0o755, "", ""},
		{"usr/local", 0o775, "", ""},
		{"usr/local", 0o775, "maria", "/usr/local may be written by group"},
		{"usr/local/lib/calmdawn", 0o777, "", "/usr/local/lib/calmdawn may be written by every"},
		{"usr/local/lib/calmdawn-guard", 0o777, "", "/usr/local/lib/calmdawn-guard may be written"},
		{"opt/local", 0o777, "", "/opt/local may be written by everybody"},
		{"etc/systemd/system", 0o757, "", "/etc/systemd/system may be written by everybody"},
	} {
		gid := os.Getgid()
		dir := testtree.Make(t, map[string]string{
			"usr/lib/systemd/systemd": "x",
			"etc/group":               fmt.Sprintf("staff:x:%d:%s\n", gid, c.staff),
			"etc/passwd": "root:x:0:0::/root:/bin/sh\n" +
				"maria:x:1000:999000::/home/maria:/bin/sh\n",
		})
		if c.folder == "opt/local" { // reached by a link
			for _, err := range []error{
				os.MkdirAll(dir+"/opt/local", 0o755),
				os.MkdirAll(dir+"/usr", 0o755),
				os.Symlink("/opt/local", dir+"/usr/local"),
			} {
				if err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, err := range []error{
			os.MkdirAll(dir+"/"+c.folder, 0o755),
			os.Chmod(dir+"/"+c.folder, c.mode),
		} {
			if err != nil {
				t.Fatal(err)
			}
		}
		r, err := machine.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		err = Kit{}.Install(r.Draft(time.Now()), r, order(own))
		if strings.HasSuffix(c.folder, "-guard") {
			err = Guard{}.Install(r.Draft(time.Now()), r, own)
		}
		if c.want == "" && err != nil ||
			c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s with mode %o: %v", c.folder, c.mode, err)
		}
		r.Close()
	}
}

// TestWhatUnitsMay reads our units. Each is bounded. The recorder writes what
// it keeps. Nothing keeps the guard from what it puts back, or has it wait.
func TestWhatUnitsMay(t *testing.T) {
	recorder := fmt.Sprintf(unitText, Program, 3, "x", "/var/lib/calmdawn")
	for _, line := range []string{
		"ProtectSystem=strict", "ProtectHome=read-only",
		"ReadWritePaths=-/var/lib/calmdawn -/etc/systemd/system/sysinit.target.wants",
	} {
		if !strings.Contains(recorder, line+"\n") {
			t.Errorf("the recorder's unit has no %s", line)
		}
	}
	units := map[string]string{"the recorder": recorder}
	for name, text := range texts {
		units[name] = text
		for _, word := range []string{
			"Protect", "Private", "ReadOnly", "Inaccessible", "MountsFor",
		} {
			if strings.Contains(text, word) {
				t.Errorf("%s says %s: the guard may put back any path", name, word)
			}
		}
	}
	for name, text := range units {
		_, service, _ := strings.Cut(text, "[Service]\n")
		if !strings.Contains(service, "MemoryMax=256M\n") ||
			!strings.Contains(service, "NoNewPrivileges=yes\n") {
			t.Errorf("%s is not bounded:\n%s", name, text)
		}
	}
}
