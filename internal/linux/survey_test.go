//go:build linux

package linux_test

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

const (
	v = "usr/lib/systemd/system/"
	e = "etc/systemd/system/"

	enabled = "[Install]\nWantedBy=multi-user.target\n"
)

// base is the least of a machine: a goal that pulls multi-user.target in, one
// installed program, two users.
var base = map[string]string{
	"etc/machine-id": "11112222333344445555666677778888\n",
	"etc/passwd": "root:x:0:0::/root:/bin/sh\nmaria:x:0:0::/home/maria:/bin/sh\n" +
		"daemon:x:2:2::/:/bin/false\n",
	"home/maria/":           "",
	"bin/run":               "program",
	"usr/bin/run":           "program",
	"usr/bin/tray":          "program",
	v + "default.target":    "-> graphical.target",
	v + "graphical.target":  "[Unit]\nRequires=multi-user.target\n",
	v + "multi-user.target": "[Unit]\nDescription=Many users\n",
	v + "cron.service":      unitText + "[Install]\nWantedBy=multi-user.target\n",
	e + "multi-user.target.wants/cron.service": "-> /usr/lib/systemd/system/cron.service",
}

// now is when the next boots of the tests are.
var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

const unitText = "[Service]\nExecStart=/bin/run\n"

func machineWith(t testing.TB, files map[string]string) (*machine.Root, string) {
	t.Helper()
	all := maps.Clone(base)
	maps.Copy(all, files)
	dir := testtree.Make(t, all)
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r, dir
}

