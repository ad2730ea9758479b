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
		Ready: Of(20*sec, Log), Phases: []Phase{{Name: "userspace", Took: 18 * sec}},
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
		if use := b.ProgramUse(c.program, c.owner); use.CPU != c.cpu || use.Ran != c.ran {
			t.Errorf("%s of %s: %+v", c.program, c.owner, use)
		}
	}
}

// TestLinesClaimPrograms has items launch one program, wrappers become another
// one, and says of each process whose it is.
func TestLinesClaimPrograms(t *testing.T) {
	bell := func(args ...string) Line { return Line{Program: "/usr/bin/bell", Args: args} }
	among := func(l Line, others ...Line) Line {
		for _, o := range others {
			l.Others = append(l.Others, o.Args)
		}
		return l
	}
	east, west, bare := bell("--at", "east"), bell("--at", "west"), bell()
	process := func(words string, names ...string) Program {
		return Program{Words: strings.Fields(words), Names: names, Owner: "maria", Parent: -1,
			CPU: time.Second}
	}
	toEast, toWest := process("/bin/sh /usr/bin/bell --at east"),
		process("/lib/bell 1 /bin/sh /usr/bin/bell --at west")
	hidden := process("/lib/bell 2", "bell", "bell")
	named := process("/usr/bin/bell")
	long := Line{Program: "/usr/bin/a-name-of-twenty-two"}
	for name, c := range map[string]struct {
		line     Line
		programs []Program
		want     []int
	}{
		"by its words":          {among(east, west), []Program{toEast, toWest}, []int{0}},
		"before it was another": {among(west, east), []Program{toEast, toWest}, []int{1}},
		"without words":         {among(bare, east), []Program{toEast, named}, []int{1}},
		"nobody's words":        {among(bell("--so"), west), []Program{named}, []int{0}},
		"alone, by its name":    {east, []Program{hidden}, []int{0}},
		"the one that is left":  {among(west, east), []Program{toEast, hidden}, []int{1}},
		"the other is known":    {among(east, west), []Program{toEast, hidden}, []int{0}},
		"nobody knows":          {among(east, west), []Program{hidden, hidden}, nil},
		"the file of that name": {bare, []Program{process("/opt/bell/bell", "bell")}, nil},
		"a link, by its bare name": {
			bare, []Program{process("/opt/bell/bell bell", "bell")}, []int{0},
		},
		"a long name": {long, []Program{process("/lib/x", "x", "a-name-of-twent")}, []int{0}},
	} {
		t.Run(name, func(t *testing.T) {
			got := Boot{Programs: c.programs}.Launched(c.line, "maria")
			if !slices.Equal(got, c.want) {
				t.Errorf("%v; want %v", got, c.want)
			}
		})
	}
	b := Boot{
		Programs: []Program{toEast, process("/usr/bin/session"), hidden},
		Rest:     Of(time.Second, Recorder),
	}
	b.Programs[1].Name = "session"
	u := b.LoginUse([]OwnedLine{{east, ""}, {west, "teo"}})
	if u.Items != 2*time.Second || u.Session != time.Second || u.Whole() != 4*time.Second ||
		len(u.Most) != 1 || u.Most[0].Name != "session" {
		t.Errorf("%+v", u)
	}
}

// TestTheFirstTryCounts merges what a log and a service manager know of items
// that failed and were started again: the manager knows the last try alone.
func TestTheFirstTryCounts(t *testing.T) {
	log := []Boot{{ID: "a", Ready: Of(9*sec, Log), Spans: []Span{
		{Native: "flaky", Begin: Of(sec, Log), End: Of(2*sec, Log), Tries: 3, Failed: true,
			FailedAt: Of(2*sec, Log), Again: []Try{{3 * sec, 4 * sec}, {5 * sec, 6 * sec}}},
		{Native: "simple", End: Of(sec, Log), Tries: 2},
		{Native: "by hand", Begin: Of(sec, Log), End: Of(2*sec, Log)},
		{Native: "once", Begin: Of(sec, Log), End: Of(2*sec, Log)},
	}}}
	bus := []Boot{{ID: "a", Ready: Of(9*sec, Bus), Spans: []Span{
		{Native: "flaky", Begin: Of(5*sec, Bus), Tries: 3, Failed: true},
		{Native: "simple", Begin: Of(4*sec, Bus), End: Of(4*sec, Bus), Tries: 2},
		{Native: "by hand", Begin: Of(3600*sec, Bus), End: Of(3601*sec, Bus)},
		{Native: "once", Begin: Of(sec-ms, Bus), End: Of(2*sec-ms, Bus)},
	}}}
	for name, b := range map[string]Boot{
		"log first": Merge(log, bus)[0],
		"log last":  Merge(bus, log)[0],
	} {
		for native, ends := range map[string]time.Duration{
			"flaky": 2 * sec, "simple": sec, "by hand": 2 * sec, "once": 2*sec - ms,
		} {
			s, _ := b.Span(native)
			if s.End.Value != ends || s.Begin.Known && s.Begin.Value > s.End.Value {
				t.Errorf("%s: %s: %+v; want it done at %v", name, native, s, ends)
			}
		}
		flaky, _ := b.Span("flaky")
		for at, want := range map[time.Duration]time.Duration{
			2500 * ms: 2 * sec, 5500 * ms: 4 * sec, 7 * sec: 6 * sec,
		} {
			if got, ok := flaky.DoneBy(at); !ok || got != want {
				t.Errorf("%s: by %v it was done at %v, %v; want %v", name, at, got, ok, want)
			}
		}
	}
	// what fails after the boot is over is none of it; what always does is told
	late := Boot{Ready: Of(9*sec, Log), Spans: []Span{
		{Native: "x", Begin: Of(sec, Log), Failed: true, FailedAt: Of(100*sec, Log)},
	}}
	quiet := Boot{Ready: Of(9*sec, Log)}
	if b := Judge([]Boot{late, quiet, quiet}, nil)[0]; !b.Fit() {
		t.Errorf("odd for what failed later: %v", b.Odd)
	}
	if got := FailsAlways([]Boot{log[0], log[0], log[0]}); !slices.Equal(got, []string{"flaky"}) {
		t.Errorf("what always fails: %v", got)
	}
}

