//go:build linux && amd64

package stoptest_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/cli"
	"calmdawn/internal/ring"
	"calmdawn/internal/stoptest"
	"calmdawn/internal/testtree"
)

func demoMachine(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	must(t, os.Chmod(filepath.Dir(dir), 0o755))
	if out, err := exec.Command(program, "demo", "--keep",
		dir+"/machine").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	must(t, os.WriteFile(dir+"/proposal.toml", []byte(proposal), 0o600))
	return dir
}

// A slowPerson does something else before answering yes.
type slowPerson struct {
	first  func()
	answer *strings.Reader
}

func (p *slowPerson) Read(b []byte) (int, error) {
	if p.first != nil {
		p.first()
		p.first = nil
	}
	return p.answer.Read(b)
}

// asked makes a call in which a person is asked, and does something meanwhile.
func asked(dir, words string, meanwhile func()) (text string, code int) {
	var out bytes.Buffer
	code = cli.Run(strings.Fields("--root "+dir+"/machine "+words), cli.Streams{
		In:   &slowPerson{meanwhile, strings.NewReader("y\n")},
		Out:  &out,
		Err:  &out,
		Ask:  true,
		UTF8: true,
	})
	return out.String(), code
}

// TestWhatIsAgreedToIsWhatIsDone has other calls come between question and
// answer. A plan that is still the same is carried out, any other one is not,
// and nothing is held while the person thinks.
func TestWhatIsAgreedToIsWhatIsDone(t *testing.T) {
	ring.Needs(t, ring.Middle)
	const star, agent = "service:star-index.service", "service:dome-agent.service"
	for name, c := range map[string]struct {
		before, words, meanwhile, want string
		code                           int
	}{
		"something else": {
			"", "disable " + star, "disable --yes " + agent, "Done, as change 2", 0,
		},
		"the same": {
			"",
			"disable " + star,
			"disable --yes " + star,
			star + ": on → off is not to be done any more",
			1,
		},
		"the undo of what it undoes": {
			"disable --yes " + star, "enable " + star, "undo 1 --yes", "is not to be done any " +
				"more", 1,
		},
		"undone already": {
			"disable --yes " + star, "undo 1", "undo 1 --yes", "already undone", 1,
		},
		"one more to undo": {
			"disable --yes " + star, "undo --all", "disable --yes " + agent, "would be done now", 1,
		},
		"a proposal": {"", "apply FILE", "disable --yes " +
			"service:dome-viewer.service", "is not to be done any more", 1},
		"the recorder": {"", "recorder on", "recorder on --yes", "is not to be " +
			"done any more", 1},
	} {
		t.Run(name, func(t *testing.T) {
			dir := demoMachine(t)
			clean := snapshot(t, dir)
			if c.before != "" {
				calm(dir, c.before)
			}
			var other string
			text, code := asked(dir, strings.ReplaceAll(c.words, "FILE",
				dir+"/proposal.toml"), func() {
				out, code := calm(dir, c.meanwhile)
				other = fmt.Sprint(out, code)
			})
			if code != c.code || !strings.Contains(text, c.want) {
				t.Errorf("%d %s\nmeanwhile: %s\nwant %q", code, text, other, c.want)
			}
			allBack(t, dir)
			if d := testtree.Diff(clean, snapshot(t, dir)); d != "" {
				t.Errorf("%s\nmeanwhile: %s\nthe machine is not as it was:\n%s", text, other, d)
			}
		})
	}
	t.Run("a touched file", func(t *testing.T) {
		dir := demoMachine(t)
		cron := dir + "/machine/etc/cron.d/mast"
		text, code := asked(dir, "disable task:/etc/cron.d/mast#619c", func() {
			must(t, os.Chtimes(cron, time.Time{}, time.Unix(1e9, 0)))
		})
		if code != 1 || !strings.Contains(text, "another file of") {
			t.Errorf("%d %s", code, text)
		}
	})
}

