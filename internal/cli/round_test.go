//go:build linux

package cli_test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/sys/unix"

	"calmdawn/internal/cli"
	"calmdawn/internal/document/schematest"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "calmdawn-test-")
	if err != nil {
		panic(err)
	}
	if program, err = ring.Program(); err != nil {
		panic(err)
	}
	os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config")) // no notes in a person's own
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	code := m.Run()
	os.RemoveAll(dir)
	os.RemoveAll(filepath.Dir(program))
	os.Exit(code)
}

// call runs the built program with words split at blanks.
func call(t testing.TB, words string) (out, errs string, code int) {
	t.Helper()
	return callArgs(t, strings.Fields(words))
}

func callArgs(t testing.TB, args []string) (out, errs string, code int) {
	t.Helper()
	cmd := exec.Command(program, args...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	_ = cmd.Run()
	return stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()
}

func demoMachine(t testing.TB) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "meridian")
	if _, errs, code := call(t, "demo --keep "+dir); code != 0 {
		t.Fatal(errs)
	}
	return dir
}

func TestRoundOnTheDemoMachine(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	before := testtree.Snapshot(t, dir, nil)
	state := func(id string) string {
		out, errs, _ := call(t, on+"list --all --json")
		var d struct{ Items []struct{ ID, State string } }
		if err := json.Unmarshal([]byte(out), &d); err != nil {
			t.Fatal(err, errs)
		}
		if len(d.Items) < 60 {
			t.Fatalf("only %d items on the demo machine", len(d.Items))
		}
		i := slices.IndexFunc(d.Items, func(it struct{ ID, State string }) bool {
			return it.ID == id
		})
		if i < 0 {
			return "not listed"
		}
		return d.Items[i].State
	}
	for _, words := range []string{
		"", "list", "list --all", "show service:star-index.service", "history", "list --json",
	} {
		if _, errs, code := call(t, on+words); code != 0 || errs != "" {
			t.Errorf("calmdawn %s: %d %s", words, code, errs)
		}
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Fatalf("a reading command wrote:\n%s", d)
	}

	ids := []string{
		"service:star-index.service", "service:dome-agent.service",
		"service:mast-poll@south.service",
		"service:polkit.service", "program:lanternfile.desktop@maria",
		"program:varnholt-tray.desktop", "task:/etc/cron.d/mast#619c",
	}
	for n, id := range ids {
		out, errs, code := call(t, on+"disable --yes "+id+" --insist "+id)
		if code != 0 || !strings.Contains(out, fmt.Sprintf("change %d.", n+1)) ||
			!strings.Contains(out, "undo") {
			t.Fatalf("disable %s: %d %s%s", id, code, out, errs)
		}
		if got := state(id); got != "off" {
			t.Errorf("%s is %s after it was switched off", id, got)
		}
	}
	out, _, _ := call(t, on+"disable --yes "+ids[0])
	if !strings.Contains(out, "already off") {
		t.Errorf("switching off again: %s", out)
	}
	if out, _, _ := call(t, on+"history"); !strings.Contains(out, "7 changes, 7 in force") {
		t.Errorf("history: %s", out)
	}
	for _, n := range []int{3, 1, 7, 2} {
		if _, errs, code := call(t, fmt.Sprintf("%sundo %d --yes", on, n)); code != 0 {
			t.Errorf("undo %d: %s", n, errs)
		}
	}
	if _, errs, code := call(t,
		on+"undo 3 --yes"); code != 1 || !strings.Contains(errs, "already undone") {
		t.Errorf("undoing twice: %d %s", code, errs)
	}
	if _, errs, code := call(t, on+"undo --all --yes"); code != 0 {
		t.Error(errs)
	}
	for _, id := range ids {
		if got := state(id); got != "on" {
			t.Errorf("%s is %s in the end", id, got)
		}
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); !onlyOurs(d) {
		t.Errorf("the machine is not as it was:\n%s", d)
	}
}

// onlyOurs reports whether the casebook's folder is all that a difference
// names.
func onlyOurs(diff string) bool {
	for l := range strings.Lines(diff) {
		p := strings.Fields(l)[1]
		if p != "/var/lib" && !strings.HasPrefix(p, "/var/lib/calmdawn") {
			return false
		}
	}
	return true
}

// TestSeveralAtOnce switches items by pattern and by flag, with what could
// start them on demand, and for one user alone.
func TestSeveralAtOnce(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	before := testtree.Snapshot(t, dir, nil)
	for _, c := range []struct{ words, want, not string }{
		{"disable --yes service:cue-* --maker inkerholm", "Switching off 7 items", "dome"},
		{"disable --yes service:cups.service", "--and-starters", "removes  " +
			"/etc/systemd/system/sockets.target.wants/cups.socket"},
		{"undo 2 --yes", "taken back", "conflict"},
		{
			"disable --yes service:cups.service --and-starters",
			"sockets.target.wants/cups.socket",
			"on demand",
		},
		{"disable --yes program:handrail-panel.desktop@teo", "creates  " +
			"/home/teo/.config/autostart/handrail-panel.desktop", "/etc/xdg"},
		{"list --state off panel", "program:handrail-panel.desktop@teo", "service:"},
		{"enable --yes program:handrail-panel.desktop@teo", "off → on", "/etc/xdg"},
		{"disable --yes service:dome-lamp.service task:/etc/cron.hourly/room-climate " +
			"task:lanternfile-check.timer@teo", "K03dome-lamp", "S04"},
		{"undo --all --yes", "taken back", "conflict"},
	} {
		out, errs, code := call(t, on+c.words)
		out = strings.ReplaceAll(out, "->", "→")
		if code != 0 || !strings.Contains(out, c.want) || strings.Contains(out, c.not) {
			t.Errorf("calmdawn %s: exit %d, %s%s\nwant %q and not %q", c.words, code, out, errs,
				c.want, c.not)
		}
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); !onlyOurs(d) {
		t.Errorf("the machine is not as it was:\n%s", d)
	}
}

