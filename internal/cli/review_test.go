//go:build linux

package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// A terminal is a real one (tmux), in which a shell runs.
type terminal struct {
	testing.TB
	socket string
}

func newTerminal(t testing.TB, env ...string) terminal {
	t.Helper()
	term := terminal{t, filepath.Join(t.TempDir(), "tmux")}
	shell := "env -u NO_COLOR LC_ALL=C.UTF-8 PS1='ready> ' " + strings.Join(env, " ") +
		" sh"
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", "80", "-y", "24", shell)
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", term.socket, "kill-server").Run() })
	term.tmux("set", "-g", "status", "off")
	term.waits("ready>")
	return term
}

func (t terminal) tmux(args ...string) string {
	t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", t.socket}, args...)...).CombinedOutput()
	if err != nil {
		t.Fatalf("tmux %q: %v %s", args, err, out)
	}
	return string(out)
}

func (t terminal) screen() string { return t.tmux("capture-pane", "-p") }

// press presses keys as tmux calls them.
func (t terminal) press(keys ...string) { t.tmux(append([]string{"send-keys"}, keys...)...) }

// waits waits until the screen has all of some texts.
func (t terminal) waits(texts ...string) {
	t.Helper()
	var screen string
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); {
		screen = t.screen()
		flat, missing := strings.Join(strings.Fields(screen), " "), ""
		for _, text := range texts {
			if !strings.Contains(flat, text) {
				missing = text
			}
		}
		if missing == "" {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("without %q:\n%s", texts, screen)
}

// begins has the shell run calmdawn.
func (t terminal) begins(words string) {
	t.press("-l", "clear; "+program+" "+words)
	t.press("Enter")
}

// TestReviewRound goes through a review as a person does, whose window changes
// its size, and takes all of it back.
func TestReviewRound(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	before := testtree.Snapshot(t, dir, casebookless)
	file := filepath.Join(t.TempDir(), "plan.toml")
	term := newTerminal(t)
	term.begins("--root " + dir + " review")
	term.waits("o off l later", "STATE ADVICE MAKER", "51.4 s")
	term.press("o")
	term.waits("Plan: 1 off.", "Forecast: usable (login of maria)", "sooner (between")
	term.press("Down", "Down", "l")
	term.waits("Later by: 3m")
	term.press("BSpace", "BSpace", "5", "m", "Enter")
	term.waits("Plan: 1 off, 1 later.")
	term.tmux("resize-window", "-x", "140", "-y", "40")
	term.waits("enter shows all of it", "u undo", "w write")
	term.tmux("resize-window", "-x", "80", "-y", "24")
	term.press("/")
	term.press("-l", "palisade virus")
	term.press("Enter", "o")
	term.waits("is protected", "(! decides all the same)", "1 of 96 items")
	term.press("Escape")
	term.waits("57 of 96 items")
	term.press("w")
	term.waits("Write the plan to the file:")
	term.press("-l", file)
	term.press("Enter")
	term.waits("The plan is in " + file)
	term.press("q")
	term.waits("ready>")
	if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), `by = "5m"`) {
		t.Errorf("%v %s", err, text)
	}
	expectSame := func(what string) {
		t.Helper()
		if d := testtree.Diff(before, testtree.Snapshot(t, dir, casebookless)); d != "" {
			t.Errorf("%s:\n%s", what, d)
		}
	}
	expectSame("a plan alone")

	term.tmux("resize-window", "-x", "80", "-y", "40") // for all of the question at once
	term.begins("--root " + dir + " review " + file)
	term.waits("Plan: 1 off, 1 later.", "Forecast: usable")
	term.press("c")
	term.waits("Carried out as one change (o), no trial (t).")
	term.press("t")
	term.press("-l", "14d")
	term.press("Enter", "Enter")
	term.waits("Carrying out 2 decisions on meridian:", "on → delayed", "rewrites /home/maria/",
		"It is on trial until", "Go ahead on meridian")
	term.press("n", "Enter")
	term.waits("Nothing was changed.", "Plan: 1 off, 1 later.")
	expectSame("a question answered with no")
	term.press("c", "t", "C-u")
	term.press("-l", "7d")
	term.press("Enter", "Enter")
	// the first question stands on the screen still
	week := time.Now().AddDate(0, 0, 7).Format("2 Jan 2006")
	term.waits("until "+week+".", "Go ahead on meridian")
	term.press("y", "Enter")
	term.waits("Done, as change 1", "undo 1")
	says(t, "--root "+dir+" history", 0, "disable Lanternfile sync; delay Star-catalogue indexer")

	term.begins("--root " + dir + " review")
	term.waits("o off l later", "Cue update helper")
	for _, fields := range []string{"state=delayed", "state=off maker=lantern"} {
		term.press("f", "C-u")
		term.press("-l", fields)
		term.press("Enter", "a", "b")
	}
	term.waits("Plan: 2 on.")
	term.press("c", "Enter")
	term.waits("Change 1 is taken back.", "Go ahead on meridian")
	term.press("y", "Enter")
	term.waits("Done, as change 2")
	expectSame("all taken back in the review")
}

