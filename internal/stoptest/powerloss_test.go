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
	"testing"
	"time"

	"calmdawn/internal/ring"
	"calmdawn/internal/stoptest"
	"calmdawn/internal/testtree"
)

// A disk is what one file system has of a run: the calls that concern it.
type disk struct{ dir string }

func (d disk) has(p string) bool { return p == d.dir || strings.HasPrefix(p, d.dir+"/") }

// A loss is a state that power loss leaves. The run had come to its nth call.
// Of what was not synced then, these calls had reached the disk.
type loss struct {
	n       int
	reached map[int]bool
}

// losses lists what a loss before the nth call may leave, by the rules of
// ext4's ordered mode (docs/design/ledger.md). What was done to names and
// attributes reaches a disk in its order, so that a first part of it has. A
// sync of anything brings all of it. Data of a file reaches the disk in any
// order, and surely with a sync of that file.
func losses(ops []stoptest.Op, disks []disk, n int, rng *rand.Rand) []loss {
	durable := map[int]bool{}
	for _, d := range disks {
		for i, op := range ops[:n] {
			if op.Name != "sync" || !d.has(op.Path) {
				continue
			}
			for j, before := range ops[:i] {
				if d.has(before.Path) && (before.Name != "data" || before.Path == op.Path) {
					durable[j] = true
				}
			}
		}
	}
	var data []int
	names := make([][]int, len(disks))
	for i, op := range ops[:n] {
		for k, d := range disks {
			switch {
			case durable[i] || op.Name == "sync" || !d.has(op.Path):
			case op.Name == "data":
				data = append(data, i)
			default:
				names[k] = append(names[k], i)
			}
		}
	}
	open := len(data)
	for _, list := range names {
		open += len(list)
	}
	var all []loss
	add := func(chosen func(data int) bool, firsts []int) {
		l := loss{n, map[int]bool{}}
		for i := range durable {
			l.reached[i] = true
		}
		for k, list := range names {
			for _, i := range list[:firsts[k]] {
				l.reached[i] = true
			}
		}
		for k, i := range data {
			if chosen(k) {
				l.reached[i] = true
			}
		}
		all = append(all, l)
	}
	if open > 8 {
		for range 200 {
			firsts := make([]int, len(disks))
			for k, list := range names {
				firsts[k] = rng.IntN(len(list) + 1)
			}
			bits := rng.Uint64()
			add(func(k int) bool { return bits>>(k%64)&1 == 1 }, firsts)
		}
		return all
	}
	firsts := make([]int, len(disks))
	var each func(k int)
	each = func(k int) {
		if k < len(disks) {
			for firsts[k] = 0; firsts[k] <= len(names[k]); firsts[k]++ {
				each(k + 1)
			}
			return
		}
		for bits := range 1 << len(data) {
			add(func(k int) bool { return bits>>k&1 == 1 }, append([]int{}, firsts...))
		}
	}
	each(0)
	return all
}

