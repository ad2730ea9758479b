//go:build linux

package linux

import (
	"maps"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// tree opens a machine of some files.
func tree(t *testing.T, files ...map[string]string) *machine.Root {
	t.Helper()
	all := map[string]string{"etc/passwd": "root:x:0:0::/root:/bin/sh\n"}
	for _, more := range files {
		maps.Copy(all, more)
	}
	return openedAt(t, testtree.Make(t, all))
}

// openedAt opens the machine at a folder until the test ends.
func openedAt(t *testing.T, dir string) *machine.Root {
	t.Helper()
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r
}

// TestWhatStartsAMachine tells service managers apart by what a disk holds.
func TestWhatStartsAMachine(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"nothing tells": {nil, ""},
		"systemd": {map[string]string{
			"sbin/init": "-> /lib/systemd/systemd", "lib/systemd/systemd": "program",
			"etc/inittab": "an old one",
		}, ""},
		"a link of the image alone": {map[string]string{
			"usr/sbin/init": "-> ../lib/systemd/systemd", "sbin": "-> usr/sbin",
			"usr/lib/systemd/systemd": "program",
		}, ""},
		"a store of packages": {map[string]string{
			"etc/NIXOS": "", "sbin/init": "a script", "etc/inittab": "x",
		}, ""},
		"busybox and OpenRC": {map[string]string{
			"sbin/init": "-> /bin/busybox", "bin/busybox": "program",
			"etc/inittab": "::sysinit:/sbin/openrc sysinit\n",
		}, "OpenRC"},
		"OpenRC's own": {map[string]string{
			"sbin/init": "-> openrc-init", "sbin/openrc-init": "program",
		}, "OpenRC"},
		"inittab": {map[string]string{
			"sbin/init": "program", "etc/inittab": "si::sysinit:/etc/init.d/rcS\n",
		}, "the scripts of /etc/inittab"},
		"busybox alone": {map[string]string{
			"sbin/init": "-> ../bin/busybox", "bin/busybox": "program",
			"etc/inittab": "::sysinit:x\n",
		}, "the scripts of /etc/inittab"},
		"runit": {map[string]string{
			"sbin/init": "-> runit-init", "sbin/runit-init": "program",
		}, "runit"},
		"the loader's line": {map[string]string{
			"sbin/init": "-> /lib/systemd/systemd", "lib/systemd/systemd": "program",
			"etc/default/grub": "GRUB_CMDLINE_LINUX=\"quiet init=/sbin/openrc-init\"\n",
			"sbin/openrc-init": "program",
		}, "OpenRC"},
		"a remark on the loader's line": {map[string]string{
			"sbin/init": "-> openrc-init", "sbin/openrc-init": "program",
			"etc/default/grub":        "# GRUB_CMDLINE_LINUX=\"init=/usr/lib/systemd/systemd\"\n",
			"usr/lib/systemd/systemd": "program",
		}, "OpenRC"},
		"the loader's line leads nowhere": {map[string]string{
			"etc/default/grub": "GRUB_CMDLINE_LINUX=\"init=/sbin/gone\"\n",
		}, ""},
	} {
		r := tree(t, c.files)
		if got := startedBy(r); got != c.want {
			t.Errorf("%s: started by %q, want %q", name, got, c.want)
		}
		if why := frozen(r); (why != "") != (c.want != "") {
			t.Errorf("%s: frozen %q", name, why)
		}
	}
}

// TestOtherServiceManagers: of a machine that systemd does not start nothing is
// said that is not known.
func TestOtherServiceManagers(t *testing.T) {
	r := tree(t, map[string]string{
		"sbin/init":                   "-> /bin/busybox",
		"bin/busybox":                 "program",
		"etc/inittab":                 "::sysinit:/sbin/openrc sysinit\n",
		"etc/init.d/chronyd":          "#!/sbin/openrc-run\n",
		"etc/rc2.d/S03cups":           "-> ../init.d/cups",
		"etc/init.d/cups":             "#!/bin/sh\n",
		"etc/crontab":                 "5 4 * * * root /usr/bin/tidy\n",
		"usr/bin/tidy":                "program",
		"usr/bin/tray":                "program",
		"etc/xdg/autostart/t.desktop": "[Desktop Entry]\nType=Application\nName=Tray\nExec=tray\n",
	})
	v := Survey(r, family.Options{Now: time.Unix(0, 0)})
	gaps := 0
	for _, u := range v.Unread {
		if u.Kind == item.Gap && u.Path == "/sbin/init" && strings.Contains(u.Reason, "OpenRC") {
			gaps++
		}
	}
	if gaps != 1 || len(v.Items) != 2 {
		t.Fatalf("%d items, unread %v", len(v.Items), v.Unread)
	}
	for _, it := range v.Items {
		if it.State != item.On || it.Unsure != (it.Kind == item.Task) {
			t.Errorf("%s is %s, unsure %v", it.ID, it.State, it.Unsure)
		}
	}
}

