//go:build linux

package boottest_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/ring"
)

// A maker generates machines at random.
type maker struct {
	rng   *rand.Rand
	files map[string]string
	names []string
}

// service adds a service that waits, computes, and goes on in the background,
// all in milliseconds.
func (g *maker) service(kind string, after []string, wait, work, background int) {
	name := fmt.Sprintf("item-%d.service", len(g.names))
	start := fmt.Sprintf("/usr/bin/burn %d; sleep %.3f; /usr/bin/burn %d", work/2,
		float64(wait)/1000, work-work/2)
	text := "[Unit]\n"
	if len(after) > 0 {
		text += "After=" + strings.Join(after, " ") + "\n"
	}
	text += "[Service]\nType=" + kind + "\n"
	switch kind {
	case "oneshot":
		text += "RemainAfterExit=yes\nExecStart=/bin/sh -c '" + start + "'\n"
	case "forking":
		text += "ExecStart=/bin/sh -c '" + start + fmt.Sprintf("; (/usr/bin/burn %d; exec sleep "+
			"1000) &'\n", background)
	default:
		text += fmt.Sprintf("ExecStart=/bin/sh -c '/usr/bin/burn %d; exec sleep 1000'\n",
			background)
	}
	if len(g.names)%4 != 3 { // what its file does not say how to install, is masked
		text += "[Install]\nWantedBy=multi-user.target\n"
	}
	g.names = append(g.names, name)
	g.files["etc/systemd/system/"+name] = text
	g.files["etc/systemd/system/multi-user.target.wants/"+name] = "-> ../" + name
}

// A span of milliseconds: at least the first, and below the second more.
type span [2]int

// randomMachine is one with 15 to 32 services, a third of which compute in the
// background only.
func randomMachine(seed uint64) *maker {
	return made(seed, 77, span{15, 18}, span{100, 1200}, span{20, 900}, span{100, 2500})
}

// shortMachine is one with 24 to 30 services that is ready within a few
// seconds.
func shortMachine(seed uint64) *maker {
	return made(seed, 78, span{24, 7}, span{20, 250}, span{10, 120}, span{20, 300})
}

// made generates a machine of so many services that wait, work and go on in the
// background for so long. Half of them do little of the last two.
func made(seed, stream uint64, services, wait, work, background span) *maker {
	g := &maker{rng: rand.New(rand.NewPCG(seed, stream)), files: map[string]string{}}
	some := func(s span) int { return s[0] + g.rng.IntN(s[1])*g.rng.IntN(2) }
	for range services[0] + g.rng.IntN(services[1]) {
		var after []string
		for range g.rng.IntN(3) {
			if len(g.names) > 0 {
				after = append(after, g.names[max(0, len(g.names)-1-g.rng.IntN(6))])
			}
		}
		waits := wait[0] + g.rng.IntN(wait[1])
		works, goesOn := some(work), some(background)
		kind := []string{"oneshot", "forking", "simple"}[g.rng.IntN(3)]
		g.service(kind, after, waits, works, goesOn)
	}
	return g
}

// A trial is a generated machine that is booted again and again.
type trial struct {
	t       testing.TB
	m       *boottest.Machine
	program string
	items   []string
	kind    string // of usable, where that is measured; empty for ready
}

// burner builds the program that computes for as long as it is told.
func burner(t testing.TB) string {
	t.Helper()
	p, err := builtBurner()
	ok(t, err)
	return p
}

var builtBurner = sync.OnceValues(func() (string, error) {
	return ring.Tool("burn", "calmdawn/internal/boottest/burn")
})

func newTrial(t testing.TB, g *maker, processors int) *trial {
	t.Helper()
	g.files["usr/bin/finish"] = whenRecorded + "systemctl --no-block poweroff\n"
	g.files["etc/systemd/system/last.service"] = "[Unit]\nAfter=graphical.target\n[Service]\n" +
		"ExecStart=/bin/sh /usr/bin/finish\n"
	m := boottest.New(t, g.files)
	m.Install(t, burner(t))
	m.Processors = processors
	tr := &trial{t: t, m: m, program: program(t)}
	for _, name := range g.names {
		tr.items = append(tr.items, "service:"+name)
	}
	tr.calm("recorder", "on", "--yes", "--boots", "1000")
	m.Boot(t) // the first boot is another one: it makes the machine's id, and applies presets
	return tr
}

func (tr *trial) calm(words ...string) string { return calm(tr.t, tr.program, tr.m, words...) }

// A measured boot, in seconds: when the figure that is forecast came, and how
// long it took until it had settled.
type measured struct{ lead, settled float64 }

