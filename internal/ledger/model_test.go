//go:build linux

package ledger_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// A model says what should stand at the paths of the small tree. It knows which
// of the drafts are in force, and what somebody else has made of the rest.
type model struct {
	standing map[int]int64 // draft to its change
	lines    []string      // that somebody appended to the table
	other    string        // what /etc/w/other leads to where no draft has a say
	foreign  bool          // somebody edited at all
}

func (m *model) has(draft int) bool { return m.standing[draft] != 0 }

// expect is what the tree holds then, a line a path.
func (m *model) expect() map[string]string {
	table := ""
	for _, line := range []string{"a", "b", "c", "d"} {
		if line == "a" && m.has(5) || line == "b" && m.has(0) || line == "d" && m.has(1) {
			line = "#" + line
		}
		table += line + "\n"
	}
	all := map[string]string{
		"/etc/table":   table + strings.Join(m.lines, ""),
		"/etc/w/other": "-> " + m.other,
		"/etc/twin":    "x\ny\n",
		"/etc/w/link":  "-> /usr/x",
	}
	if m.has(2) {
		delete(all, "/etc/w/link")
	}
	for draft, p := range map[int]string{
		3: "/etc/w/other",
		4: "/etc/new/deep/one",
		5: "/etc/new/two",
	} {
		if m.has(draft) {
			all[p] = "-> /dev/null"
		}
	}
	if m.has(6) {
		all["/etc/twin"] = "x\n#y\n"
	}
	all["/etc/twin2"] = all["/etc/twin"]
	return all
}

// differs compares the tree with the model.
func (m *model) differs(dir string) string {
	var wrong []string
	want := m.expect()
	for _, p := range []string{
		"/etc/table", "/etc/w/other", "/etc/twin", "/etc/twin2", "/etc/w/link",
		"/etc/new/deep/one", "/etc/new/two",
	} {
		found := ""
		if target, err := os.Readlink(dir + p); err == nil {
			found = "-> " + target
		} else if text, err := os.ReadFile(dir + p); err == nil {
			found = string(text)
		}
		if found != want[p] {
			wrong = append(wrong, fmt.Sprintf("%s holds %q, and should %q", p, found, want[p]))
		}
	}
	return strings.Join(wrong, "\n")
}

// TestModel plays random sequences of decisions, stops, edits of others and
// undos in any order, and holds the tree against the model after each step.
func TestModel(t *testing.T) {
	rounds := ring.Pick[uint64](8, 25, 25)
	if n, err := strconv.Atoi(os.Getenv("CALMDAWN_ROUNDS")); err == nil {
		rounds = uint64(n)
	}
	seen := map[string]int{}
	for seed := range rounds {
		playModel(t, rand.New(rand.NewPCG(seed, 11)), fmt.Sprintf("seed %d", seed), seen)
		if t.Failed() {
			return
		}
	}
	for _, what := range []string{"decision", "undo", "stopped", "somebody's line", "somebody's " +
		"link", "conflict", "open", "left", "overwritten"} {
		if seen[what] == 0 && rounds >= 25 {
			t.Errorf("in %d rounds there was no %s: %v", rounds, what, seen)
		}
	}
	t.Log(seen)
}

func playModel(t *testing.T, rng *rand.Rand, name string, seen map[string]int) {
	dir, r := tree(t)
	clean := testtree.Snapshot(t, dir, skip)
	m := &model{standing: map[int]int64{}, other: "/usr/y"}
	var story []string
	say := func(format string, values ...any) {
		story = append(story, fmt.Sprintf(format, values...))
	}
	for range 14 {
		switch n := rng.IntN(10); {
		case n == 0:
			line := fmt.Sprintf("somebody %d\n", len(m.lines))
			f, err := os.OpenFile(dir+"/etc/table", os.O_APPEND|os.O_WRONLY, 0)
			if err == nil {
				_, err = f.WriteString(line)
				err = errors.Join(err, f.Close())
			}
			if err != nil {
				t.Fatal(err)
			}
			m.lines, m.foreign = append(m.lines, line), true
			say("somebody appends a line")
			seen["somebody's line"]++
		case n == 1 && !m.has(3):
			m.other, m.foreign = fmt.Sprintf("/somebody/%d", rng.IntN(100)), true
			if err := errors.Join(os.Remove(dir+"/etc/w/other"),
				os.Symlink(m.other, dir+"/etc/w/other")); err != nil {
				t.Fatal(err)
			}
			say("somebody leads the link to %s", m.other)
			seen["somebody's link"]++
		default:
			stop := rng.IntN(3) == 0
			draft := rng.IntN(fileDrafts)
			m.step(t, rng, dir, r, draft, stop, say, seen)
		}
		if d := m.differs(dir); d != "" {
			t.Fatalf("%s: %s\n%s", name, strings.Join(story, "; "), d)
		}
	}
	for _, draft := range slices.Sorted(maps.Keys(m.standing)) {
		if m.has(draft) {
			m.step(t, rng, dir, r, draft, false, say, seen)
		}
	}
	if d := m.differs(dir); d != "" {
		t.Fatalf("%s: %s\n%s", name, strings.Join(story, "; "), d)
	}
	if d := testtree.Diff(clean, testtree.Snapshot(t, dir, skip)); d != "" && !m.foreign {
		t.Fatalf("%s: %s\nnot exactly as it was:\n%s", name, strings.Join(story, "; "), d)
	}
}

