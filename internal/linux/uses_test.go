//go:build linux

package linux

import (
	"maps"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/family"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// TestUses asks machines what is in use: one on which nothing is set up, and
// one on which something of each is.
func TestUses(t *testing.T) {
	const feed = "[Unit]\nDescription=Feed\nAfter=network-online.target\n" +
		"[Service]\nExecStart=/bin/sh\n"
	for name, c := range map[string]struct {
		files map[string]string
		want  map[string]string // why; empty for not in use
	}{
		"bare": {
			map[string]string{
				"etc/samba/smb.conf":         "[global]\n[printers]\n[print$]\n",
				"etc/exports":                "# none\n",
				"var/lib/bluetooth/":         "",
				"var/lib/fprint/":            "",
				"var/lib/docker/containers/": "",
				"etc/cups/cupsd.conf":        "",
			},
			map[string]string{"bluetooth": "", "printers": "", "shares": "", "exports": "",
				"containers": "", "fingerprints": "", "network first": ""},
		},
		"in use": {
			map[string]string{
				"var/lib/bluetooth/AA:BB:CC:DD:EE:FF/11:22:33:44:55:66/info":  "x",
				"var/lib/bluetooth/AA:BB:CC:DD:EE:FF/cache/11:22:33:44:55:77": "x",
				"etc/cups/printers.conf": "<Printer desk>\n</Printer>\n",
				"etc/samba/smb.conf":     "[global]\n[scans]\n [plans] \n",
				"etc/exports":            "/srv *(ro)\n",
				"var/lib/docker/containers/0123456789abcdef/config":        "x",
				"var/lib/fprint/maria/x":                                   "x",
				"etc/NetworkManager/system-connections/stick.nmconnection": "[connection]\n[gsm]\n",
				"etc/systemd/system/feed.service":                          feed,
				"etc/systemd/system/default.target":                        "[Unit]\n",
				"etc/systemd/system/default.target.wants/feed.service":     "-> ../feed.service",
				"bin/sh": "",
				"usr/lib/systemd/system/network-online.target":                      "[Unit]\n",
				"etc/NetworkManager/system-connections/desk.nmconnection.unrelated": "[wifi]\n",
			},
			map[string]string{
				"bluetooth":     "11:22:33:44:55:66 is paired with it",
				"printers":      "desk is set up as a printer",
				"shares":        "scans and plans are shared",
				"exports":       "/srv is exported",
				"containers":    "0123456789ab is a container of this machine",
				"fingerprints":  "maria has a fingerprint on record",
				"modem":         "stick is a connection through a modem",
				"network first": "for Feed",
			},
		},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := machine.Open(testtree.Make(t, c.files))
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			got := Survey(r, family.Options{Now: time.Now()}).Uses()
			for what, why := range c.want {
				if use, told := got[what]; !told || use != (advice.Use{Any: why != "", Why: why}) {
					t.Errorf("%s: %+v, told %v; want %q", what, use, told, why)
				}
			}
			if len(got) != len(c.want) {
				t.Errorf("%+v; want %d", got, len(c.want))
			}
		})
	}
}

