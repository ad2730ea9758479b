//go:build linux

// Package boottest boots fixture machines for real, in a container on this
// computer, so that tests can see what a boot launches. Only tests use it; they
// share one fixture root, made once and kept in the user's cache folder.
package boottest

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// fixture names the shared root; a change to what it holds needs another name.
const fixture = "bookworm-1"

const packages = "systemd,systemd-sysv,dbus,cron,udev,procps,kmod,dbus-user-session,libpam-systemd"

// A Machine is a fixture machine of one test: the shared root with the test's
// own files laid over it.
type Machine struct {
	Dir        string // where its root is mounted, for --root
	Processors int    // how many it is given; 0 for all
	// Patience is how long a boot may take, with its end; 0 for five minutes.
	// On a busy computer a service manager of a user may take 90 seconds to
	// stop.
	Patience time.Duration
	// Deaf: its kernel tells the recorder nothing of processes, as in
	// containers that are not as open as ours.
	Deaf  bool
	share string // a folder that the machine sees as /share
}

// boots counts the boots of this process, so that no two machines share a name.
var boots atomic.Int64

// A Distribution is a real machine's root as an archive makes it.
type Distribution struct {
	Name     string // of its folder in the cache; another list takes another name
	Variant  string // of mmdebstrap(1)
	Packages string // besides, with what they recommend
	Without  string // patterns of packages that are left out, apt_preferences(5)
}

// plain is what the fixture machines share.
var plain = Distribution{Name: fixture, Variant: "minbase", Packages: packages}

// New makes a machine with the given files, as [testtree.Make] does. On it are
// two users. The service manager of maria runs from the boot on, and reaches
// the desktop's autostart target. teo does not log in by himself. The program
// /usr/bin/mark writes down the name that it is given.
func New(t testing.TB, files map[string]string) *Machine {
	t.Helper()
	return NewOn(t, plain, files)
}

// NewOn does the same on another distribution.
func NewOn(t testing.TB, d Distribution, files map[string]string) *Machine {
	t.Helper()
	need(t)
	m := over(t, d)
	for p, line := range map[string]string{
		"etc/passwd": "maria:x:1000:1000::/home/maria:/bin/sh\n" +
			"teo:x:1001:1001::/home/teo:/bin/sh\n",
		"etc/group": "maria:x:1000:\nteo:x:1001:\n", "etc/shadow": "maria:*:19000::::::\n" +
			"teo:*:19000::::::\n",
	} {
		appendTo(t, filepath.Join(m.Dir, p), line)
	}
	testtree.Add(t, m.Dir, map[string]string{
		"var/lib/systemd/linger/maria": "",
		"var/log/journal/":             "",
		"home/maria/":                  "",
		"home/teo/":                    "",
		"usr/bin/mark":                 "#!/bin/sh\necho \"$1\" >> /share/launched\n",
		"home/maria/.config/systemd/user/desk.target": "[Unit]\n" +
			"Wants=xdg-desktop-autostart.target\n",
		"home/maria/.config/systemd/user/default.target.wants/desk.target": "-> ../desk.target",
		"etc/systemd/system/last.service": "[Unit]\n" +
			"After=multi-user.target user@1000.service cron.service\n[Service]\n" +
			"ExecStart=/bin/sh -c 'systemctl is-system-running --wait; rest; systemctl " +
			"--no-block poweroff'\n",
		"usr/bin/rest": rest,
		// its log does not depend on how full this computer's disk is
		"etc/systemd/journald.conf.d/room.conf": "[Journal]\nSystemKeepFree=1M\n" +
			"RuntimeKeepFree=1M\n",
		"etc/systemd/system/multi-user.target.wants/user@1000.service": "-> " +
			"/lib/systemd/system/user@.service",
		"etc/systemd/system/graphical.target.wants/last.service": "-> ../last.service",
	})
	for _, name := range []string{"mark", "rest"} {
		check(t, os.Chmod(filepath.Join(m.Dir, "usr/bin", name), 0o755))
	}
	testtree.Add(t, m.Dir, files)
	for id, name := range map[int]string{1000: "maria", 1001: "teo"} {
		check(t, filepath.WalkDir(filepath.Join(m.Dir, "home",
			name), func(p string, _ os.DirEntry, err error) error {
			check(t, err)
			return os.Lchown(p, id, id)
		}))
	}
	return m
}

