//go:build linux

package boottest_test

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
)

// TestConflictsAndCirclesOfRealBoots asks what a conflict keeps out, and what
// is left out where the order of starts is a circle. The survey says which of
// it is certain; each boot has to be one of those that it allows.
func TestConflictsAndCirclesOfRealBoots(t *testing.T) {
	t.Parallel()
	requires := admin + "multi-user.target.requires/"
	files := map[string]string{
		requires + "must.service": "-> /" + vendor + "must.service",
		vendor + "must.service":   marked("must"),
		requires + "firm.service": "-> /" + vendor + "firm.service",
		// what is kept out pulls it in, and that is enough
		vendor + "along.service": marked("along"),
	}
	for name, more := range map[string]string{
		"guest":    "Conflicts=host.service", // keeps host out
		"host":     "Wants=along.service",
		"visitor":  "Conflicts=hall.service", // others require hall: it is one or the other
		"hall":     "",
		"needhall": "Requires=hall.service\nAfter=hall.service",
		"loser":    "Conflicts=must.service", // is kept out by it
		"onedoor":  "Conflicts=twodoor.service",
		"twodoor":  "Conflicts=onedoor.service",
		"idle":     "Conflicts=nobody.service\nConflicts=off.service",
		"held":     "ConditionPathExists=/nowhere\nConflicts=byheld.service",
		"byheld":   "",
		"ringa":    "After=ringc.service",
		"ringb":    "After=ringa.service",
		"ringc":    "After=ringb.service",
		"firm":     "After=loose.service",
		"loose":    "After=firm.service",
		"beside":   "After=ringa.service", // the circle is before it, and not of it
		"self":     "After=self.service",
	} {
		maps.Copy(files, on(name, more))
	}
	files[vendor+"off.service"] = marked("off") + install
	m := boottest.New(t, files)
	var list struct {
		Items []struct{ ID, State, Command, Why, Confidence string }
	}
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	says, sure, unsure := map[string]string{}, []string{}, []string{}
	for _, it := range list.Items {
		found := markLine.FindStringSubmatch(it.Command)
		if found == nil {
			continue
		}
		says[found[1]] = it.Why
		switch {
		case it.State != "on":
		case it.Confidence == "low":
			unsure = append(unsure, found[1])
		default:
			sure = append(sure, found[1])
		}
	}
	slices.Sort(sure)
	slices.Sort(unsure)
	want := "along beside firm guest idle must self"
	if got := strings.Join(sure, " "); got != want {
		t.Errorf("certain are %q; want %q", got, want)
	}
	want = "hall loose needhall onedoor ringa ringb ringc twodoor visitor"
	if got := strings.Join(unsure, " "); got != want {
		t.Errorf("doubtful are %q; want %q", got, want)
	}
	for name, part := range map[string]string{
		"host":     "kept out by guest.service",
		"hall":     "visitor.service and it keep each other out",
		"needhall": "hall.service, which it requires, is left out at some starts",
		"loser":    "it conflicts with must.service, which the goal requires",
		"byheld":   "kept out by held.service",
		"onedoor":  "twodoor.service and it keep each other out",
		"ringa":    "its order is a circle: ringa.service → ringc.service → ringb.service → ringa",
		"loose":    "its order is a circle: loose.service → firm.service → loose.service",
	} {
		if !strings.Contains(says[name], part) {
			t.Errorf("of %s: %q; want %q", name, says[name], part)
		}
	}
	if text := string(run(t, m, "conditions")); !strings.Contains(text, "3 are in a circle") ||
		!strings.Contains(text, "2 are in a circle") {
		t.Errorf("conditions say:\n%s", text)
	}
	// A start may fail for want of something that the computer lacks just then.
	// A fault of ours comes again.
	short := map[string]int{}
	for range 3 {
		launched := m.Boot(t)
		t.Logf("launched: %v", slices.Sorted(slices.Values(launched)))
		for _, name := range sure {
			if !slices.Contains(launched, name) {
				short[name]++
				t.Log(m.Says(t, name))
			}
		}
		for _, name := range launched {
			if !slices.Contains(sure, name) && !slices.Contains(unsure, name) {
				t.Errorf("%s was launched, which the survey leaves out: %q", name, says[name])
			}
		}
		for _, group := range []string{"ringa ringb ringc", "onedoor twodoor", "loose firm",
			"visitor hall"} {
			n, names := 0, strings.Fields(group)
			for _, name := range names {
				if slices.Contains(launched, name) {
					n++
				}
			}
			if n == len(names) {
				t.Errorf("all of %v were launched", names)
			} else if n < len(names)-1 {
				short[group]++
			}
		}
	}
	for name, times := range short {
		if times > 1 {
			t.Errorf("%s: launched too seldom in %d of 3 boots", name, times)
		}
	}
}
