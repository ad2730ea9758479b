package forecast

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

const sec = time.Second

// A step is a unit of a made-up boot, in seconds: it begins when the last of
// after is done, waits, reads and computes.
type step struct {
	name       string
	kind       string
	after      []string
	wait, work float64
	background float64
	read       float64 // what it reads takes so long if nothing else reads
	later      float64 // reading in the background
}

const diskGives = 20e6 // bytes a second

// bootOf plays a boot by the rules that the replay claims, in small steps of
// time, and returns it as it would be recorded.
func bootOf(processors int, steps []step) boot.Boot {
	const tick = 0.001
	type state struct{ left, wait, back, begin, end, used, read, later, got, seen float64 }
	at := map[string]*state{}
	for _, s := range steps {
		at[s.name] = &state{
			begin: -1,
			end:   -1,
			left:  s.work,
			wait:  s.wait,
			back:  s.background,
			read:  s.read,
			later: s.later,
		}
	}
	var courses = map[string][]boot.Use{}
	all := []string{}
	var machine []boot.Use
	total, busy, got := 0.0, 0.0, 0.0
	var looked boot.Use
	ticks := 0
	for now := 0.0; now < 200; now += tick {
		running, reading := []*state{}, []*state{}
		pending := false
		for _, s := range steps {
			st := at[s.name]
			free := true
			for _, a := range s.after {
				free = free && at[a].end >= 0
			}
			if st.begin < 0 && free {
				st.begin = now
			}
			if st.begin >= 0 && st.end < 0 {
				switch {
				case st.wait > 0:
					st.wait -= tick
				case st.read > 1e-9:
					reading = append(reading, st)
				case st.left > 1e-9:
					running = append(running, st)
				}
				if st.wait <= 1e-9 && st.read <= 1e-9 && st.left <= 1e-9 {
					st.end = now
				}
			}
			if st.end >= 0 && st.back > 1e-9 {
				running = append(running, st)
			}
			if st.end >= 0 && st.later > 1e-9 {
				reading = append(reading, st)
			}
			pending = pending || st.end < 0 || st.back > 1e-9 || st.later > 1e-9
		}
		share := min(1, float64(processors)/float64(max(1, len(running))))
		for _, st := range running {
			if st.end < 0 {
				st.left -= tick * share
			} else {
				st.back -= tick * share
			}
			st.used += tick * share
			total += tick * share
		}
		for _, st := range reading {
			each := tick / float64(len(reading))
			if st.end < 0 {
				st.read -= each
			} else {
				st.later -= each
			}
			st.got += each
			got += each
			busy += each
		}
		if ticks%1000 == 0 { // the recorder looks at disks once a second
			looked = boot.Use{Read: int64(got * diskGives), Disk: time.Duration(busy * 1e9)}
			for _, st := range at {
				st.seen = st.got
			}
		}
		if ticks%100 == 0 {
			for _, s := range steps {
				if st := at[s.name]; st.begin >= 0 {
					courses[s.name] = append(courses[s.name], boot.Use{
						At:   time.Duration(now * 1e9),
						CPU:  time.Duration(st.used * 1e9),
						Read: int64(st.seen * diskGives),
					})
				}
			}
			machine = append(machine, boot.Use{
				At:   time.Duration(now * 1e9),
				CPU:  time.Duration(total * 1e9),
				Read: looked.Read,
				Disk: looked.Disk,
			})
		}
		ticks++
		if !pending && len(running)+len(reading) == 0 && ticks%1000 == 1 {
			break
		}
	}
	b := boot.Boot{ID: "x", Processors: processors, Goal: "goal.target", Course: machine}
	for _, s := range steps {
		st := at[s.name]
		d := func(s float64) boot.Figure { return boot.Of(time.Duration(s*1e9), boot.Bus) }
		b.Spans = append(b.Spans, boot.Span{
			Native: s.name,
			Begin:  d(st.begin),
			End:    d(st.end),
			Type:   s.kind,
			After:  s.after,
			CPU:    d(st.used),
			Course: courses[s.name],
			Labels: boot.Service,
		})
		all = append(all, s.name)
	}
	goal := &b.Spans[len(b.Spans)-1]
	goal.Labels = boot.Goal
	goal.Pulls = all[:len(all)-1]
	b.Ready = goal.End
	return b
}

