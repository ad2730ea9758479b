//go:build linux

package boottest_test

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
)

const (
	servers = "postgresql,mariadb-server,redis-server,nginx,samba,docker.io,openssh-server"
	desktop = "systemd-sysv,dbus-user-session," + servers
	drawing = "gimp* libgimp*" // large, and launched by nothing
)

// realOnes are machines as an archive makes them. The first is small enough for
// every day; `make bench-real` tries all.
var realOnes = []boottest.Distribution{
	{
		Name:    "real-small-1",
		Variant: "minbase",
		Packages: "systemd,systemd-sysv,dbus,udev,procps,kmod,cron,logrotate,rsyslog," +
			"redis-server,nginx-light,openssh-server,postgresql,e2fsprogs",
	},
	{
		Name:    "real-light-1",
		Variant: "standard",
		Packages: "task-lxde-desktop,exim4,dovecot-imapd,apache2,packagekit,tracker-miner-fs," +
			"plymouth,fwupd,fail2ban,modemmanager,bluez," + desktop,
	},
	{
		Name:     "real-gnome-1",
		Variant:  "standard",
		Packages: "task-gnome-desktop,unattended-upgrades," + desktop,
		Without:  drawing,
	},
	{
		Name:     "real-kde-1",
		Variant:  "standard",
		Packages: "task-kde-desktop,unattended-upgrades," + desktop,
		Without:  drawing,
	},
}

// A listed item is one as list --json tells it.
type listed struct {
	ID, Native, Role, Advice, State, Protected, Came string
	System                                           bool
	Cost                                             struct {
		Wait struct {
			Median float64
			Shows  bool
		}
	}
}

// TestRealMachines does the job on machines as an archive makes them: what
// belongs to the operating system, advice against a technician's, and an exact
// undo. The bench measures too: three of the heaviest services switched off,
// forecast against outcome.
func TestRealMachines(t *testing.T) {
	ones := realOnes[:1]
	if os.Getenv("CALMDAWN_REAL") != "" {
		ones = realOnes
	}
	p := program(t)
	for _, d := range ones {
		t.Run(d.Name, func(t *testing.T) { tryReal(t, p, d) })
	}
}

func tryReal(t *testing.T, p string, d boottest.Distribution) {
	const off = "systemctl --no-block poweroff\n"
	m := boottest.NewReal(t, d, map[string]string{
		"var/log/journal/": "",
		"etc/systemd/system/last.service": "[Unit]\nAfter=graphical.target\n[Service]\n" +
			"ExecStart=/bin/sh /usr/bin/finish\n",
		"etc/systemd/system/graphical.target.wants/last.service": "-> ../last.service",
	})
	m.Patience = 10 * time.Minute
	tr := &trial{t: t, m: m, program: p}
	advised(t, tr.listed())
	if text := tr.calm("conditions"); strings.Contains(text, "in a circle") {
		t.Errorf("what an archive ships starts in order, and conditions say:\n%s", text)
	}
	ok(t, os.WriteFile(filepath.Join(m.Dir, "usr/bin/finish"), []byte(off), 0o755))
	m.Boot(t) // applies presets, makes the machine's id and keys
	ok(t, os.WriteFile(filepath.Join(m.Dir, "usr/bin/finish"), []byte(whenRecorded+off), 0o755))
	before := setUp(t, m.Dir)
	tr.calm("recorder", "on", "--yes", "--boots", "1000")
	tr.calm(append([]string{"disable", "--yes"}, tr.heaviest()...)...)
	m.Boot(t)
	tr.takeAllBack(before)
	t.Run("forecast", func(t *testing.T) {
		if os.Getenv("CALMDAWN_REAL") == "" {
			t.Skip("make bench-real measures it")
		}
		ring.Measure(t, func(t testing.TB) {
			tr := &trial{t: t, m: m, program: p}
			defer tr.takeAllBack(before)
			forecastReal(tr)
		})
	})
}

// listed are all items of the machine.
func (tr *trial) listed() []listed {
	var list struct{ Items []listed }
	ok(tr.t, json.Unmarshal([]byte(tr.calm("list", "--all", "--json")), &list))
	return list.Items
}

