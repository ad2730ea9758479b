package activity

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestAProcessBecomesAnother follows a process of a session that was met before
// it had become its program, and ends.
func TestAProcessBecomesAnother(t *testing.T) {
	root := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Join(root, "70"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, "70", name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	stat := func(name string, ticks int) {
		write("stat",
			fmt.Sprintf("70 (%s) S 1 70 70 0 -1 0 0 0 0 0 %d 0 0 0 20 0 1 0 500 0 2 0\n", name,
				ticks))
	}
	stat("sh", 1)
	write("io", "rchar: 9\nread_bytes: 4096\n")
	write("cgroup", "0::/user.slice/session-1.scope\n")
	write("cmdline", "sh\x00")
	p := FollowProcesses(root, func(group string) bool {
		return strings.HasSuffix(group, ".scope")
	})
	defer p.Close()
	p.Sample(time.Second)
	stat("till (2)", 30)
	write("cmdline", "/usr/bin/till\x00--desk\x00")
	write("io", "rchar: 9\nread_bytes: 12288\nwrite_bytes: 0\n")
	p.Still = func(string) bool { return true }
	p.Sample(2 * time.Second)
	if names := p.Names(); !slices.Equal(names, []string{"sh"}) {
		t.Errorf("a group that did nothing was asked: %v", names)
	}
	p.Still = nil
	p.Sample(3 * time.Second)
	if err := os.RemoveAll(filepath.Join(root, "70")); err != nil {
		t.Fatal(err)
	}
	p.Sample(4 * time.Second)
	all := p.InSessions()
	if len(all) != 1 {
		t.Fatalf("%d processes", len(all))
	}
	got := all[0]
	words := []string{"/usr/bin/till", "--desk", "sh"} // and what it was before
	if got.Name != "till (2)" || !slices.Equal(got.Words, words) ||
		got.CPU() != 300*time.Millisecond || got.Read() != 12288 || !got.Gone {
		t.Errorf("%+v used %v and read %d", got, got.CPU(), got.Read())
	}
	if n := len(got.Course); n != 2 || got.Course[0].At != time.Second ||
		got.Course[1].At != 3*time.Second {
		t.Errorf("course: %v", got.Course)
	}
}

// TestAChildsWorkCountsOnce has a child end, whose use the kernel then adds to
// its parent's.
func TestAChildsWorkCountsOnce(t *testing.T) {
	root := t.TempDir()
	write := func(pid, parent, own, ended int) {
		t.Helper()
		dir := filepath.Join(root, fmt.Sprint(pid))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string]string{
			"stat": fmt.Sprintf("%d (x) S %d 0 0 0 -1 0 0 0 0 0 %d 0 %d 0 20 0 1 0 500 0 2 0\n",
				pid, parent, own, ended),
			"cgroup": "0::/user.slice/session-1.scope\n",
		} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	p := FollowProcesses(root, func(string) bool { return true })
	defer p.Close()
	write(70, 1, 5, 0)
	write(71, 70, 100, 0)
	p.Sample(time.Second)
	if err := os.RemoveAll(filepath.Join(root, "71")); err != nil {
		t.Fatal(err)
	}
	write(70, 1, 6, 110)
	p.Sample(2 * time.Second)
	p.Sample(3 * time.Second)
	for i, want := range []time.Duration{60 * time.Millisecond, 1100 * time.Millisecond} {
		got := p.InSessions()[i]
		if last := got.Course[len(got.Course)-1]; got.CPU() != want || last.CPU != want {
			t.Errorf("process %d used %v; its course: %v", got.PID, got.CPU(), got.Course)
		}
	}
}

// TestNobodyFillsAnothersRoom has a user begin more processes and groups than
// are kept of one, before another user and the machine begin some.
func TestNobodyFillsAnothersRoom(t *testing.T) {
	root := t.TempDir()
	add := func(pid int, group string) {
		t.Helper()
		folder := filepath.Join(root, fmt.Sprint(pid))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string]string{
			"stat": fmt.Sprintf("%d (a) S 1 7 7 0 -1 0 0 0 0 0 5 0 0 0 20 0 1 0 50 0 2 0\n",
				pid),
			"cgroup":  "0::" + group + "\n",
			"cmdline": "/usr/bin/a\x00",
		} {
			if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	session := func(uid int) string {
		return fmt.Sprintf("/user.slice/user-%d.slice/session-1.scope", uid)
	}
	p := FollowProcesses(root, func(group string) bool { _, ok := SessionOf(group); return ok })
	defer p.Close()
	for i := range maxProcessesOfUser + 50 {
		add(1000+i, session(1000))
	}
	p.Sample(time.Second)
	add(9001, session(1001))
	add(9002, "/system.slice/late.service")
	p.Sample(2 * time.Second)
	of := map[string]int{}
	for _, process := range p.Alive() {
		of[process.Group]++
	}
	if of[session(1000)] != maxProcessesOfUser || of[session(1001)] != 1 ||
		of["/system.slice/late.service"] != 1 || !p.Missed() {
		t.Errorf("%v; missed: %v", of, p.Missed())
	}
}

func TestAllWordsAreBounded(t *testing.T) {
	var p Process
	for i := range 100 {
		p.learn([]string{fmt.Sprintf("/usr/bin/%d", i), strings.Repeat("x", maxWord)})
	}
	total := 0
	for _, word := range p.Words {
		total += len(word)
	}
	if len(p.Words) > maxWords || total > maxAllWords || p.Words[0] != "/usr/bin/99" {
		t.Errorf("%d bytes: %q", total, p.Words)
	}
}

// TestWhoseAProcessIs: what runs as another user in somebody's session is told
// apart, by its real number.
func TestWhoseAProcessIs(t *testing.T) {
	root := t.TempDir()
	for pid, uids := range map[int]string{71: "990071\t0", 72: "0\t0", 73: ""} {
		folder := filepath.Join(root, fmt.Sprint(pid))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string]string{
			"stat":   fmt.Sprintf("%d (a) S 1 7 7 0 -1 0 0 0 0 0 5 0 0 0 20 0 1 0 50 0 2 0\n", pid),
			"cgroup": "0::/user.slice/user-990071.slice/session-1.scope\n",
			"status": "Name:\ta\nUid:\t" + uids + "\nGid:\t0\n",
		} {
			if name == "status" && uids == "" {
				continue
			}
			if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	p := FollowProcesses(root, func(group string) bool { _, ok := SessionOf(group); return ok })
	defer p.Close()
	p.Sample(time.Second)
	for _, process := range p.Alive() {
		if process.Foreign != (process.PID == 72) {
			t.Errorf("process %d: %v", process.PID, process.Foreign)
		}
	}
	if len(p.Alive()) != 3 {
		t.Errorf("%d processes", len(p.Alive()))
	}
}