func TestStates(t *testing.T) {
	wants := e + "multi-user.target.wants/"
	install := unitText + "[Install]\nWantedBy=multi-user.target\n"
	entry := "[Desktop Entry]\nType=Application\nName=N\nExec=tray\n"
	for _, c := range []struct {
		name  string
		files map[string]string
		// "id state" of the items besides cron.service, or "id -" for one that
		// must not be there
		want string
	}{
		{
			"enabled by a link",
			map[string]string{
				v + "a.service":     install,
				wants + "a.service": "-> " + "/" + v + "a.service",
			},
			"service:a.service on",
		},
		{
			"the link's name counts",
			map[string]string{v + "a.service": install, wants + "a.service": "-> /nowhere"},
			"service:a.service on",
		},
		{"not enabled", map[string]string{v + "a.service": install}, "service:a.service off"},
		{
			"no switch, not launched",
			map[string]string{v + "a.service": unitText},
			"service:a.service -",
		},
		{
			"a vendor's link",
			map[string]string{
				v + "a.service":                         unitText,
				v + "multi-user.target.wants/a.service": "-> ../a.service",
			},
			"service:a.service on",
		},
		{
			"a vendor's link hidden by the null device",
			map[string]string{
				v + "a.service":                         unitText,
				v + "multi-user.target.wants/a.service": "-> ../a.service",
				wants + "a.service":                     "-> /dev/null",
			},
			"service:a.service off",
		},
		{
			"a vendor's link hidden by a file",
			map[string]string{
				v + "a.service":                         install,
				v + "multi-user.target.wants/a.service": "-> ../a.service",
				wants + "a.service":                     "x",
			},
			"service:a.service off",
		},
		{
			"pulled in by a text",
			map[string]string{v + "a.service": unitText, e + "multi-user.target": "[Unit]\n" +
				"Wants=a.service\n"},
			"service:a.service on",
		},
		{
			"masked",
			map[string]string{
				v + "a.service":     install,
				wants + "a.service": "-> /x",
				e + "a.service":     "-> /dev/null",
			},
			"service:a.service off",
		},
		{
			"masked by an empty file",
			map[string]string{v + "a.service": install, e + "a.service": ""},
			"service:a.service off",
		},
		{
			"an empty file does not hold",
			map[string]string{
				v + "a.service":     "[Unit]\nConditionFileNotEmpty=/etc/none\n" + install,
				wants + "a.service": "-> /x",
				"etc/none":          "",
			},
			"service:a.service off",
		},
		{
			"a pattern with a name behind it",
			map[string]string{
				v + "a.service":     "[Unit]\nConditionPathExistsGlob=/etc/gl*/inner\n" + install,
				wants + "a.service": "-> /x",
				"etc/glob/inner":    "",
			},
			"service:a.service on",
		},
		{
			"a pattern without that name",
			map[string]string{
				v + "a.service":     "[Unit]\nConditionPathExistsGlob=/etc/gl*/inner\n" + install,
				wants + "a.service": "-> /x",
				"etc/glob/other":    "",
			},
			"service:a.service off",
		},
		{
			"a release by a pattern",
			map[string]string{
				v + "a.service":     "[Unit]\nConditionOSRelease=ID$=or*\n" + install,
				wants + "a.service": "-> /x",
				"etc/os-release":    "ID=orchard\n",
			},
			"service:a.service on",
		},
		{
			"no such release by a pattern",
			map[string]string{
				v + "a.service":     "[Unit]\nConditionOSRelease=ID!$=no*\n" + install,
				wants + "a.service": "-> /x",
				"etc/os-release":    "ID=orchard\n",
			},
			"service:a.service on",
		},
		{
			"/run counts for nothing",
			map[string]string{
				"run/systemd/system/multi-user.target.wants/a.service": "-> /x",
				v + "a.service": install,
			},
			"service:a.service off",
		},
		{
			"an instance of a template",
			map[string]string{
				v + "a@.service":        install,
				wants + "a@two.service": "-> /" + v + "a@.service",
			},
			"service:a@two.service on",
		},
		{
			"an alias that is wanted",
			map[string]string{
				v + "a.service":     unitText,
				e + "b.service":     "-> /" + v + "a.service",
				wants + "b.service": "-> /x",
			},
			"service:a.service on",
		},
		{
			"a program that is gone",
			map[string]string{v + "a.service": "[Service]\n" +
				"ExecStart=-/opt/gone --x\n", wants + "a.service": "-> /x"},
			"service:a.service broken",
		},
		{
			"a drop-in brings the program back",
			map[string]string{v + "a.service": "[Service]\n" +
				"ExecStart=/opt/gone\n", e + "a.service.d/x.conf": "[Service]\nExecStart=\n" +
				"ExecStart=/bin/run\n", wants + "a.service": "-> /x"},
			"service:a.service on",
		},
		{
			"a weaker drop-in of the same name loses",
			map[string]string{
				v + "a.service": unitText,
				v + "a.service.d/x.conf": "[Service]\n" +
					"ExecStart=\nExecStart=/opt/gone\n",
				e + "a.service.d/x.conf": "[Unit]\n",
				wants + "a.service":      "-> /x",
			},
			"service:a.service on",
		},
		{
			"a link to a unit that is gone",
			map[string]string{wants + "a.service": "-> /x"},
			"service:a.service broken",
		},
		{
			"a text that is not UTF-8 is refused",
			map[string]string{v + "a.service": unitText + "X=\xff\n", wants + "a.service": "-> /x"},
			"service:a.service off",
		},
		{"byte-order mark and CRLF", map[string]string{v + "a.service": "\ufeff[Service]\r\n" +
			"ExecStart=/bin/run\r\n", wants + "a.service": "-> /x"}, "service:a.service on"},
		{
			"units that look at themselves",
			map[string]string{v + "a.service": "[Unit]\n" +
				"Wants=a.service b.service\n" + unitText, v + "b.service": "[Unit]\n" +
				"Requires=a.service\n" + unitText, wants + "a.service": "-> /x"},
			"service:b.service on",
		},

		{
			"cron at boot",
			map[string]string{"etc/cron.d/x": "@reboot root /bin/run\n"},
			"task:/etc/cron.d/x#7043 on",
		},
		{"cron without its last newline", map[string]string{"etc/cron.d/x": "@reboot root " +
			"/bin/run"}, "task:/etc/cron.d/x#7043 off"},
		{"cron with a line that does not parse", map[string]string{"etc/cron.d/x": "@reboot root " +
			"/bin/run\n61 * * * * root x\n"}, "task:/etc/cron.d/x#7043 off"},
		{"cron with an unknown user", map[string]string{"etc/cron.d/x": "@reboot root /bin/run\n" +
			"@daily nobody x\n"}, "task:/etc/cron.d/x#7043 off"},
		{"cron passes such names over", map[string]string{"etc/cron.d/x.y": "@reboot root " +
			"/bin/run\n"}, "task:/etc/cron.d/x.y#7043 -"},
		{"cron whose program is gone", map[string]string{"etc/cron.d/x": "A=b\n# c\n@reboot root " +
			"/opt/gone\n"}, "task:/etc/cron.d/x#1719 broken"},
		{
			"cron is masked",
			map[string]string{
				"etc/cron.d/x":     "@reboot root /bin/run\n",
				e + "cron.service": "-> /dev/null",
			},
			"task:/etc/cron.d/x#7043 off",
		},
		{"a user's table", map[string]string{"var/spool/cron/crontabs/maria": "@reboot " +
			"/bin/run\n"}, "task:/var/spool/cron/crontabs/maria#0641 on"},

		{
			"an entry of the machine",
			map[string]string{"etc/xdg/autostart/a.desktop": entry},
			"program:a.desktop on",
		},
		{
			"an entry of a user",
			map[string]string{"home/maria/.config/autostart/a.desktop": entry},
			"program:a.desktop@maria on",
		},
		{
			"Hidden: the last counts",
			map[string]string{"etc/xdg/autostart/a.desktop": entry + "Hidden=false\nHidden=true\n"},
			"program:a.desktop off",
		},
		{
			"an invalid boolean",
			map[string]string{"etc/xdg/autostart/a.desktop": entry + "Hidden=perhaps\n"},
			"program:a.desktop off",
		},
		{
			"TryExec is not there",
			map[string]string{"etc/xdg/autostart/a.desktop": entry + "TryExec=gone\n"},
			"program:a.desktop off",
		},
		{"the program is not there", map[string]string{"etc/xdg/autostart/a.desktop": "[Desktop " +
			"Entry]\nType=Application\nExec=/opt/gone x\n"}, "program:a.desktop broken"},
		{"no program", map[string]string{"etc/xdg/autostart/a.desktop": "[Desktop Entry]\n" +
			"Type=Link\nExec=tray\n"}, "program:a.desktop -"},
		{
			"another desktop only",
			map[string]string{
				"etc/xdg/autostart/a.desktop":   entry + "OnlyShowIn=Other;\n",
				"usr/share/xsessions/s.desktop": "[Desktop Entry]\nDesktopNames=Lark\n",
			},
			"program:a.desktop off",
		},
		{
			"this desktop only",
			map[string]string{
				"etc/xdg/autostart/a.desktop":   entry + "OnlyShowIn=Other;Lark;\n",
				"usr/share/xsessions/s.desktop": "[Desktop Entry]\nDesktopNames=Lark\n",
			},
			"program:a.desktop on",
		},
		{
			"a link to nothing launches nothing",
			map[string]string{"home/maria/.config/autostart/a.desktop": "-> /dev/null"},
			"program:a.desktop@maria -",
		},
	} {
		r, _ := machineWith(t, c.files)
		id, want, _ := strings.Cut(c.want, " ")
		it, ok := linux.Survey(r, family.Options{Now: now}).Find(id)
		switch {
		case want == "-" && ok:
			t.Errorf("%s: %s is listed as %s", c.name, id, it.State)
		case want != "-" && string(it.State) != want:
			t.Errorf("%s: %s is %q (%s); want %q", c.name, id, it.State, it.Why, want)
		}
	}
}