func medians(all []measured) (m measured) {
	var lead, settled []float64
	for _, one := range all {
		lead, settled = append(lead, one.lead), append(settled, one.settled)
	}
	return measured{median(lead), median(settled)}
}

// boot boots until there are so many boots that are fit to compare, within
// twice as many tries. It skips if others on this computer spoilt all of them.
func (tr *trial) boot(times int) (all []measured) {
	tr.t.Helper()
	spoilt := 0
	for tries := 0; len(all) < times && tries < 2*times; tries++ {
		tr.m.Boot(tr.t)
		var list struct {
			Boots []struct {
				Ready   float64
				Settled struct {
					FromReady float64 `json:"from_ready"`
				}
				Usable struct {
					Value        float64
					Kind, Unsure string
				}
				Odd []string
			}
		}
		// whether one is odd depends on the one before it
		ok(tr.t, json.Unmarshal([]byte(tr.calm("boots", "--json", "--last", "2")), &list))
		b := list.Boots[len(list.Boots)-1]
		if len(b.Odd) > 0 || tr.kind != "" && (b.Usable.Kind != tr.kind || b.Usable.Unsure != "") {
			tr.t.Logf("an odd boot: %v %+v", b.Odd, b.Usable)
			if slices.ContainsFunc(b.Odd, crowded) {
				spoilt++
			}
			continue
		}
		one := measured{b.Ready, b.Ready + b.Settled.FromReady}
		if tr.kind != "" {
			one.lead = b.Usable.Value
		}
		all = append(all, one)
	}
	if len(all) == 0 && spoilt == 2*times {
		tr.t.Skip("others on this computer took too much in each boot")
	}
	return all
}

// crowded reports whether a boot is odd because of what else ran here.
func crowded(why string) bool { return strings.HasPrefix(why, "others on the same computer") }

// A result is one forecast with what came of it, in seconds.
type result struct {
	Machine                 string
	Seed                    uint64
	Processors              int
	Case                    int
	What                    string
	Items                   int
	Now, Then               float64 // measured medians before and after
	Saving                  float64 // forecast
	Low, High               float64
	Replay                  float64 // error of the replay
	Settled                 float64 // forecast saving until settled; measured are the next two
	SettledNow, SettledThen float64
}

func (r result) wrong() float64 { return abs((r.Now-r.Then)-r.Saving) / r.Now }

func abs(x float64) float64 { return max(x, -x) }

func median(x []float64) float64 {
	x = slices.Sorted(slices.Values(x))
	return (x[(len(x)-1)/2] + x[len(x)/2]) / 2
}

// try forecasts a change from the boots before, makes it, boots, and takes it
// back.
func (tr *trial) try(verb string, items []string, before []measured, boots int) (result, bool) {
	tr.t.Helper()
	type saving struct{ Median, Low, High float64 }
	var f struct {
		Ready  struct{ Saving saving }
		Usable struct {
			Kind   string
			Saving saving
		}
		Settled     struct{ Median float64 }
		ReplayError float64 `json:"replay_error"`
	}
	words := append([]string{"--json", "forecast"}, items...)
	if verb == "delay" {
		words = append(words, "--delay")
	}
	ok(tr.t, json.Unmarshal([]byte(tr.calm(words...)), &f))
	s := f.Ready.Saving
	if tr.kind != "" {
		if s = f.Usable.Saving; f.Usable.Kind != tr.kind {
			tr.t.Fatalf("%v: the forecast is of usable (%s)", items, f.Usable.Kind)
		}
	}
	tr.calm(append([]string{verb, "--yes"}, items...)...)
	after := tr.boot(boots)
	var history struct{ Changes []struct{ Change int } }
	ok(tr.t, json.Unmarshal([]byte(tr.calm("history", "--json")), &history))
	tr.calm("undo", "--yes", fmt.Sprint(history.Changes[len(history.Changes)-1].Change))
	if len(after) == 0 {
		return result{}, false
	}
	was, is := medians(before), medians(after)
	return result{
		What:        verb,
		Items:       len(items),
		Now:         was.lead,
		Then:        is.lead,
		Saving:      s.Median,
		Low:         s.Low,
		High:        s.High,
		Replay:      f.ReplayError,
		Settled:     f.Settled.Median,
		SettledNow:  was.settled,
		SettledThen: is.settled,
	}, true
}

