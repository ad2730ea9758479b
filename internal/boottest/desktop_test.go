//go:build linux

package boottest_test

import (
	"errors"
	"fmt"
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
)

// desk is a machine with a light desktop, which runs in a container without a
// screen.
var desk = boottest.Distribution{
	Name:    "desk-1",
	Variant: "minbase",
	Packages: "systemd,systemd-sysv,dbus,dbus-x11,dbus-user-session,libpam-systemd,udev,procps," +
		"kmod,xfce4-session,xfwm4,xfce4-settings,xfce4-panel,xfdesktop4,xvfb,bsdutils,login",
}

// TestDesktopLogin has a person log in at a real desktop whose session starts
// the autostart entries by itself, without units: at once, a while after the
// machine was ready and then with a pause in it, and not at all. The programs
// of known work are found, and usable says when one could have worked, or that
// it had only seemed so.
func TestDesktopLogin(t *testing.T) {
	work := func(name string, ms int) string {
		return fmt.Sprintf("#!/bin/sh\n/usr/bin/burn %d\ntimes > /share/%s\nexec sleep 1000\n", ms,
			name)
	}
	entry := func(name string) string {
		return "[Desktop Entry]\nType=Application\nName=" + name + "\nExec=/usr/bin/" + name + "\n"
	}
	const (
		units   = "etc/systemd/system/"
		profile = "export DISPLAY=:5\nXvfb :5 >/dev/null 2>&1 &\n" +
			"sleep $(cat /share/pause)\nexec startxfce4\n"
		sitDown = "#!/bin/sh\nread wait < /share/wait\n[ $wait = never ] && exit 0\n" +
			"sleep $wait\nexec script -qc 'login -f maria' /dev/null\n"
		// a desktop may pause for a while and then go on: so does the recorder
		finish = "sleep 3\nstatus() { systemctl show -p StatusText --value " +
			"calmdawn-recorder.service; }\n" +
			"while [ \"$(status)\" != \"$(cat /share/until)\" ]; do sleep 1; done\n" +
			"sleep $(cat /share/rest)\nsystemctl --no-block poweroff\n"
		after = "[Unit]\nAfter=multi-user.target\n[Service]\nExecStart="
	)
	m := boottest.NewReal(t, desk, map[string]string{
		"var/log/journal/":                                "",
		"home/maria/":                                     "",
		"usr/bin/till-desk":                               work("till-desk", 2500),
		"usr/bin/till-sync":                               work("till-sync", 900),
		"etc/xdg/autostart/till-desk.desktop":             entry("till-desk"),
		"etc/xdg/autostart/till-sync.desktop":             entry("till-sync"),
		"home/maria/.bash_profile":                        profile,
		"usr/bin/sit-down":                                sitDown,
		"usr/bin/finish":                                  finish,
		units + "sit-down.service":                        after + "/usr/bin/sit-down\n",
		units + "last.service":                            after + "/bin/sh /usr/bin/finish\n",
		units + "graphical.target.wants/last.service":     "-> ../last.service",
		units + "graphical.target.wants/sit-down.service": "-> ../sit-down.service",
	})
	for _, name := range []string{"till-desk", "till-sync", "sit-down"} {
		ok(t, os.Chmod(filepath.Join(m.Dir, "usr/bin", name), 0o755))
	}
	for file, line := range map[string]string{
		"etc/passwd": "maria:x:1000:1000::/home/maria:/bin/bash\n",
		"etc/shadow": "maria:*:19000::::::\n",
		"etc/group":  "maria:x:1000:\n",
	} {
		f, err := os.OpenFile(filepath.Join(m.Dir, file), os.O_APPEND|os.O_WRONLY, 0)
		ok(t, err)
		_, err = f.WriteString(line)
		ok(t, errors.Join(err, f.Close()))
	}
	for _, p := range []string{"home/maria", "home/maria/.bash_profile"} {
		ok(t, os.Chown(filepath.Join(m.Dir, p), 1000, 1000))
	}
	m.Install(t, burner(t))
	m.Patience = 2 * time.Minute
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
			if asks := journal.Read(r, 1).Boots[0].Asks; len(asks) == 0 || asks[0].By == "" {
				t.Errorf("what the session asked the bus for: %+v", asks)
			} else {
				t.Logf("%d were started on demand, the first: %+v", len(asks), asks[0])
			}
			calm(t, p, m, "boots", "--spans")
		})
	}
}

var clockText = regexp.MustCompile(`(\d+)m([\d.]+)s`)

// times reads what a shell says that it and its children used.
func times(t *testing.T, text string) (sum time.Duration) {
	t.Helper()
	for _, m := range clockText.FindAllStringSubmatch(strings.TrimSpace(text), -1) {
		minutes, _ := strconv.Atoi(m[1])
		seconds, err := strconv.ParseFloat(m[2], 64)
		ok(t, err)
		sum += time.Duration(minutes)*time.Minute + time.Duration(seconds*float64(time.Second))
	}
	return sum
}