// TestSettlingIsSaidWhateverTheAnswer stops a change, then asks for another one
// and lets nobody answer.
func TestSettlingIsSaidWhateverTheAnswer(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	clean := snapshot(t, dir)
	stopAmid(t, dir, "disable --yes "+four)
	out, code := calm(dir, "disable service:dome-agent.service")
	if code != 2 || !strings.Contains(out, "Change 1 had been interrupted; it was taken back") {
		t.Errorf("%d %s", code, out)
	}
	if d := testtree.Diff(clean, snapshot(t, dir)); d != "" {
		t.Errorf("it is settled before the question:\n%s", d)
	}
	if out, _ := calm(dir, "history"); !strings.Contains(out, "interrupted, taken back on ") {
		t.Error(out)
	}
}

// stopAmid stops a call in the midst of its edits.
func stopAmid(t *testing.T, dir, words string) {
	t.Helper()
	n, amid := 0, false
	for ; !amid; n += 7 {
		at := t.TempDir()
		if out, err := exec.Command("cp", "-a", dir+"/machine", at).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		before := snapshot(t, at)
		r, err := stoptest.Run(n+1, syscall.SIGKILL, program,
			strings.Fields("--root "+at+"/machine "+words)...)
		must(t, err)
		if !r.Stopped {
			t.Fatalf("%s was over before its edits: %s", words, r.Output)
		}
		amid = strings.Count(testtree.Diff(before, snapshot(t, at)), "\n") >= 3
		if amid {
			must(t, os.RemoveAll(dir+"/machine"))
			must(t, os.Rename(at+"/machine", dir+"/machine"))
		}
	}
}

// TestReadersTellWhatIsUnsettled has every reading command, and every changing
// one on a disk that takes no writes, tell of an interrupted change.
func TestReadersTellWhatIsUnsettled(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	stopAmid(t, dir, "disable --yes "+four)
	before := testtree.Snapshot(t, dir+"/machine", nil)
	for _, words := range []string{
		"", "list", "list --json", "show service:star-index.service", "boots", "forecast --best",
		"history", "compare", "report " + t.TempDir() + "/r.html",
		"drift", "trial", "guard", "propose " + t.TempDir() + "/p.toml",
	} {
		out, code := calm(dir, words)
		if code > 1 || !strings.Contains(out, "Change 1 was interrupted: what is shown is the "+
			"machine as it is") {
			t.Errorf("calmdawn %s: %d %s", words, code, out)
		}
	}
	if out, _ := calm(dir, "list --json"); !strings.Contains(out, `"unsettled": [`+"\n    {") {
		t.Error("the list's document has nothing unsettled")
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir+"/machine", nil)); d != "" {
		t.Errorf("a reading command wrote:\n%s", d)
	}

	tells := func(out string, code int, last string) {
		t.Helper()
		plan, refused := strings.Index(out, "This touches"), strings.Index(out, last)
		if code != 1 || !strings.Contains(out, "interrupted") || plan < 0 || refused < plan {
			t.Errorf("%d %s", code, out)
		}
	}
	// an ordinary user, first one who may read the casebook
	must(t, os.Chmod(dir+"/machine/var/lib/calmdawn", 0o755))
	must(t, os.Chmod(dir+"/machine/var/lib/calmdawn/casebook.db", 0o644))
	out, code := calmAs(dir, 65534, "disable --yes service:dome-agent.service")
	tells(out, code, "cannot be kept in this machine")
	must(t, os.Chmod(dir+"/machine/var/lib/calmdawn", 0o700))
	if out, code := calmAs(dir, 65534,
		"disable --yes service:dome-agent.service"); code != 1 ||
		!strings.Contains(out, "This touches") || !strings.Contains(out, "may not be read") {
		t.Errorf("%d %s", code, out)
	}
	must(t, unix.Mount(dir+"/machine", dir+"/machine", "", unix.MS_BIND, ""))
	defer unix.Unmount(dir+"/machine", unix.MNT_DETACH)
	must(t, unix.Mount("", dir+"/machine", "", unix.MS_BIND|unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	out, code = calm(dir, "disable --yes service:dome-agent.service")
	tells(out, code, "read-only")
}

// calmAs calls the program as another user.
func calmAs(dir string, uid uint32, words string) (string, int) {
	cmd := exec.Command(program, strings.Fields("--root "+dir+"/machine "+words)...)
	cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/bin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

// TestSignalsWaitForTheEdits sends signals while edits are made. The change is
// wholly made, the program says so, and then the signal ends the program.
func TestSignalsWaitForTheEdits(t *testing.T) {
	// who has these tests run in the background may have had them ignore it
	signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP)
	for n, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
		dir := demoMachine(t)
		r, err := stoptest.Run(70+10*n, sig, program, strings.Fields("--root "+dir+"/machine "+
			"disable --yes "+four)...)
		must(t, err)
		if r.Signal != sig || !strings.Contains(r.Output, "Done, as change 1.") {
			t.Errorf("%v: ended by %v with %d after %s\n%s", sig, r.Signal, r.Code, r.Last,
				r.Output)
		}
		if out, _ := calm(dir, "history"); !strings.Contains(out, "1 change, 1 in force.") {
			t.Error(out)
		}
		calm(dir, "undo 1 --yes")
		r, err = stoptest.Run(70, sig, program, strings.Fields("--root "+dir+"/machine apply "+
			"--yes "+dir+"/proposal.toml")...)
		must(t, err)
		if r.Signal != sig || !strings.Contains(r.Output, "came in between") {
			t.Errorf("%v amid a proposal: ended by %v with %d after %s\n%s", sig, r.Signal, r.Code,
				r.Last, r.Output)
		}
		if out, _ := calm(dir, "history"); !strings.Contains(out, "3 changes, 1 in force.") {
			t.Error(out)
		}
	}
}