// TestTurnedIsWhatTheNextSurveySees switches items off and on again, each time
// by a survey of the disk as it then is.
func TestTurnedIsWhatTheNextSurveySees(t *testing.T) {
	wants := e + "multi-user.target.wants/"
	files := map[string]string{
		v + "link.service": unitText + "[Install]\nWantedBy=multi-user.target\n" +
			"Alias=other.service\nAlso=link.socket\n",
		wants + "link.service":                       "-> /" + v + "link.service",
		e + "other.service":                          "-> /" + v + "link.service",
		v + "link.socket":                            "[Install]\nWantedBy=multi-user.target\n",
		wants + "link.socket":                        "-> /" + v + "link.socket",
		v + "vendor.service":                         unitText,
		v + "multi-user.target.wants/vendor.service": "-> ../vendor.service",
		v + "text.service":                           unitText,
		e + "own.service":                            unitText,
		e + "multi-user.target":                      "[Unit]\nWants=text.service own.service\n",
		v + "many@.service": unitText + "[Install]\n" +
			"WantedBy=multi-user.target\n",
		wants + "many@1.service": "-> /" + v + "many@.service",
		"etc/cron.d/x": "# one\n@reboot root /bin/run\n@reboot " +
			"root /bin/run\n",
		"etc/xdg/autostart/a.desktop": "[Desktop Entry]\nType=Application\n" +
			"Exec=tray\n[Other]\nA=b\n",
		"home/maria/.config/autostart/b.desktop": "[Desktop Entry]\r\nType=Application\r\n" +
			"Exec=tray\r\nHidden=false\r\n",
	}
	r, dir := machineWith(t, files)
	before := testtree.Snapshot(t, dir, nil)
	ids := []string{
		"service:link.service", "service:vendor.service", "service:text.service",
		"service:own.service", "service:many@1.service",
		"task:/etc/cron.d/x#7043", "task:/etc/cron.d/x#7043-2", "program:a.desktop",
		"program:b.desktop@maria",
	}
	turnAll := func(to item.State) {
		t.Helper()
		d := r.Draft(time.Now())
		inv := linux.Survey(r, family.Options{Now: now, Remembered: ids})
		plan := inv.Turner(d)
		for _, id := range ids {
			it, ok := inv.Lookup(id)
			if !ok {
				t.Fatalf("%s is not found", id)
			}
			if err := plan.Turn(it, to, time.Minute); err != nil {
				t.Fatalf("turning %s %s: %v", id, to, err)
			}
		}
		for _, edit := range d.Edits() {
			if err := os.MkdirAll(filepath.Dir(dir+edit.Path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := r.Apply(edit); err != nil {
				t.Fatal(err)
			}
		}
		inv = linux.Survey(r, family.Options{Now: now, Remembered: ids})
		for _, id := range ids {
			if it, _ := inv.Find(id); it.State != to {
				t.Errorf("after turning it %s, %s is %q (%s)", to, id, it.State, it.Why)
			}
		}
	}
	turnAll(item.Off)
	for p, want := range map[string]string{
		wants + "vendor.service":                 "/dev/null",
		e + "text.service":                       "/dev/null",
		"etc/systemd/system.control/own.service": "/dev/null",
		wants + "link.socket":                    "",
		e + "other.service":                      "",
	} {
		if got, _ := os.Readlink(filepath.Join(dir, p)); got != want {
			t.Errorf("%s leads to %q; want %q", p, got, want)
		}
	}
	turnAll(item.On)
	// pulled in by texts
	for _, id := range []string{"service:text.service", "service:own.service"} {
		inv := linux.Survey(r, family.Options{Now: now})
		it, _ := inv.Find(id)
		if err := inv.Turner(r.Draft(time.Now())).Turn(it, item.Delayed,
			time.Minute); err == nil || !strings.Contains(err.Error(), "masked") {
			t.Errorf("%s was delayed: %v", id, err)
		}
	}
	pulledByText := ids
	ids = slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
		return id == "service:text.service" || id == "service:own.service" ||
			id == "service:vendor.service"
	})
	turnAll(item.Delayed)
	turnAll(item.On)
	turnAll(item.Delayed)
	turnAll(item.Off)
	turnAll(item.On)
	ids = pulledByText
	undated := func(snapshot string) string {
		var lines []string
		for l := range strings.Lines(snapshot) {
			f := strings.Fields(l)
			// a folder may be left behind when no ledger looks after it
			if f[0] != "/etc/systemd/system.control" &&
				f[0] != "/etc/systemd/system/graphical.target.wants" {
				lines = append(lines, strings.Join(append(f[:3:3], f[4:]...), " "))
			}
		}
		return strings.Join(lines, "\n")
	}
	after := undated(testtree.Snapshot(t, dir, nil))
	// An entry that is switched on says so; everything else is as it was.
	after = strings.Replace(after, `Exec=tray\nHidden=false\n[Other]`, `Exec=tray\n[Other]`, 1)
	if d := testtree.Diff(undated(before), after); d != "" {
		t.Errorf("off and on again left a difference:\n%s", d)
	}
}

