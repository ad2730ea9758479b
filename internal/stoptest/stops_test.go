//go:build linux && amd64

package stoptest_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"calmdawn/internal/ring"
	"calmdawn/internal/stoptest"
	"calmdawn/internal/testtree"
)

var program string

func TestMain(m *testing.M) {
	stoptest.Launch()
	dir, err := os.MkdirTemp("", "calmdawn-stops-")
	if err != nil {
		panic(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil { // other users call it too
		panic(err)
	}
	if program, err = ring.Program(); err != nil {
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.RemoveAll(filepath.Dir(program))
	os.Exit(code)
}

// Four items of four mechanisms: a unit's links, an entry in a home, a line of
// a crontab that has two names, an old script.
const four = "service:star-index.service program:lanternfile.desktop@maria " +
	"task:/etc/cron.d/mast#619c service:dome-lamp.service"

// A scene is a call that is stopped, on a machine that other calls have
// prepared. MACHINE, FILE stand for the machine's folder and for a proposal.
type scene struct {
	name   string
	before []string
	call   string
}

var scenes = []scene{
	{name: "change", call: "disable --yes " + four},
	{name: "delay", call: "delay --yes --by 3m service:star-index.service " +
		"program:lanternfile.desktop@maria"},
	{name: "undo", before: []string{"disable --yes " + four}, call: "undo 1 --yes"},
	{name: "apply", call: "apply --yes FILE"},
	{
		name:   "trial return",
		before: []string{"disable --yes --trial 14d " + four},
		call:   "trial return 1 --yes",
	},
	{name: "recorder on", call: "recorder on --yes"},
	{name: "recorder off", before: []string{"recorder on --yes"}, call: "recorder off --yes"},
	{name: "guarded change", call: "disable --yes --guard on " + four},
	{name: "guard off", before: []string{"disable --yes --guard on " + four}, call: "guard off"},
}

// nexts are what a person may do then.
var nexts = []string{
	"undo --all --yes",
	"undo 1 --yes",
	"disable --yes service:dome-agent.service",
	"disable --yes " + four,
	"enable --yes service:star-index.service",
	"apply --yes FILE",
}

const proposal = `format = 'calmdawn.proposal/1'
machine = 'meridian'
made = 2026-11-25T09:00:00Z
[[decide]]
id = 'service:star-index.service'
do = 'delay'
[[decide]]
id = 'task:/etc/cron.d/mast#619c'
do = 'disable'
[[decide]]
id = 'service:dome-viewer.service'
do = 'disable'
`

// A stage holds the machines that the tests copy.
type stage struct {
	dir      string
	pristine string // snapshot of the machine as it was first
	calls    map[string]int
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func calm(dir, call string) (string, int) {
	cmd := exec.Command(program, words(dir, call)...)
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

func snapshot(t testing.TB, dir string) string {
	return testtree.Snapshot(t, dir+"/machine", func(p string) bool {
		return p == "/var/lib" // it holds the casebook; nothing else there is changed
	})
}

// setUp makes the demo machine, prepares each scene, and counts its calls.
func setUp(t testing.TB) *stage {
	s := &stage{dir: t.TempDir(), calls: map[string]int{}}
	s.first(t)
	for _, sc := range scenes {
		at := s.copy(t, "first", "scene "+sc.name)
		for _, words := range sc.before {
			if out, code := calm(at, words); code != 0 {
				t.Fatalf("%s: %d %s", words, code, out)
			}
		}
		whole := s.copy(t, "scene "+sc.name, "whole")
		r := s.stop(t, sc, whole, 0)
		if r.Code != 0 || r.Stopped {
			t.Fatalf("%s: %d %s", sc.name, r.Code, r.Output)
		}
		s.calls[sc.name] = r.Calls
		must(t, os.RemoveAll(whole))
	}
	return s
}

func (s *stage) copy(t testing.TB, from, to string) string {
	place := func(name string) string {
		return filepath.Join(s.dir, strings.ReplaceAll(name, " ", "-"))
	}
	to = place(to)
	if out, err := exec.Command("cp", "-a", place(from), to).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return to
}

func (s *stage) stop(t testing.TB, sc scene, dir string, n int) stoptest.Result {
	r, err := stoptest.Run(n, syscall.SIGKILL, program, words(dir, sc.call)...)
	must(t, err)
	return r
}

// play stops a scene before its nth call, does what comes next, takes all back,
// and returns what is wrong then.
func (s *stage) play(t testing.TB, worker int, sc scene, n int, next string) string {
	dir := s.copy(t, "scene "+sc.name, "play "+strconv.Itoa(worker))
	defer os.RemoveAll(dir)
	r := s.stop(t, sc, dir, n)
	var story strings.Builder
	fmt.Fprintf(&story, "%s stopped before call %d of %d (%s), then %s\n", sc.name, n,
		s.calls[sc.name], r.Last, next)
	if !r.Stopped {
		return story.String() + "it was not stopped: " + r.Output
	}
	if wrong := s.goOn(t, dir, sc, next); wrong != "" {
		return story.String() + wrong
	}
	return ""
}

// TestStops kills the built program before writing system calls. It does what a
// person would do next, and takes all back. The machine has to be as it was.
// With CALMDAWN_STOPS=all it goes through every call and every next one, else
// through two hundred at random.
func TestStops(t *testing.T) {
	s := setUp(t)
	type round struct {
		scene scene
		n     int
		next  string
	}
	var rounds []round
	for _, sc := range scenes {
		t.Logf("%s makes %d writing calls", sc.name, s.calls[sc.name])
		if s.calls[sc.name] < 40 {
			t.Errorf("%s makes only %d writing calls", sc.name, s.calls[sc.name])
		}
		for n := range s.calls[sc.name] {
			for _, next := range nexts {
				rounds = append(rounds, round{sc, n + 1, next})
			}
		}
	}
	if os.Getenv("CALMDAWN_STOPS") != "all" {
		seed := uint64(time.Now().UnixNano())
		if given, err := strconv.ParseUint(os.Getenv("CALMDAWN_SEED"), 10, 64); err == nil {
			seed = given
		}
		t.Logf("CALMDAWN_SEED=%d", seed)
		rng := rand.New(rand.NewPCG(seed, 15))
		rng.Shuffle(len(rounds), func(i, j int) { rounds[i], rounds[j] = rounds[j], rounds[i] })
		rounds = rounds[:ring.Pick(4, 40, 200)]
	}
	work := make(chan round)
	var wait sync.WaitGroup
	for worker := range 2 {
		wait.Go(func() {
			for r := range work {
				if wrong := s.play(t, worker, r.scene, r.n, r.next); wrong != "" {
					t.Error(wrong)
				}
			}
		})
	}
	for _, r := range rounds {
		work <- r
	}
	close(work)
	wait.Wait()
}

// TestStopsWithoutTheHome kills the built program as TestStops does. A home of
// its own file system is not mounted when the next call comes. Nothing is made
// in its place, nothing there counts as put back. Once it is mounted again all
// can be taken back.
func TestStopsWithoutTheHome(t *testing.T) {
	ring.Needs(t, ring.Middle)
	if os.Geteuid() != 0 && os.Getenv("CI") == "" {
		t.Skip("mounting takes root")
	}
	s := &stage{dir: t.TempDir(), calls: map[string]int{}}
	s.first(t)
	rng := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 39))
	for i := range ring.Pick(0, 8, 20) {
		sc := []scene{scenes[0], scenes[2]}[i%2]
		dir := s.copy(t, "first", "away "+strconv.Itoa(i))
		home, disk := dir+"/machine/home/maria", t.TempDir()+"/disk"
		must(t, os.Rename(home, disk))
		must(t, os.Mkdir(home, 0o755))
		mount := func() { must(t, unix.Mount(disk, home, "", unix.MS_BIND, "")) }
		unmount := func() { must(t, unix.Unmount(home, unix.MNT_DETACH)) }
		mount()
		t.Cleanup(func() { _ = unix.Unmount(home, unix.MNT_DETACH) })
		pristine := snapshot(t, dir)
		for _, words := range sc.before {
			if out, code := calm(dir, words); code != 0 {
				t.Fatalf("%s: %d %s", words, code, out)
			}
		}
		r := s.stop(t, sc, dir, 30+rng.IntN(60))
		unmount()
		story := fmt.Sprintf("%s stopped before %s", sc.name, r.Last)
		said, _ := calm(dir, "undo --all --yes")
		if made, err := os.ReadDir(home); err != nil || len(made) > 0 {
			t.Errorf("%s: something was made in the home's place: %v %v", story, made, err)
		}
		mount()
		if out, code := calm(dir, "undo --all --yes"); code != 0 {
			t.Errorf("%s: once it is mounted again: %d %s", story, code, out)
		}
		if d := testtree.Diff(pristine, snapshot(t, dir)); d != "" {
			t.Errorf("%s, then it said %s\nthe machine is not as it was:\n%s", story, said, d)
		}
		unmount()
		must(t, os.RemoveAll(dir))
	}
}