// TestWaitingIsCutForEverySource merges a log that tells of a question with a
// service manager's clocks, which do not.
func TestWaitingIsCutForEverySource(t *testing.T) {
	whole := func(from Source) Boot {
		return Boot{ID: "a", Ready: Of(50*sec, from), Sources: []Source{from}, Spans: []Span{
			{Native: "early", Begin: Of(sec, from), End: Of(2*sec, from)},
			{Native: "late", Begin: Of(40*sec, from), End: Of(45*sec, from)},
		}}
	}
	log := TakeOut(whole(Log), []Wait{{"a", 5 * sec, 8 * sec}, {"b", 20 * sec, 12 * sec}})
	for name, got := range map[string]Boot{
		"log first": Merge([]Boot{log}, []Boot{whole(Bus)}, []Boot{whole(Recorder)})[0],
		"log last":  Merge([]Boot{whole(Recorder)}, []Boot{whole(Bus)}, []Boot{log})[0],
	} {
		late, _ := got.Span("late")
		if got.Ready != Of(30*sec, Bus) || late.End != Of(25*sec, Bus) || len(got.Waits) != 2 {
			t.Errorf("%s: ready %v, late %v, %v", name, got.Ready, late, got.Waits)
		}
	}
}

// TestUsable works out when one could work, over random courses and logins, and
// holds it against its definition.
func TestUsable(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	known := 0
	for range 500 {
		ready := time.Duration(2+rng.IntN(20)) * sec
		login := time.Duration(rng.IntN(60)) * sec
		var busy [][2]time.Duration
		for range 4 {
			at := time.Duration(rng.IntN(70)) * sec
			busy = append(busy, [2]time.Duration{at, at + time.Duration(rng.IntN(9))*sec})
		}
		b := Boot{Ready: Of(ready, Bus), Course: courseOf(120*sec, 1, busy...),
			Logins: []Login{{User: "maria", Began: login}}}
		if rng.IntN(4) == 0 {
			b.Logins = nil
			login = 0
		}
		settled, quiet := QuietRule.Since(b.Course, max(ready, login))
		u := b.Usable()
		if u.Known != quiet || u.Known && u.Value != settled-max(0, login-ready) {
			t.Fatalf("ready %v, login %v, busy %v: %+v; settled %v", ready, login, busy, u, settled)
		}
		if !u.Known {
			continue
		}
		known++
		parts := ready + (settled - max(ready, login)) // before ready, and after both
		if u.Value != parts || b.Quietens().Value != settled {
			t.Fatalf("%v; its parts are %v, and it went quiet at %v", u.Value, parts, settled)
		}
		alone := b.Logins == nil
		if (u.Kind == NoLogin) != alone || u.Waited.Known == alone {
			t.Fatalf("%+v", u)
		}
		// a passphrase before all of it: it comes as much sooner
		later := Boot{Ready: Of(ready+7*sec, Bus), Course: slices.Clone(b.Course),
			Logins: slices.Clone(b.Logins)}
		for i := range later.Course {
			later.Course[i].At += 7 * sec
		}
		for i := range later.Logins {
			later.Logins[i].Began += 7 * sec
		}
		if cut := TakeOut(later, []Wait{{"x", 0, 7 * sec}}).Usable(); cut.Value != u.Value {
			t.Fatalf("with a passphrase before: %v; without %v", cut.Value, u.Value)
		}
	}
	if known < 100 {
		t.Errorf("only %d were known", known)
	}
	quiet := Boot{Ready: Of(5*sec, Bus), Logins: []Login{
		{User: "maria", Began: 20 * sec}, {User: "teo", Began: 22 * sec},
	},
		Course: courseOf(90*sec, 1, [2]time.Duration{0, 4 * sec},
			[2]time.Duration{20 * sec, 25 * sec}, [2]time.Duration{40 * sec, 42 * sec})}
	if u := quiet.Usable(); !u.Idle || u.Unsure == "" {
		t.Errorf("%+v", u)
	}
	if b := Judge([]Boot{quiet}, nil)[0]; len(b.Odd) != 1 || !strings.Contains(b.Odd[0], "teo") {
		t.Errorf("odd: %v", b.Odd)
	}
	old := Boot{Ready: Of(5*sec, Bus), Course: quiet.Course,
		Settled: Settled{Login: Of(20*sec, Bus)}}
	if u := old.Usable(); u.Kind != "login of somebody" || u.Value != 10*sec {
		t.Errorf("a record of the first form: %+v", u)
	}
	if u := (Boot{Ready: Of(5*sec, Log)}).Usable(); u.Known {
		t.Errorf("without a record: %+v", u)
	}
}
