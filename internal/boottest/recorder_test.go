//go:build linux

package boottest_test

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

// program builds calmdawn as it is shipped.
func program(t testing.TB) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), "calmdawn")
	build := exec.Command("go", "build", "-trimpath", "-ldflags=-s", "-o", p, "calmdawn/cmd/calmdawn")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatal(string(out))
	}
	return p
}

// calm runs the built program on a machine that is switched off.
func calm(t testing.TB, program string, m *boottest.Machine, words ...string) string {
	t.Helper()
	out, err := exec.Command(program, append([]string{"--root", m.Dir}, words...)...).CombinedOutput()
	if err != nil {
		t.Fatalf("calmdawn %v: %v\n%s", words, err, out)
	}
	return string(out)
}

func unitOf(kind, run string) string {
	return "[Unit]\nDescription=x\n[Service]\nType=" + kind + "\nExecStart=/bin/sh -c '" + run + "'\n"
}

const burn = "i=0; while [ $$i -lt %d ]; do i=$$((i+1)); done"

// TestRecorder puts the recorder into a machine that is switched off, boots it for real, and holds the record against the kernel's
// accounting, the service manager's clocks, and what the machine was told to do.
func TestRecorder(t *testing.T) {
	p := program(t)
	before, err := os.ReadDir("/")
	ok(t, err)
	_ = before
	m := boottest.New(t, map[string]string{
		"etc/systemd/system/waits.service":                         unitOf("oneshot", "sleep 1"),
		"etc/systemd/system/works.service":                         unitOf("oneshot", fmt.Sprintf(burn, 400000)),
		"etc/systemd/system/stays.service":                         unitOf("simple", fmt.Sprintf(burn, 800000)+"; exec sleep 100"),
		"etc/systemd/system/multi-user.target.wants/waits.service": "-> ../waits.service",
		"etc/systemd/system/multi-user.target.wants/works.service": "-> ../works.service",
		"etc/systemd/system/multi-user.target.wants/stays.service": "-> ../stays.service",
		"home/maria/.config/autostart/cue-desk.desktop":            "[Desktop Entry]\nType=Application\nName=x\nExec=/bin/sh -c \"i=0; while [ \\\\$i -lt 300000 ]; do i=\\\\$((i+1)); done; sleep 100\"\n",
		"etc/systemd/system/last.service":                          "[Unit]\nAfter=multi-user.target user@1000.service\n[Service]\nExecStart=/bin/sh /usr/bin/finish\n",
		"usr/bin/finish":                                           finish,
	})
	if !strings.Contains(calm(t, p, m, "recorder", "on", "--yes", "--boots", "2"), "Done, as change 1") {
		t.Fatal("the recorder was not put in")
	}
	m.Boot(t)
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	b := recorded(t, r)[0]
	t.Logf("ready %v, settled %v, own %+v, notes %v", b.Ready, b.Settled, b.Recording, b.Notes)
	for _, s := range b.Spans {
		t.Logf("%-40s %-6s %v..%v cpu %v course %d type %s", s.Native, s.Owner, s.Begin.Value, s.End.Value, s.CPU, len(s.Course), s.Type)
	}
	truth := map[string]time.Duration{}
	for line := range strings.Lines(m.Shared(t, "accounting")) {
		f := strings.Fields(line)
		if len(f) == 2 {
			usec, _ := strconv.ParseInt(f[1], 10, 64)
			truth[f[0]] = time.Duration(usec) * time.Microsecond
		}
	}
	t.Log(truth)
	_ = json.Valid
	_ = math.Abs
	_ = journal.Folder
}

// finish waits until the recorder has ended, writes down what the kernel accounted for, and switches off.
const finish = `
while [ "$(systemctl is-active calmdawn-recorder.service)" = active ]; do sleep 0.2; done
for u in works stays waits; do echo $u.service $(( $(systemctl show -p CPUUsageNSec --value $u.service) / 1000 )); done > /share/accounting
systemctl --no-block poweroff
`

func recorded(t *testing.T, r *machine.Root) []boot.Boot {
	t.Helper()
	book, err := casebook.Read(r, "")
	ok(t, err)
	defer book.Close()
	boots, err := book.Boots(0)
	ok(t, err)
	if len(boots) == 0 {
		t.Fatal("no boot was recorded")
	}
	return boots
}
