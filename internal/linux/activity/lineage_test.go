package activity

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// proc is a made-up proc(5) folder of processes in one session.
type proc struct {
	t    *testing.T
	root string
}

func (p proc) is(pid, parent, ticks, ended int, words ...string) {
	p.t.Helper()
	dir := filepath.Join(p.root, fmt.Sprint(pid))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		p.t.Fatal(err)
	}
	for name, text := range map[string]string{
		"stat": fmt.Sprintf("%d (x) S %d 0 0 0 -1 0 0 0 0 0 %d 0 %d 0 20 0 1 0 500 0 2 0\n",
			pid, parent, ticks, ended),
		"cgroup":  "0::/user.slice/user-1000.slice/session-1.scope\n",
		"cmdline": strings.Join(words, "\x00") + "\x00",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			p.t.Fatal(err)
		}
	}
}

func (p proc) ends(pid int) {
	p.t.Helper()
	dir := filepath.Join(p.root, fmt.Sprint(pid))
	// a file that is kept open outlives its folder; the kernel's do not
	err := errors.Join(os.Truncate(filepath.Join(dir, "stat"), 0), os.RemoveAll(dir))
	if err != nil {
		p.t.Fatal(err)
	}
}

// TestLineage follows what the kernel tells. One program forks twice and is
// gone before anybody looks, and one ends between two looks. One is a wrapper
// of a millisecond.
func TestLineage(t *testing.T) {
	const ms = time.Millisecond
	machine := proc{t, t.TempDir()}
	p := FollowProcesses(machine.root, func(group string) bool {
		return strings.HasSuffix(group, ".scope")
	})
	defer p.Close()
	p.listens = true
	machine.is(70, 1, 1, 0, "session")
	p.Sample(1000 * ms)
	p.take([]turn{
		// 71 forks 72, which forks 73; both are gone
		{kind: born, pid: 71, parent: 70, at: 1010 * ms},
		{kind: became, pid: 71, at: 1011 * ms, name: "twice", words: []string{"/usr/bin/twice"}},
		{kind: born, pid: 72, parent: 71, at: 1012 * ms},
		{kind: ended, pid: 71, at: 1013 * ms},
		{kind: ended, pid: 72, at: 1014 * ms},
		// a wrapper whose words nobody could read
		{kind: born, pid: 74, parent: 70, at: 1020 * ms},
		{kind: became, pid: 74, at: 1021 * ms, name: "wrap"},
		{kind: became, pid: 74, at: 1022 * ms, name: "bin", words: []string{"/usr/lib/bin"}},
		{kind: born, pid: 75, parent: 70, at: 1030 * ms},
		{kind: became, pid: 75, at: 1031 * ms, name: "brief", words: []string{"/usr/bin/brief"}},
	})
	machine.is(74, 70, 5, 0, "/usr/lib/bin")
	machine.is(75, 70, 4, 0, "/usr/bin/brief")
	p.SampleFresh(1100*ms, nil)
	// That it was made is told when who made it is known to be gone.
	machine.is(73, 1, 20, 0, "/usr/lib/daemon")
	p.take([]turn{
		{kind: born, pid: 73, parent: 72, at: 1013 * ms},
		{kind: became, pid: 73, at: 1040 * ms, name: "daemon", words: []string{"/usr/lib/daemon"}},
		{kind: ended, pid: 75, at: 1150 * ms},
		{kind: ended, pid: 99, at: 1150 * ms},
		{kind: born, pid: 98, parent: 97, at: 1150 * ms},
	})
	machine.ends(75)
	machine.is(70, 1, 1, 9, "session")
	p.SampleFresh(1200*ms, nil)
	want := map[int]string{
		70: "[] [session] 10ms",
		71: "[twice] [/usr/bin/twice] 0s",
		73: "[daemon] [/usr/lib/daemon] 200ms",
		74: "[bin wrap] [/usr/lib/bin] 50ms",
		75: "[brief] [/usr/bin/brief] 90ms",
	}
	all := p.InSessions()
	places := map[*Process]int{}
	for i, process := range all {
		places[process] = i
	}
	for _, process := range all {
		got := fmt.Sprint(process.Names, process.Words, process.CPU())
		if got != want[process.PID] {
			t.Errorf("%d: %s; want %s", process.PID, got, want[process.PID])
		}
		delete(want, process.PID)
		above, ok := process.Maker(places)
		switch {
		case process.PID == 70 && ok, process.PID != 70 && !ok:
			t.Errorf("%d: %v", process.PID, ok)
		case process.PID == 73 && all[above].PID != 71:
			t.Errorf("73 is from %d", all[above].PID)
		case ok && places[process] < above:
			t.Errorf("%d stands before what made it", process.PID)
		}
	}
	if len(want) > 0 {
		t.Errorf("not there: %v", want)
	}
}

// TestWordsAreBounded has a process become another program again and again.
func TestWordsAreBounded(t *testing.T) {
	p := &Process{}
	for i := range 40 {
		p.learn([]string{fmt.Sprint("/usr/bin/", i), "x"})
	}
	if len(p.Words) != maxWords || p.Words[0] != "/usr/bin/39" ||
		p.Words[maxWords-2] != "/usr/bin/0" {
		t.Errorf("%v", p.Words)
	}
	if words := firstWords(fmt.Appendf(nil, "%s\x00b\x00\x00", strings.Repeat("a",
		999))); len(words) != 2 || len(words[0]) != maxWord {
		t.Errorf("%q", words)
	}
}
