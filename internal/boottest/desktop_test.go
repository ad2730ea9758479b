//go:build linux

package boottest_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
)

// desk is a machine with a light desktop, which runs in a container without a
// screen.
var desk = boottest.Distribution{
	Name:    "desk-1",
	Variant: "minbase",
	Packages: "systemd,systemd-sysv,dbus,dbus-x11,dbus-user-session,libpam-systemd,udev,procps," +
		"kmod,xfce4-session,xfwm4,xfce4-settings,xfce4-panel,xfdesktop4,xvfb,bsdutils,login",
}

// What somebody's shell does when they log in: it starts the desktop. That
// starts the autostart entries by itself, or has their service manager do so.
const (
	deskSession = "export DISPLAY=:5\nXvfb :5 >/dev/null 2>&1 &\nsleep $(cat /share/pause)\n" +
		"exec startxfce4\n"
	unitSession = "systemctl --user start desk.target\nexec sleep 1000\n"
)

// newSeat makes a machine at which maria and teo can log in; their shells run a
// profile. Who does, and after how long, stands in /share. When the recorder
// has said what /share/until holds, and /share/rest has passed, the machine
// switches itself off. Programs among the files can be run.
func newSeat(t testing.TB, profile string, files map[string]string) *boottest.Machine {
	t.Helper()
	const (
		units   = "etc/systemd/system/"
		sitDown = "#!/bin/sh\nread wait < /share/wait\nread who < /share/who\n" +
			"[ $wait = never ] && exit 0\n" +
			"sleep $wait\nexec script -qc \"login -f $who\" /dev/null\n"
		// a desktop may pause for a while and then go on: so does the recorder
		finish = "sleep 3\nstatus() { systemctl show -p StatusText --value " +
			"calmdawn-recorder.service; }\n" +
			"while [ \"$(status)\" != \"$(cat /share/until)\" ]; do sleep 1; done\n" +
			"sleep $(cat /share/rest)\nsystemctl --no-block poweroff\n"
		after = "[Unit]\nAfter=multi-user.target\n[Service]\nExecStart="
	)
	all := map[string]string{
		"var/log/journal/":         "",
		"home/maria/.bash_profile": profile,
		"home/teo/.bash_profile":   profile,
		"etc/systemd/user/desk.target": "[Unit]\n" +
			"Wants=xdg-desktop-autostart.target\n",
		"usr/bin/sit-down":                                sitDown,
		"usr/bin/finish":                                  finish,
		units + "sit-down.service":                        after + "/usr/bin/sit-down\n",
		units + "last.service":                            after + "/bin/sh /usr/bin/finish\n",
		units + "graphical.target.wants/last.service":     "-> ../last.service",
		units + "graphical.target.wants/sit-down.service": "-> ../sit-down.service",
	}
	maps.Copy(all, files)
	m := boottest.NewReal(t, desk, all)
	for name := range all {
		if strings.HasPrefix(name, "usr/bin/") {
			ok(t, os.Chmod(filepath.Join(m.Dir, name), 0o755))
		}
	}
	for id, name := range map[int]string{1000: "maria", 1001: "teo"} {
		for file, line := range map[string]string{
			"etc/passwd": "NAME:x:ID:ID::/home/NAME:/bin/bash\n",
			"etc/shadow": "NAME:*:19000::::::\n",
			"etc/group":  "NAME:x:ID:\n",
		} {
			f, err := os.OpenFile(filepath.Join(m.Dir, file), os.O_APPEND|os.O_WRONLY, 0)
			ok(t, err)
			_, err = f.WriteString(strings.NewReplacer("NAME", name, "ID",
				fmt.Sprint(id)).Replace(line))
			ok(t, errors.Join(err, f.Close()))
		}
		for _, p := range []string{"", ".bash_profile"} {
			ok(t, os.Chown(filepath.Join(m.Dir, "home", name, p), id, id))
		}
	}
	for name, text := range map[string]string{
		"who": "maria", "wait": "0", "pause": "1", "rest": "0", "until": "Recorded.",
	} {
		m.Share(t, name, text+"\n")
	}
	return m
}

// autostartEntry is an autostart entry of a program.
func autostartEntry(name string) string {
	return "[Desktop Entry]\nType=Application\nName=" + name + "\nExec=/usr/bin/" + name + "\n"
}