// TestWhatSomebodyElseChanged shows a conflict, and puts the recorded state
// back when told to.
func TestWhatSomebodyElseChanged(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	p := dir + "/etc/systemd/system/graphical.target.wants/star-index.service"
	was, _ := os.Readlink(p)
	call(t, on+"disable --yes service:star-index.service")
	if err := os.Symlink("/somewhere/else", p); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := call(t,
		on+
			"undo 1 --yes"); code != 1 || !strings.Contains(errs, "a link to /somewhere/else") ||
		!strings.Contains(errs, "--overwrite") {
		t.Errorf("undo: %d %s", code, errs)
	}
	if now, _ := os.Readlink(p); now != "/somewhere/else" {
		t.Errorf("the link now leads to %s", now)
	}
	if _, errs, code := call(t, on+"undo 1 --yes --overwrite"); code != 0 {
		t.Error(errs)
	}
	if now, _ := os.Readlink(p); now != was {
		t.Errorf("the link now leads to %s", now)
	}
}

// TestSeveralAreTakenBackOrNone names changes by number and as a range. One
// that cannot be taken back keeps the others from it.
func TestSeveralAreTakenBackOrNone(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	p := dir + "/etc/systemd/system/graphical.target.wants/star-index.service"
	was, _ := os.Readlink(p)
	for _, id := range []string{
		"service:star-index.service",
		"service:cue-update.service",
		"service:dome-agent.service",
		"service:palisade-news.service",
	} {
		call(t, on+"disable --yes "+id)
	}
	call(t, on+"undo 2 --yes")
	if err := os.Symlink("/somewhere/else", p); err != nil {
		t.Fatal(err)
	}
	before := testtree.Snapshot(t, dir+"/etc", nil)
	if _, errs, code := call(t,
		on+"undo 4 1-3 --yes"); code != 1 || !strings.Contains(errs, "change 1 cannot be taken "+
		"back") {
		t.Errorf("with a conflict: %d %s", code, errs)
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir+"/etc", nil)); d != "" {
		t.Errorf("something was taken back all the same:\n%s", d)
	}
	out, errs, code := call(t, on+"undo 4 1-3 --yes --overwrite")
	if code != 0 || !strings.Contains(out, "Taking 3 changes back") ||
		!strings.Contains(out, "3 changes are taken back") {
		t.Errorf("exit %d %s%s", code, out, errs)
	}
	if now, _ := os.Readlink(p); now != was {
		t.Errorf("the link now leads to %s; it led to %s", now, was)
	}
	if out, _, _ := call(t, on+"history"); !strings.Contains(out, "8 changes, 0 in force") {
		t.Error(out)
	}
}

// TestPartOfAProposal takes a part of a proposal back before a boot has felt
// it. What was forecast for the whole is not held against the rest.
func TestPartOfAProposal(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	file := filepath.Join(t.TempDir(), "part.toml")
	text := "format = 'calmdawn.proposal/1'\nmachine = 'meridian'\nmade = 2026-11-01T08:00:00Z\n"
	for _, id := range []string{"star-index", "cue-update", "star-cache", "dome-archive"} {
		text += "[[decide]]\nid = 'service:" + id + ".service'\ndo = 'disable'\n"
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	call(t, on+"apply --yes "+file)
	if out, _, _ := call(t, on+"compare"); !strings.Contains(out, "since the proposal (changes 1 "+
		"to 4)") || !strings.Contains(out, "Forecast: usable") {
		t.Error(out)
	}
	call(t, on+"undo 2 --yes")
	if out, _, _ := call(t,
		on+
			"compare"); !strings.Contains(out, "since changes 1, 3 and 4:") ||
		strings.Contains(out, "Forecast: ready") {
		t.Error(out)
	}
}

// TestDependentsComeAlong switches a service off with those that need it.
func TestDependentsComeAlong(t *testing.T) {
	on := "--root " + demoMachine(t) + " "
	if out, _, _ := call(t,
		on+"disable --yes service:loan-db.service --json"); strings.Contains(out, "loan-web") {
		t.Errorf("without asking for it: %s", out)
	}
	call(t, on+"undo 1 --yes")
	if out, errs, code := call(t,
		on+
			"disable --yes service:loan-db.service --and-dependents"); code != 0 ||
		!strings.Contains(out, "loan-web.service") || strings.Contains(out, "Mind") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	if _, errs, code := call(t,
		on+
			"delay --yes service:cue-store.service"); code != 1 ||
		!strings.Contains(errs, "cue-till.service needs it") {
		t.Errorf("delaying what another needs: %d %s", code, errs)
	}
}

// TestKilledAtAnyMoment kills the program at random moments of a change, and
// finds it wholly done or wholly undone.
func TestKilledAtAnyMoment(t *testing.T) {
	ring.Needs(t, ring.Outer)
	dir := demoMachine(t)
	on := "--root " + dir + " "
	ids := "service:star-index.service program:varnholt-tray.desktop task:/etc/cron.d/mast#619c " +
		"service:dome-agent.service"
	call(t, on+"history") // the program is in memory from here on
	skip := func(p string) bool { return p == "/var/lib" }
	clean := testtree.Snapshot(t, dir, skip)
	killed := 0
	for n := range 40 {
		cmd := exec.Command(program, strings.Fields(on+"disable --yes "+ids)...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(n) * 1500 * time.Microsecond)
		if cmd.Process.Kill() == nil && cmd.Wait() != nil {
			killed++
		}
		// settles what is open
		if _, errs, code := call(t, on+"disable --yes service:smartd.service --insist "+
			"service:smartd.service"); code != 0 {
			t.Fatalf("after a kill: %s", errs)
		}
		if _, errs, code := call(t, on+"undo --all --yes"); code != 0 {
			t.Fatalf("undo after a kill: %s", errs)
		}
		if d := testtree.Diff(clean, testtree.Snapshot(t, dir, skip)); d != "" {
			t.Fatalf(
				"killed after %d × 1.5 ms, the machine is neither as before nor undoable:\n%s",
				n,
				d,
			)
		}
	}
	if killed < 10 {
		t.Errorf("only %d of 40 calls were killed", killed)
	}
}

// TestAFullDisk has the disk run full at different moments of a change.
func TestAFullDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	for _, spare := range []int{0, 8, 40, 100} {
		dir := filepath.Join(t.TempDir(), "disk")
		if err := errors.Join(os.Mkdir(dir, 0o755),
			unix.Mount("none", dir, "tmpfs", 0, "size=3m")); err != nil {
			t.Fatal(err)
		}
		on := "--root " + dir + " "
		if _, errs, code := call(t, "demo --keep "+dir); code != 0 {
			t.Fatal(errs)
		}
		before := testtree.Snapshot(t, dir+"/etc", nil)
		filler, err := os.Create(dir + "/filler")
		if err != nil {
			t.Fatal(err)
		}
		for block := make([]byte, 4096); err == nil; {
			_, err = filler.Write(block)
		}
		size, _ := filler.Seek(0, io.SeekCurrent)
		if err := errors.Join(filler.Truncate(max(0, size-int64(spare)<<10)),
			filler.Close()); err != nil {
			t.Fatal(err)
		}
		_, errs, code := call(t, on+"disable --yes service:star-index.service "+
			"program:varnholt-tray.desktop")
		if code == 0 {
			_, errs, code = call(t, on+"undo --all --yes")
		} else if strings.Contains(errs, "goroutine") || code != 1 {
			t.Errorf("%d KiB left: exit %d %s", spare, code, errs)
		}
		if err := os.Remove(dir + "/filler"); err != nil {
			t.Fatal(err)
		}
		if code != 0 { // with room again the next call settles what was left
			call(t, on+"disable --yes service:dome-agent.service")
			_, errs, code = call(t, on+"undo --all --yes")
		}
		if d := testtree.Diff(before, testtree.Snapshot(t, dir+"/etc", nil)); d != "" || code != 0 {
			t.Errorf("%d KiB left: exit %d %s\n%s", spare, code, errs, d)
		}
		if err := unix.Unmount(dir, 0); err != nil {
			t.Fatal(err)
		}
	}
}