func bare(b boot.Boot) boot.Boot { // only totals
	b.Course = nil
	b.Spans = append([]boot.Span{}, b.Spans...)
	for i := range b.Spans {
		b.Spans[i].Course = nil
	}
	return b
}

func without(steps []step, names ...string) []step {
	var left []step
	for _, s := range steps {
		gone := false
		for _, n := range names {
			gone = gone || s.name == n
		}
		if gone {
			continue
		}
		var after []string
		for _, a := range s.after {
			keep := true
			for _, n := range names {
				keep = keep && a != n
			}
			if keep {
				after = append(after, a)
			}
		}
		s.after = after
		left = append(left, s)
	}
	return left
}

// TestSmallBoots forecasts boots whose answers can be worked out by hand.
func TestSmallBoots(t *testing.T) {
	goal := func(after ...string) step { return step{name: "goal.target", after: after} }
	chain := []step{
		{name: "a.service", kind: "oneshot", wait: 2},
		{name: "b.service", kind: "oneshot", after: []string{"a.service"}, wait: 3},
		{name: "c.service", kind: "oneshot", wait: 4},
		goal("a.service", "b.service", "c.service"),
	}
	crowd := []step{
		{name: "a.service", kind: "oneshot", work: 4},
		{name: "b.service", kind: "oneshot", work: 4},
		{name: "c.service", kind: "simple", background: 4},
		goal("a.service", "b.service", "c.service"),
	}
	readers := []step{
		{name: "a.service", kind: "oneshot", read: 4},
		{name: "b.service", kind: "oneshot", read: 4},
		{name: "c.service", kind: "simple", later: 4},
		goal("a.service", "b.service", "c.service"),
	}
	mixed := []step{
		{name: "a.service", kind: "oneshot", read: 4},
		{name: "b.service", kind: "oneshot", work: 4},
		{name: "c.service", kind: "oneshot", after: []string{"b.service"}, read: 3},
		goal("a.service", "b.service", "c.service"),
	}
	for name, c := range map[string]struct {
		steps      []step
		processors int
		off        string
		saving     time.Duration
	}{
		// 5 s, then 4: the other one
		"the first of a chain": {chain, 2, "a.service", sec},
		"the last of a chain":  {chain, 2, "b.service", sec}, // 5, then 4
		// nothing waits for it
		"beside the chain": {chain, 2, "c.service", 0},
		// 12, then 8
		"one of three that compute, on one":          {crowd, 1, "a.service", 4 * sec},
		"the background worker, on one processor":    {crowd, 1, "c.service", 4 * sec},
		"one of three that compute, on two":          {crowd, 2, "a.service", 2 * sec}, // 6, then 4
		"with as many processors as there are units": {crowd, 3, "a.service", 0},
		"a unit that is not there":                   {chain, 2, "z.service", 0},
		// 12, then 8
		"one of three that read":           {readers, 4, "a.service", 4 * sec},
		"one that reads in the background": {readers, 1, "c.service", 4 * sec},
		// 7: reading is over when the other begins to
		"a reader beside a computer": {mixed, 1, "a.service", 0},
		// 7: now they read at the same time
		"a computer before a reader": {mixed, 1, "b.service", 0},
	} {
		for _, full := range []bool{true, false} {
			b := bootOf(c.processors, c.steps)
			if !full && c.steps[0].read > 0 {
				continue // what is not known is not forecast
			}
			if !full {
				b = bare(b)
			}
			r, err := New(b)
			if err != nil {
				t.Errorf("%s: %v", name, err)
				continue
			}
			out, _ := r.Without(Set{{Native: c.off}: true})
			if got := r.unchanged.Ready - out.Ready; (got - c.saving).Abs() > 250*time.Millisecond {
				t.Errorf("%s (courses: %v): saves %v; want %v; error %.3f", name, full, got,
					c.saving, r.Error)
			}
		}
	}
}

