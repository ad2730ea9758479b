//go:build linux

package linux_test

import (
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/linux"
)

// TestWhatABusNameStarts has a unit that is off, and that a name on the bus
// starts.
func TestWhatABusNameStarts(t *testing.T) {
	const bus = "usr/share/dbus-1/system-services/"
	r, _ := machineWith(t, map[string]string{
		v + "asked.service": unitText + enabled,
		v + "plain.service": unitText + enabled,
		bus + "org.example.Asked.service": "[D-BUS Service]\nName=org.example.Asked\n" +
			"SystemdService=asked.service\n",
		bus + "broken.service":          "no such text",
		bus + "org.example.Other.notes": "[D-BUS Service]\nSystemdService=plain.service\n",
	})
	inv := linux.Survey(r, family.Options{Now: now})
	asked, _ := inv.Lookup("service:asked.service")
	plain, _ := inv.Lookup("service:plain.service")
	named := func(it item.Item) bool {
		return slices.Contains(it.Starters, item.Starter{Name: "org.example.Asked", Bus: true})
	}
	if !named(asked) || named(plain) || len(plain.Starters) > 0 {
		t.Errorf("asked for by %v and %v", asked.Starters, plain.Starters)
	}
}

// TestTimersThatNeverFire says of each why.
func TestTimersThatNeverFire(t *testing.T) {
	const timer = "[Install]\nWantedBy=timers.target\n[Timer]\n"
	files := map[string]string{v + "timers.target": "[Unit]\n",
		v + "multi-user.target": "[Unit]\nWants=timers.target\n"}
	for name, c := range map[string][2]string{
		"again":   {"OnUnitActiveSec=1h\n", "it counts from a run of again.service"},
		"nothing": {"OnCalendar=some day\n", "the service manager does not know its time"},
		"past":    {"OnCalendar=2001-01-01\n", "its time is past"},
	} {
		files[v+name+".timer"], files[v+name+".service"] = timer+c[0], unitText
		files[e+"timers.target.wants/"+name+".timer"] = "-> /" + v + name + ".timer"
		r, _ := machineWith(t, files)
		it, ok := linux.Survey(r, family.Options{Now: now}).Lookup("task:" + name + ".timer")
		if !ok || it.State != item.Off || !strings.Contains(it.Why, c[1]) {
			t.Errorf("%s: %v %s %q", name, ok, it.State, it.Why)
		}
	}
}