// TestBeforeAndAfter goes from the first boots over a change and restarts to
// the verdict.
func TestBeforeAndAfter(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	on := "--root " + dir + " "
	says := func(words string, wants ...string) {
		t.Helper()
		out, errs, code := call(t, words)
		if code != 0 {
			t.Fatalf("calmdawn %s: %s", words, errs)
		}
		for _, want := range wants {
			if !strings.Contains(out, want) {
				t.Errorf("calmdawn %s does not say %q:\n%s", words, want, out)
			}
		}
	}
	if _, errs, code := call(t, on+"compare"); code != 1 || !strings.Contains(errs,
		"nothing that this machine launches was changed") {
		t.Errorf("compare without a change: %d %s", code, errs)
	}
	says(on+"boots", "the last 5 boots, simulated", "FIRMWARE", "INITRD")
	says(on+"boots --spans", "star-index.service", "Simulated")
	says(on+"show service:star-index.service", "Own time", "5 of the last 5 boots", "simulated")
	// it counts as started at once, and computes on
	says(on+"show service:cue-update.service", "Processor", "in a boot, simulated")
	says(on+"forecast service:star-index.service service:star-cache.service", "sooner",
		"since starts overlap")
	says(on+"forecast --best", "Star-catalogue indexer", "Next: calmdawn")
	says(on + "disable --yes service:star-index.service service:star-cache.service")
	says(on, "1 change is waiting for a restart", "Not known yet")
	says("demo reboot "+dir+" --times 2", "simulated: usable after", "ready after")
	says(on+"compare", "Not known yet", "2 more restarts with a login of maria each")
	says("demo reboot " + dir + " --times 3")
	says(on+"compare", "Usable (login of maria) is faster by", "simulated", "change 1")
	says(on, "Usable (login of maria) is faster by")
	says(on+"compare --on ready", "Ready is faster by")
	says(on + "undo 1 --yes")
	says("demo reboot "+dir+" --times 5", "ready after")
	says(on+"compare", ") is slower by", "change 2", "Step by step", "Star-catalogue indexer",
		"waited for no more", "remainder")
	fails := func(words string, code int, want string) {
		t.Helper()
		if _, errs, got := call(t, words); got != code || !strings.Contains(errs, want) {
			t.Errorf("calmdawn %s: %d %s; want %d %q", words, got, errs, code, want)
		}
	}
	// Boots that are chosen by number, change and label, and those of another
	// casebook.
	says(on+"compare change:1", ") is faster by", "by change 1", "WITHIN (95 %)")
	says(on+"compare 1-5 6-8 --csv", "before,", "after,", "settled after login (s)")
	says(on+"label memory 11-15", "5 boots have the label \"memory\"")
	says(on+"boots", "memory; simulated")
	says(on+"compare 1-5 memory", "No difference shown between 1-5 and memory", "a difference "+
		"would have shown")
	says(on+"label --remove 11-15", "5 boots have no label now")
	fails(on+"compare 1-5 memory", 2, "not the number, date, id or label")
	fails(on+"compare 1-5 5-8", 2, "is on both sides")
	fails(on+"compare 1-5", 2, "is one side")
	fails(on+"label dead 1", 2, "cannot be a label")
	fails(on+"compare --fail-if slower", 3, "")
	fails(on+"compare --fail-if slower:2s", 3, "")
	fails(on+"compare --fail-if slower:90%", 0, "")
	fails(on+"compare --fail-if faster", 2, "--fail-if takes")
	fails(on+"compare --on lunch", 2, "--on takes")
	fails(on+"compare --with /nowhere.db", 1, "cannot be read")
	says(on+"compare --on settled", "Settled is slower by")
	says(on+"compare --with "+dir+"/var/lib/calmdawn/casebook.db 1-5 6-8", "Ready is faster by")
	says(on+"history", "came out")
	// What was taken back before a boot could feel it is not compared by, and
	// waits for no restart.
	says(on + "disable --yes service:cue-update.service")
	says(on+"compare", ") is slower by", "1 change waits for a restart", "change 3")
	says(on, "1 change is waiting for a restart")
	says(on + "undo 3 --yes")
	says(on+"compare", ") is slower by", "since change 2 (")
	if out, _, _ := call(t,
		on); !strings.Contains(out, "No change is in force any more") ||
		strings.Contains(out, "waiting") {
		t.Error(out)
	}
	// The report, in its three forms; a file that is there is kept.
	out := t.TempDir()
	for form, want := range map[string]string{
		"html": "xml;base64,",
		"md":   "| **usable (login of maria)** |",
		"json": "calmdawn.report/1",
	} {
		file := filepath.Join(out, "report."+form)
		says(on+"report --before change:1 --after change:1 --by Shop "+file, "sooner than before",
			"The report stands in")
		text, err := os.ReadFile(file)
		if err != nil || !strings.Contains(string(text), want) ||
			!strings.Contains(string(text), "Shop") {
			t.Errorf("%s: %v\n%.300s", form, err, text)
		}
		fails(on+"report "+file, 1, "is there already")
	}
	says(on+"report --replace --pictures "+out+"/plots "+out+"/report.html", "later than before",
		"boot.svg")
	fails(on+"report "+out+"/report.doc", 2, "ends in .html, .md or .json")
	fails(on+"report "+out+"/none/report.md", 1, "there is no folder")
	for _, words := range []string{
		"demo reboot /usr", "demo reboot", "demo reboot --times 0 " + dir, on + "boots --spans " +
			"--boot zz", on + "boots --boot aa",
	} {
		if _, errs, code := call(t, words); code == 0 || !strings.Contains(errs, "calmdawn") {
			t.Errorf("calmdawn %s: %d %s", words, code, errs)
		}
	}
	for _, damage := range []string{"", "LPKSHHRH", strings.Repeat("x", 5000)} {
		testtree.Add(t, dir,
			map[string]string{
				"var/log/journal/5a1c0ffee0ddba11ad0be5eeda571e55/system@damaged.journal": damage,
			})
		says(on+"boots", "system@damaged.journal", "the last 5 boots")
	}
}

