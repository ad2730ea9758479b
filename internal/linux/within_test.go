//go:build linux

package linux

import (
	"os"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/testtree"
)

// TestMachinesWithinDisks finds the machine of disks whose top holds none, and
// says how to mount it.
func TestMachinesWithinDisks(t *testing.T) {
	const release = "etc/os-release"
	for name, c := range map[string]struct {
		files map[string]string
		want  []string
	}{
		"nothing": {map[string]string{"photos/a.png": ""}, nil},
		"a subvolume": {map[string]string{
			"@/" + release: "ID=x\n", "@home/maria/.profile": "",
			"@/etc/fstab": "UUID=1 / btrfs subvol=@ 0 0\n" +
				"UUID=1 /home btrfs rw,subvol=/@home 0 0\n" +
				"UUID=1 /swap btrfs subvol=@swap 0 0\n",
		}, []string{
			"a part of it, @;", "mount -o subvol=@ DEVICE /mnt/machine\n",
			"mount -o subvol=@home DEVICE /mnt/machine/home",
		}},
		"snapshots": {map[string]string{
			"@/.snapshots/2/snapshot/" + release:  "ID=x\n",
			"@/.snapshots/11/snapshot/" + release: "ID=x\n",
			"@/.snapshots/12/info.xml":            "",
			"@/.snapshots/11/snapshot/etc/fstab":  "",
			"rescue/" + release:                   "ID=x\n",
		}, []string{
			"subvol=@/.snapshots/11/snapshot DEVICE", "there are also rescue",
		}},
		"deployments": {map[string]string{
			"boot/loader/entries/1.conf":                        "",
			"ostree/deploy/desk/deploy/aa.0/" + release:         "ID=x\n",
			"ostree/deploy/desk/deploy/bb.0/usr/lib/os-release": "ID=x\n",
			"ostree/deploy/desk/deploy/bb.0/etc/":               "",
			"ostree/deploy/desk/var/lib/":                       "",
			"ostree/deploy/desk/deploy/bb.0.origin":             "",
		}, []string{
			"newest of 2", "/ostree/deploy/desk/deploy/bb.0 /mnt/machine\n",
			"/ostree/deploy/desk/var /mnt/machine/var",
		}},
		"a name that no sentence holds": {map[string]string{"a\x1b[2J/" + release: "ID=x\n"}, nil},
	} {
		dir := testtree.Make(t, c.files)
		_ = os.Chtimes(dir+"/ostree/deploy/desk/deploy/aa.0", time.Unix(1, 0), time.Unix(1, 0))
		r := openedAt(t, dir)
		got := Within(r, dir)
		for _, part := range c.want {
			if !strings.Contains(got, part) {
				t.Errorf("%s: without %q: %s", name, part, got)
			}
		}
		if (got == "") != (c.want == nil) {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// TestADeploymentNeedsItsVar: without the /var that stands beside it nothing
// would be kept where the machine sees it.
func TestADeploymentNeedsItsVar(t *testing.T) {
	files := map[string]string{"ostree": "-> sysroot/ostree", "sysroot/": "", "var/": ""}
	if away := Unmounted(tree(t, files)); len(away) != 1 || away[0] != "/var" {
		t.Errorf("away: %v", away)
	}
	files["var/lib/x"] = ""
	if away := Unmounted(tree(t, files)); len(away) != 0 {
		t.Errorf("away: %v", away)
	}
}

// TestHomesThatNobodyNames tells which homes are missing from a list.
func TestHomesThatNobodyNames(t *testing.T) {
	dir := testtree.Make(t, map[string]string{
		"etc/passwd": "root:x:0:0::/root:/bin/sh\nmaria:x:1000:1000::/home/maria:/bin/sh\n" +
			"ivo:x:1001:1001::/home/ivo:/bin/sh\n",
		"home/maria/.profile": "", "home/ivo/Access-Your-Private-Data.desktop": "",
		"home/ORCHARD/teo/.config/x": "", "home/ORCHARD/plans/a": "", "home/nora/.bashrc": "",
		"home/lost+found/": "", "home/zoe.home": "", "home/maria.home": "",
	})
	for _, p := range []string{"ORCHARD/teo", "ORCHARD/plans", "nora"} {
		if err := os.Chown(dir+"/home/"+p, 5000, 5000); err != nil {
			t.Skip("only root can give files away")
		}
	}
	r := openedAt(t, dir)
	got := map[string]bool{}
	for _, u := range Survey(r, family.Options{Now: time.Unix(0, 0)}).Unread {
		got[u.Path] = u.Kind == item.Gap
	}
	want := []string{"/home/ORCHARD/teo", "/home/nora", "/home/zoe.home", "/home/ivo"}
	for _, p := range want {
		if !got[p] {
			t.Errorf("%s is not told: %v", p, got)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%v, want %v", got, want)
	}
}
