//go:build linux

package linux

import (
	"errors"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/testtree"
)

// TestDaemonsOfCrontabs has the same tables on machines whose daemons find and
// read them differently: what each launches is as its manual says.
func TestDaemonsOfCrontabs(t *testing.T) {
	const job = "5 4 * * * root /usr/bin/tidy\n"
	common := map[string]string{
		"home/maria/":                           "",
		"etc/machine-id":                        "11112222333344445555666677778888\n",
		"usr/lib/systemd/system/default.target": "[Unit]\n",
		"usr/bin/tidy":                          "program",
		"usr/bin/run-parts":                     "program",
		"etc/crontab":                           job,
		"etc/cron.d/plain":                      job,
		"etc/cron.d/with.dot":                   job,
		"etc/cron.d/left.rpmsave":               job,
		"etc/cron.d/mixed":                      job + "61 * * * * root /usr/bin/tidy\n",
		"etc/cron.d/open":                       strings.TrimSpace(job),
		"etc/cron.d/hourly":                     "1 * * * * root run-parts /etc/cron.hourly\n",
		"etc/cron.hourly/0anacron":              "#!/bin/sh\nx",
		"etc/anacrontab":                        "1 5 cron.daily /usr/bin/tidy\n",
		"usr/sbin/anacron":                      "program",
		"var/spool/cron/maria":                  "5 4 * * * /usr/bin/tidy --spool\n",
		"var/spool/cron/crontabs/maria":         "5 4 * * * /usr/bin/tidy --crontabs\n",
		"var/spool/cron/tabs/maria":             "5 4 * * * /usr/bin/tidy --tabs\n",
	}
	common["etc/passwd"] = "root:x:0:0::/root:/bin/sh\nmaria:x:0:0::/home/maria:/bin/sh\n"
	for name, c := range map[string]struct {
		unit  string
		more  map[string]string
		less  string // what the machine does not have
		want  string // what is on, by its file's last name; user's tables by their word
		other string // what is there and off
	}{
		"Debian's": {"cron.service", nil, "", "crontab plain hourly --crontabs 0anacron",
			"mixed open anacrontab"},
		"cronie": {"crond.service", nil, "",
			"crontab plain with.dot mixed open hourly --spool 0anacron anacrontab", ""},
		"cronie on openSUSE": {"cron.service", nil, "var/spool/cron/crontabs/maria",
			"crontab plain with.dot mixed open hourly --tabs 0anacron anacrontab", ""},
		"cronie without a script for missed days": {"crond.service", nil,
			"etc/cron.hourly/0anacron",
			"crontab plain with.dot mixed open hourly --spool", "anacrontab"},
		"units of lines": {"cron.target", map[string]string{
			"usr/lib/systemd/system-generators/systemd-crontab-generator": "program"}, "",
			"crontab plain with.dot left.rpmsave mixed open hourly --crontabs 0anacron anacrontab",
			""},
		"none at all": {"", nil, "", "",
			"crontab plain mixed open hourly --crontabs 0anacron anacrontab"},
	} {
		files := maps.Clone(common)
		maps.Copy(files, c.more)
		delete(files, c.less)
		if c.unit != "" {
			files["usr/lib/systemd/system/"+c.unit] = "[Service]\nExecStart=/usr/bin/tidy\n"
			files["etc/systemd/system/default.target.wants/"+c.unit] = "-> " +
				"/usr/lib/systemd/system/" + c.unit
		}
		if strings.HasSuffix(c.unit, ".target") {
			files["usr/lib/systemd/system/"+c.unit] = "[Unit]\n"
		}
		on, off := map[string]bool{}, map[string]bool{}
		dir := testtree.Make(t, files)
		_ = os.Chmod(dir+"/etc/cron.hourly/0anacron", 0o755)
		r := openedAt(t, dir)
		for _, it := range Survey(r, family.Options{Now: time.Unix(0, 0)}).Items {
			if it.Mechanism != "cron" {
				continue
			}
			called := it.File[strings.LastIndex(it.File, "/")+1:]
			if _, word, ok := strings.Cut(it.Command, " --"); ok {
				called = "--" + word
			}
			if it.State.Launched() {
				on[called] = true
				if it.Because[0] != "default.target" {
					t.Errorf("%s: %s is launched by %v", name, called, it.Because)
				}
			} else {
				off[called] = true
			}
		}
		for _, set := range []struct {
			got  map[string]bool
			want string
		}{{on, c.want}, {off, c.other}} {
			want := map[string]bool{}
			for word := range strings.FieldsSeq(set.want) {
				want[word] = true
			}
			if !maps.Equal(set.got, want) {
				t.Errorf("%s: %v, want %v", name, set.got, want)
			}
		}
	}
}