// TestChangesThatWouldPass: what keeps changes only until the next boot is
// told from what keeps them.
func TestChangesThatWouldPass(t *testing.T) {
	const disk = "21 1 254:1 / / rw,relatime - ext4 /dev/vda1 rw\n"
	const etc = "22 21 0:20 / /etc rw - tmpfs tmpfs rw\n"
	over := func(at, upper string) string {
		return "30 1 0:27 / " + at + " rw - overlay overlay rw,lowerdir=/lower,upperdir=" + upper +
			",workdir=/work\n"
	}
	const ram = "29 1 0:26 / /run/live/overlay rw - tmpfs tmpfs rw\n"
	for name, c := range map[string]struct {
		mounts    string
		container bool
		holds     bool
	}{
		"a disk":                   {disk, false, true},
		"nothing is known":         {"", false, true},
		"in memory":                {"21 1 0:20 / / rw - tmpfs tmpfs rw\n", false, false},
		"/etc in memory":           {disk + etc, false, false},
		"a live medium":            {ram + over("/", "/run/live/overlay/rw"), false, false},
		"an unseen upper layer":    {over("/", "/upper/data"), false, false},
		"a container of a host":    {over("/", "/var/lib/host/diff"), true, true},
		"/etc above a kept folder": {disk + over("/etc", "/var/lib/overlay/etc"), false, true},
		"/etc above memory": {
			disk + ram + over("/etc", "/run/live/overlay/etc"), false, false,
		},
		"an image whose folders stand on a disk": {
			"30 1 0:27 / / ro - overlay composefs ro,lowerdir=/a:/b\n" +
				"31 30 254:1 /deploy/etc /etc rw - ext4 /dev/vda1 rw\n" +
				"32 30 254:1 /var /var rw - ext4 /dev/vda1 rw\n", false, true,
		},
		"/var in memory": {
			disk + "22 21 0:20 / /var rw - tmpfs tmpfs rw\n", false, false,
		},
		"without an upper layer": {
			"30 1 0:27 / / ro - overlay overlay ro,lowerdir=/a:/b\n", false, false,
		},
	} {
		if why := passing(c.mounts, c.container); (why == "") != c.holds {
			t.Errorf("%s: %q", name, why)
		}
	}
	for text, want := range map[string]bool{
		"overlay /etc overlay lowerdir=/etc,upperdir=/var/etc 0 0\n": true,
		"# overlay /etc overlay x 0 0\n":                             false,
		"/dev/sda1 / ext4 defaults 0 1\n":                            false,
	} {
		r := tree(t, map[string]string{"etc/fstab": text})
		if why := frozen(r); (why != "") != want {
			t.Errorf("%q: frozen %q", text, why)
		}
	}
}

// TestAStoreIsNotEdited switches what a link leads into a store of packages.
func TestAStoreIsNotEdited(t *testing.T) {
	const store = "nix/store/aaa-units/"
	files := map[string]string{
		"etc/NIXOS":                                    "",
		"etc/systemd/system":                           "-> /" + store,
		store + "default.target":                       "-> multi-user.target",
		store + "multi-user.target":                    "[Unit]\n",
		store + "lamp.service":                         "[Service]\nExecStart=/usr/bin/lamp\n",
		store + "multi-user.target.wants/lamp.service": "-> ../lamp.service",
		"usr/bin/lamp":                                 "program",
		"nix/store/bbb/crontab":                        "5 4 * * * root /usr/bin/lamp\n",
		"etc/crontab":                                  "-> /nix/store/bbb/crontab",
		"nix/store/ccc/t.desktop": "[Desktop Entry]\nType=Application\nName=T\n" +
			"Exec=lamp\n",
		"etc/xdg/autostart/t.desktop": "-> /nix/store/ccc/t.desktop",
	}
	r := tree(t, files)
	v := Survey(r, family.Options{Now: time.Unix(0, 0)})
	on := 0
	for _, it := range v.Items {
		if !it.State.Launched() {
			continue
		}
		on++
		d := r.Draft(time.Unix(0, 0))
		err := v.Turner(d).Turn(it, item.Off, 0)
		inStore := false
		for _, e := range d.Edits() {
			inStore = inStore || strings.HasPrefix(e.Path, "/nix/")
		}
		if err == nil && inStore {
			t.Errorf("%s: %v", it.ID, d.Edits())
		}
		if it.Kind == item.Service &&
			(err == nil || !strings.Contains(err.Error(), "change it there")) {
			t.Errorf("%s: %v", it.ID, err)
		}
	}
	if on < 2 {
		t.Errorf("%d items are on: %v", on, v.Items)
	}
}