// withoutPause is the desktop's list of what a session begins with, without the
// part that, with no real screen, keeps it waiting for eight seconds.
const withoutPause = `<?xml version="1.0" encoding="UTF-8"?>
<channel name="xfce4-session" version="1.0">
  <property name="general" type="empty">
    <property name="FailsafeSessionName" type="string" value="Failsafe"/>
  </property>
  <property name="sessions" type="empty">
    <property name="Failsafe" type="empty">
      <property name="IsFailsafe" type="bool" value="true"/>
      <property name="Count" type="int" value="3"/>
      <property name="Client0_Command" type="array"><value type="string" value="xfwm4"/></property>
      <property name="Client1_Command" type="array">
        <value type="string" value="xfsettingsd"/>
      </property>
      <property name="Client2_Command" type="array">
        <value type="string" value="xfce4-panel"/>
      </property>
    </property>
  </property>
</channel>
`

// newLogins makes trials of logins in which programs of known work are
// launched, beside a service that the boot has started.
func newLogins(profile string) func(testing.TB, uint64, int) *trial {
	return func(t testing.TB, seed uint64, processors int) *trial {
		t.Helper()
		rng := rand.New(rand.NewPCG(seed, 79))
		const sessions = "etc/xdg/xfce4/xfconf/xfce-perchannel-xml/xfce4-session.xml"
		files := map[string]string{
			sessions: withoutPause,
			"usr/bin/crawl": fmt.Sprintf("#!/bin/sh\n/usr/bin/burn %d\nexec sleep 1000\n",
				1000+rng.IntN(1500)),
			"etc/systemd/system/crawl.service": "[Service]\nExecStart=/usr/bin/crawl\n" +
				"[Install]\nWantedBy=multi-user.target\n",
			"etc/systemd/system/multi-user.target.wants/crawl.service": "-> ../crawl.service",
		}
		tr := &trial{t: t, program: program(t), kind: "login of maria",
			items: []string{"service:crawl.service"}}
		if seed == 1 { // they are logged in before the machine is ready
			files["etc/systemd/system/sit-down.service"] = "[Unit]\nAfter=dbus.service " +
				"systemd-user-sessions.service\n[Service]\nExecStart=/usr/bin/sit-down\n"
			files["etc/systemd/system/warm.service"] = "[Unit]\nBefore=multi-user.target\n" +
				"[Service]\nType=oneshot\nRemainAfterExit=yes\n" +
				"ExecStart=/bin/sh -c 'sleep 2; /usr/bin/burn 500'\n" +
				"[Install]\nWantedBy=multi-user.target\n"
			files["etc/systemd/system/multi-user.target.wants/warm.service"] = "-> ../warm.service"
			tr.items = append(tr.items, "service:warm.service")
		}
		for i := range 6 {
			name := fmt.Sprintf("desk-%d", i)
			files["usr/bin/"+name] = fmt.Sprintf("#!/bin/sh\nsleep 0.%d\n/usr/bin/burn %d\n"+
				"exec sleep 1000\n", rng.IntN(6), 400+rng.IntN(2600))
			files["etc/xdg/autostart/"+name+".desktop"] = autostartEntry(name)
			tr.items = append(tr.items, "program:"+name+".desktop")
		}
		tr.m = newSeat(t, profile, files)
		tr.m.Install(t, burner(t))
		tr.m.Processors = processors
		if seed == 3 { // who logs in has to wait for the machine, or it for them
			tr.m.Share(t, "wait", "3\n")
		}
		tr.calm("recorder", "on", "--yes", "--boots", "1000")
		tr.m.Boot(t)
		if seed == 2 { // one of two people
			tr.m.Share(t, "who", "teo\n")
			tr.m.Boot(t)
			tr.m.Share(t, "who", "maria\n")
		}
		return tr
	}
}

