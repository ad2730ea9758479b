package boot

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

const (
	sec = time.Second
	ms  = time.Millisecond
)

// courseOf is busy with the given share of a processor in the given stretches,
// sampled ten times a second.
func courseOf(end time.Duration, share float64, busy ...[2]time.Duration) []Use {
	var course []Use
	cpu := time.Duration(0)
	for at := time.Duration(0); at <= end; at += 100 * ms {
		course = append(course, Use{At: at, CPU: cpu})
		for _, b := range busy {
			if at >= b[0] && at < b[1] {
				cpu += time.Duration(share * float64(100*ms))
			}
		}
	}
	return course
}

func TestQuiet(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for name, c := range map[string]struct {
		course []Use
		from   time.Duration
		want   time.Duration
		found  bool
	}{
		"busy, then quiet": {
			courseOf(20*sec, 1, [2]time.Duration{0, 7 * sec}),
			2 * sec,
			7 * sec,
			true,
		},
		"quiet already": {
			courseOf(20*sec, 1, [2]time.Duration{0, sec}),
			3 * sec,
			3 * sec,
			true,
		},
		"a pause that is too short": {
			courseOf(20*sec, 1, [2]time.Duration{0, 2 * sec}, [2]time.Duration{6 * sec, 8 * sec}),
			sec,
			8 * sec,
			true,
		},
		"below the bound": {
			courseOf(10*sec, 0.05, [2]time.Duration{0, 10 * sec}),
			sec,
			sec,
			true,
		},
		"a little, all the time": {
			courseOf(10*sec, 0.2, [2]time.Duration{0, 10 * sec}),
			sec,
			0,
			false,
		},
		"the record ends before the end": {
			courseOf(9*sec, 1, [2]time.Duration{0, 6 * sec}),
			0,
			0,
			false,
		},
		"nothing recorded": {nil, 0, 0, false},
	} {
		got, found := QuietRule.Since(c.course, c.from)
		if found != c.found || found && (got-c.want).Abs() > 150*ms {
			t.Errorf("%s: %v %v; want %v %v", name, got, found, c.want, c.found)
		}
	}
	for range 200 { // whatever is called quiet is quiet, and nothing before it was
		var course []Use
		u := Use{}
		for u.At < 30*sec {
			course = append(course, u)
			u.At += time.Duration(50+rng.IntN(300)) * ms
			u.CPU += time.Duration(rng.IntN(60)*rng.IntN(2)*rng.IntN(2)) * ms
			u.Read += int64(rng.IntN(2)*rng.IntN(2)*rng.IntN(2)) * 300_000
		}
		at, found := QuietRule.Since(course, 2*sec)
		quiet := func(at time.Duration) bool {
			for step := at; step < at+QuietRule.Stretch; step += QuietRule.Step {
				cpu, read := between(course, step, step+sec)
				if cpu.Seconds() >= 0.1 || read >= 1e6 {
					return false
				}
			}
			return true
		}
		if found && !quiet(at) {
			t.Fatalf("called quiet at %v, and it was not", at)
		}
		for _, u := range course {
			if u.At >= 2*sec && (!found || u.At < at) &&
				u.At+QuietRule.Stretch <= course[len(course)-1].At && quiet(u.At) {
				t.Fatalf("quiet at %v already; said %v %v", u.At, at, found)
			}
		}
	}
}

func TestTakeOut(t *testing.T) {
	b := Boot{
		Ready: Of(20*sec, Log), Phases: []Phase{{"userspace", 18 * sec}},
		Spans: []Span{
			{Native: "before", Begin: Of(2*sec, Log), End: Of(3*sec, Log)},
			{Native: "asks", Begin: Of(4*sec, Log), End: Of(12*sec, Log)},
			{Native: "after", Begin: Of(15*sec, Log)},
		},
		Course: []Use{{At: 2 * sec}, {At: 8 * sec}, {At: 16 * sec}},
	}
	// 5 to 11, overlapping
	got := TakeOut(b, []Wait{{"b", 7 * sec, 4 * sec}, {"a", 5 * sec, 3 * sec}})
	if got.Ready.Value != 14*sec || got.Phases[0].Took != 12*sec ||
		got.Spans[0].End.Value != 3*sec || got.Spans[1].End.Value != 6*sec ||
		got.Spans[2].Begin.Value != 9*sec {
		t.Errorf("%+v", got)
	}
	if got.Course[1].At != 5*sec || got.Course[2].At != 10*sec || len(got.Waits) != 2 ||
		got.Waits[0].Took+got.Waits[1].Took != 6*sec {
		t.Errorf("%+v", got)
	}
	if b.Ready.Value != 20*sec || b.Course[1].At != 8*sec {
		t.Error("the boot that was given is another one now")
	}
}

