//go:build linux

package boottest_test

import (
	"bytes"
	"encoding/json"
	"os"
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

var files = map[string]string{
	"usr/lib/systemd/system/linked.service": marked("linked") + install,
	"etc/systemd/system/multi-user.target.wants/linked.service": "-> " +
		"/usr/lib/systemd/system/linked.service",
	"usr/lib/systemd/system/vendor.service":                         marked("vendor"),
	"usr/lib/systemd/system/multi-user.target.wants/vendor.service": "-> ../vendor.service",
	"usr/lib/systemd/system/text.service":                           marked("text"),
	"usr/lib/systemd/system/puller.target": "[Unit]\nWants=text.service " +
		"own.service\n",
	"usr/lib/systemd/system/multi-user.target.wants/puller.target": "-> ../puller.target",
	"etc/systemd/system/own.service":                               marked("own"),
	"usr/lib/systemd/system/many@.service":                         marked("many-%i") + install,
	"etc/systemd/system/multi-user.target.wants/many@1.service": "-> " +
		"/usr/lib/systemd/system/many@.service",
	"etc/systemd/system/multi-user.target.wants/many@2.service": "-> " +
		"/usr/lib/systemd/system/many@.service",
	"usr/lib/systemd/system/named.service": marked("named") + install +
		"Alias=nick.service\n",
	"etc/systemd/system/nick.service": "-> " +
		"/usr/lib/systemd/system/named.service",
	"etc/systemd/system/basic.target.wants/nick.service": "-> ../nick.service",
	"etc/cron.d/boot": "# first\n@reboot root " +
		"/usr/bin/mark cron-1\n@reboot root /usr/bin/mark cron-2\n",
	"etc/xdg/autostart/all.desktop": "[Desktop Entry]\n" +
		"Type=Application\nName=All\nExec=/usr/bin/mark all\n",
	"home/maria/.config/autostart/hers.desktop": "[Desktop Entry]\n" +
		"Type=Application\nName=Hers\nExec=/usr/bin/mark hers\n",
	"usr/lib/systemd/system/off.service": marked("off") + install,
	"usr/lib/systemd/system/clock.timer": "[Timer]\n" +
		"OnActiveSec=0\nAccuracySec=1us\n" + install,
	"usr/lib/systemd/system/clock.service": marked("clock"),
	"etc/systemd/system/multi-user.target.wants/clock.timer": "-> " +
		"/usr/lib/systemd/system/clock.timer",
	"etc/systemd/user/global.service":                      marked("global"),
	"etc/systemd/user/default.target.wants/global.service": "-> ../global.service",
	"home/maria/.config/systemd/user/mine.service": marked("mine") +
		"[Install]\nWantedBy=default.target\n",
	"home/maria/.config/systemd/user/default.target.wants/mine.service": "-> ../mine.service",
	"etc/init.d/script":   initScript("script"),
	"etc/rc2.d/S04script": "-> ../init.d/script",
	"etc/rc5.d/S04script": "-> ../init.d/script",
	"etc/rc.local": "#!/bin/sh\n" +
		"/usr/bin/mark rc-local\n",
	"etc/xdg/autostart/hidden.desktop": "[Desktop Entry]\n" +
		"Type=Application\nExec=/usr/bin/mark hidden\nHidden=true\n",
}

// run calls the command line on the machine and returns what it printed.
func run(t testing.TB, m *boottest.Machine, args ...string) []byte {
	t.Helper()
	var out, errs bytes.Buffer
	if code := cli.Run(append([]string{
		"--root",
		m.Dir,
	}, args...), cli.Streams{In: strings.NewReader(""), Out: &out, Err: &errs}); code != 0 {
		t.Fatalf("calmdawn %v: exit status %d\n%s", args, code, errs.Bytes())
	}
	return out.Bytes()
}

// TestARealBootLaunchesWhatIsOnAndNothingThatIsOff boots a machine as it is,
// with every other item switched off, and after all of that was taken back.
func TestARealBootLaunchesWhatIsOnAndNothingThatIsOff(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, files)
	ok(t, os.Chmod(m.Dir+"/etc/init.d/script", 0o755))
	ok(t, os.Chmod(m.Dir+"/etc/rc.local", 0o750))
	var list struct {
		Items []struct{ ID, State, Command, Owner string }
	}
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	names, ids := map[string]string{}, []string{}
	for _, it := range list.Items {
		name := ""
		if found := markLine.FindStringSubmatch(it.Command); found != nil {
			name = found[1]
		}
		switch it.ID {
		case "service:script.service":
			name = "script"
		case "service:rc-local.service":
			name = "rc-local"
		}
		if name == "" || it.Owner != "" && it.Owner != "maria" {
			continue
		}
		if on := it.State == "on"; on != (name != "off" && name != "hidden") {
			t.Errorf("%s is listed as %s", it.ID, it.State)
		} else if on {
			names[it.ID] = name
			ids = append(ids, it.ID)
		}
	}
	const launched = 16
	if len(ids) != launched {
		t.Errorf("%d items that mark are listed as on, not %d: %v", len(ids), launched, ids)
	}
	slices.Sort(ids)
	all := valuesOf(names, ids)
	etc := func() string {
		s := ""
		for _, p := range []string{
			"/etc/systemd", "/etc/rc2.d", "/etc/rc5.d", "/etc/rc.local",
			"/home/maria/.config/systemd", "/etc/cron.d", "/etc/xdg", "/usr/lib/systemd/system",
			"/home/maria/.config/autostart",
		} {
			s += testtree.Snapshot(t, m.Dir+p, nil) + "\n"
		}
		return s
	}
	if wrong := bootedAs(t, m, all); wrong != "" {
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
		if wrong := bootedAs(t, m, valuesOf(names, on)); wrong != "" {
			t.Errorf("with %v off:\n%s", off, wrong)
		}
		run(t, m, "undo", "--all", "--yes")
		if d := testtree.Diff(before, etc()); d != "" {
			t.Errorf("taken back, the machine is not as it was:\n%s", d)
		}
	}
	if wrong := bootedAs(t, m, all); wrong != "" {
		t.Errorf("after all was taken back:\n%s", wrong)
	}
}

