package unit

import (
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// TestConflictsAndCircles surveys small trees. boottest holds the same
// questions against real boots.
func TestConflictsAndCircles(t *testing.T) {
	for name, c := range map[string]struct{ units, want string }{
		"one declares it": {"a Conflicts=b|b", "a on|b off"},
		"both declare it": {"a Conflicts=b|b Conflicts=a", "a on?|b on?"},
		"another requires the one that would go": {
			"a Conflicts=b|b|c Requires=b", "a on?|b on?|c on?"},
		"with what is not there": {"a Conflicts=gone", "a on"},
		"two circles, and one beside": {"a After=b|b After=a|c After=d|d After=c|e After=a",
			"a on?|b on?|c on?|d on?|e on"},
		"a conflict opens a circle":     {"a After=b|b After=a|c Conflicts=b", "a on|b off|c on"},
		"of itself":                     {"a After=a Conflicts=a", "a on"},
		"what is required is kept out":  {"a Conflicts=b|b|c Wants=b", "a on|b off|c on"},
		"a condition holds it back too": {"a Conflicts=b ConditionPathExists=/no|b", "a off|b off"},
	} {
		const lib = "usr/lib/systemd/system/"
		files := map[string]string{
			"bin/true":           "",
			lib + "basic.target": "",
			lib + "default.target": "[Unit]\nRequires=basic.target\n" +
				"After=basic.target\n",
		}
		for u := range strings.SplitSeq(c.units, "|") {
			words := strings.Fields(u)
			text := "[Unit]\n"
			for _, w := range words[1:] {
				if !strings.Contains(w, "/") {
					w += ".service"
				}
				text += w + "\n"
			}
			files[lib+words[0]+".service"] = text + "[Service]\nExecStart=/bin/true\n"
			files[lib+"default.target.wants/"+words[0]+".service"] = "-> ../" +
				words[0] + ".service"
		}
		r, err := machine.Open(testtree.Make(t, files))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		tree := Read(r, launch.On(r), time.Now()).System()
		for _, it := range tree.Survey(Scope{When: item.AtBoot}) {
			sure := ""
			if it.Unsure {
				sure = "?"
			}
			got = append(got, strings.TrimSuffix(it.Native, ".service")+" "+string(it.State)+sure)
		}
		r.Close()
		if all := strings.Join(got, "|"); all != c.want {
			t.Errorf("%s: %q; want %q", name, all, c.want)
		}
	}
}

// TestATargetBeforeWhatItPullsIn is in no circle: it waits for nothing of that
// which it says to come before, as the one of NFS clients.
func TestATargetBeforeWhatItPullsIn(t *testing.T) {
	const lib = "usr/lib/systemd/system/"
	r, err := machine.Open(testtree.Make(t, map[string]string{
		lib + "default.target": "[Unit]\nWants=early.target\n",
		lib + "early.target":   "[Unit]\nWants=late.target\nBefore=late.target\n",
		lib + "late.target":    "[Unit]\nDescription=x\n",
	}))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if found := Circles(r); len(found) > 0 {
		t.Errorf("circles: %v", found)
	}
}