// TestForecastsOfRandomBoots compares forecasts with the same boots played
// without the set.
func TestForecastsOfRandomBoots(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	bad, cases, loose := 0, 0, 0
	for range 30 {
		processors := []int{1, 2, 3, 4, 8, 16}[rng.IntN(6)]
		disk := 3 * rng.Float64() * float64(rng.IntN(2))
		var steps []step
		var names []string
		for i := range 6 + rng.IntN(14) + processors {
			s := step{
				name: fmt.Sprintf("u%d.service", i),
				kind: []string{"oneshot", "notify", "simple"}[rng.IntN(3)],
			}
			for range rng.IntN(3) {
				if len(names) > 0 {
					s.after = append(s.after, names[rng.IntN(len(names))])
				}
			}
			if s.kind != "simple" {
				s.wait, s.work = rng.Float64()*2, rng.Float64()*1.5*float64(rng.IntN(2))
			}
			if s.kind != "oneshot" {
				s.background = rng.Float64() * 3 * float64(rng.IntN(2))
			}
			if s.read = rng.Float64() * disk * float64(rng.IntN(2)); s.kind == "simple" {
				s.later, s.read = s.read, 0
			}
			steps = append(steps, s)
			names = append(names, s.name)
		}
		steps = append(steps, step{name: "goal.target", after: names})
		b := bootOf(processors, steps)
		r, err := New(b)
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		if r.Error > 0.02 {
			loose++
		}
		for range 4 {
			set, off := Set{}, []string{}
			for range 1 + rng.IntN(3) {
				n := names[rng.IntN(len(names))]
				set[boot.Key{Native: n}], off = true, append(off, n)
			}
			out, _ := r.Without(set)
			truth := bootOf(processors, without(steps, off...)).Ready.Value
			cases++
			if wrong := (out.Ready - truth).Abs(); float64(wrong) > 0.10*float64(b.Ready.Value) {
				bad++
				t.Logf("%d processors, without %v: %v; it was %v, of %v", processors, off,
					out.Ready, truth, b.Ready.Value)
			}
			// Leaving something out can make a boot slower, when it lets
			// something else come in the way; but only if it really does.
			if out.Ready > r.unchanged.Ready+r.unchanged.Ready/20 && truth < b.Ready.Value {
				t.Errorf("leaving out %v is forecast to be slower: %v after %v; it was %v", off,
					out.Ready, r.unchanged.Ready, truth)
			}
		}
	}
	if loose > 1 {
		t.Errorf("%d unchanged boots are replayed with an error above 2 %%", loose)
	}
	if bad*20 > cases {
		t.Errorf("%d of %d forecasts are more than 10 %% off", bad, cases)
	}
}

// A machine of 300 units: waiting and computing, chains and background work.
func large() boot.Boot {
	rng := rand.New(rand.NewPCG(4, 5))
	var steps []step
	var names []string
	for i := range 299 {
		s := step{
			name: fmt.Sprintf("u%d.service", i),
			kind: []string{"oneshot", "notify", "simple"}[i%3],
			wait: rng.Float64() / 2,
			work: rng.Float64() / 5,
		}
		for range rng.IntN(4) {
			if len(names) > 0 {
				s.after = append(s.after, names[rng.IntN(len(names))])
			}
		}
		if s.kind == "simple" {
			s.wait, s.work, s.background = 0, 0, rng.Float64()/2
		}
		steps = append(steps, s)
		names = append(names, s.name)
	}
	return bootOf(2, append(steps, step{name: "goal.target", after: names}))
}

