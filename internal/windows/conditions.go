package windows

import (
	"fmt"
	"strings"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/windows/registry"
)

// Conditions are what else bears on a start, as far as a disk tells.
func (d *disk) Conditions() (all []boot.Condition) {
	add := func(name, value, why string, bad bool) {
		all = append(all, boot.Condition{Name: name, Value: value, Why: why, Bad: bad, When: "now"})
	}
	const least = 0.1
	if free, total, err := d.root.Space("/"); err == nil && total > 0 {
		share := float64(free) / float64(total)
		add("free disk space", fmt.Sprintf("%.0f %% of %.0f GB", 100*share, float64(total)/1e9),
			"a disk that is nearly full is slow to write to, and updates cannot be put in",
			share < least)
	}
	reg, err := d.registry()
	if err != nil {
		return all
	}
	control := func(p string) registry.Place {
		return reg.Machine(`SYSTEM\CurrentControlSet\Control\` + p)
	}
	plan, _ := reg.Text(control(`Power\User\PowerSchemes`), "ActivePowerScheme")
	add("power plan", planName(plan), "one that saves power holds the processors back", planName(
		plan) == "power saver")
	fast, known := reg.Number(control(`Session Manager\Power`), "HiberbootEnabled")
	value := "not known"
	if known {
		value = map[bool]string{true: "on", false: "off"}[fast != 0]
	}
	add("fast start-up", value, "with it, a start after shutting down is not a full start; do "+
		"not compare such starts with restarts", false)
	if why := hibernated(d); why != "" {
		add("hibernation", "hibernated", why, true)
	} else {
		add("hibernation", "not hibernated", "the disk of a hibernated machine is only read", false)
	}
	updates := reg.Waiting()
	switch {
	case len(updates) > 0:
		value = strings.Join(updates, ", ")
	case reg.Whole():
		value = "none known of"
	default:
		value = "not known"
	}
	add("updates waiting", value, "the next start puts them in, which takes time once, and may "+
		"change things back", len(updates) > 0)
	if inSetup(reg) {
		add("set-up", "in progress", "an upgrade, or the first set-up, is not at its end", true)
	}
	add("memory", "not known", "a disk does not tell how much the machine has", false)
	return all
}

// inSetup reports whether the system is in the middle of being set up.
func inSetup(reg *registry.Registry) bool {
	setup := reg.Machine(`SYSTEM\Setup`)
	running, _ := reg.Number(setup, "SystemSetupInProgress")
	kind, _ := reg.Number(setup, "SetupType")
	return running != 0 || kind != 0
}

// planName is what a power plan is called.
func planName(id string) string {
	names := map[string]string{
		"381b4222-f694-41f0-9685-ff5bb260df2e": "balanced",
		"8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c": "high performance",
		"a1841308-3541-4fab-bc81-f71556f20b4a": "power saver",
		"e9a42b02-d5df-448d-aa00-03f14749eb61": "ultimate performance",
	}
	if name := names[strings.ToLower(strings.Trim(id, "{}"))]; name != "" {
		return name
	}
	if id == "" {
		return "not known"
	}
	return "one of the machine's own"
}