// TestForecastOfARealBoot forecasts one change of a generated machine, and
// makes it. The bounds are wide: other programs run on this computer too.
func TestForecastOfARealBoot(t *testing.T) {
	ring.Needs(t, ring.Outer)
	g := &maker{files: map[string]string{}}
	g.service("oneshot", nil, 300, 1500, 0)
	g.service("oneshot", []string{"item-0.service"}, 1200, 100, 0)
	g.service("simple", nil, 0, 0, 2500)
	g.service("oneshot", nil, 400, 900, 0)
	tr := newTrial(t, g, 1)
	before := tr.boot(2)
	if len(before) == 0 {
		t.Skip("this computer was too busy to measure a boot")
	}
	// nothing waits for it; it takes the processor from all
	r, measured := tr.try("disable", []string{tr.items[2]}, before, 1)
	if !measured {
		t.Skip("this computer was too busy to measure a boot")
	}
	t.Logf("%+v, wrong by %.1f %%", r, 100*r.wrong())
	if r.wrong() > 0.25 || r.Saving < 0.5 || r.Replay > 0.05 {
		t.Errorf("ready after %.2f s, then %.2f; the forecast saving was %.2f (%.2f to %.2f), "+
			"replayed with an error of %.3f", r.Now, r.Then, r.Saving, r.Low, r.High, r.Replay)
	}
}

// TestForecastAccuracy is the long measurement behind
// docs/forecast-accuracy.md; `make bench-forecast` runs it. It goes on where it
// was interrupted: each result is a line of the file that CALMDAWN_FORECASTS
// names.
func TestForecastAccuracy(t *testing.T) {
	file := os.Getenv("CALMDAWN_FORECASTS")
	if file == "" {
		t.Skip("a measurement of hours; make bench-forecast runs it")
	}
	number := func(name string, otherwise int) int {
		if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
			return n
		}
		return otherwise
	}
	machines, cases, boots := number("CALMDAWN_MACHINES",
		6), number("CALMDAWN_CASES", 7), number("CALMDAWN_BOOTS", 5)
	done := map[string]bool{}
	text, _ := os.ReadFile(file)
	for line := range strings.Lines(string(text)) {
		var r result
		if json.Unmarshal([]byte(line), &r) == nil {
			done[fmt.Sprint(r.Machine, r.Seed, r.Case)] = true
		}
	}
	for _, kind := range []struct {
		name     string
		machines int
		make     func(t testing.TB, seed uint64, processors int) *trial
	}{
		{"long", machines, func(t testing.TB, seed uint64, processors int) *trial {
			return newTrial(t, randomMachine(seed), processors)
		}},
		{"short", machines, func(t testing.TB, seed uint64, processors int) *trial {
			return newTrial(t, shortMachine(seed), processors)
		}},
		{"desktop", min(machines, 3), newLogins(deskSession)},
		{"units", min(machines, 3), newLogins(unitSession)},
	} {
		if only := os.Getenv("CALMDAWN_KIND"); only != "" && only != kind.name {
			continue
		}
		for seed := uint64(1); seed <= uint64(kind.machines); seed++ {
			left := slices.DeleteFunc(numbers(cases), func(n int) bool {
				return done[fmt.Sprint(kind.name, seed, n)]
			})
			processors := 1 + int(seed%2)
			t.Run(fmt.Sprintf("%s machine %d", kind.name, seed), func(t *testing.T) {
				if len(left) == 0 {
					return
				}
				tr := kind.make(t, seed, processors)
				tr.measure(left, seed, boots, func(r result) {
					r.Machine, r.Seed, r.Processors = kind.name, seed, processors
					line, err := json.Marshal(r)
					ok(t, err)
					f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
					ok(t, err)
					_, err = f.Write(append(line, '\n'))
					ok(t, errors.Join(err, f.Close()))
				})
			})
		}
	}
}

func numbers(n int) (all []int) {
	for i := range n {
		all = append(all, i)
	}
	return all
}

// measure tries cases, single items and sets, each with so many boots a side.
func (tr *trial) measure(cases []int, seed uint64, boots int, write func(result)) {
	before := tr.boot(boots)
	if len(before) < boots {
		tr.t.Skip("too few good boots")
	}
	rng := rand.New(rand.NewPCG(seed, 5))
	for n := range slices.Max(cases) + 1 {
		items := slices.Clone(tr.items)
		rng.Shuffle(len(items), func(i, j int) { items[i], items[j] = items[j], items[i] })
		items = items[:min(len(items), []int{1, 1, 2, 3, 4, 5, 6}[n%7])]
		if !slices.Contains(cases, n) {
			continue
		}
		verb := "disable"
		if n%7 == 2 {
			verb = "delay"
		}
		start := time.Now()
		r, measured := tr.try(verb, items, before, boots)
		// One boot unchanged after each case: a computer whose speed drifts is
		// compared with itself at about the same time.
		before = append(before, tr.boot(1)...)
		before = before[len(before)-boots:]
		if !measured {
			continue
		}
		r.Case = n
		tr.t.Logf("%.0f s: %+v wrong %.1f %%", time.Since(start).Seconds(), r, 100*r.wrong())
		write(r)
	}
}
