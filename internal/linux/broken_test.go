//go:build linux

package linux_test

import (
	"fmt"
	"strings"
	"testing"

	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/testtree"
)

// TestTwiceAsBrokenTakesTwiceAsMuch surveys machines with n and with 2n faults
// of each kind, and counts allocations: none is told of all the others anew.
func TestTwiceAsBrokenTakesTwiceAsMuch(t *testing.T) {
	lines := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}
	one := func(p, before, format string) func(int) map[string]string {
		return func(n int) map[string]string {
			return map[string]string{p: before + lines(n, format)}
		}
	}
	for name, with := range map[string]func(n int) map[string]string{
		"lines of a unit": one(e+"a.service", "[Service]\n",
			"[Broken %d\nExecStart=\"open\n=x\n"),
		"settings of a unit": one(e+"a.service", "[Unit]\n", "After=%%q no-unit-%d\n"),
		"lines of a crontab": one("etc/crontab", "", "@reboot %d\n61 * * * * root /x\n"),
		"lines of passwd":    one("etc/passwd", base["etc/passwd"], "broken%d:x:y\n"),
		"lines of an entry": one("etc/xdg/autostart/a.desktop", "[Desktop Entry]\n",
			"[%d\nExec=\"\n"),
		"packages":       one("var/lib/dpkg/status", "", "Package: p%d\nStatus nothing\n\n"),
		"lines of fstab": one("etc/fstab", "", "LABEL=%d /home/x ext4\n"),
		"lines of a script": one("etc/init.d/old", "#!/bin/sh\n### BEGIN INIT INFO\n",
			"# Bro%d\n"),
		"lines of a profile": one("home/maria/.profile", "", "if then \"%d\n"),
		"units that are none": func(n int) map[string]string {
			return many(n, e+"a%d.service", "[Unit\n")
		},
		"links in circles": func(n int) map[string]string {
			return many(n, e+"l%d.service", "-> l%[1]d.service")
		},
		"drop-ins": func(n int) map[string]string {
			return many(n, e+"a.service.d/%05d.conf", "[Service\nx\n")
		},
		"entries": func(n int) map[string]string {
			return many(n, "etc/xdg/autostart/a%d.desktop", "[Desktop\n")
		},
		"crontabs": func(n int) map[string]string {
			return many(n, "etc/cron.d/a%d", "@never x\n")
		},
	} {
		t.Run(name, func(t *testing.T) {
			testtree.Twice(t, 600, func(n int) func() int {
				files := with(n)
				if _, ok := files["etc/passwd"]; !ok {
					files["etc/passwd"] = base["etc/passwd"]
				}
				r, _ := machineWith(t, files)
				return func() int {
					return len(linux.Survey(r, family.Options{Now: now}).Unread)
				}
			})
		})
	}
}

// many are n files of one content.
func many(n int, name, content string) map[string]string {
	files := map[string]string{}
	for i := range n {
		text := content
		if strings.Contains(text, "%[1]d") {
			text = fmt.Sprintf(text, (i+1)%n)
		}
		files[fmt.Sprintf(name, i)] = text
	}
	return files
}