// TestTwoAtOnce has two programs decide, undo and be killed at random on one
// machine. That lasts for ten seconds or a minute, or for CALMDAWN_MINUTES.
// Then all is taken back.
func TestTwoAtOnce(t *testing.T) {
	ring.Needs(t, ring.Middle)
	length := ring.Pick(0, 10*time.Second, time.Minute)
	if d, err := time.ParseDuration(os.Getenv("CALMDAWN_MINUTES") + "m"); err == nil {
		length = d
	}
	dir := demoMachine(t)
	clean := snapshot(t, dir)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	words := append([]string{"disable --yes service:loan-db.service --guard on", "delay --yes " +
		"program:humdrift.desktop@teo", "undo 2 --yes", "undo 3-9 --yes", "recorder on --yes",
		"recorder off --yes", "guard off", "trial until 14d 1", "list --save", "enable --yes " +
			"service:dome-agent.service"}, nexts...)
	var mu sync.Mutex
	calls, killed, refused := 0, 0, 0
	var wait sync.WaitGroup
	end := time.Now().Add(length)
	for worker := range 2 {
		rng := rand.New(rand.NewPCG(seed, uint64(worker)))
		wait.Go(func() {
			for time.Now().Before(end) {
				call := strings.ReplaceAll(words[rng.IntN(len(words))], "FILE",
					dir+"/proposal.toml")
				cmd := exec.Command(program, strings.Fields("--root "+dir+"/machine "+call)...)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				must(t, cmd.Start())
				var kill *time.Timer
				if rng.IntN(3) == 0 {
					after := time.Duration(rng.IntN(300)) * time.Millisecond
					kill = time.AfterFunc(after, func() { cmd.Process.Kill() })
				}
				_ = cmd.Wait()
				if kill != nil {
					kill.Stop()
				}
				mu.Lock()
				calls++
				switch code := cmd.ProcessState.ExitCode(); {
				case code < 0:
					killed++
				case code > 0:
					refused++
				}
				if strings.Contains(out.String(), "panic") ||
					strings.Contains(out.String(), "damaged") {
					t.Errorf("%s: %s", call, out.String())
				}
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	t.Logf("%d calls, %d killed, %d refused", calls, killed, refused)
	if killed < calls/20 || calls < int(length.Seconds()) {
		t.Errorf("only %d calls, %d of them killed", calls, killed)
	}
	allBack(t, dir)
	if d := testtree.Diff(clean, snapshot(t, dir)); d != "" {
		t.Errorf("the machine is not as it was:\n%s", d)
	}
	if left, _ := filepath.Glob(dir + "/machine/var/lib/calmdawn/.calmdawn-*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// allBack takes everything back, the recorder too.
func allBack(t *testing.T, dir string) {
	t.Helper()
	for _, words := range []string{"undo --all --yes", "recorder off --yes"} {
		if out, code := calm(dir, words); code != 0 {
			t.Errorf("%s: %d %s", words, code, out)
		}
	}
}