// TestComingBack proposes, applies, puts on trial, guards, and comes back to a
// machine that has drifted.
func TestComingBack(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	on := "--root " + dir + " "
	expect := func(words string, code int, wants ...string) {
		t.Helper()
		out, errs, got := call(t, words)
		if got != code {
			t.Fatalf("calmdawn %s: %d; want %d\n%s%s", words, got, code, out, errs)
		}
		for _, want := range wants {
			if !strings.Contains(out+errs, want) {
				t.Errorf("calmdawn %s does not say %q:\n%s%s", words, want, out, errs)
			}
		}
	}
	file := filepath.Join(t.TempDir(), "meridian.toml")
	expect(on+"propose "+file, 0, "to switch off", "to keep unless you decide otherwise")
	expect(on+"propose "+file, 1, "is there already")
	expect(on+"propose", 0, "calmdawn.proposal/1", "# Star-catalogue indexer")
	edit := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte("format = 'calmdawn.proposal/1'\nmachine = "+
			"'another'\nmade = 2026-11-01T08:00:00Z\n"+text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	decide := func(id, do string) string {
		return "[[decide]]\nid = '" + id + "'\ndo = '" + do + "'\n"
	}
	edit(decide("service:palisade.service", "disable"))
	expect(on+"apply --yes "+file, 1, "is protected", "nothing was changed")
	edit(decide("service:star-index.service", "disabel"))
	expect(on+"apply --yes "+file, 1, "entry 1, service:star-index.service")
	expect(on+"apply --yes /dev/null", 1, "is not a")
	edit(decide("service:star-index.service", "disable") +
		decide("service:elsewhere.service", "disable") +
		decide("service:lanternfile-crawl.service", "delay") +
		decide("service:cue-update.service", "keep"))
	expect(on+"apply "+file, 2, "nobody is there to be asked")
	expect(on+"apply --yes --next --guard on "+file, 4, "made for another", "does not exist here",
		"comes later", "Done, as change 1", "The boot guard is on", "1 item of the proposal does "+
			"not exist")
	expect(on+"apply --yes --trial 14d "+file, 4, "is off already", "Done, as change 2")
	expect(on+"apply --yes "+file, 4, "Nothing to do")
	expect(on+"guard", 0, "The boot guard is on, for change 1")
	expect(on+"drift", 0, "Nothing is different since survey 1")
	expect(on+"drift --keep", 0, "Kept as survey 2")
	expect("demo reboot "+dir+" --times 4", 0)
	expect(on+"guard", 0, "No boot guard is on")
	expect(on+"compare", 0, "since the proposal (changes 1 and 2)")
	expect(on+"trial", 0, "None is due", "11 days left", "trial keep 2")
	expect(on+"trial keep 1", 2, "is not on trial")
	expect(on+"trial until 1d 1", 0, "is on trial until")
	expect(on+"trial keep 2", 0, "stays")
	expect(on+"trial keep x", 2, "not the number of a change")
	expect(on+"trial return 1 --yes", 0, "taken back")
	expect(on+"trial", 0, "returned", "kept on")
	expect(on+"drift 2", 0, "1 difference was made by its changes")
	expect(on+"drift", 0, "Nothing is different since survey 3")
	expect(on+"drift 1 7", 2, "there is no survey 7")
	expect(on+"drift --surveys", 0, "   1  ", "with change 2", "   3  ", "with change 3")
	expect(on+"disable --yes --trial soon service:cue-update.service", 2, "a trial ends on a day")
	expect(on+"disable --yes --guard maybe service:cue-update.service", 2, "--guard takes")
	// What came on again since it was switched off, and what is new.
	expect(on+"disable --yes service:cue-update.service", 0)
	testtree.Add(t, dir, map[string]string{
		"etc/systemd/system/multi-user.target.wants/cue-update.service": "-> " +
			"/usr/lib/systemd/system/cue-update.service",
		"etc/xdg/autostart/new.desktop": "[Desktop Entry]\n" +
			"Type=Application\nName=Newcomer\nExec=/usr/bin/env\n",
	})
	expect(on+"drift", 3, "on again", "had switched it off", "new", "Newcomer")
}

func TestCallsThatAreOff(t *testing.T) {
	on := "--root " + demoMachine(t) + " "
	for _, c := range []struct {
		words, says string
		code        int
	}{
		{"lst", "did you mean list", 2},
		{on + "off star-index", "disable ITEM?", 2},
		{on + "status", "did you mean calmdawn --root", 2},
		{on + "restore", "undo last?", 2},
		{on + "snapshot", "drift --keep?", 2},
		{on + "list broken", "list --state broken", 2},
		{on + "list Heavy boot", "list --grade heavy --when boot", 2},
		{on + "list --grade much", "heavy, moderate, light", 2},
		{on + "list no-such-words", "", 3},
		{on + "disable murmurpost", "'program:murmurpost.desktop@*' means all", 2},
		{on + "disable murmurpost.DESKTOP@*", "--yes", 2},
		{"--root /etc/passwd list", "is a file", 1},
		{on + "history extra", "not the number of a change", 2},
		{on + "forecast star-index --by 3m", "goes with --delay", 2},
		{on + "forecast --best --delay", "give --delay items", 2},
		{on + "list --kind toy", "program, service, task", 2},
		{on + "list --sort size", "cpu-now, disk, grade", 2},
		{on + "list --json --csv", "choose one", 2},
		{on + "note service:star-index.service", "your text", 2},
		{on + "list --colour", "unknown flag", 2},
		{"--color red list", "always or never", 2},
		{on + "show", "one item", 2},
		{on + "show service:star-indx.service", "service:star-index.service", 2},
		{on + "disable service:star-index.service", "--yes", 2},
		{on + "disable --yes service:star-index.service service:nothing-like-it", "has no item", 2},
		{on + "enable --yes task:/etc/cron.d/rings-lamp#4bb3", "there is no user", 1},
		{on + "disable", "flags that choose", 2},
		{on + "disable service:nothing*", "no item like", 2},
		{on + "disable --maker nobody", "matches", 2},
		{on + "disable --yes service:palisade.service", "--insist service:palisade.service", 1},
		{on + "disable --yes service:star-index.service service:NetworkManager.service --insist " +
			"service:star-index.service", "the network depends on it", 1},
		{on + "undo", "--all", 2},
		{on + "undo x", "not the number", 2},
		{on + "undo 4 --yes", "no change 4", 2},
		{on + "undo 3-1 --yes", "a range such as", 2},
		{on + "undo 40-50 --yes", "no change of 40-50 is in force", 2},
		{"--root /nowhere list", "no such folder", 1},
		{"--root /proc/self/fd list", "neither a folder etc", 1},
		{"demo --keep /usr", "not empty", 1},
	} {
		out, errs, code := call(t, c.words)
		if code != c.code || !strings.Contains(errs, c.says) ||
			strings.Contains(errs, "goroutine") {
			t.Errorf("calmdawn %s: exit %d, %q; want %d and %q", c.words, code, errs, c.code,
				c.says)
		}
		if strings.Contains(out, "Done") {
			t.Errorf("calmdawn %s changed something", c.words)
		}
	}
}

func TestReadOnlyDiskIsReadAndNotChanged(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	dir := filepath.Join(t.TempDir(), "disk")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("none", dir, "tmpfs", 0, ""); err != nil {
		t.Fatal(err)
	}
	defer unix.Unmount(dir, unix.MNT_DETACH)
	on := "--root " + dir + " "
	if _, errs, code := call(t, "demo --keep "+dir); code != 0 {
		t.Fatal(errs)
	}
	if _, errs, code := call(t, on+"disable --yes service:star-index.service"); code != 0 {
		t.Fatal(errs)
	}
	if err := unix.Mount("none", dir, "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := call(t, on+"history"); code != 0 || !strings.Contains(out, "1 change, "+
		"1 in force") {
		t.Errorf("history: %d %s%s", code, out, errs)
	}
	if out, errs, code := call(t, on+"list"); code != 0 || strings.Contains(out, "not read") {
		t.Errorf("list: %d %s%s", code, out, errs)
	}
	for _, words := range []string{"undo 1 --yes", "disable --yes service:dome-agent.service"} {
		if _, errs, code := call(t, on+words); code != 1 || !strings.Contains(errs, "read-only") {
			t.Errorf("%s: %d %s", words, code, errs)
		}
	}
}

func TestHostileCasebooksAreRefused(t *testing.T) {
	for name, make := range map[string]func(p string) error{
		"a link that leads out": func(p string) error { return os.Symlink("/etc/passwd", p) },
		"a FIFO":                func(p string) error { return unix.Mkfifo(p, 0o644) },
		"not a database": func(p string) error {
			return os.WriteFile(p, []byte(strings.Repeat("garbage ", 999)), 0o644)
		},
		"another machine's": func(p string) error {
			other := demoMachine(t)
			if err := os.WriteFile(other+"/etc/machine-id",
				[]byte("ffffffffffffffffffffffffffffffff\n"), 0o644); err != nil {
				return err
			}
			if err := os.RemoveAll(other + "/var/lib/calmdawn"); err != nil {
				return err
			}
			call(t, "--root "+other+" disable --yes service:star-index.service")
			return os.Rename(other+"/var/lib/calmdawn/casebook.db", p)
		},
	} {
		dir := demoMachine(t)
		if err := os.Remove(dir + "/var/lib/calmdawn/casebook.db"); err != nil {
			t.Fatal(err)
		}
		if err := make(dir + "/var/lib/calmdawn/casebook.db"); err != nil {
			t.Fatal(err)
		}
		before := testtree.Snapshot(t, dir+"/etc", nil)
		_, errs, code := call(t, "--root "+dir+" disable --yes service:star-index.service")
		if code != 1 || !strings.Contains(errs, "casebook") {
			t.Errorf("%s: exit %d, %s", name, code, errs)
		}
		if d := testtree.Diff(before, testtree.Snapshot(t, dir+"/etc", nil)); d != "" {
			t.Errorf("%s: something was changed:\n%s", name, d)
		}
		if out, _, code := call(t,
			"--root "+dir+" list"); code != 0 || !strings.Contains(out, "not read") {
			t.Errorf("%s: list: exit %d", name, code)
		}
	}
}

// TestListsAreFilteredSortedAndKept goes through the ways to look at a list.
func TestListsAreFilteredSortedAndKept(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	testtree.Add(t, dir, map[string]string{"etc/xdg/autostart/sum.desktop": "[Desktop Entry]\n" +
		"Type=Application\nName==1+1\nExec=/usr/bin/sum\n"})
	for _, c := range []struct{ words, want, not string }{
		{"list cue --kind task,program", "cue-update-helper.desktop", "cue-store.service"},
		{"list --role update --maker pellin", "cue-update.service", "lanternfile"},
		{"list --when later", "larder-push.timer", "star-index"},
		{"list --state broken,off --owner teo", "ring-kiosk.desktop@teo", "murmurpost"},
		{"list --advice keep", "palisade.service", "cue-update"},
		{"list --group maker", "Varnholt Domes\n", "no such thing"},
		{"list --csv", ",'=1+1,", "\n=1+1"},
		{"list --all --save", "cron.service", "not read"},
		{"note service:star-index.service needed at night", "Noted on Star-catalogue indexer", "!"},
		{"list needed at night", "needed at night", "cue-update"},
		{"show service:star-index.service", "needed at night", "Look up"},
		{"note --remove star-index", "The note on Star-catalogue indexer of every machine is taken",
			"!"},
		{"note --remove star-index", "There is no note on Star-catalogue indexer", "!"},
		{"show service:dome-viewer.service", "Look up     Varnholt Domes dome-viewer " +
			"dome-viewer.service", "needed at night"},
		{"show service:cue-update.service", "can go", "Look up"},
	} {
		out, errs, code := call(t, on+c.words)
		if code != 0 || !strings.Contains(out, c.want) || strings.Contains(out, c.not) {
			t.Errorf("calmdawn %s: exit %d, %s%s\nwant %q and not %q", c.words, code, out, errs,
				c.want, c.not)
		}
	}
	says(t, on+"list nothing-like-it", 3, "None of the")
	out, _, _ := call(t, on+"list --sort title --csv")
	var titles []string
	for l := range strings.Lines(out) {
		titles = append(titles, strings.ToLower(strings.Split(l, ",")[2]))
	}
	if !slices.IsSorted(titles[2:]) { // behind the heading and the one that is led by an apostrophe
		t.Errorf("not sorted by title: %v", titles)
	}
	own := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "calmdawn")
	testtree.Add(t, own, map[string]string{"roles.toml": "[[rule]]\nrole = \"dome\"\nadvice = " +
		"\"keep\"\nreason = \"the dome\"\npackages = [\"dome-*\"]\n"})
	if out, _, _ := call(t, on+"list --role dome"); !strings.Contains(out, "dome-viewer.service") {
		t.Errorf("the technician's own rule is not heeded: %s", out)
	}
	testtree.Add(t, own, map[string]string{"roles.toml": "[[rule]]\nadvice = \"burn\"\n"})
	if _, errs, code := call(t, on+"list"); code != 1 || !strings.Contains(errs, "roles.toml") {
		t.Errorf("a rule that is off: %d %s", code, errs)
	}
}

