//go:build linux

package boottest_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/linux/watch"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
)

// built is calmdawn as it is shipped.
var built = sync.OnceValues(ring.Program)

func program(t testing.TB) string {
	t.Helper()
	p, err := built()
	ok(t, err)
	return p
}

// calm runs the built program on a machine that is switched off.
func calm(t testing.TB, program string, m *boottest.Machine, words ...string) string {
	t.Helper()
	out, err := exec.Command(program, append([]string{
		"--root",
		m.Dir,
	}, words...)...).CombinedOutput()
	if err != nil {
		t.Fatalf("calmdawn %v: %v\n%s", words, err, out)
	}
	return string(out)
}

func unitOf(kind, run string) string {
	return "[Unit]\nDescription=x\n[Service]\nType=" + kind + "\nExecStart=/bin/sh -c '" + run +
		"'\n"
}

const burn = "i=0; while [ $$i -lt %d ]; do i=$$((i+1)); done"

// loginMachine is one with three services, on which maria's service manager
// runs and teo logs in without one.
func loginMachine(t testing.TB) *boottest.Machine {
	t.Helper()
	m := boottest.New(t, map[string]string{
		"etc/systemd/system/waits.service": unitOf("oneshot", "sleep 1"),
		"etc/systemd/system/works.service": unitOf("oneshot",
			fmt.Sprintf(burn, 400000)),
		"etc/systemd/system/stays.service": unitOf("simple",
			fmt.Sprintf(burn, 1500000)+"; date +%%s%%N > /share/quiet; exec sleep 100"),
		"etc/systemd/system/multi-user.target.wants/waits.service": "-> ../waits.service",
		"etc/systemd/system/multi-user.target.wants/works.service": "-> ../works.service",
		"etc/systemd/system/multi-user.target.wants/stays.service": "-> ../stays.service",
		"home/maria/.config/autostart/cue-desk.desktop": "[Desktop Entry]\n" +
			"Type=Application\nName=x\nExec=/usr/bin/cue-desk\n",
		"usr/bin/cue-desk": "#!/bin/sh\n" +
			fmt.Sprintf(strings.ReplaceAll(burn, "$$", "$"), 300000) + "\nexec sleep 100\n",
		"usr/bin/till": "#!/bin/sh\n" +
			fmt.Sprintf(strings.ReplaceAll(burn, "$$", "$"), 500000) + "\nsleep 100\n",
		// A login without a service manager's help: its programs have no groups
		// of their own.
		"etc/systemd/system/desk.service": "[Unit]\n" +
			"After=systemd-user-sessions.service\nConflicts=console-getty.service\n[Service]\n" +
			"User=teo\nPAMName=login\nTTYPath=/dev/console\nStandardInput=tty-force\n" +
			"StandardOutput=journal\nExecStart=/bin/sh -c '/usr/bin/till & sleep 0.2; wait'\n",
		"etc/systemd/system/multi-user.target.wants/desk.service": "-> ../desk.service",
		"usr/bin/finish": finish,
		"etc/systemd/system/last.service": "[Unit]\nAfter=multi-user.target user@1000.service\n" +
			"[Service]\nExecStart=/bin/sh /usr/bin/finish\n",
	})
	for _, name := range []string{"cue-desk", "till"} {
		ok(t, os.Chmod(filepath.Join(m.Dir, "usr/bin", name), 0o755))
	}
	return m
}

// TestRecorder puts the recorder into a machine that is switched off and boots
// it for real. It holds the record against the kernel's accounting, the service
// manager's clocks, and what the machine was told to do.
func TestRecorder(t *testing.T) { ring.Measure(t, recordAndCompare) }