func TestMergeKeepsTheFinest(t *testing.T) {
	began := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	log := Boot{
		ID:      "a",
		Began:   began,
		Ready:   Of(10*sec, Log),
		Sources: []Source{Log},
		Spans: []Span{
			{Native: "x", Begin: Of(2*sec, Log), End: Of(4*sec, Log), CPU: Of(sec, Log)},
			{Native: "only", End: Of(5*sec, Log)},
		},
	}
	bus := Boot{
		ID:      "a",
		Began:   began,
		Ready:   Of(10*sec+3*ms, Bus),
		Sources: []Source{Bus},
		Spans: []Span{
			{
				Native: "x",
				Begin:  Of(2*sec+ms, Bus),
				End:    Of(4*sec+ms, Bus),
				CPU:    Of(9*sec, Bus),
				After:  []string{"y"},
			}},
	}
	rec := Boot{
		ID:      "a",
		Began:   began,
		Sources: []Source{Recorder},
		Settled: Settled{FromReady: Of(3*sec, Recorder)},
		Spans: []Span{
			{Native: "x", CPU: Of(1500*ms, Recorder), Course: []Use{{At: sec}}}},
	}
	sources := [][]Boot{{log}, {bus}, {rec}, {{ID: "b", Began: began.Add(-time.Hour)}}}
	for range 6 {
		got := Merge(sources...)
		if len(got) != 2 || got[0].ID != "b" {
			t.Fatalf("%+v", got)
		}
		x, _ := got[1].Span("x")
		only, _ := got[1].Span("only")
		if got[1].Ready != bus.Ready || x.Begin != bus.Spans[0].Begin ||
			x.CPU != rec.Spans[0].CPU || len(x.After) != 1 || len(x.Course) != 1 ||
			!only.End.Known || !got[1].Settled.FromReady.Known {
			t.Errorf("%+v", got[1])
		}
		rand.Shuffle(3, func(i, j int) { sources[i], sources[j] = sources[j], sources[i] })
	}
}

func TestOddBoots(t *testing.T) {
	began := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	good := func(day int) Boot {
		return Boot{
			ID:         "x",
			Began:      began.AddDate(0, 0, day),
			Ready:      Of(30*sec, Log),
			Goal:       "goal",
			Ending:     Clean,
			Kernel:     "6.1",
			Processors: 2,
			Memory:     8e9,
			Spans: []Span{
				{Native: "always", Begin: Of(sec, Log), End: Of(2*sec, Log), Failed: true},
				{Native: "look", Labels: DiskCheck, Begin: Of(0, Log), End: Of(200*ms, Log)},
			},
		}
	}
	span := func(name string, l Label, took time.Duration, failed bool) func(*Boot) {
		return func(b *Boot) {
			b.Spans = append(b.Spans, Span{
				Native: name,
				Labels: l,
				Begin:  Of(3*sec, Log),
				End:    Of(3*sec+took, Log),
				Failed: failed,
			})
		}
	}
	for want, change := range map[string]func(*Boot){
		"":                      func(*Boot) {},
		"never became":          func(b *Boot) { b.Ready = Figure{} },
		"kernel 6.2":            func(b *Boot) { b.Kernel = "6.2" },
		"4 processors":          func(b *Boot) { b.Processors = 4 },
		"16.0 GB of memory":     func(b *Boot) { b.Memory = 16e9 },
		"disk was checked":      span("check", DiskCheck, 20*sec, false),
		"not get as far":        func(b *Boot) { b.Goal = "" },
		"emergency mode":        span("stop", Emergency, 0, false),
		"rarely.service failed": span("rarely.service", 0, sec, true),
		"put to sleep":          func(b *Boot) { b.Slept = true },
		"clock was set":         func(b *Boot) { b.Jump = Of(-3*time.Hour, Log) },
		"others on the same computer": func(b *Boot) {
			b.Recording = &Recording{Foreign: 20 * sec}
		},
	} {
		boots := []Boot{good(0), good(1), good(2), good(3)}
		change(&boots[2])
		judged := Judge(boots, nil)
		odd := strings.Join(judged[2].Odd, "; ")
		if !strings.Contains(odd, want) || (odd == "") != (want == "") || len(judged[1].Odd) > 0 ||
			len(boots[2].Odd) > 0 {
			t.Errorf("%q: %q, the one before %q", want, odd, judged[1].Odd)
		}
	}
	crashed := []Boot{good(0), good(1), good(2)}
	crashed[1].Ending = Cut
	updates := slices.Repeat([]time.Time{began.AddDate(0, 0, 1).Add(time.Hour)}, 30)
	judged := Judge(crashed, updates)
	if why := strings.Join(judged[2].Odd,
		"; "); !strings.Contains(why, "crash") || !strings.Contains(why, "30 packages") {
		t.Errorf("after a crash and an update: %q", why)
	}
}

func TestProgramsOfALogin(t *testing.T) {
	b := Boot{Programs: []Program{
		{
			Name:   "session",
			Words:  []string{"/usr/bin/session"},
			Owner:  "maria",
			Parent: -1,
			CPU:    sec,
		},
		{
			Name:   "sh",
			Words:  []string{"/usr/bin/dash", "/bin/sh", "/opt/cue/desk"},
			Owner:  "maria",
			Parent: 0,
			CPU:    2 * sec,
		},
		{
			Name:   "helper",
			Words:  []string{"/opt/cue/helper"},
			Owner:  "maria",
			Parent: 1,
			CPU:    3 * sec,
			Read:   7,
		},
		{Name: "desk", Words: []string{"/opt/cue/desk"}, Owner: "teo", Parent: -1, CPU: 5 * sec},
		{Name: "odd", Words: []string{"/opt/cue/odd"}, Owner: "teo", Parent: 9, CPU: sec},
	}}
	for _, c := range []struct {
		program, owner string
		cpu            time.Duration
		ran            bool
	}{
		{"/opt/cue/desk", "maria", 5 * sec, true},
		{"/opt/cue/desk", "", 10 * sec, true},
		{"/opt/cue/desk", "nobody", 0, false},
		{"", "maria", 0, false},
		{"/usr/bin/session", "", 6 * sec, true},
	} {
		if cpu, _, ran := b.ProgramUse(c.program, c.owner); cpu != c.cpu || ran != c.ran {
			t.Errorf("%s of %s: %v %v", c.program, c.owner, cpu, ran)
		}
	}
}