// rest waits until no process of the machine but the recorder has run, or
// wanted to, for three seconds. However busy the computer is, what was started
// has done its part by then, and what is late has begun. It gives up after a
// minute, for what never rests.
const rest = `#!/bin/sh
quiet=0
for look in $(seq 600); do
	sleep 0.1
	quiet=$((quiet + 1))
	for process in /proc/[0-9]*/stat; do
		{ read -r text < $process; } 2>/dev/null || continue
		case $text in
		"$$ "* | *"(calmdawn"*) ;;
		*") R "* | *") D "*) quiet=0 ;;
		esac
	done
	[ $quiet -lt 28 ] || exit 0
done
`

// NewReal makes a machine of a distribution as its archive set it up, with the
// given files laid over it. Nobody is added to it.
func NewReal(t testing.TB, d Distribution, files map[string]string) *Machine {
	t.Helper()
	need(t)
	m := over(t, d)
	testtree.Add(t, m.Dir, files)
	return m
}

// over lays a folder for what a test changes over a shared root.
func over(t testing.TB, d Distribution) *Machine {
	t.Helper()
	base := shared(t, d)
	work := t.TempDir()
	m := &Machine{Dir: filepath.Join(work, "root"), share: filepath.Join(work, "share")}
	for _, name := range []string{"root", "upper", "work", "share"} {
		check(t, os.Mkdir(filepath.Join(work, name), 0o755))
	}
	check(t, os.Chmod(m.share, 0o777)) // people write down things too
	options := fmt.Sprintf("lowerdir=%s,upperdir=%s/upper,workdir=%s/work", base, work, work)
	check(t, unix.Mount("overlay", m.Dir, "overlay", 0, options))
	t.Cleanup(func() {
		if err := unix.Unmount(m.Dir, 0); err != nil {
			t.Errorf("unmounting %s: %v", m.Dir, err)
		}
	})
	return m
}

// Install copies a program of this computer into the machine's /usr/bin.
func (m *Machine) Install(t testing.TB, program string) {
	t.Helper()
	data, err := os.ReadFile(program)
	check(t, err)
	check(t, os.WriteFile(filepath.Join(m.Dir, "usr/bin", filepath.Base(program)), data, 0o755))
}

// Shared returns what the machine wrote into a file of its folder /share.
func (m *Machine) Shared(t testing.TB, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(m.share, name))
	check(t, err)
	return string(data)
}

// Says returns the lines of the machine's log that hold a name, so that a test
// that failed can tell why.
func (m *Machine) Says(t testing.TB, name string) string {
	t.Helper()
	out, err := exec.Command("journalctl", "-D", filepath.Join(m.Dir, "var/log/journal"),
		"-o", "short-precise", "--no-pager", "-g", regexp.QuoteMeta(name)).CombinedOutput()
	if len(out) == 0 {
		return fmt.Sprintf("the machine's log does not name %s: %v", name, err)
	}
	return string(out)
}

// Share puts a file into the folder that the machine sees as /share.
func (m *Machine) Share(t testing.TB, name, text string) {
	t.Helper()
	check(t, os.WriteFile(filepath.Join(m.share, name), []byte(text), 0o666))
}

// Boot starts the machine, waits until it has switched itself off, and returns
// the names that were marked, in order.
func (m *Machine) Boot(t testing.TB) []string {
	t.Helper()
	marks := filepath.Join(m.share, "launched")
	check(t, os.WriteFile(marks, nil, 0o666))
	check(t, os.Chmod(marks, 0o666))
	ctx, cancel := context.WithTimeout(context.Background(), cmp.Or(m.Patience, 5*time.Minute))
	defer cancel()
	name := fmt.Sprintf("calmdawn-%d-%d", os.Getpid(), boots.Add(1))
	words := []string{"systemd-nspawn"}
	if m.Processors > 0 {
		words = []string{"taskset", "-c", fmt.Sprintf("0-%d", m.Processors-1), "systemd-nspawn"}
	}
	words = append(words, "-D", m.Dir, "-b", "--machine="+name, "--register=no", "--keep-unit",
		"--bind="+m.share+":/share")
	if !m.Deaf {
		words = append(words, "--system-call-filter=perf_event_open")
	}
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env = append(os.Environ(), "SYSTEMD_NSPAWN_UNIFIED_HIERARCHY=1")
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 10 * time.Second
	var log bytes.Buffer
	cmd.Stdout, cmd.Stderr = &log, &log
	if err := cmd.Run(); err != nil {
		t.Fatalf("the machine did not boot and switch itself off: %v\n%s", err, log.Bytes())
	}
	text, err := os.ReadFile(marks)
	check(t, err)
	return strings.Fields(string(text))
}

