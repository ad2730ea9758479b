//go:build linux

package boottest_test

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
	"calmdawn/internal/cli"
	"calmdawn/internal/testtree"
)

func marked(name string) string {
	return "[Service]\nType=oneshot\nExecStart=/usr/bin/mark " + name + "\n"
}

const install = "[Install]\nWantedBy=multi-user.target\n"

// launched holds, by item, the name that each launched program of the machine marks.
var launched = map[string]string{
	"service:linked.service": "linked", "service:vendor.service": "vendor", "service:text.service": "text",
	"service:own.service": "own", "service:many@1.service": "many-1", "service:many@2.service": "many-2", "service:named.service": "named",
	"program:all.desktop": "all", "program:hers.desktop@maria": "hers",
}

var files = map[string]string{
	"usr/lib/systemd/system/linked.service":                         marked("linked") + install,
	"etc/systemd/system/multi-user.target.wants/linked.service":     "-> /usr/lib/systemd/system/linked.service",
	"usr/lib/systemd/system/vendor.service":                         marked("vendor"),
	"usr/lib/systemd/system/multi-user.target.wants/vendor.service": "-> ../vendor.service",
	"usr/lib/systemd/system/text.service":                           marked("text"),
	"usr/lib/systemd/system/puller.target":                          "[Unit]\nWants=text.service own.service\n",
	"usr/lib/systemd/system/multi-user.target.wants/puller.target":  "-> ../puller.target",
	"etc/systemd/system/own.service":                                marked("own"),
	"usr/lib/systemd/system/many@.service":                          marked("many-%i") + install,
	"etc/systemd/system/multi-user.target.wants/many@1.service":     "-> /usr/lib/systemd/system/many@.service",
	"etc/systemd/system/multi-user.target.wants/many@2.service":     "-> /usr/lib/systemd/system/many@.service",
	"usr/lib/systemd/system/named.service":                          marked("named") + install + "Alias=nick.service\n",
	"etc/systemd/system/nick.service":                               "-> /usr/lib/systemd/system/named.service",
	"etc/systemd/system/basic.target.wants/nick.service":            "-> ../nick.service",
	"etc/cron.d/boot":                           "# first\n@reboot root /usr/bin/mark cron-1\n@reboot root /usr/bin/mark cron-2\n",
	"etc/xdg/autostart/all.desktop":             "[Desktop Entry]\nType=Application\nName=All\nExec=/usr/bin/mark all\n",
	"home/maria/.config/autostart/hers.desktop": "[Desktop Entry]\nType=Application\nName=Hers\nExec=/usr/bin/mark hers\n",
	"usr/lib/systemd/system/off.service":        marked("off") + install,
	"etc/xdg/autostart/hidden.desktop":          "[Desktop Entry]\nType=Application\nExec=/usr/bin/mark hidden\nHidden=true\n",
}

// run calls the command line on the machine and returns what it printed.
func run(t *testing.T, m *boottest.Machine, args ...string) []byte {
	t.Helper()
	var out, errs bytes.Buffer
	if code := cli.Run(append([]string{"--root", m.Dir}, args...), cli.Streams{In: strings.NewReader(""), Out: &out, Err: &errs}); code != 0 {
		t.Fatalf("calmdawn %v: exit status %d\n%s", args, code, errs.Bytes())
	}
	return out.Bytes()
}

// TestARealBootLaunchesWhatIsOnAndNothingThatIsOff boots a machine as it is, with every other item switched off, and
// after all of that was taken back.
func TestARealBootLaunchesWhatIsOnAndNothingThatIsOff(t *testing.T) {
	m := boottest.New(t, files)
	var list struct {
		Items []struct{ ID, State, Command string }
	}
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	names, ids := map[string]string{}, []string{}
	for _, it := range list.Items {
		if name, ok := strings.CutPrefix(it.Command, "/usr/bin/mark "); ok {
			if name = strings.Trim(name, " "); strings.HasPrefix(it.ID, "service:many@") {
				name = launched[it.ID]
			}
			if on := it.State == "on"; on != (name != "off" && name != "hidden") {
				t.Errorf("%s is listed as %s", it.ID, it.State)
			} else if on {
				names[it.ID] = name
				ids = append(ids, it.ID)
			}
		}
	}
	if len(ids) != len(launched)+2 {
		t.Errorf("%d of %d items that mark are listed as on: %v", len(ids), len(launched)+2, ids)
	}
	slices.Sort(ids)
	all := valuesOf(names, ids)
	etc := func() string {
		s := ""
		for _, p := range []string{"/etc/systemd", "/etc/cron.d", "/etc/xdg", "/usr/lib/systemd/system", "/home/maria/.config/autostart"} {
			s += testtree.Snapshot(t, m.Dir+p, nil) + "\n"
		}
		return s
	}
	if wrong := boottest.Once(m.Boot(t), all); wrong != "" {
		t.Errorf("as it is:\n%s", wrong)
	}
	before := etc()
	for half := range 2 {
		var off, on []string
		for i, id := range ids {
			if i%2 == half {
				off = append(off, id)
			} else {
				on = append(on, id)
			}
		}
		run(t, m, append([]string{"disable", "--yes"}, off...)...)
		if wrong := boottest.Once(m.Boot(t), valuesOf(names, on)); wrong != "" {
			t.Errorf("with %v off:\n%s", off, wrong)
		}
		run(t, m, "undo", "--all", "--yes")
		if d := testtree.Diff(before, etc()); d != "" {
			t.Errorf("taken back, the machine is not as it was:\n%s", d)
		}
	}
	if wrong := boottest.Once(m.Boot(t), all); wrong != "" {
		t.Errorf("after all was taken back:\n%s", wrong)
	}
}

func valuesOf(names map[string]string, ids []string) []string {
	var values []string
	for _, id := range ids {
		values = append(values, names[id])
	}
	return values
}
