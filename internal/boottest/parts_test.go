//go:build linux

package boottest_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
	"calmdawn/internal/ring"
)

// Machines with other parts than the fixture's: daemons of crontabs, and what
// sets up rented machines and radios.
var parts = []boottest.Distribution{
	{
		Name:    "units-1",
		Variant: "minbase",
		Packages: "systemd,systemd-sysv,dbus,udev,procps,kmod,dbus-user-session,libpam-systemd," +
			"systemd-cron,bluez,cloud-init",
	},
	{
		Name:     "bcron-1",
		Variant:  "minbase",
		Packages: "systemd,systemd-sysv,dbus,udev,procps,kmod,dbus-user-session,bcron",
	},
	{
		Name:     "anacron-1",
		Variant:  "minbase",
		Packages: "systemd,systemd-sysv,dbus,udev,procps,kmod,dbus-user-session,cron,anacron",
	},
}

// TestOtherParts boots machines with other daemons of crontabs for longer than
// a minute. It holds what they launched against the list: services by the log,
// lines of crontabs by what they mark.
func TestOtherParts(t *testing.T) {
	ring.Needs(t, ring.Outer)
	for _, d := range parts {
		t.Run(d.Name, func(t *testing.T) {
			t.Parallel()
			m := boottest.NewOn(t, d, map[string]string{
				"etc/anacrontab":                           "1\t0\tjob\t/usr/bin/mark missed\n",
				"etc/crontab":                              "* * * * * root /usr/bin/mark main\n",
				"etc/cron.d/plain":                         "* * * * * root /usr/bin/mark plain\n",
				"etc/cron.d/with.dot":                      "* * * * * root /usr/bin/mark dotted\n",
				"etc/cron.d/left.dpkg-old":                 "* * * * * root /usr/bin/mark left\n",
				"var/spool/cron/crontabs/maria":            "* * * * * /usr/bin/mark hers\n",
				"var/lib/cloud/seed/nocloud/meta-data":     "instance-id: one\n",
				"var/lib/cloud/seed/nocloud/user-data":     "#cloud-config\n",
				"etc/cloud/cloud.cfg.d/90_seed.cfg":        "datasource_list: [ NoCloud ]\n",
				"etc/systemd/system/last.service.d/x.conf": "[Service]\nTimeoutStartSec=10min\n",
			})
			table := filepath.Join(m.Dir, "var/spool/cron/crontabs/maria")
			ok(t, os.Chown(table, 1000, 1000))
			if d.Name == "bcron-1" { // a user of its own reads it
				ok(t, os.Chmod(table, 0o644))
			}
			p := program(t)
			m.Install(t, p)
			// the minute begins for all lines at once
			ok(t, os.WriteFile(filepath.Join(m.Dir, "usr/bin/rest"), []byte("#!/bin/sh\n"+
				"for i in $(seq 150); do grep -q hers /share/launched && break; sleep 1; done\n"+
				"sleep 3\nsystemctl is-active cloud-init.target > /share/rented\n"+
				"calmdawn list --all --json > /share/live 2>&1\n"), 0o755))
			launched, list := agree(t, m)
			lines := 0
			for _, it := range list.Items {
				_, name, is := strings.Cut(it.Command, "/usr/bin/mark ")
				if !is {
					continue
				}
				lines++
				was := slices.Contains(launched, name)
				// bcron takes up the machine's own tables if two of its daemons
				// begin in the right order, which nothing orders
				raced := d.Name == "bcron-1" && name != "hers" && !was
				if (it.State == "on") != was && !raced {
					t.Errorf("%s is listed as %s, and launched were %v", it.Command, it.State,
						launched)
				}
			}
			for _, name := range launched {
				if !slices.ContainsFunc(list.Items, func(it listedItem) bool {
					return strings.HasSuffix(it.Command, "/usr/bin/mark "+name)
				}) {
					t.Errorf("%s was launched and is not listed", name)
				}
			}
			if lines < 3 {
				t.Errorf("only %d lines are listed", lines)
			}
			at := slices.IndexFunc(list.Items, func(it listedItem) bool {
				return it.Native == "cloud-init.service"
			})
			switch rented := strings.TrimSpace(m.Shared(t, "rented")); {
			case d.Name == "units-1" && rented != "active":
				t.Errorf("its data is there, and what sets it up is %s", rented)
			case d.Name == "units-1" && (at < 0 || list.Items[at].State != "on"):
				t.Error("what sets it up is not listed as on")
			}
			var live listing
			ok(t, json.Unmarshal([]byte(m.Shared(t, "live")), &live))
			again := 0
			for _, it := range live.Items {
				if _, _, is := strings.Cut(it.Command, "/usr/bin/mark "); is {
					again++
				}
			}
			if again != lines {
				t.Errorf("running, %d lines are listed, of its disk %d", again, lines)
			}
		})
	}
}