// BenchmarkPrepare fits the replay of a boot of 300 units.
func BenchmarkPrepare(b *testing.B) {
	for name, recorded := range map[string]boot.Boot{"courses": large(), "totals": bare(large())} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := New(recorded); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// BenchmarkAllItems forecasts each of 300 units alone, over five boots.
func BenchmarkAllItems(b *testing.B) {
	r, err := New(large())
	if err != nil {
		b.Fatal(err)
	}
	replays := []*Replay{r, r, r, r, r}
	var sets []Set
	for _, u := range r.units {
		sets = append(sets, Set{u.key: true})
	}
	for b.Loop() {
		Each(replays, sets, 0)
	}
}

// BenchmarkPlan forecasts forty decisions together, over five boots.
func BenchmarkPlan(b *testing.B) {
	r, err := New(large())
	if err != nil {
		b.Fatal(err)
	}
	replays, plan := []*Replay{r, r, r, r, r}, Scenario{Out: Set{}, Late: map[time.Duration]Set{}}
	for i, u := range r.units[:40] {
		if i%4 > 0 {
			plan.Out[u.key] = true
		} else {
			plan.Late[time.Minute] = Set{u.key: true}
		}
	}
	for b.Loop() {
		OfScenario(replays, plan)
	}
}

// TestGoingOnFromAMoment replays boots without some of their units, from a
// moment that was kept and from the beginning: both come out the same.
func TestGoingOnFromAMoment(t *testing.T) {
	kept, rng := 0, rand.New(rand.NewPCG(6, 7))
	for name, b := range map[string]boot.Boot{"large": large(), "totals": bare(large()),
		"login": loggedIn("ann")} {
		r, err := New(b)
		if err != nil {
			t.Fatal(err)
		}
		for _, off := range []Set{nil, {r.units[len(r.units)/3].key: true}} {
			r.Rebase(off)
			for i := range max(100, len(r.units)) {
				i %= len(r.units)
				alive := r.alive(map[int]bool{i: true, rng.IntN(len(r.units)): i%2 > 0,
					len(r.units) / 3: off != nil})
				if at, ok := r.apart(alive); ok && len(r.kept) > 0 &&
					r.kept[0].now < at.Seconds() {
					kept++
				}
				for range 2 { // what is kept stays as it is
					if got, want := r.rerun(alive), r.run(alive); !reflect.DeepEqual(got, want) {
						t.Fatalf("%s without %s: %v; from the beginning %v", name,
							r.units[i].key.Native, got.Ready, want.Ready)
					}
				}
			}
		}
	}
	if kept < 200 {
		t.Errorf("only %d replays went on from a moment", kept)
	}
}

// TestLaterTries replays a boot in which the goal waited for the second try of
// an item that failed. Without it, and without what kept the goal until that
// try was under way, it would have come as the rest allows.
func TestLaterTries(t *testing.T) {
	span := func(name string, begin, end float64, after ...string) boot.Span {
		of := func(s float64) boot.Figure {
			return boot.Of(time.Duration(s*float64(sec)), boot.Log)
		}
		return boot.Span{Native: name, Begin: of(begin), End: of(end), Type: "oneshot",
			Labels: boot.Service, After: append(after, "base"), Pulls: []string{"base"}}
	}
	flaky := span("flaky", 1, 2)
	flaky.Tries, flaky.Failed = 3, true
	flaky.Again = []boot.Try{{Begin: 3 * sec, End: 4 * sec}, {Begin: 5 * sec, End: 6 * sec}}
	goal := span("goal", 6, 6, "flaky", "slow")
	goal.Pulls = []string{"flaky", "slow", "base"}
	b := boot.Boot{Ready: boot.Of(6*sec, boot.Log), Goal: "goal", Processors: 4,
		Spans: []boot.Span{span("base", 0, 1), flaky, span("slow", 1, 5.5), goal}}
	r, err := New(b)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]float64{
		"flaky": 0.5, // the goal came right after slow
		"slow":  4,   // it came right after the first try: the second had not begun
	} {
		f := Of([]*Replay{r}, Set{boot.Key{Native: name}: true})
		if got := f.Saving.Median.Seconds(); got < want-0.02 || got > want+0.02 {
			t.Errorf("without %s: %.2f s sooner; want %.2f", name, got, want)
		}
	}
	holder, _ := boot.GraphOf(b, "").Holder(goal)
	if holder.Native != "flaky" {
		t.Errorf("the goal was held by %s", holder.Native)
	}
}