// Once reports the names that stand in the list not exactly once, of those
// wanted, and those that stand in it unwanted.
func Once(launched, wanted []string) string {
	var wrong []string
	count := map[string]int{}
	for _, name := range launched {
		count[name]++
		if !slices.Contains(wanted, name) {
			wrong = append(wrong, "launched though off: "+name)
		}
	}
	for _, name := range wanted {
		if count[name] != 1 {
			wrong = append(wrong, fmt.Sprintf("launched %d times: %s", count[name], name))
		}
	}
	slices.Sort(wrong)
	return strings.Join(slices.Compact(wrong), "\n")
}

// need skips the test where a machine cannot be booted; in CI that is a
// failure.
func need(t testing.TB) {
	t.Helper()
	ring.Needs(t, ring.Middle)
	missing := ""
	for _, program := range []string{"systemd-nspawn", "mmdebstrap"} {
		if _, err := exec.LookPath(program); err != nil {
			missing = program + " is not installed"
		}
	}
	if os.Geteuid() != 0 {
		missing = "booting a machine needs root"
	}
	switch {
	case missing == "":
	case os.Getenv("CI") != "":
		t.Fatal(missing)
	default:
		t.Skip(missing + "; make test installs what is missing, as root")
	}
	check(t, os.MkdirAll("/run/systemd/nspawn", 0o755))
	var here, up unix.Stat_t
	check(t, unix.Stat("/run/systemd/nspawn", &here))
	check(t, unix.Stat("/run/systemd", &up))
	if here.Dev == up.Dev {
		check(t, unix.Mount("none", "/run/systemd/nspawn", "tmpfs", 0, ""))
	}
}

// shared returns a distribution's root, and makes it if it is missing; one
// process at a time does.
func shared(t testing.TB, d Distribution) string {
	t.Helper()
	cache, err := os.UserCacheDir()
	check(t, err)
	cache = filepath.Join(cache, "calmdawn")
	check(t, os.MkdirAll(cache, 0o755))
	lock, err := os.Create(filepath.Join(cache, "lock"))
	check(t, err)
	defer lock.Close()
	check(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
	dir := filepath.Join(cache, d.Name)
	if _, err := os.Stat(dir); err == nil {
		return dir
	}
	t.Logf("making the root %s; this is done once and takes a minute or more", d.Name)
	temp := dir + ".new"
	check(t, os.RemoveAll(temp))
	words := []string{"--variant=" + d.Variant, "--include=" + d.Packages, "bookworm", temp}
	if d != plain {
		words = append([]string{`--aptopt=APT::Install-Recommends "true"`}, words...)
	}
	if d.Without != "" {
		hook := fmt.Sprintf("--setup-hook=d=\"$1\"/etc/apt/preferences.d; mkdir -p \"$d\" && "+
			"printf 'Package: %s\\nPin: release *\\nPin-Priority: -1\\n' > \"$d\"/without",
			d.Without)
		words = append([]string{hook}, words...)
	}
	out, err := exec.Command("mmdebstrap", words...).CombinedOutput()
	if err != nil {
		t.Fatalf("making the fixture machine's root: %v\n%s", err, out)
	}
	check(t, os.Chmod(temp, 0o755))
	check(t, os.Rename(temp, dir))
	return dir
}

func appendTo(t testing.TB, p, text string) {
	t.Helper()
	f, err := os.OpenFile(p, os.O_APPEND|os.O_WRONLY, 0)
	check(t, err)
	_, err = f.WriteString(text)
	check(t, err)
	check(t, f.Close())
}

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