// TestReviewLeavesTheTerminalAsItWas ends it in every way.
func TestReviewLeavesTheTerminalAsItWas(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	before := testtree.Snapshot(t, dir, nil)
	term := newTerminal(t)
	tty := strings.TrimSpace(term.tmux("display", "-p", "#{pane_tty}"))
	settings := func() string {
		out, err := exec.Command("stty", "-F", tty, "-a").Output()
		must(t, err)
		return string(out)
	}
	was := settings()
	for name, end := range map[string]func(pid int){
		"q":       func(int) { term.press("q", "y") },
		"ctrl+c":  func(int) { term.press("C-c") },
		"SIGINT":  func(pid int) { must(t, syscall.Kill(pid, syscall.SIGINT)) },
		"SIGTERM": func(pid int) { must(t, syscall.Kill(pid, syscall.SIGTERM)) },
		"SIGHUP":  func(pid int) { must(t, syscall.Kill(pid, syscall.SIGHUP)) },
	} {
		term.begins("--root " + dir + " review")
		term.waits("o off l later", "51.4 s")
		term.press("o")
		term.waits("Plan: 1 off.")
		pid := 0
		out, _ := exec.Command("pgrep", "-f", dir+" review").Output()
		_, _ = fmt.Sscan(string(out), &pid)
		end(pid)
		term.waits("ready>", "Nothing was changed; 1 decision was not kept.")
		time.Sleep(100 * time.Millisecond)
		if now := settings(); now != was {
			t.Errorf("%s: the terminal was\n%s\nand is\n%s", name, was, now)
		}
		if alt := term.tmux("display", "-p", "#{alternate_on}#{cursor_flag}"); alt != "01\n" {
			t.Errorf("%s: other screen and cursor: %s", name, alt)
		}
	}
	file := filepath.Join(t.TempDir(), "plan.toml")
	term.begins("--root " + dir + " review")
	term.waits("o off l later", "51.4 s")
	term.press("o", "w")
	term.press("-l", file)
	term.press("Enter", "Down", "o")
	term.waits("Plan: 2 off.")
	must(t, exec.Command("pkill", "-KILL", "-f", dir+" review").Run())
	term.waits("Killed")
	text, err := os.ReadFile(file)
	if err != nil || strings.Count(string(text), "do = 'disable'") != 1 {
		t.Errorf("after SIGKILL the file of the plan has %v %s", err, text)
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Error(d)
	}
}

// TestReviewWithoutRights plans as a user who may read the machine, and is told
// why nothing can be carried out.
func TestReviewWithoutRights(t *testing.T) {
	ring.Needs(t, ring.Middle)
	if os.Geteuid() != 0 {
		t.Skip("becoming another user needs root")
	}
	dir := demoMachine(t)
	for up := dir; up != "/"; up = filepath.Dir(up) {
		if strings.HasPrefix(up, os.TempDir()+"/") {
			must(t, os.Chmod(up, 0o755))
		}
	}
	must(t, os.Chmod(program, 0o755))
	must(t, os.Chmod(filepath.Dir(program), 0o755))
	before := testtree.Snapshot(t, dir, nil)
	term := newTerminal(t, "HOME=/nonexistent", "XDG_RUNTIME_DIR=", "TMPDIR=/tmp",
		"XDG_STATE_HOME=", "XDG_CONFIG_HOME=", "setpriv --reuid 64999 --regid 64999 --clear-groups")
	term.begins("--root " + dir + " review")
	term.waits("o off l later", "Star-catalogue")
	term.press("Down", "Down", "o", "c", "Enter")
	term.waits("permission", "Enter goes back to the review")
	term.press("Enter")
	term.waits("o off l later", "Plan: 1 off.")
	term.press("q", "y")
	term.waits("ready>")
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Error(d)
	}
}