// loggedIn is a boot that was ready after six seconds and in which somebody
// logged in four seconds later. Two programs of theirs computed side by side,
// on two processors.
func loggedIn(user string) boot.Boot {
	course := func(from, to, cpu float64) []boot.Use {
		at := func(s float64) time.Duration { return time.Duration(s * float64(sec)) }
		return []boot.Use{{At: at(from)}, {At: at((from + to) / 2), CPU: at(cpu / 2)},
			{At: at(to), CPU: at(cpu)}}
	}
	span := func(name string, begin, end int, after ...string) boot.Span {
		return boot.Span{Native: name, Begin: boot.Of(time.Duration(begin)*sec, boot.Bus),
			End: boot.Of(time.Duration(end)*sec, boot.Bus), Type: "oneshot",
			Labels: boot.Service, After: after, Pulls: []string{"base"}}
	}
	goal := span("goal", 6, 6, "slow", "base")
	goal.Pulls = []string{"slow", "base"}
	b := boot.Boot{
		ID: user, Ready: boot.Of(6*sec, boot.Bus), Goal: "goal", Processors: 2,
		Spans:  []boot.Span{span("base", 0, 1), span("slow", 1, 6, "base"), goal},
		Logins: []boot.Login{{User: user, Began: 10 * sec}},
		Programs: []boot.Program{
			{Name: "session", Words: []string{"/session"}, Owner: user, Parent: -1,
				Began: 10 * sec, CPU: sec / 10, Course: course(10, 10.1, 0.1)},
			{Name: "sync", Words: []string{"/sync"}, Owner: user, Parent: 0, Began: 11 * sec,
				CPU: 9 * sec, Course: course(11, 20, 9)},
			{Name: "chat", Words: []string{"/chat"}, Owner: user, Parent: 0, Began: 11 * sec,
				CPU: 3 * sec, Course: course(11, 14, 3)},
		},
	}
	for ms := 0; ms <= 60_000; ms += 100 {
		at := time.Duration(ms) * time.Millisecond
		u := boot.Use{At: at}
		for _, p := range b.Programs {
			u.CPU += max(0, min(p.CPU, at-p.Began))
		}
		b.Course = append(b.Course, u)
	}
	return b
}

// TestLogins forecasts when one can work: programs follow the login, which
// follows ready, and count in the boots of whom they are.
func TestLogins(t *testing.T) {
	var replays []*Replay
	for _, user := range []string{"maria", "maria", "teo"} {
		r, err := New(loggedIn(user))
		if err != nil {
			t.Fatal(err)
		}
		replays = append(replays, r)
	}
	for name, c := range map[string]struct {
		set  Set
		kind string
		want float64 // usable sooner, of 16 s
	}{
		"the longest program": {Set{ProgramKey("/sync", ""): true}, "login of maria", 6},
		"one beside it":       {Set{ProgramKey("/chat", ""): true}, "login of maria", 0},
		"both": {
			Set{ProgramKey("/sync", ""): true, ProgramKey("/chat", ""): true},
			"login of maria", 9.9,
		},
		"the session, and so both": {Set{ProgramKey("/session", ""): true}, "login of maria", 10},
		"another's":                {Set{ProgramKey("/sync", "teo"): true}, "login of teo", 6},
		"an item of the boot":      {Set{boot.Key{Native: "slow"}: true}, "login of maria", 5},
	} {
		f := Of(replays, c.set)
		got := f.Lead()
		if off := got.Saving.Median.Seconds() - c.want; got.On != "usable" || got.Kind != c.kind ||
			off > 0.3 || off < -0.3 || (f.UsableNow-16*sec).Abs() > sec/5 {
			t.Errorf("without %s: %+v, now %v; want %.1f s of %s", name, got, f.UsableNow, c.want,
				c.kind)
		}
	}
	chosen, all := Best(replays, []Scenario{
		{Out: Set{ProgramKey("/sync", "teo"): true}},
		{Out: Set{ProgramKey("/sync", "maria"): true}},
		{Out: Set{boot.Key{Native: "slow"}: true}},
	})
	if len(chosen) != 2 || chosen[0].Index != 1 || all.Kind != "login of maria" {
		t.Errorf("the best: %+v of %+v", chosen, all)
	}
}