// TestOnlyKnownEmptinessIsTold has the evidence of each use be absent, be
// damaged, stand elsewhere, and be empty. Only the last tells that nothing is
// in use, and what else shows a use is told as one.
func TestOnlyKnownEmptinessIsTold(t *testing.T) {
	const untold, none, some = "untold", "none", "some"
	unit := func(name, line string) map[string]string {
		return map[string]string{
			"etc/systemd/system/default.target": "[Unit]\n",
			"etc/systemd/system/" + name: "[Service]\nExecStart=" + line +
				"\n",
			"etc/systemd/system/default.target.wants/" + name: "-> ../" + name,
			"bin/sh": "",
		}
	}
	with := func(files ...map[string]string) map[string]string {
		all := map[string]string{}
		for _, more := range files {
			maps.Copy(all, more)
		}
		return all
	}
	file := func(p, text string) map[string]string { return map[string]string{p: text} }
	docker := file("var/lib/docker/containers/", "")
	cups := file("etc/cups/cupsd.conf", "")
	samba := func(text string) map[string]string { return file("etc/samba/smb.conf", text) }
	for _, c := range []struct {
		what, how string
		files     map[string]string
		want      string
	}{
		{"bluetooth", "absent", nil, untold},
		{"bluetooth", "elsewhere", file("var/lib/bluetooth", "-> /data/gone"), untold},
		{"bluetooth", "empty", file("var/lib/bluetooth/AA:BB:CC:DD:EE:FF/", ""), none},
		{"modem", "absent", nil, untold},
		{"modem", "empty", file("etc/NetworkManager/system-connections/", ""), none},
		{"printers", "absent", nil, untold},
		{"printers", "elsewhere", with(cups, file("etc/cups/cups-files.conf",
			"ServerRoot /data/cups\n")), untold},
		{"printers", "found by themselves", with(cups,
			unit("avahi-daemon.service", "/bin/sh")), untold},
		{"printers", "empty", with(cups, file("etc/cups/cups-files.conf",
			"#ServerRoot /data\nServerRoot /etc/cups\n")), none},
		{"shares", "absent", nil, untold},
		{"shares", "elsewhere", samba("[global]\n include = /data/more.conf\n"), untold},
		{"shares", "in the registry", samba("[global]\nconfig backend = registry\n"), untold},
		{"shares", "everybody's home", samba("[global]\n[homes]\n"), untold},
		{"shares", "a user's own", with(samba("[global]\n"),
			file("var/lib/samba/usershares/plans", "")), some},
		{"shares", "a domain's member", samba("[global]\n  security = ADS\n"), some},
		{"shares", "a domain's controller", samba("server role = active directory domain " +
			"controller\n"), some},
		{"shares", "empty", samba("[global]\n"), none},
		{"exports", "absent", nil, untold},
		{"exports", "elsewhere", with(file("etc/exports", ""),
			file("etc/exports.d/pool.exports", "/pool *(ro)\n")), some},
		{"exports", "empty", file("etc/exports", "# none\n"), none},
		{"containers", "absent", nil, untold},
		{"containers", "elsewhere", with(docker, file("etc/docker/daemon.json",
			`{"data-root": "/data/docker"}`)), untold},
		{"containers", "by its line", with(docker, unit("docker.service",
			"/bin/sh --data-root=/data/docker")), untold},
		{"containers", "found elsewhere", with(docker, file("etc/docker/daemon.json",
			`{"data-root": "/data/docker"}`),
			file("data/docker/containers/0123456789abcdef/x", "")), some},
		{"containers", "damaged", with(docker, file("etc/docker/daemon.json", "{")), untold},
		{"containers", "a node", with(docker, unit("kubelet.service", "/bin/sh")), some},
		{"containers", "empty", docker, none},
		{"cluster", "absent", nil, untold},
		{"cluster", "a node", file("var/lib/rancher/k3s/server/db", ""), some},
		{"fingerprints", "absent", nil, untold},
		{"fingerprints", "empty", file("var/lib/fprint/", ""), none},
		{"network first", "a share of others", file("etc/fstab",
			"desk:/srv /srv nfs4 rw 0 0\n"), some},
		{"network first", "by its option", file("etc/fstab",
			"/dev/sdb1 /srv ext4 rw,_netdev 0 0\n"), some},
		{"network first", "a unit that cannot be read", file("etc/systemd/system",
			"-> system"), untold},
	} {
		got, told := Survey(tree(t, c.files), family.Options{Now: time.Now()}).Uses()[c.what]
		is := untold
		if told && got.Any {
			is = some
		} else if told {
			is = none
		}
		if is != c.want {
			t.Errorf("%s, %s: %s (%s), want %s", c.what, c.how, is, got.Why, c.want)
		}
	}
}