// TestDesktopLogin has a person log in at a real desktop whose session starts
// the autostart entries by itself, without units. They log in at once, a while
// after the machine was ready and then with a pause in it, and not at all. The
// programs of known work are found, and usable says when one could have worked,
// or that it had only seemed so.
func TestDesktopLogin(t *testing.T) {
	ring.Needs(t, ring.Outer)
	work := func(name string, ms int) string {
		return fmt.Sprintf("#!/bin/sh\n/usr/bin/burn %d\ntimes > /share/%s\nexec sleep 1000\n", ms,
			name)
	}
	m := newSeat(t, deskSession, map[string]string{
		"usr/bin/till-desk":                   work("till-desk", 2500),
		"usr/bin/till-sync":                   work("till-sync", 900),
		"etc/xdg/autostart/till-desk.desktop": autostartEntry("till-desk"),
		"etc/xdg/autostart/till-sync.desktop": autostartEntry("till-sync"),
	})
	m.Install(t, burner(t))
	m.Patience = 5 * time.Minute
	p := program(t)
	calm(t, p, m, "recorder", "on", "--yes", "--boots", "1000")
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	for _, c := range []struct{ name, wait, pause, until, kind string }{
		{"at once", "0", "1", "Recorded.", "login of maria"},
		{"after a while", "14", "12", "Recorded.", "login of maria"},
		{"nobody", "never", "1", "Recorded; waiting for somebody to log in.", boot.NoLogin},
	} {
		t.Run(c.name, func(t *testing.T) {
			ring.Measure(t, func(t testing.TB) {
				m.Share(t, "wait", c.wait+"\n")
				m.Share(t, "pause", c.pause+"\n")
				m.Share(t, "until", c.until+"\n")
				rest := "36\n"
				if c.kind == boot.NoLogin {
					rest = "1\n"
				}
				m.Share(t, "rest", rest)
				m.Boot(t)
				books := recorded(t, r)
				b := books[len(books)-1]
				u := b.Usable()
				t.Logf("ready %v, logins %v, usable %+v, %d programs, rest %v", b.Ready.Value,
					b.Logins, u, len(b.Programs), b.Rest.Value)
				if !u.Known || u.Kind != c.kind || b.Recording.Version != 2 {
					t.Fatalf("usable %+v, record %+v", u, b.Recording)
				}
				if c.kind == boot.NoLogin {
					if b.Recording.LoginWait == 0 {
						t.Error("that it waited for a login is not on record")
					}
					return
				}
				if c.pause != "1" && u.Unsure == "" {
					t.Errorf("nothing says that it went on after a pause: %+v", u)
				}
				for _, name := range []string{"till-desk", "till-sync"} {
					use := b.ProgramUse("/usr/bin/"+name, "maria")
					want := times(t, m.Shared(t, name))
					off := (use.CPU - want).Abs()
					if !use.Ran || off > max(want/10, 50*time.Millisecond) || use.Memory == 0 ||
						use.Began < b.Logins[0].Began {
						t.Errorf("%s: %+v; the kernel accounted for %v", name, use, want)
					}
				}
				if !b.Rest.Known || b.Rest.Value > 2*time.Second {
					t.Errorf("not attributed: %+v", b.Rest)
				}
				asks, known := journal.Read(r, 1).Boots[0].Asks, 0
				for _, a := range asks {
					by, program, ok := b.Asker(a)
					t.Logf("asked for: %+v by %v, program %d, %v", a, by, program, ok)
					if ok {
						known++
					}
				}
				under := b.Programs[0].Under.Native
				if len(asks) == 0 || asks[0].By == "" || known == 0 || under == "" {
					t.Errorf("of %d asks %d askers are known; the first program is under %q",
						len(asks), known, under)
				}
				calm(t, p, m, "boots", "--spans")
			})
		})
	}
}

var clockText = regexp.MustCompile(`(\d+)m([\d.]+)s`)

// times reads what a shell says that it and its children used.
func times(t testing.TB, text string) (sum time.Duration) {
	t.Helper()
	for _, m := range clockText.FindAllStringSubmatch(strings.TrimSpace(text), -1) {
		minutes, _ := strconv.Atoi(m[1])
		seconds, err := strconv.ParseFloat(m[2], 64)
		ok(t, err)
		sum += time.Duration(minutes)*time.Minute + time.Duration(seconds*float64(time.Second))
	}
	return sum
}

// TestForecastOfALogin forecasts when one could work without three programs of
// a login, in both kinds of session, and switches them off. The bounds are
// wide: other programs run on this computer too.
func TestForecastOfALogin(t *testing.T) {
	ring.Needs(t, ring.Outer)
	for name, session := range map[string]string{
		"a desktop": deskSession, "a service manager": unitSession,
	} {
		t.Run(name, func(t *testing.T) {
			ring.Measure(t, func(t testing.TB) {
				tr := newLogins(session)(t, 1, 1)
				before := tr.boot(2)
				if len(before) == 0 {
					t.Fatal("no boot of it is fit")
				}
				r, measured := tr.try("disable", tr.items[len(tr.items)-3:], before, 1)
				if !measured {
					t.Fatal("no boot of it is fit")
				}
				t.Logf("%+v, wrong by %.1f %%", r, 100*r.wrong())
				if r.wrong() > 0.25 || r.Saving < 0.5 {
					t.Errorf("one could work after %.2f s, then %.2f; the forecast saving was "+
						"%.2f (%.2f to %.2f)", r.Now, r.Then, r.Saving, r.Low, r.High)
				}
			})
		})
	}
}
