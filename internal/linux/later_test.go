//go:build linux

package linux

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
)

// TestStartedBesideTheGoal: what devices, sessions and the generator of rented
// machines start is on, says when, and is switched off as it was set up.
func TestStartedBesideTheGoal(t *testing.T) {
	const service = "[Service]\nExecStart=/bin/sh\n"
	const v, e = "usr/lib/systemd/system/", "etc/systemd/system/"
	const user, rules = "usr/lib/systemd/user/", "usr/lib/udev/rules.d/"
	const own = "home/maria/.config/systemd/user/"
	wanted := func(by string) string { return service + "[Install]\nWantedBy=" + by + "\n" }
	files := map[string]string{
		"etc/passwd": "root:x:0:0::/root:/bin/sh\n" +
			"maria:x:1000:1000::/home/maria:/bin/sh\n",
		"etc/machine-id":        "11112222333344445555666677778888\n",
		"home/maria/":           "",
		"bin/sh":                "",
		v + "default.target":    "[Unit]\n",
		v + "bluetooth.target":  "[Unit]\n",
		v + "bluetooth.service": wanted("bluetooth.target"),
		v + "reader.service":    service,
		v + "quiet.service":     service,
		v + "hidden.service":    service,
		rules + "99-systemd.rules": "SUBSYSTEM==\"bluetooth\", TAG+=\"systemd\", \\\n" +
			"  ENV{SYSTEMD_WANTS}+=\"bluetooth.target\"\n" +
			"# ENV{SYSTEMD_WANTS}=\"quiet.service\"\n" +
			"ENV{SYSTEMD_WANTS}+=\"part@$env{NAME}.service\"\n",
		rules + "70-reader.rules": "SUBSYSTEM==\"usb\", " +
			"ENV{SYSTEMD_WANTS}=\"reader.service\"\n",
		"etc/udev/rules.d/71-old.rules":                          "-> /dev/null",
		v + "cloud-init.target":                                  "[Unit]\n",
		v + "cloud-config.service":                               wanted("cloud-init.target"),
		"usr/lib/systemd/system-generators/cloud-init-generator": "program",
		"usr/share/wayland-sessions/desk.desktop": "[Desktop Entry]\nType=Application\n" +
			"Exec=desk\nDesktopNames=Desk\n",
		user + "default.target":           "[Unit]\n",
		user + "graphical-session.target": "[Unit]\n",
		user + "desk-session.target":      "[Unit]\nBindsTo=graphical-session.target\n",
		user + "lamp.service":             wanted("desk-session.target"),
	}
	files[rules+"72-scan.rules"] = "ENV{SYSTEMD_WANTS}+=\"scan.service\", " +
		"ENV{SYSTEMD_WANTS}+=\"other.service\"\n  # ENV{SYSTEMD_WANTS}=\"quiet.service\"\n"
	files[v+"scan.service"], files[v+"other.service"] = service, service
	files[rules+"71-old.rules"] = "ENV{SYSTEMD_WANTS}=\"hidden.service\"\n"
	for wants, to := range map[string]string{
		e + "bluetooth.target.wants/bluetooth.service":     v + "bluetooth.service",
		e + "cloud-init.target.wants/cloud-config.service": v + "cloud-config.service",
		own + "desk-session.target.wants/lamp.service":     user + "lamp.service",
	} {
		files[wants] = "-> /" + to
	}
	r := tree(t, files)
	inventory := Survey(r, family.Options{Now: time.Unix(0, 0)})
	got := map[string]string{}
	for _, it := range inventory.Items {
		got[it.ID] = fmt.Sprintf("%s %s %s", it.State, it.When, it.Fires)
	}
	edits := func(id string, to item.State) (all []string, err error) {
		it, ok := inventory.Lookup(id)
		if !ok {
			return nil, fmt.Errorf("there is no %s", id)
		}
		d := r.Draft(time.Unix(0, 0))
		err = inventory.Turner(d).Turn(it, to, time.Minute)
		for _, e := range d.Edits() {
			all = append(all, strings.TrimSpace(fmt.Sprintf("%s %s %s", e.Path, e.After.Kind,
				e.After.Target)))
		}
		return all, err
	}
	for id, c := range map[string]struct{ state, off string }{
		"service:bluetooth.service": {
			"on later when its device is there",
			"/" + e + "bluetooth.target.wants/bluetooth.service absent",
		},
		"service:reader.service": {
			"on later when its device is there", "/" + e + "reader.service link /dev/null",
		},
		"service:cloud-config.service": {
			"on boot at a boot, where the machine finds who set it up",
			"/" + e + "cloud-init.target.wants/cloud-config.service absent",
		},
		"service:lamp.service@maria": {
			"on later when its session starts",
			"/home/maria/.config/systemd/user/desk-session.target.wants/lamp.service absent",
		},
	} {
		if got[id] != c.state {
			t.Errorf("%s is %q, want %q", id, got[id], c.state)
		}
		if off, err := edits(id, item.Off); err != nil || strings.Join(off, "\n") != c.off {
			t.Errorf("%s: off by %v, %v; want %s", id, off, err, c.off)
		}
		if _, err := edits(id, item.Delayed); err == nil {
			t.Errorf("%s can be delayed", id)
		}
	}
	for _, id := range []string{"service:scan.service", "service:other.service"} {
		if got[id] != "on later when its device is there" {
			t.Errorf("%s is %q", id, got[id])
		}
	}
	for _, id := range []string{"service:quiet.service", "service:hidden.service"} {
		if got[id] != "" {
			t.Errorf("%s is %q", id, got[id])
		}
	}
	// switched off, it is off, and can be switched on again
	delete(files, e+"bluetooth.target.wants/bluetooth.service")
	files["etc/cloud/cloud-init.disabled"] = ""
	r = tree(t, files)
	inventory = Survey(r, family.Options{Now: time.Unix(0, 0)})
	for _, id := range []string{"service:bluetooth.service", "service:cloud-config.service"} {
		if it, ok := inventory.Find(id); !ok || it.State != item.Off {
			t.Errorf("%s is %s, %v", id, it.State, ok)
		}
	}
	on, err := edits("service:bluetooth.service", item.On)
	if err != nil || len(on) != 1 || !strings.HasPrefix(on[0], "/"+e+"bluetooth.target.wants/") {
		t.Errorf("on by %v, %v", on, err)
	}
}