// TestUnitsOfLines: what systemd-cron's generator made of a Debian machine's
// own tables, run in its root.
func TestUnitsOfLines(t *testing.T) {
	const units, run = "usr/lib/systemd/system/", "[Service]\nExecStart=/usr/bin/run-parts x\n"
	dir := testtree.Make(t, map[string]string{
		"etc/passwd":                 "root:x:0:0::/root:/bin/sh\n",
		"etc/machine-id":             "11112222333344445555666677778888\n",
		"usr/bin/run-parts":          "program",
		units + "default.target":     "[Unit]\nWants=cron.target\n",
		units + "cron.target":        "[Unit]\nWants=cron-daily.timer\n",
		units + "cron-daily.timer":   "[Timer]\nOnCalendar=daily\n",
		units + "cron-daily.service": run,
		units + "e2scrub_all.timer":  "[Timer]\nOnCalendar=daily\n",
		"usr/lib/systemd/system-generators/systemd-crontab-generator": "program",
		"etc/crontab": "25 6 * * * root test -x /usr/sbin/anacron || " +
			"{ cd / && run-parts --report /etc/cron.daily; }\n" +
			"17 * * * * root cd / && run-parts --report /etc/cron.hourly\n",
		"etc/cron.d/e2scrub_all": "30 3 * * 0 root /usr/bin/run-parts x\n",
		"etc/cron.d/anacron":     "30 7-23 * * * root /usr/bin/run-parts y\n",
		"etc/cron.daily/dpkg":    "x", "etc/cron.hourly/tidy": "x",
	})
	for _, p := range []string{"daily/dpkg", "hourly/tidy"} {
		_ = os.Chmod(dir+"/etc/cron."+p, 0o755)
	}
	r := openedAt(t, dir)
	got := map[string]string{}
	for _, it := range Survey(r, family.Options{Now: time.Unix(0, 0)}).Items {
		if it.Mechanism == "cron" {
			got[it.File] += string(it.State) + ": " + it.Why + strings.Join(it.Because, " ") + "\n"
		}
	}
	for file, want := range map[string]string{
		"/etc/crontab":            "off: cron passes it over: cron-daily.timer does the same",
		"/etc/cron.d/e2scrub_all": "off: cron passes it over: e2scrub_all.timer is there",
		"/etc/cron.d/anacron":     "on: default.target cron.target",
		"/etc/cron.daily/dpkg":    "on: default.target cron.target cron-daily.timer",
		"/etc/cron.hourly/tidy":   "off: cron-hourly.timer, which would launch it, is not on",
	} {
		if !strings.HasPrefix(got[file], want) {
			t.Errorf("%s is %q, want %q", file, got[file], want)
		}
	}
}

// TestWhatDaemonsDistrust asks for users' tables of modes and names that a
// daemon does not take.
func TestWhatDaemonsDistrust(t *testing.T) {
	const (
		debian = "/var/spool/cron/crontabs/maria"
		cronie = "/var/spool/cron/maria"
	)
	for _, c := range []struct {
		name, unit, table string
		mode              os.FileMode
		twice             bool
		want              item.State
	}{
		{"as crontab makes it", "cron.service", debian, 0o600, false, item.On},
		{"others may read it", "cron.service", debian, 0o644, false, item.Off},
		{"two names", "cron.service", debian, 0o600, true, item.Off},
		{"read by others, cronie", "crond.service", cronie, 0o644, false, item.On},
		{"written by others, cronie", "crond.service", cronie, 0o622, false, item.Off},
		{"two names, cronie", "crond.service", cronie, 0o600, true, item.Off},
		{"read by others, bcron", "bcron-sched.service", debian, 0o644, true, item.On},
	} {
		unit := "/usr/lib/systemd/system/" + c.unit
		dir := testtree.Make(t, map[string]string{
			"etc/passwd":   "maria:x:" + strconv.Itoa(os.Getuid()) + ":1::/home/maria:/bin/sh\n",
			"usr/bin/tidy": "",
			unit[1:]:       "[Service]\nExecStart=/usr/bin/tidy\n",
			"home/maria/":  "",
			c.table[1:]:    "@reboot /usr/bin/tidy\n",
			"etc/systemd/system/default.target.wants/" + c.unit: "-> " + unit,
			"usr/lib/systemd/system/default.target":             "[Unit]\n",
		})
		err := os.Chmod(dir+c.table, c.mode)
		if c.twice {
			err = errors.Join(err, os.Link(dir+c.table, dir+"/home/maria/second"))
		}
		if err != nil {
			t.Fatal(err)
		}
		found := Survey(openedAt(t, dir), family.Options{Now: time.Unix(0, 0)})
		at := slices.IndexFunc(found.Items, func(it item.Item) bool { return it.File == c.table })
		if at < 0 || found.Items[at].State != c.want {
			t.Errorf("%s: %+v", c.name, found.Items)
		}
	}
}
