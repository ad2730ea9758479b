package unit

import (
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// TestGenerated surveys a machine as it runs and as a disk, and switches what
// generators made at its boot.
func TestGenerated(t *testing.T) {
	const (
		run  = "[Service]\nExecStart=/bin/true\n"
		lib  = "usr/lib/systemd/system/"
		made = "run/systemd/generator/"
		soon = "run/systemd/generator.early/"
		late = "run/systemd/generator.late/"
	)
	dir := testtree.Make(t, map[string]string{
		"bin/true":                "",
		lib + "default.target":    "-> multi-user.target",
		lib + "multi-user.target": "[Unit]\nDescription=x\n",
		lib + "multi-user.target.wants/plain.service": "-> ../plain.service",
		lib + "plain.service":                         run,
		lib + "ride@.service":                         run,
		made + "made.service":                         run,
		made + "line.timer": "[Unit]\nSourcePath=/etc/crontab\n" +
			"[Timer]\nOnBootSec=1\n",
		made + "line.service":                             run,
		made + "multi-user.target.wants/line.timer":       "-> ../line.timer",
		soon + "early.service":                            run,
		late + "old.service":                              run,
		made + "multi-user.target.wants/made.service":     "-> ../made.service",
		made + "multi-user.target.wants/ride@one.service": "-> /" + lib + "ride@.service",
		soon + "multi-user.target.wants/early.service":    "-> ../early.service",
		late + "multi-user.target.wants/old.service":      "-> ../old.service",
	})
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	source := Read(r, launch.On(r), time.Now())
	disk := source.system(systemPath)
	tree := source.running(disk)
	states := func(t *Tree) string {
		var all []string
		for _, it := range t.Survey(Scope{When: item.AtBoot}) {
			text := strings.TrimSuffix(it.Native, ".service") + " " + string(it.State)
			if it.Generated {
				text += " generated"
			}
			all = append(all, text)
		}
		return strings.Join(all, "|")
	}
	if got := states(disk); got != "plain on" {
		t.Errorf("the disk: %s", got)
	}
	want := "early on generated|made on generated|plain on|ride@one on generated"
	if got := states(tree); got != want {
		t.Errorf("running: %s", got)
	}
	draft := r.Draft(time.Now())
	plan := tree.Turner(draft)
	for _, name := range []string{"early", "made", "ride@one"} {
		if err := plan.Turn(item.Item{Native: name + ".service"}, item.Off, 0); err != nil {
			t.Fatal(name, err)
		}
	}
	var paths []string
	for _, e := range draft.Edits() {
		paths = append(paths, e.Path+" "+e.After.Target)
	}
	slices.Sort(paths)
	want = "/etc/systemd/system.control/early.service /dev/null|" +
		"/etc/systemd/system/multi-user.target.wants/made.service /dev/null|" +
		"/etc/systemd/system/multi-user.target.wants/ride@one.service /dev/null"
	if got := strings.Join(paths, "|"); got != want {
		t.Errorf("edits: %s", got)
	}
}