// TestPlans forecasts decisions of several kinds together.
func TestPlans(t *testing.T) {
	r, err := New(loggedIn("maria"))
	if err != nil {
		t.Fatal(err)
	}
	sync, chat := Set{ProgramKey("/sync", ""): true}, Set{ProgramKey("/chat", ""): true}
	slow := Set{boot.Key{Native: "slow"}: true}
	late := func(by time.Duration, set Set) map[time.Duration]Set {
		return map[time.Duration]Set{by: set}
	}
	for name, c := range map[string]struct {
		off  Set // since the boot
		plan Scenario
		want float64 // usable sooner
	}{
		"nothing": {nil, Scenario{}, 0},
		"one out, one late": {
			nil, Scenario{Out: sync, Late: late(time.Minute, chat)}, 9.9,
		},
		"late by less than the other": {nil, Scenario{Late: late(2*sec, chat)}, 0},
		"an item of the boot, and one": {
			nil, Scenario{Out: slow, Late: late(time.Minute, sync)}, 11,
		},
		"back, of what is off since": {sync, Scenario{Back: sync}, -6},
		"back, and another out":      {sync, Scenario{Back: sync, Out: slow}, -1},
		"out, of what is off since":  {sync, Scenario{Out: sync}, 0},
	} {
		r.Rebase(c.off)
		f := OfScenario([]*Replay{r}, c.plan)
		if wrong := f.Lead().Saving.Median.Seconds() - c.want; wrong > 0.3 || wrong < -0.3 {
			t.Errorf("%s: %v, want %.1f s", name, f.Lead().Saving, c.want)
		}
	}
}