// bootedAs boots the machine and says what it launched that it should not have,
// and the other way round. A start may fail for want of something that the
// computer lacks just then. If nothing but starts is missing, a second boot has
// to bring all: a fault of ours comes again.
func bootedAs(t *testing.T, m *boottest.Machine, wanted []string) string {
	t.Helper()
	wrong := boottest.Once(m.Boot(t), wanted)
	if wrong == "" {
		return ""
	}
	for line := range strings.SplitSeq(wrong, "\n") {
		name, missing := strings.CutPrefix(line, "launched 0 times: ")
		if !missing {
			return wrong
		}
		t.Log(m.Says(t, name))
	}
	return boottest.Once(m.Boot(t), wanted)
}

func valuesOf(names map[string]string, ids []string) []string {
	var values []string
	for _, id := range ids {
		values = append(values, names[id])
	}
	return values
}

// TestWhatIsDelayedStartsAfterTheGoal holds items back by a second and watches
// the order in which a boot launches them.
func TestWhatIsDelayedStartsAfterTheGoal(t *testing.T) {
	m := boottest.New(t, files)
	ok(t, os.Chmod(m.Dir+"/etc/init.d/script", 0o755))
	ok(t, os.Chmod(m.Dir+"/etc/rc.local", 0o755))
	before := testtree.Snapshot(t, m.Dir+"/etc/systemd", nil)
	all := m.Boot(t)
	entry := "program:all.desktop"
	var out bytes.Buffer
	if code := cli.Run([]string{
		"--root", m.Dir, "delay", "--yes", "service:text.service",
	}, cli.Streams{
		In:  strings.NewReader(""),
		Out: &out,
		Err: &out,
	}); code != 1 || !strings.Contains(out.String(), "masked") {
		t.Errorf("delaying what a text pulls in: %d %s", code, out.String())
	}
	run(t, m, "delay", "--yes", "--by", "1s", "service:linked.service", "service:many@1.service",
		"service:mine.service@maria", entry, "task:/etc/cron.d/boot*")
	if list := string(run(t, m, "list", "--state",
		"delayed")); strings.Count(list, "delayed") < 6 ||
		!strings.Contains(list, "service:linked.service") {
		t.Errorf("what is delayed is not listed so:\n%s", list)
	}
	launched := m.Boot(t)
	if wrong := boottest.Once(launched, all); wrong != "" {
		t.Errorf("delayed, not lost:\n%s", wrong)
	}
	late := []string{"linked", "many-1", "mine", "all", "cron-1", "cron-2"}
	onTime := []string{
		"vendor", "text", "own", "many-2", "named", "rc-local", "script", "global", "hers",
	}
	for _, name := range onTime {
		for _, other := range late {
			if slices.Index(launched, name) > slices.Index(launched, other) {
				t.Errorf("%s was launched after %s, which is delayed: %v", name, other, launched)
			}
		}
	}
	run(t, m, "undo", "--all", "--yes")
	if d := testtree.Diff(before, testtree.Snapshot(t, m.Dir+"/etc/systemd", nil)); d != "" {
		t.Errorf("taken back, the machine is not as it was:\n%s", d)
	}
}