func TestADiskThatIsNotMountedIsSaid(t *testing.T) {
	dir := demoMachine(t)
	if err := os.RemoveAll(dir + "/var/lib/calmdawn"); err != nil { // as where /var is elsewhere
		t.Fatal(err)
	}
	testtree.Add(t, dir, map[string]string{"etc/fstab": "/dev/a / ext4 defaults 0 1\nUUID=1 /var " +
		"ext4 defaults 0 2\n/dev/c /home ext4 noauto 0 2\n"})
	if out, _, _ := call(t, "--root "+dir+" list"); !strings.Contains(out, "MIND: /var is a file "+
		"system of its own") || strings.Contains(out, "/home is") {
		t.Errorf("list: %s", out)
	}
	if _, errs, code := call(t,
		"--root "+dir+
			" disable --yes service:star-index.service"); code != 1 ||
		!strings.Contains(errs, "not mounted") {
		t.Errorf("disable: %d %s", code, errs)
	}
	if _, err := os.Stat(dir + "/var/lib/calmdawn"); err == nil {
		t.Error("a casebook was made where /var is not mounted")
	}
}

func TestALockedCasebookIsSaid(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	on := "--root " + dir + " "
	call(t, on+"disable --yes service:star-index.service")
	db, err := sql.Open("sqlite", dir+"/var/lib/calmdawn/casebook.db")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.ExecContext(t.Context(), "BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	before := testtree.Snapshot(t, dir+"/etc", nil)
	if _, errs, code := call(t,
		on+
			"disable --yes service:dome-agent.service"); code != 1 ||
		!strings.Contains(errs, "casebook") || !strings.Contains(errs, "locked") {
		t.Errorf("exit %d, %s", code, errs)
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir+"/etc", nil)); d != "" {
		t.Errorf("something was changed:\n%s", d)
	}
	conn.Close()
}