// heaviest are three services that may go, those first whose wait is longest.
func (tr *trial) heaviest() (heavy []string) {
	found := slices.DeleteFunc(tr.listed(), func(it listed) bool {
		return it.Protected != "" || it.System || it.State != "on" ||
			!strings.HasPrefix(it.ID, "service:") || it.Native == "last.service"
	})
	slices.SortStableFunc(found, func(a, b listed) int {
		return int(1e6 * (b.Cost.Wait.Median - a.Cost.Wait.Median))
	})
	for _, it := range found[:3] {
		heavy = append(heavy, it.ID)
	}
	return heavy
}

// takeAllBack takes all changes back and the recorder out, and compares what is
// set up with what was before.
func (tr *trial) takeAllBack(before string) {
	tr.t.Helper()
	tr.calm("undo", "--all", "--yes")
	tr.calm("recorder", "off", "--yes")
	if now := setUp(tr.t, tr.m.Dir); now != before {
		was, is := strings.Split(before, "\n"), strings.Split(now, "\n")
		only := func(a, b []string) []string {
			return slices.DeleteFunc(slices.Clone(a), func(s string) bool {
				return slices.Contains(b, s)
			})
		}
		tr.t.Errorf("taken back, and yet different: %q became %q", only(was, is), only(is, was))
	}
}

// forecastReal switches the heaviest services off, and compares what comes of
// it with the forecast.
func forecastReal(tr *trial) {
	t := tr.t
	tr.calm("recorder", "on", "--yes", "--boots", "1000")
	before := tr.boot(3)
	if len(before) == 0 {
		t.Fatal("no boot of it is fit")
	}
	r, err := machine.Open(tr.m.Dir)
	ok(t, err)
	defer r.Close()
	for _, b := range recorded(t, r) {
		for _, s := range b.Spans {
			if s.Begin.Known && s.End.Known && s.End.Value < s.Begin.Value {
				t.Errorf("%s ends before it begins", s.Native)
			}
		}
	}
	heavy := tr.heaviest()
	out, measured := tr.try("disable", heavy, before, 3)
	if !measured {
		t.Fatal("no boot without them is fit")
	}
	t.Logf("without %v: %+v, wrong by %.1f %%", heavy, out, 100*out.wrong())
	if out.wrong() > 0.10 {
		t.Errorf("the forecast saving was %.2f s of %.2f, and it took %.2f without them",
			out.Saving, out.Now, out.Then)
	}
}

// setUp lists what is set up below /etc/systemd, links with what they lead to.
func setUp(t testing.TB, dir string) string {
	t.Helper()
	out, err := exec.Command("find", filepath.Join(dir, "etc/systemd"), "-printf",
		"%P %y %m %U %G %s %l %TY%Tm%Td%TH%TM%TS\n").Output()
	ok(t, err)
	lines := strings.Split(string(out), "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// advised holds what is said of a machine's items against what a technician
// would say of those of common packages.
func advised(t testing.TB, items []listed) {
	t.Helper()
	f, err := os.Open("../core/advice/testdata/real.csv")
	ok(t, err)
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	ok(t, err)
	known := map[string][]string{}
	for _, row := range rows[1:] {
		known[row[0]] = row
	}
	asked, agree, added := 0, 0, 0
	for _, it := range items {
		if !it.System && it.State == "on" {
			added++
		}
		row, ok := known[it.Native]
		if !ok || it.State != "on" {
			continue
		}
		asked++
		role, advice, must := row[7], row[8], row[9]
		// what the machine tells of their use decides on some
		told := advice == "look it up" && (it.Advice == "can go" || it.Advice == "keep") ||
			advice == "can wait" && it.Advice == "can go"
		if it.Role == role && (it.Advice == advice || told) {
			agree++
		} else {
			t.Logf("%s: %s, %s; a technician says %s, %s", it.ID, it.Role, it.Advice, role, advice)
		}
		if must == "protected" && it.Protected == "" ||
			must == "look" && (it.System || it.Protected != "") {
			t.Errorf("%s: protected %q, a part of the system: %v", it.ID, it.Protected, it.System)
		}
	}
	t.Logf("%d items, %d added; %d of %d as a technician would say", len(items), added, agree,
		asked)
	if asked < 10 || agree*10 < asked*9 {
		t.Errorf("%d of %d are as a technician would say", agree, asked)
	}
}