// TestWhatPeopleLogInThrough protects what names and passwords are asked of.
func TestWhatPeopleLogInThrough(t *testing.T) {
	rules, err := advice.Load(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{
		"etc/nsswitch.conf": "# passwd: nope\npasswd: files winbind gorse\n" +
			"hosts: files mdns\n",
		"etc/pam.d/login": "auth required pam_unix.so\nsession optional " +
			"pam_oddjob_mkhomedir.so\n",
		"etc/pam.d/other": "# auth required pam_larder.so\nauth sufficient " +
			"pam_fprintd.so\n",
		"etc/systemd/system/default.target": "[Unit]\n",
		"bin/sh":                            "",
		"etc/samba/smb.conf":                "[global]\n",
	}
	want := map[string]bool{
		"winbind": true, "gorsed": true, "oddjobd": true, "mdns": false, "larder": false,
		"fprintd": false,
	}
	for name := range want {
		files["etc/systemd/system/"+name+".service"] = "[Service]\nExecStart=/bin/sh\n"
		files["etc/systemd/system/default.target.wants/"+name+".service"] = "-> ../" + name +
			".service"
	}
	v := Survey(tree(t, files), family.Options{Now: time.Now()})
	uses := v.Uses()
	for name, protected := range want {
		it, ok := v.Find("service:" + name + ".service")
		if rules.Judge(&it, uses); !ok || (it.Protected != "") != protected {
			t.Errorf("%s is protected %q, role %s: %s", name, it.Protected, it.Role, it.Reason)
		}
	}
}

// TestAnApplicationOfAStore belongs to itself, not to the store.
func TestAnApplicationOfAStore(t *testing.T) {
	r := tree(t, map[string]string{
		"etc/passwd":      "maria:x:0:0::/home/maria:/bin/sh\n",
		"usr/bin/flatpak": "program",
		"var/lib/dpkg/status": "Package: flatpak\n" +
			"Status: install ok installed\n",
		"var/lib/dpkg/info/flatpak.list":                 "/usr/bin/flatpak\n",
		"var/lib/flatpak/app/org.example.Dome/current/x": "",
		"home/maria/.config/autostart/dome.desktop": "[Desktop Entry]\nType=Application\n" +
			"Name=Dome\nExec=/usr/bin/flatpak run --branch=stable org.example.Dome " +
			"--tray\n",
	})
	it, ok := Survey(r, family.Options{Now: time.Now()}).Find("program:dome.desktop@maria")
	if !ok || it.Package != "flatpak org.example.Dome" {
		t.Errorf("it is of %q, %v: %s %q", it.Package, ok, it.Program, it.Args)
	}
}

// TestALogInMemory says which file has it so.
func TestALogInMemory(t *testing.T) {
	r := tree(t, map[string]string{
		"etc/systemd/journald.conf": "[Journal]\n#Storage=persistent\n" +
			"Storage=auto\n",
		"usr/lib/systemd/journald.conf.d/10-image.conf": "[Journal]\nStorage=persistent\n",
		"usr/lib/systemd/journald.conf.d/20-image.conf": "[Journal]\nStorage=volatile\n",
		"etc/systemd/journald.conf.d/10-image.conf":     "[Journal]\nStorage = none\n",
	})
	found := journal.Read(r, 0)
	if len(found.Unread) != 1 || !strings.HasSuffix(found.Unread[0].Path, "20-image.conf") ||
		!strings.Contains(found.Unread[0].Reason, "Storage=volatile") {
		t.Errorf("%v", found.Unread)
	}
}

// TestWhatUpdatesMakeOfASwitch: an entry that a package writes anew comes back.
func TestWhatUpdatesMakeOfASwitch(t *testing.T) {
	const entry = "[Desktop Entry]\nType=Application\nName=N\nExec=/bin/sh\n"
	const folder = "etc/xdg/autostart/"
	v := Survey(tree(t, map[string]string{
		"bin/sh": "", folder + "kept.desktop": entry, folder + "anew.desktop": entry,
		folder + "own.desktop": entry,
		"var/lib/dpkg/status":  "Package: a\nStatus: install ok installed\n",
		"var/lib/dpkg/info/a.list": "/" + folder + "kept.desktop\n/" +
			folder + "anew.desktop\n",
		"var/lib/dpkg/info/a.conffiles": "/" + folder + "kept.desktop\n",
	}), family.Options{Now: time.Now()})
	for id, want := range map[string]struct {
		said   string
		undone bool
	}{
		"kept": {"is configuration of the package a", false}, "own": {"", false},
		"anew": {"which takes this back", true},
	} {
		it, ok := v.Find("program:" + id + ".desktop")
		if !ok || it.Undone != want.undone || (it.Hold == "") != (want.said == "") ||
			!strings.Contains(it.Hold, want.said) {
			t.Errorf("%s: %q, undone %v", id, it.Hold, it.Undone)
		}
	}
}
