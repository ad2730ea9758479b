//go:build linux

package boottest_test

import (
	"strings"
	"testing"

	"calmdawn/internal/boottest"
)

// TestOnTheRunningMachine has the built program work on the machine that runs
// it, as root and as a user. It asks the operating system's own tools whether
// they agree.
func TestOnTheRunningMachine(t *testing.T) {
	t.Parallel()
	program := program(t)
	const script = `#!/bin/sh
say() { echo "$1: $(shift; "$@" 2>&1 | tr '\n' ' ')"; }
{
say before systemctl is-enabled linked.service
say list calmdawn list
items="service:linked.service service:text.service program:all.desktop@maria"
say disable calmdawn disable --yes $items
say guard calmdawn guard
say off systemctl is-enabled linked.service
say masked systemctl is-enabled text.service
say reload systemctl show -p NeedDaemonReload --value linked.service
say owner stat -c %U /home/maria/.config/autostart/all.desktop
say standing calmdawn
say runs systemctl is-active idler.service
say stop calmdawn disable --yes --stop service:idler.service
say stopped systemctl is-active idler.service
say boots calmdawn boots
say undo calmdawn undo --all --yes
say unguarded calmdawn guard
say after systemctl is-enabled linked.service
say unmasked systemctl is-enabled text.service
say user su maria -c 'calmdawn list linked'
say now calmdawn list --all --sort cpu-now
say userboots su maria -c 'calmdawn boots'
say userstanding su maria -c calmdawn
say conditions calmdawn conditions
say timeline calmdawn boots --spans
mkfifo /etc/systemd/system/trap.service
say fifo calmdawn boots --spans --json
say alive systemctl is-active trap.service
rm /etc/systemd/system/trap.service
say refused su maria -c 'calmdawn disable --yes service:linked.service'
} > /share/live
`
	all := map[string]string{
		"etc/systemd/system/idler.service": "[Service]\n" +
			"ExecStart=/bin/sleep 100\n" + install,
		"etc/systemd/system/multi-user.target.wants/idler.service": "-> ../idler.service",
		"usr/lib/systemd/system/trap.service": "[Service]\n" +
			"ExecStart=/bin/sleep 100\n",
		"etc/systemd/system/multi-user.target.wants/trap.service": "-> " +
			"/usr/lib/systemd/system/trap.service",
		"usr/bin/live": script,
		"etc/systemd/system/live.service": "[Unit]\nAfter=multi-user.target\n[Service]\n" +
			"Type=oneshot\nEnvironment=LC_ALL=C.UTF-8\nExecStart=/bin/sh /usr/bin/live\n",
		"etc/systemd/system/graphical.target.wants/live.service": "-> ../live.service",
	}
	for p, text := range files {
		all[p] = text
	}
	m := boottest.New(t, all)
	m.Install(t, program)
	m.Boot(t)
	said := map[string]string{}
	for line := range strings.Lines(m.Shared(t, "live")) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
		said[key] = value
	}
	for key, want := range map[string]string{
		"before":    "enabled",
		"guard":     "The boot guard is on, for change 1",
		"unguarded": "No boot guard is on",
		"list":      "launches",
		"disable":   "Done, as change 1",
		"off":       "disabled",
		"masked":    "masked",
		"reload":    "no",
		"owner":     "maria",
		"runs":      "active",
		"stop":      "Done",
		"stopped":   "inactive",
		"standing": "waiting for a " +
			"restart",
		"undo":      "taken back",
		"after":     "enabled",
		"unmasked":  "static",
		"user":      "linked",
		"now":       "CPU NOW",
		"boots":     "not finished yet",
		"userboots": "This is a part",

		"userstanding": "Whether it was changed is not known",
		"conditions":   "free disk space",
		"timeline":     "the service managers' clocks",
		"fifo":         `"trap.service"`,
		"alive":        "active",
		"refused":      "run this as root",
	} {
		if !strings.Contains(said[key], want) {
			t.Errorf("%s: %q; want %q", key, said[key], want)
		}
	}
	for key, bad := range map[string]string{
		"list":    "not read",
		"disable": "not told",
		"undo":    "not told",
	} {
		if strings.Contains(said[key], bad) {
			t.Errorf("%s: %s", key, said[key])
		}
	}
}