// TestAskingChangesNothing asks what turning each item would take, in random
// orders: each answer is the one that a survey of its own gives.
func TestAskingChangesNothing(t *testing.T) {
	wants := e + "multi-user.target.wants/"
	r, _ := machineWith(t, map[string]string{
		v + "puller.service":          "[Unit]\nWants=pulled.service\n" + unitText + enabled,
		wants + "puller.service":      "-> /" + v + "puller.service",
		v + "pulled.service":          unitText,
		e + "masked.service":          "-> /dev/null",
		v + "masked.service":          unitText + enabled,
		v + "both.service":            unitText + enabled + "Also=also.service\nAlias=as.service\n",
		wants + "both.service":        "-> /" + v + "both.service",
		e + "as.service":              "-> /" + v + "both.service",
		v + "also.service":            unitText + enabled,
		wants + "also.service":        "-> /" + v + "also.service",
		v + "many@.service":           unitText + enabled,
		wants + "many@1.service":      "-> /" + v + "many@.service",
		v + "clock.timer":             "[Timer]\nOnBootSec=1min\n" + enabled,
		v + "clock.service":           unitText,
		wants + "clock.timer":         "-> /" + v + "clock.timer",
		"etc/cron.d/x":                "@reboot root /bin/run\n@daily root /bin/run\n",
		"etc/xdg/autostart/a.desktop": "[Desktop Entry]\nType=Application\nExec=tray\n",
		"etc/profile.d/x.sh":          "tray &\n",
	})
	survey := func() *linux.Inventory { return linux.Survey(r, family.Options{Now: now}) }
	type question struct {
		id string
		to item.State
	}
	answer := func(inv *linux.Inventory, q question) string {
		it, ok := inv.Lookup(q.id)
		if !ok {
			t.Fatalf("%s is not found", q.id)
		}
		d := r.Draft(now)
		if err := inv.Turner(d).Turn(it, q.to, time.Minute); err != nil {
			return err.Error()
		}
		return fmt.Sprint(d.Edits())
	}
	shared := survey()
	before := fmt.Sprint(shared.Survey)
	var all []question
	want := map[question]string{}
	for _, id := range append(idsOf(shared), "service:many@2.service", "program:a.desktop@maria") {
		for _, to := range []item.State{item.Off, item.On, item.Delayed} {
			q := question{id, to}
			all = append(all, q)
			want[q] = answer(survey(), q)
		}
	}
	why := want[question{"service:pulled.service", item.Delayed}]
	if !strings.Contains(why, "masked") {
		t.Errorf("what a text pulls in can be delayed: %s", why)
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 20 {
		for _, i := range rng.Perm(len(all)) {
			if got := answer(shared, all[i]); got != want[all[i]] {
				t.Fatalf("asked after others, turning %v takes\n%s\nasked first\n%s", all[i], got,
					want[all[i]])
			}
		}
	}
	if fmt.Sprint(shared.Survey) != before {
		t.Error("asking changed the survey")
	}
}

func idsOf(inv *linux.Inventory) (ids []string) {
	for _, it := range inv.Items {
		ids = append(ids, it.ID)
	}
	return ids
}

func TestHostilePlacesCostOneLineEach(t *testing.T) {
	r, dir := machineWith(t, map[string]string{
		e + "loop.service":              "-> loop2.service",
		e + "loop2.service":             "-> loop.service",
		e + "folder.service/x":          "",
		"etc/cron.d/folder/x":           "",
		"etc/xdg/autostart/f.desktop/x": "",
	})
	for _, p := range []string{
		e + "fifo.service",
		"etc/cron.d/fifo",
		"home/maria/.config/autostart/fifo.desktop",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, p)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := unix.Mkfifo(filepath.Join(dir, p), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if f, err := os.Create(dir + "/etc/cron.d/huge"); err != nil || f.Truncate(2<<30) != nil {
		t.Fatal("no huge file")
	}
	inv := linux.Survey(r, family.Options{Now: now})
	for _, want := range []string{
		"loop.service", "fifo.service", "cron.d/fifo", "cron.d/huge", "cron.d/folder",
		"fifo.desktop", "f.desktop",
	} {
		n := 0
		for _, u := range inv.Unread {
			if strings.HasSuffix(u.Path, want) {
				n++
			}
		}
		if n != 1 {
			t.Errorf("%s is named %d times among the unread places: %v", want, n, inv.Unread)
		}
	}
	if it, _ := inv.Find("service:cron.service"); it.State != item.On {
		t.Error("a good unit beside the bad ones is not listed as on")
	}
}

// TestWhatCannotBeReadIsNamed puts each thing that does not belong there into
// each place that is read.
func TestWhatCannotBeReadIsNamed(t *testing.T) {
	const enough = 64 << 20
	fits := map[string]func(p string) error{
		"a folder": func(p string) error { return os.Mkdir(p, 0o755) },
		"a FIFO":   func(p string) error { return unix.Mkfifo(p, 0o644) },
		"a socket": func(p string) error { return unix.Mknod(p, unix.S_IFSOCK|0o644, 0) },
		"a circle": func(p string) error { return os.Symlink(filepath.Base(p), p) },
		"too large": func(p string) error {
			return errors.Join(os.WriteFile(p, nil, 0o644), os.Truncate(p, enough))
		},
		"no rights": func(p string) error { return os.WriteFile(p, []byte("x\n"), 0o644) },
		"no text": func(p string) error {
			return os.WriteFile(p, []byte("[Unit]\nX=\xff\xfe\n"), 0o644)
		},
		"a file": func(p string) error { return os.WriteFile(p, []byte("x\n"), 0o644) },
	}
	// of folders among unit files the service manager takes no notice
	file := []string{"a folder", "a FIFO", "a socket", "a circle", "too large", "no rights"}
	for place, kinds := range map[string][]string{
		e + "own.service":                             append(file[1:], "no text"),
		e + "cron.service.d/x.conf":                   append(file, "no text"),
		"etc/cron.d/own":                              file,
		"var/spool/cron/crontabs/maria":               file,
		"etc/crontab":                                 file,
		"etc/xdg/autostart/own.desktop":               file,
		"home/maria/.config/autostart/own.desktop":    file,
		"home/maria/.config/systemd/user/own.service": append(file[1:], "no text"),
		"home/maria/.profile":                         file,
		"etc/profile.d/own.sh":                        {"too large", "no rights"},
		e + "multi-user.target.wants":                 {"a FIFO", "a circle", "no rights"},
		e + "cron.service.d":                          {"a FIFO", "a circle", "no rights"},
		"etc/cron.d": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"etc/xdg/autostart": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"home/maria/.config/autostart": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"home/maria/.config/systemd/user": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"etc/systemd/system": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"var/spool/cron/crontabs": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"etc/init.d": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"etc/rc3.d": {"a file", "a FIFO", "a circle", "no " +
			"rights"},
		"etc/passwd": {"a folder", "a FIFO", "too large", "no " +
			"rights"},
	} {
		for _, kind := range kinds {
			t.Run(place+" "+kind, func(t *testing.T) {
				r, dir := machineWith(t, map[string]string{"etc/init.d/old": ""})
				p := filepath.Join(dir, place)
				if err := errors.Join(os.MkdirAll(filepath.Dir(p), 0o755), os.RemoveAll(p),
					fits[kind](p)); err != nil {
					t.Fatal(err)
				}
				if kind == "no rights" {
					if slices.Contains(kinds, "a file") || strings.HasSuffix(place, ".d") ||
						strings.HasSuffix(place, ".wants") {
						ok := errors.Join(os.Remove(p), os.Mkdir(p, 0o755))
						if ok != nil {
							t.Fatal(ok)
						}
					}
					r.Hook = func(op machine.Op) error {
						if op.Path == "/"+place && op.Name == "open" {
							return &fs.PathError{Op: "open", Path: op.Path, Err: fs.ErrPermission}
						}
						return nil
					}
				}
				n := 0
				inv := linux.Survey(r, family.Options{Now: now})
				for _, u := range inv.Unread {
					// a home that may not be looked into is told once
					if u.Path == "/"+place || kind == "no rights" && u.Path == "/home/maria" {
						n++
					}
				}
				if n != 1 {
					t.Errorf("it is named %d times: %v", n, inv.Unread)
				}
			})
		}
	}
}

// BenchmarkSurvey surveys 10,000 units with a link each, 2,000 entries and 50
// users. "ratio" is its time to that of plain os.ReadFile over the same files
// in the same run on one thread. "with-links" is that to the files and
// os.Readlink over the same links.
func BenchmarkSurvey(b *testing.B) {
	for _, size := range []int{1, 10} {
		b.Run(fmt.Sprintf("%d units", size*1000), func(b *testing.B) { benchmarkSurvey(b, size) })
	}
}

func benchmarkSurvey(b *testing.B, size int) {
	files := map[string]string{"etc/passwd": base["etc/passwd"]}
	var read []string
	for i := range 1000 * size {
		name := fmt.Sprintf("unit-%d.service", i)
		files[v+
			name] = "[Unit]\nDescription=One of many\nAfter=network.target\n" + unitText +
			"Restart=on-failure\n[Install]\nWantedBy=multi-user.target\n"
		files[e+"multi-user.target.wants/"+name] = "-> /" + v + name
		read = append(read, v+name)
	}
	for i := range 5 * size {
		user := fmt.Sprintf("user%d", i)
		files["etc/passwd"] += fmt.Sprintf("%s:x:%d:%d::/home/%s:/bin/sh\n", user, 1000+i, 1000+i,
			user)
		for j := range 40 {
			p := fmt.Sprintf("home/%s/.config/autostart/entry-%d.desktop", user, j)
			files[p] = "[Desktop Entry]\nType=Application\nName=One of many\nExec=tray --quiet\n"
			read = append(read, p)
		}
	}
	r, dir := machineWith(b, files)
	var plain, links, survey time.Duration
	defer debug.SetGCPercent(debug.SetGCPercent(500)) // as the program does
	for b.Loop() {
		start := time.Now()
		for _, p := range read {
			if _, err := os.ReadFile(filepath.Join(dir, p)); err != nil {
				b.Fatal(err)
			}
		}
		plain += time.Since(start)
		start = time.Now()
		for p, text := range files {
			if strings.HasPrefix(text, "-> ") {
				if _, err := os.Readlink(filepath.Join(dir, p)); err != nil {
					b.Fatal(err)
				}
			}
		}
		links += time.Since(start)
		start = time.Now()
		if inv := linux.Survey(r, family.Options{Now: now}); len(inv.Items) != 1200*size+1 {
			b.Fatalf("%d items", len(inv.Items))
		}
		survey += time.Since(start)
	}
	b.ReportMetric(float64(survey)/float64(plain), "ratio")
	b.ReportMetric(float64(survey)/float64(plain+links), "with-links")
}