// TestPowerLoss records what calls of the built program write. It rebuilds
// disks as power loss may leave them, goes on as a person would, and takes all
// back. With CALMDAWN_STOPS=all it goes through thousands, else through a
// hundred at most.
func TestPowerLoss(t *testing.T) {
	ring.Needs(t, ring.Middle)
	s := &stage{dir: t.TempDir(), calls: map[string]int{}}
	s.first(t)
	rounds := ring.Pick(0, 20, 100)
	if os.Getenv("CALMDAWN_STOPS") == "all" {
		rounds = 10_000
	}
	seed := uint64(time.Now().UnixNano())
	if given, err := strconv.ParseUint(os.Getenv("CALMDAWN_SEED"), 10, 64); err == nil {
		seed = given
	}
	t.Logf("CALMDAWN_SEED=%d", seed)
	rng := rand.New(rand.NewPCG(seed, 10))
	type round struct {
		scene scene
		ops   []stoptest.Op
		dir   string
		loss  loss
		next  string
	}
	var all []round
	lossy := append([]scene{}, scenes[0], scenes[2], scenes[3], scenes[5], scenes[7])
	for _, sc := range lossy {
		for _, elsewhere := range []bool{false, true} {
			if elsewhere && strings.Contains(sc.call, "guard") {
				continue // it needs the casebook inside
			}
			sc := sc
			if elsewhere {
				sc.name += " elsewhere"
				sc.call = "--casebook BOOK/book.db " + sc.call
			}
			at := s.copy(t, "first", "scene "+sc.name)
			must(t, os.Mkdir(at+"/book", 0o755))
			for _, words := range sc.before {
				if elsewhere {
					words = "--casebook BOOK/book.db " + words
				}
				if out, code := calm(at, words); code != 0 {
					t.Fatalf("%s: %d %s", words, code, out)
				}
			}
			whole := s.copy(t, "scene "+sc.name, "whole "+sc.name)
			ops, r, err := stoptest.Record(program, words(whole, sc.call)...)
			must(t, err)
			if r.Code != 0 {
				t.Fatalf("%s: %d %s", sc.name, r.Code, r.Output)
			}
			every := map[int]bool{}
			for i := range ops {
				every[i] = true
			}
			rebuilt := s.rebuild(t, sc, whole, ops, every, "none")
			if d := testtree.Diff(snapshot(t, whole), snapshot(t, rebuilt)); d != "" {
				t.Fatalf("%s: made again without a loss, it is another machine:\n%s", sc.name, d)
			}
			must(t, os.RemoveAll(rebuilt))
			disks := []disk{{whole + "/machine"}}
			if elsewhere {
				disks = append(disks, disk{whole + "/book"})
			}
			states := 0
			for n := range len(ops) {
				for _, l := range losses(ops, disks, n+1, rng) {
					states++
					all = append(all, round{sc, ops, whole, l, nexts[rng.IntN(len(nexts))]})
				}
			}
			t.Logf("%s: %d calls, %d states", sc.name, len(ops), states)
			if len(ops) < 40 || states < len(ops) {
				t.Errorf("%s: only %d calls and %d states", sc.name, len(ops), states)
			}
		}
	}
	rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	work := make(chan round)
	var wait sync.WaitGroup
	for worker := range 2 {
		wait.Go(func() {
			for r := range work {
				dir := s.rebuild(t, r.scene, r.dir, r.ops[:r.loss.n], r.loss.reached,
					strconv.Itoa(worker))
				last := r.ops[r.loss.n-1]
				story := fmt.Sprintf("%s, power lost after call %d of %d (%s %s), then %s\n",
					r.scene.name, r.loss.n, len(r.ops), last.Name,
					strings.TrimPrefix(last.Path, r.dir), r.next)
				if wrong := s.goOn(t, dir, r.scene, r.next); wrong != "" {
					var left []string
					for i, op := range r.ops[:r.loss.n] {
						if !r.loss.reached[i] && op.Name != "sync" {
							left = append(left,
								fmt.Sprintf("%d %s %s", i, op.Name,
									strings.TrimPrefix(op.Path, r.dir)))
						}
					}
					t.Errorf("%slost: %s\n%s", story, strings.Join(left, "; "), wrong)
				}
				must(t, os.RemoveAll(dir))
			}
		})
	}
	for _, r := range all[:min(rounds, len(all))] {
		work <- r
	}
	close(work)
	wait.Wait()
}

// rebuild makes those of the recorded calls again that reached the disk, on
// the files that the scene begins with.
func (s *stage) rebuild(
	t testing.TB,
	sc scene,
	recorded string,
	ops []stoptest.Op,
	reached map[int]bool,
	name string,
) string {
	dir := s.copy(t, "scene "+sc.name, "loss "+name)
	move := strings.NewReplacer(recorded, dir)
	for i, op := range ops {
		op.Path = move.Replace(op.Path)
		if op.Name == "rename" {
			op.Other = move.Replace(op.Other)
		}
		if reached[i] && strings.HasPrefix(op.Path, dir) {
			_ = op.Make() // what failed in the run, or builds on what is lost, fails here too
		}
	}
	return dir
}

// goOn does what comes next and takes all back; it returns what is wrong then.
func (s *stage) goOn(t testing.TB, dir string, sc scene, next string) string {
	book := ""
	if strings.HasPrefix(sc.call, "--casebook") {
		book = "--casebook BOOK/book.db "
	}
	var story strings.Builder
	for _, words := range []string{"history", next, "undo --all --yes", "recorder off --yes"} {
		out, code := calm(dir, book+words)
		fmt.Fprintf(&story, "$ %s\n%s[%d]\n", words, out, code)
		if strings.Contains(out, "panic") || strings.Contains(out, "goroutine") || code < 0 ||
			code > 5 || code != 0 && words != next {
			return story.String()
		}
	}
	if d := testtree.Diff(s.pristine, snapshot(t, dir)); d != "" {
		return story.String() + "the machine is not as it was:\n" + d
	}
	if left, _ := filepath.Glob(dir + "/machine/var/lib/calmdawn/.calmdawn-*"); len(left) > 0 {
		return story.String() + fmt.Sprintf("left behind: %v", left)
	}
	return ""
}

// words are those of a call, with what stands for the scene's files.
func words(dir, call string) []string {
	replaced := strings.NewReplacer("FILE", dir+"/proposal.toml", "BOOK", dir+"/book").Replace(call)
	return strings.Fields("--root " + dir + "/machine " + replaced)
}

// first makes the demo machine that scenes begin with.
func (s *stage) first(t testing.TB) {
	first := filepath.Join(s.dir, "first")
	must(t, os.Mkdir(first, 0o755))
	if out, err := exec.Command(program, "demo", "--keep",
		first+"/machine").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	must(t, os.WriteFile(first+"/proposal.toml", []byte(proposal), 0o600))
	cron := first + "/machine/etc/cron.d"
	info, err := os.Stat(cron)
	must(t, err)
	must(t, os.Link(cron+"/mast", cron+"/mast.twin")) // no mechanism reads a name with a dot
	must(t, os.Chtimes(cron, info.ModTime(), info.ModTime()))
	s.pristine = snapshot(t, first)
}