// onPTY runs a call on a terminal that never answers, and sends it keys once it
// has shown a text. It returns what the terminal got before the first key and
// after each.
func onPTY(t *testing.T, args []string, until string, keys ...string) (got []string) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	must(t, err)
	defer master.Close()
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	must(t, err)
	must(t, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	must(t, err)
	must(t, unix.IoctlSetWinsize(int(slave.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 24, Col: 80}))
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "TERM=xterm-256color", "LC_ALL=C.UTF-8", "PAGER=cat")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	must(t, cmd.Start())
	slave.Close()
	pieces := make(chan []byte)
	go func() {
		defer close(pieces)
		for {
			buf := make([]byte, 1<<16)
			n, err := master.Read(buf)
			if err != nil {
				return
			}
			pieces <- buf[:n]
		}
	}()
	quiet := func(until string) string {
		var b bytes.Buffer
		for wait := 3 * time.Second; ; wait = 400 * time.Millisecond {
			if !strings.Contains(b.String(), until) {
				wait = 30 * time.Second
			}
			select {
			case piece, on := <-pieces:
				if b.Write(piece); !on {
					return b.String()
				}
			case <-time.After(wait):
				return b.String()
			}
		}
	}
	got = append(got, quiet(until))
	for _, key := range keys {
		_, err := master.WriteString(key)
		must(t, err)
		got = append(got, quiet(""))
	}
	_ = cmd.Process.Signal(syscall.SIGTERM)
	_ = cmd.Wait()
	return got
}

// TestNoCommandAsksTheTerminal has each command on a terminal that answers
// nothing: one that asked would wait for seconds.
func TestNoCommandAsksTheTerminal(t *testing.T) {
	ring.Needs(t, ring.Middle)
	on := []string{"--root", demoMachine(t)}
	for _, words := range []string{
		"--version", "", "list", "show star-index", "boots", "forecast --best", "history", "help",
		"conditions", "compare", "drift", "disable star-index", "review",
	} {
		got := strings.Join(onPTY(t, append(on[:2:2], strings.Fields(words)...), ""), "")
		if got == "" {
			t.Errorf("%q: nothing came within three seconds", words)
		}
		for _, query := range []string{"\x1b]", "\x1b[6n", "\x1b[c", "\x1b[0c", "\x1b[>", "\x1bP"} {
			if strings.Contains(got, query) {
				t.Errorf("%q: it asks the terminal %q", words, query)
			}
		}
	}
}

// TestACursorKeyIsCheap counts what a serial line would have to carry.
func TestACursorKeyIsCheap(t *testing.T) {
	ring.Needs(t, ring.Outer)
	const down, up = "\x1b[B", "\x1b[A"
	got := onPTY(t, []string{"--root", demoMachine(t), "review"}, "51.4 s",
		down, down, down, up, "j", "k")
	for i, text := range got[1:] {
		if len(text) == 0 || len(text) > 400 {
			t.Errorf("cursor key %d costs %d bytes: %q", i, len(text), text)
		}
	}
}

// casebookless leaves out of a snapshot what changes leave there on purpose.
func casebookless(p string) bool { return strings.HasPrefix(p, "/var/lib/calmdawn") }

// TestAProposalSwitchesOn takes a change back where all of it is to be on, and
// switches on what is left of one.
func TestAProposalSwitchesOn(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	before := testtree.Snapshot(t, dir, casebookless)
	says(t, on+"disable --yes star-index.service star-cache.service", 0)
	file := filepath.Join(t.TempDir(), "plan.toml")
	apply := func(parts []string, ids ...string) {
		t.Helper()
		text := "format = 'calmdawn.proposal/1'\nmachine = 'meridian'\n" +
			"made = 2026-11-20T08:00:00Z\n"
		for _, id := range ids {
			text += fmt.Sprintf("[[decide]]\nid = 'service:%s.service'\ndo = 'enable'\n", id)
		}
		must(t, os.WriteFile(file, []byte(text), 0o600))
		says(t, on+"apply --yes "+file, 0, parts...)
	}
	apply([]string{"1 to carry out", "will be switched on"}, "star-cache")
	apply([]string{"will be switched on: change 1 is taken back"}, "star-index", "star-cache")
	apply([]string{"is on already", "Nothing to do"}, "star-index")
	says(t, on+"undo 2 --yes", 0)
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, casebookless)); d != "" {
		t.Errorf("after all was taken back:\n%s", d)
	}
	says(t, on+"disable --yes star-index.service star-cache.service", 0)
	apply([]string{"will be switched on", " later (between"}, "star-index")
}