// TestEarlyLogins forecasts a boot in which somebody was logged in by what the
// boot started, before it was ready, and things were started on demand.
func TestEarlyLogins(t *testing.T) {
	span := func(name string, begin, end float64, pids []int, after ...string) boot.Span {
		of := func(s float64) boot.Figure {
			return boot.Of(time.Duration(s*float64(sec)), boot.Bus)
		}
		return boot.Span{Native: name, Begin: of(begin), End: of(end), Type: "oneshot",
			Labels: boot.Service, After: after, PIDs: pids}
	}
	goal := span("goal", 8, 8, nil, "slow", "display")
	goal.Pulls = []string{"slow", "display", "first", "base"}
	b := boot.Boot{
		Ready: boot.Of(8*sec, boot.Bus), Goal: "goal", Processors: 2,
		Spans: []boot.Span{span("base", 0, 1, nil), span("first", 1, 2, nil, "base"),
			span("slow", 1, 8, nil, "base"), span("display", 2, 3, []int{9, 10}, "first", "base"),
			span("power", 2.6, 2.8, nil), span("colour", 4.5, 5, nil), span("odd", 6, 6.5, nil),
			goal},
		Logins: []boot.Login{{User: "maria", Began: 4 * sec}},
		Asks: []boot.Ask{{Unit: "power", PID: 10, At: 2500 * time.Millisecond},
			{Unit: "colour", PID: 40, At: 4400 * time.Millisecond},
			{Unit: "odd", PID: 77, At: 5900 * time.Millisecond}},
		Programs: []boot.Program{
			{Name: "session", Words: []string{"/session"}, Owner: "maria", PID: 40, Parent: -1,
				Under: boot.Key{Native: "display"}, Began: 4 * sec,
				Course: []boot.Use{{At: 4 * sec}, {At: 4100 * time.Millisecond, CPU: sec / 10}}},
			{Name: "sync", Words: []string{"/sync"}, Owner: "maria", Parent: 0, Began: 5 * sec,
				Course: []boot.Use{{At: 5 * sec}, {At: 8 * sec, CPU: 3 * sec},
					{At: 12 * sec, CPU: 7 * sec}}},
		},
	}
	for ms := 0; ms <= 60_000; ms += 100 {
		at := time.Duration(ms) * time.Millisecond
		u := boot.Use{At: at}
		for _, p := range b.Programs {
			u.CPU += boot.UsedBy(p.Course, at)
		}
		b.Course = append(b.Course, u)
	}
	r, err := New(b)
	if err != nil {
		t.Fatal(err)
	}
	session, sync := Set{ProgramKey("/session", ""): true}, Set{ProgramKey("/sync", ""): true}
	only := func(native string) Set { return Set{boot.Key{Native: native}: true} }
	for name, c := range map[string]struct {
		set     Set
		by      time.Duration
		usable  float64 // sooner, of 12 s
		ready   float64
		unasked string
	}{
		"what holds the login back": {only("first"), 0, 1, 0, "[]"},
		// the login came a second after ready, which is nobody's doing
		"what holds ready back":     {only("slow"), 0, 1, 5, "[]"},
		"what opens the session":    {only("display"), 0, 4, 0, "[{power } {colour }]"},
		"what asks":                 {session, 0, 4, 0, "[{colour }]"},
		"nobody knows who asked":    {only("odd"), 0, 0, 0, "[]"},
		"a program, a minute later": {sync, time.Minute, 4, 0, "[]"},
		"a program, soon":           {sync, 2 * sec, -2, 0, "[]"},
		"a unit, a minute later":    {only("slow"), time.Minute, 1, 5, "[]"},
	} {
		f := OfDelay([]*Replay{r}, c.set, c.by)
		off := max((f.Usable.Median.Seconds() - c.usable), c.usable-f.Usable.Median.Seconds())
		if off > 0.15 || (f.Saving.Median-time.Duration(c.ready)*sec).Abs() > sec/20 ||
			(f.UsableBefore-f.Saving.Median).Abs() > sec/20 {
			t.Errorf("without %s: %+v; want usable %v s sooner, ready %v s", name, f, c.usable,
				c.ready)
		}
		if got := fmt.Sprint(Unasked([]*Replay{r}, c.set)); c.by == 0 && got != c.unasked {
			t.Errorf("without %s nothing asks for %s; want %s", name, got, c.unasked)
		}
	}
}

// TestWhatIsDelayedHoldsNothingBack delays what two others are ordered after:
// they start when what is left of their order allows.
func TestWhatIsDelayedHoldsNothingBack(t *testing.T) {
	r, err := New(bootOf(2, []step{
		{name: "slow.service", kind: "oneshot", wait: 10},
		{name: "quick.service", kind: "oneshot", wait: 1},
		{name: "one.service", kind: "oneshot", wait: 2, after: []string{"slow.service"}},
		{name: "two.service", kind: "oneshot", wait: 3,
			after: []string{"slow.service", "quick.service"}},
		{name: "goal.target", after: []string{"slow.service", "one.service", "two.service"}},
	}))
	if err != nil {
		t.Fatal(err)
	}
	f := OfDelay([]*Replay{r}, Set{boot.Key{Native: "slow.service"}: true}, time.Minute)
	if saved := f.Saving.Median; (saved - 9*time.Second).Abs() > 200*time.Millisecond {
		t.Errorf("the machine would be ready %v sooner, not 9 s: %+v", saved, f)
	}
	held := r.held(map[int]time.Duration{0: time.Minute})
	out := held.run(held.allAlive)
	if wait := out.began[0] - out.Ready; (wait - time.Minute).Abs() > time.Second {
		t.Errorf("it starts %v after ready", wait)
	}
}