func TestNothingFromAMachineReachesTheTerminalRaw(t *testing.T) {
	dir := demoMachine(t)
	testtree.Add(t, dir, map[string]string{
		"etc/xdg/autostart/evil\x1b[2J.desktop": "[Desktop Entry]\nType=Application\n" +
			"Name=\x1b]0;owned\x07\u202egnp.exe\nExec=/bin/\x1b[31msh\n",
		"etc/hostname.d/": "",
	})
	if err := os.WriteFile(dir+"/etc/hostname", []byte("\x1b[31mred\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, words := range []string{
		"", "list", "show program:evil\x1b[2J.desktop", "show program:evil", "list --json",
	} {
		out, errs, _ := call(t, "--root "+dir+" "+words)
		for _, bad := range []string{"\x1b", "\x07", "\u202e"} {
			if strings.Contains(out+errs, bad) &&
				!(bad == "\u202e" && strings.Contains(words, "json")) {
				t.Errorf("calmdawn %q printed %q", words, bad)
			}
		}
	}
}

func TestScreensOfEveryWidth(t *testing.T) {
	dir := demoMachine(t)
	for _, width := range []int{80, 100, 160} {
		for _, words := range []string{"list --all", "history", "show service:star-index.service"} {
			var out bytes.Buffer
			args := append([]string{"--root", dir, "--color", "always"}, strings.Fields(words)...)
			cli.Run(args, cli.Streams{
				In:    strings.NewReader(""),
				Out:   &out,
				Err:   &out,
				Width: width,
			})
			for l := range strings.Lines(out.String()) {
				plain := ansi.Strip(strings.TrimRight(l, "\n"))
				if len(plain) > width && !strings.Contains(plain, "calmdawn --root") {
					t.Errorf("%s at %d columns: %d in %q", words, width, len(plain), plain)
				}
				if strings.IndexFunc(plain, func(r rune) bool { return r > 126 }) >= 0 {
					t.Errorf("%s: not ASCII where the locale is not UTF-8: %q", words, plain)
				}
			}
			for id := range strings.FieldsSeq(out.String()) {
				if strings.HasPrefix(id, "program:") && strings.Contains(id, "...") {
					t.Errorf("the id %s was cut at %d columns", id, width)
				}
			}
			if words == "list --all" && width == 160 &&
				!strings.Contains(out.String(), "program:humdrift-scrobe.desktop@teo") {
				t.Errorf("no ids at %d columns", width)
			}
		}
	}
}

func TestDocumentsFollowTheirSchemas(t *testing.T) {
	on := "--root " + demoMachine(t) + " --json "
	for _, c := range []struct{ words, schema string }{
		{"list --all", "list-1"},
		{"show service:loan-db.service", "item-1"},
		{"disable --yes service:star-index.service task:/etc/cron.d/mast#619c", "change-1"},
		{"compare", "compare-1"},
		{"report", "report-1"},
		{"drift", "drift-1"},
		{"trial", "trial-1"},
		{"guard", "guard-1"},
		{"undo 1 --yes", "change-1"},
		{"history", "history-1"},
		{"boots --spans", "boots-1"},
		{"compare 1-2 3-5", "compare-1"},
		{"conditions", "conditions-1"},
		{"recorder status", "recorder-1"},
		{"--version", "version-1"},
		{"forecast --best", "forecast-1"},
		{"forecast service:star-index.service", "forecast-1"},
	} {
		out, errs, code := call(t, on+c.words)
		if code != 0 {
			t.Fatalf("%s: %s", c.words, errs)
		}
		schematest.Check(t, c.schema, []byte(out))
		if !strings.HasPrefix(out, "{\n  \"format\": \"calmdawn.") {
			t.Errorf("%s is not named by its first field: %.40s", c.words, out)
		}
	}
}

// TestForecastsCountFromTheMachineAsItIsSetUp decides on items without a
// restart in between: what is decided is no part of what can still be saved.
func TestForecastsCountFromTheMachineAsItIsSetUp(t *testing.T) {
	ring.Needs(t, ring.Outer)
	on := "--root " + demoMachine(t) + " "
	type saving struct{ Median, Low, High float64 }
	type forecast struct {
		Ready struct {
			Now    float64
			Saving saving
		}
		Items []struct{ ID string }
	}
	best := func() (f forecast) {
		t.Helper()
		out, errs, code := call(t, on+"forecast --best --json")
		if code != 0 || json.Unmarshal([]byte(out), &f) != nil {
			t.Fatalf("%d %s", code, errs)
		}
		return f
	}
	first := best()
	sum, decided := 0.0, []string{}
	for n := range 3 {
		f := best()
		id := f.Items[0].ID
		verb := []string{"disable", "delay", "delay"}[n]
		out, errs, code := call(t, on+verb+" --yes --json "+id)
		var c struct{ Forecast saving }
		if code != 0 || json.Unmarshal([]byte(out), &c) != nil {
			t.Fatalf("%s %s: %d %s", verb, id, code, errs)
		}
		sum += c.Forecast.Median
		decided = append(decided, id)
	}
	last := best()
	for _, id := range decided {
		for _, it := range last.Items {
			if it.ID == id {
				t.Errorf("%s is decided, and recommended again", id)
			}
		}
		if out, _, _ := call(t, on+"propose"); strings.Contains(out, "id = '"+id+"'") {
			t.Errorf("%s is decided, and proposed again", id)
		}
	}
	gone := first.Ready.Now - last.Ready.Now // of medians, which add up nearly
	if sum < 30 || math.Abs(sum-gone) > 0.03*sum {
		t.Errorf("three changes save %.1f s by their forecasts; ready is to come %.1f s sooner",
			sum, gone)
	}
	says(t, on, 0, "With 3 items switched off or delayed since")
	// what waits and switches something on: in boots of before it ran
	says(t, on+"undo 1 --yes", 0)
	if back := best(); back.Items[0].ID != decided[0] {
		t.Errorf("what is on again comes first: %+v", back.Items)
	}
}

// TestWhatComesBackIsSaid switches an item off, and has somebody else switch it
// on again.
func TestWhatComesBackIsSaid(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	says(t, on+"disable --yes service:dome-agent.service", 0)
	link := "/etc/systemd/system/multi-user.target.wants/dome-agent.service"
	_ = os.Remove(dir + link)
	must(t, os.Symlink("/usr/lib/systemd/system/dome-agent.service", dir+link))
	says(t, on, 0, "1 item is on again although it was switched off or delayed", "drift")
	says(t, on+"history", 0, "from the next boot on; 1 item is on again")
	says(t, on+"list", 0, "on again, change 1")
	says(t, on+"show service:dome-agent.service", 0, "switched it on again since")
	says(t, on+"drift", 3, "on again")
	says(t, on+"delay --yes --by 20m service:star-cache.service", 0)
	says(t, "demo reboot "+dir+" --times 4", 0)
	says(t, on+"compare", 0, "is on again although a change switched it off",
		"(on again: it explains nothing of this)", "cache was delayed past settled")
	says(t, on+"compare --fail-if slower", 0)
}

// TestALauncherIsProtectedAsWhatItLaunches adds a crontab line that guards the
// machine: the daemon behind it may not go either, and no page recommends it.
func TestALauncherIsProtectedAsWhatItLaunches(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	must(t, os.WriteFile(dir+"/etc/cron.d/clamav-scan",
		[]byte("@daily root /usr/bin/loan-report\n"), 0o644))
	says(t, on+"forecast service:cron.service", 0, "is protected: it launches", "Next: look at")
	says(t, on+"disable --yes service:cron.service", 1, "--insist service:cron.service")
}

// TestOursIsOurs has the recorder put in. It is no item that was added, gets no
// advice, and goes by its own command alone.
func TestOursIsOurs(t *testing.T) {
	ring.Needs(t, ring.Middle)
	on := "--root " + demoMachine(t) + " "
	before, _, _ := call(t, on)
	says(t, on+"recorder on --yes", 0)
	after, _, _ := call(t, on)
	second := func(text string) string { return strings.Split(text, "\n")[1] }
	if second(before) != second(after) {
		t.Errorf("%s\nwith the recorder\n%s", second(before), second(after))
	}
	if out, _, _ := call(t, on+"list"); strings.Contains(out, "recorder") {
		t.Errorf("it is listed among what was added:\n%s", out)
	}
	if out, _, _ := call(t, on+"propose"); strings.Contains(out, "recorder") {
		t.Errorf("it is proposed:\n%s", out)
	}
	says(t, on+"disable --yes service:star-index.service", 0)
	says(t, on+"undo --all --yes", 0, "The boot recorder stays", "Change 2 is taken back")
	says(t, on+"recorder status", 0, "The recorder is on")
	says(t, on+"recorder off --yes", 0)
}

// TestQuestionsWithoutAnAnswerYet end with a status of their own.
func TestQuestionsWithoutAnAnswerYet(t *testing.T) {
	on := "--root " + demoMachine(t) + " "
	says(t, on+"disable --yes service:star-index.service", 0, "Those boots are simulated")
	says(t, on+"compare --fail-if slower", 5, "Not known yet")
	says(t, on+"compare --since change:1", 0, "since change 1")
	for _, words := range []string{"compare --since change:99", "report --since 2100-01-01 x.md"} {
		says(t, on+words, 2, "begins where --since asks")
	}
	says(t, on+"compare --since soon", 2, "--since takes")
	for _, words := range []string{
		"note service:star-index.service x", "label x 1", "guard off", "drift --surveys",
	} {
		says(t, on+"--json "+words, 2, "prints no document")
	}
}

// TestDriftTellsWhatWeDidApart keeps surveys between changes and undos.
func TestDriftTellsWhatWeDidApart(t *testing.T) {
	on := "--root " + demoMachine(t) + " "
	says(t, on+"drift --keep", 0)
	says(t, on+"disable --yes --state broken", 0)
	says(t, on+"disable --yes service:star-index.service", 0)
	says(t, on+"drift 1", 0, "Nothing is different", "differences were made by its changes")
	says(t, on+"drift", 0, "Nothing is different since survey 2")
	says(t, on+"drift --keep", 0)
	between, _, code := call(t, on+"--json drift 1 3")
	if code != 0 || strings.Contains(between, `"gone"`) {
		t.Errorf("%d %s", code, between)
	}
	says(t, on+"undo --all --yes", 0)
	says(t, on+"drift 1", 0, "Nothing is different")
	if again, _, code := call(t, on+"--json drift 1 3"); code != 0 || again != between {
		t.Errorf("the same surveys differ otherwise after an undo:\n%s\nbefore it\n%s", again,
			between)
	}
}

// TestDelaysCanBeChanged delays what is delayed, and several of which some are
// off.
func TestDelaysCanBeChanged(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	const index, cache = "service:star-index.service", "service:star-cache.service"
	says(t, on+"delay --yes --by 3m "+index, 0)
	says(t, on+"delay --yes --by 5m "+index, 0, "Done, as change 2")
	says(t, on+"show "+index, 0, "300s after")
	says(t, on+"delay --yes --by 5m "+index, 0, "Nothing to do")
	says(t, on+"disable --yes "+index, 0)
	says(t, on+"delay --yes "+index, 1, "it is off; switch it on first")
	says(t, on+"delay --yes "+index+" "+cache, 0, "Left out: "+index+" is off already", "Done")
	says(t, on+"delay --yes "+index+" service:lanternfile-crawl.service", 0, "Done")
	says(t, on+"undo --all --yes", 0)
}

// TestWhatStartsOnDemandCanFollowLater switches a service off, then what could
// start it; and looks at a daemon that launches others.
func TestWhatStartsOnDemandCanFollowLater(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	before := testtree.Snapshot(t, dir, withoutCasebook)
	const cups = "service:cups.service"
	says(t, on+"disable --yes --insist "+cups+" "+cups, 0, "cups.socket", "Done, as change 1")
	says(t, on+"disable --yes --and-starters "+cups, 0, "cups.socket", "Done, as change 2")
	says(t, on+"disable --yes --and-starters "+cups, 0, "Nothing to do")
	says(t, on+"disable service:cron.service", 2, "7 tasks stop with it: Warm up")
	says(t, on+"undo --all --yes", 0)
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, withoutCasebook)); d != "" {
		t.Error(d)
	}
}

// TestWhatIsNotKnownIsNotDenied has a casebook that cannot be read.
func TestWhatIsNotKnownIsNotDenied(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	testtree.Add(t, dir, map[string]string{"var/lib/calmdawn/casebook.db": "no casebook"})
	out, _, code := call(t, on)
	if code != 0 || strings.Contains(out, "No change was made") ||
		!strings.Contains(out, "Whether it was changed is not known") ||
		!strings.Contains(out, "1 place was not read") {
		t.Errorf("%d %s", code, out)
	}
}