// step carries a draft out, or takes it back where it stands, and may stop that
// at a random operation. Then somebody may edit, and it is settled.
func (m *model) step(
	t *testing.T,
	rng *rand.Rand,
	dir string,
	r *machine.Root,
	draft int,
	stop bool,
	say func(string, ...any),
	seen map[string]int,
) {
	id := m.standing[draft]
	left, stopped := 4+rng.IntN(24), false
	if stop {
		r.Hook = func(o machine.Op) error {
			if o.Name != "open" && o.Name != "read" && o.Name != "list" {
				if left--; left < 0 {
					panic(errInjected)
				}
			}
			return nil
		}
	}
	made, err := func() (n int64, err error) {
		defer func() {
			r.Hook = nil
			if p := recover(); p != nil {
				if p != any(errInjected) {
					panic(p)
				}
				stopped = true
			}
		}()
		return do(r, drafts[draft], id)
	}()
	if err != nil {
		t.Fatalf("draft %d, undo %d: %v", draft, id, err)
	}
	if !stopped {
		seen[map[bool]string{true: "undo", false: "decision"}[id != 0]]++
		say("draft %d (undoes %d) is change %d", draft, id, made)
		if m.standing[draft] = made; id != 0 {
			m.standing[draft] = 0
		}
		return
	}
	seen["stopped"]++
	theirs := ""
	if draft == 3 && rng.IntN(2) == 0 { // before it is settled, somebody edits the very path
		theirs = fmt.Sprintf("/between/%d", rng.IntN(100))
		if err := errors.Join(os.Remove(dir+"/etc/w/other"),
			os.Symlink(theirs, dir+"/etc/w/other")); err != nil {
			t.Fatal(err)
		}
		m.foreign = true
	}
	led := opened(t, r)
	defer led.Close()
	last := change.Change{}
	if all := led.Changes(); len(all) > 0 {
		last = all[len(all)-1]
	}
	for _, c := range led.Changes() {
		if c.Status == change.Planned && theirs == "" {
			t.Errorf("change %d is open, and nobody was in the way: %+v", c.ID, c.Settlement)
		}
	}
	began := last.ID != 0 &&
		(last.Undoes == id && id != 0 ||
			id == 0 && last.Verb != change.Undo && last.ID > m.newest())
	say("draft %d (undoes %d) is stopped, began %v, is %s; somebody in between: %q", draft, id,
		began, last.Status, theirs)
	switch {
	case began && len(last.Open()) > 0:
		seen["open"]++
		overwrite := rng.IntN(2) == 0
		var leave []string
		if !overwrite {
			leave = last.Open()
		}
		if _, err := led.Resolve(last, overwrite, leave); err != nil {
			t.Fatal(err)
		}
		m.standing[draft] = 0
		if overwrite {
			seen["overwritten"]++
		} else {
			seen["left"]++
			m.other = theirs
		}
	case began && id == 0 && last.Status == change.Done:
		m.standing[draft] = last.ID // it was stopped when all was done
		m.takeBackTheirs(t, rng, led, theirs, last.ID, draft, seen)
	case began && id != 0:
		m.standing[draft] = 0 // the undo was finished
		if theirs != "" {
			m.other = theirs
		}
	case id != 0:
		m.takeBackTheirs(t, rng, led, theirs, id, draft, seen)
	case theirs != "":
		m.other = theirs
	}
}

// takeBackTheirs takes a change back whose path somebody else has edited since:
// a conflict, which a person decides on.
func (m *model) takeBackTheirs(
	t *testing.T,
	rng *rand.Rand,
	led *ledger.Ledger,
	theirs string,
	id int64,
	draft int,
	seen map[string]int,
) {
	if theirs == "" {
		return
	}
	clock = clock.Add(time.Second)
	u := ledger.Undoing{At: clock, By: "test"}
	_, err := led.PlanUndo(id, u)
	var conflict *change.Conflict
	if !errors.As(err, &conflict) {
		t.Fatalf("no conflict, but %v", err)
	}
	seen["conflict"]++
	if u.Overwrite = rng.IntN(2) == 0; !u.Overwrite {
		u.Leave = []string{"/etc/w/other"}
		m.other = theirs
	}
	plan, err := led.PlanUndo(id, u)
	if err == nil {
		_, err = led.CarryOut(plan)
	}
	if err != nil {
		t.Fatal(err)
	}
	m.standing[draft] = 0
}

// newest is the highest number that the model knows.
func (m *model) newest() (n int64) {
	for _, id := range m.standing {
		n = max(n, id)
	}
	return n
}