func recordAndCompare(t testing.TB) {
	p := program(t)
	m := loginMachine(t)
	if !strings.Contains(calm(t, p, m, "recorder", "on", "--yes", "--boots", "2"), "Done, as "+
		"change 1") {
		t.Fatal("the recorder was not put in")
	}
	m.Boot(t)
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	b := recorded(t, r)[0]
	if b.Recording == nil || !b.Ready.Known || !b.Settled.FromReady.Known || len(b.Notes) > 0 {
		t.Fatalf("ready %+v, settled %+v, notes %v", b.Ready, b.Settled, b.Notes)
	}
	t.Logf("%d samples in %v, %v of processor time, %d bytes", b.Recording.Samples,
		b.Recording.Ended-b.Recording.Began, b.Recording.CPU, b.Recording.Memory)
	t.Logf("with writing it down: %s µs", strings.TrimSpace(m.Shared(t, "recorder")))
	// Its file may be in memory whole, for the kernel maps much of it at each
	// touch; what it holds besides is bounded.
	info, err := os.Stat(p)
	ok(t, err)
	if own := b.Recording.Memory - info.Size(); own > 5<<20 {
		t.Errorf("the recorder held %d bytes besides its file", own)
	}
	agrees := func(what string, got, want, leeway time.Duration) {
		if diff := (got - want).Abs(); diff > max(leeway, want/20) {
			t.Errorf("%s: %v; want %v", what, got, want)
		}
	}
	// The kernel's accounting, after the recorder had ended.
	for line := range strings.Lines(m.Shared(t, "accounting")) {
		name, digits, _ := strings.Cut(strings.TrimSpace(line), " ")
		usec, err := strconv.ParseInt(digits, 10, 64)
		ok(t, err)
		s, _ := b.Span(name)
		agrees("processor time of "+name, s.CPU.Value, time.Duration(usec)*time.Microsecond,
			20*time.Millisecond)
		if n := len(s.Course); n == 0 || s.Course[n-1].CPU > s.CPU.Value {
			t.Errorf("the course of %s: %v", name, s.Course)
		}
	}
	waits, _ := b.Span("waits.service")
	agrees("waits.service", waits.OwnTime().Value, time.Second, 500*time.Millisecond)
	// The log of the same boot.
	logged := journal.Read(r, 0).Boots[0]
	// a busy computer may stop the service manager between its clock and its
	// message
	compared, late := 0, 0
	for _, s := range b.Spans {
		l, found := logged.Span(s.Native)
		if !found || s.Owner != "" || l.Skipped {
			continue
		}
		for _, pair := range [][2]boot.Figure{{s.Begin, l.Begin}, {s.End, l.End}} {
			if pair[0].Known && pair[1].Known && s.Type != "simple" {
				compared++
				if (pair[1].Value - pair[0].Value).Abs() > 5*time.Millisecond {
					late++
				}
				agrees("the log's clock for "+s.Native, pair[1].Value, pair[0].Value,
					300*time.Millisecond)
			}
		}
	}
	if agrees("ready", logged.Ready.Value, b.Ready.Value,
		300*time.Millisecond); compared < 20 || late > compared/5 {
		t.Errorf("%d moments were compared; %d are more than 5 ms off", compared, late)
	}
	// Quiet, and the programs of logins.
	quietAt, err := strconv.ParseInt(strings.TrimSpace(m.Shared(t, "quiet")), 10, 64)
	ok(t, err)
	quiet := time.Unix(0, quietAt).Sub(b.Began)
	agrees("quiet", b.Ready.Value+b.Settled.FromReady.Value, max(quiet, b.Ready.Value), time.Second)
	desk := boot.Span{}
	for _, s := range b.Spans {
		if s.Native == `app-cue\x2ddesk@autostart.service` && s.Owner == "maria" {
			desk = s
		}
	}
	if desk.CPU.Value < 50*time.Millisecond || !desk.Begin.Known {
		t.Errorf("maria's program: %+v", desk)
	}
	till := time.Duration(0)
	for _, p := range b.Programs {
		if strings.Contains(strings.Join(p.Words, " "), "/usr/bin/till") && p.Owner == "teo" {
			till += p.CPU
		}
	}
	if till < 100*time.Millisecond || !b.Settled.Login.Known || !b.Settled.FromLogin.Known {
		t.Errorf("teo's program used %v; login %+v; programs %+v", till, b.Settled, b.Programs)
	}
	// It stops by itself, and leaves no trace.
	m.Boot(t)
	if state := calm(t, p, m, "recorder",
		"status"); !strings.Contains(state, "no longer starts") ||
		!strings.Contains(state, "2 boots are recorded") {
		t.Error(state)
	}
	calm(t, p, m, "recorder", "off", "--yes")
	for _, p := range []string{
		watch.Program,
		watch.Unit,
		watch.Link,
		filepath.Dir(watch.Program),
	} {
		if _, err := r.Lstat(p); err == nil {
			t.Errorf("%s is left", p)
		}
	}
	list := calm(t, p, m, "boots")
	for _, part := range []string{"Usable after", "(login of teo)", "SETTLED", "recorded"} {
		if !strings.Contains(list, part) {
			t.Errorf("without %q:\n%s", part, list)
		}
	}
}

// whenRecorded waits until the recorder has ended.
const whenRecorded = `
sleep 1
while systemctl show -p ActiveState -p StatusText calmdawn-recorder.service |
	grep -q ActiveState=active; do
	systemctl show -p StatusText calmdawn-recorder.service | grep -q Recorded && break
	sleep 1
done
`

// finish writes down what the kernel accounted for, and switches off.
const finish = whenRecorded + `
used() { echo $(( $(systemctl show -p CPUUsageNSec --value $1) / 1000 )); }
used calmdawn-recorder.service > /share/recorder
for u in works stays waits; do echo $u.service $(used $u.service); done > /share/accounting
systemctl --no-block poweroff
`

func recorded(t testing.TB, r *machine.Root) []boot.Boot {
	t.Helper()
	r.Home = linux.Family{}.Home()
	book, err := casebook.Read(r, casebook.Inside)
	ok(t, err)
	defer book.Close()
	boots, err := book.Boots(0)
	ok(t, err)
	if len(boots) == 0 {
		t.Fatal("no boot was recorded")
	}
	return boots
}

// TestRecorderCost measures what the recorder itself uses while a login of
// sixty programs is watched, each at work now and then; make bench-recorder
// runs it.
func TestRecorderCost(t *testing.T) {
	if os.Getenv("CALMDAWN_COST") == "" {
		t.Skip("it only measures; make bench-recorder runs it")
	}
	p := program(t)
	m := loginMachine(t)
	script := "#!/bin/sh\nn=0\nwhile [ $n -lt 60 ]; do\n" +
		"  /usr/bin/busy-now-and-then & n=$((n+1))\ndone\nwait\n"
	busy := "#!/usr/bin/perl\nfor (1..20) { $i = 0; $i++ while $i < 150000; " +
		"select(undef, undef, undef, 1) }\nsleep 1000\n"
	for name, text := range map[string]string{"till": script, "busy-now-and-then": busy} {
		ok(t, os.WriteFile(filepath.Join(m.Dir, "usr/bin", name), []byte(text), 0o755))
	}
	calm(t, p, m, "recorder", "on", "--yes", "--boots", "1000")
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	for i := range 6 { // by looking alone, and with what the kernel tells, in turn
		m.Deaf = i%2 == 0
		m.Boot(t)
		books := recorded(t, r)
		b := books[len(books)-1]
		own := b.Recording
		t.Logf("by looking alone: %v; %d programs: %v of processor time in %v, %.2f %% of one "+
			"processor; %d bytes held",
			m.Deaf, len(b.Programs), own.CPU, own.Ended-own.Began,
			100*own.CPU.Seconds()/(own.Ended-own.Began).Seconds(), own.Memory)
	}
}
