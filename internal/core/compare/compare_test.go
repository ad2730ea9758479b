package compare

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

// TestDistribution checks the counts against all orders of the values, written
// out.
func TestDistribution(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {2, 3}, {4, 4}, {3, 6}} {
		n, m := size[0], size[1]
		want := make([]float64, n*m+1)
		var place func(at, left, u int)
		place = func(at, left, u int) { // choose where the n values stand among n+m
			if left == 0 {
				want[u]++
				return
			}
			for i := at; i <= n+m-left; i++ {
				place(i+1, left-1, u+i-(n-left))
			}
		}
		place(0, n, 0)
		if got := distribution(n, m); !slices.Equal(got, want) {
			t.Errorf("%d and %d: %v; want %v", n, m, got, want)
		}
	}
}

func seconds(values ...float64) []time.Duration {
	var d []time.Duration
	for _, v := range values {
		d = append(d, time.Duration(v*float64(time.Second)))
	}
	return d
}

func TestVerdicts(t *testing.T) {
	for _, c := range []struct {
		before, after []time.Duration
		want          Verdict
		estimate      float64
		missing       int
	}{
		{nil, nil, TooFew, 0, -1},
		{nil, seconds(1, 2, 3, 4, 5), TooFew, 0, -1},
		{seconds(1, 2, 3, 4, 5), nil, TooFew, 0, 3},
		{seconds(100), seconds(60), TooFew, -40, -1},
		{seconds(100, 101, 102), seconds(60, 61, 62, 63), TooFew, -39.5, 1},
		{seconds(100, 101, 102, 103), seconds(60, 61, 62, 63), Faster, -40, 0},
		{seconds(60, 61, 62, 63), seconds(100, 101, 102, 103), Slower, 40, 0},
		{seconds(100, 101, 102, 103), seconds(100, 101, 102, 103), NoDifference, 0, 0},
		// the interval ends at no difference at all
		{seconds(100, 101, 102, 103), seconds(97, 98, 99, 100), NoDifference, -3, 0},
		{seconds(100, 101, 102, 103), seconds(103, 104, 105, 106), NoDifference, 3, 0},
		{seconds(100, 101, 102, 103, 400), seconds(60, 61, 62, 63, 500), NoDifference, -40, 0},
	} {
		r := Compare(c.before, c.after)
		if r.Verdict != c.want || r.Missing != c.missing || r.Estimate != seconds(c.estimate)[0] {
			t.Errorf("%v against %v: %+v; want %q, %v s", c.after, c.before, r, c.want, c.estimate)
		}
	}
}

// TestPublished holds the exact distribution against printed tables (critical
// values of U, two-sided at 5 %). It holds the estimate against the
// permeability data in Hollander and Wolfe, Nonparametric Statistical Methods:
// U = 35, shift 0.305.
func TestPublished(t *testing.T) {
	for _, c := range [][3]int{
		{4, 4, 0},
		{5, 5, 2},
		{5, 8, 6},
		{6, 6, 5},
		{7, 9, 12},
		{8, 8, 13},
		{10, 10, 23},
		{15, 15, 64},
		{20, 20, 127},
		{3, 5, 0},
		{2, 8, 0},
	} {
		if got := rank([]size{{c[0], c[1]}}, 0.025) - 1; got != c[2] {
			t.Errorf("%d and %d: the critical value is %d; want %d", c[0], c[1], got, c[2])
		}
	}
	term := seconds(0.80, 0.83, 1.89, 1.04, 1.45, 1.38, 1.91, 1.64, 0.73, 1.46)
	early := seconds(1.15, 0.88, 0.90, 0.74, 1.21)
	u := 0
	for _, x := range term {
		for _, y := range early {
			if x > y {
				u++
			}
		}
	}
	if r := Compare(early,
		term); u != 35 || r.Estimate != 305*time.Millisecond || r.Verdict != NoDifference {
		t.Errorf("U is %d, %+v", u, r)
	}
}

// A way is how boots of one machine differ from each other.
type way struct {
	name string
	// the deviation of a boot, in standard deviations, after the one before it
	next func(rng *rand.Rand, last float64) float64
}

var ways = []way{
	{"normal", func(rng *rand.Rand, _ float64) float64 { return rng.NormFloat64() }},
	{"one in ten half as long again", func(rng *rand.Rand, _ float64) float64 {
		if rng.IntN(10) == 0 {
			return rng.NormFloat64() + 10
		}
		return rng.NormFloat64()
	}},
	{"skewed", func(rng *rand.Rand, _ float64) float64 { return rng.ExpFloat64() - 1 }},
	{
		"resembling neighbours, 0.5",
		func(rng *rand.Rand, last float64) float64 { return 0.5*last + 0.866*rng.NormFloat64() },
	},
}

// simulate plays comparisons of boots that take 100 s, spread by 5 %, and
// become faster by a share. It returns how often a verdict was said, how often
// it was the right one, and how often the interval covered the truth, as
// shares.
func simulate(w way, n, m, rounds int, faster float64, seed uint64) (said, right, covered float64) {
	rng := rand.New(rand.NewPCG(seed, uint64(n*100+m)))
	for range rounds {
		last := rng.NormFloat64()
		sample := func(n int, centre float64) []time.Duration {
			var s []time.Duration
			for range n {
				last = w.next(rng, last)
				s = append(s, time.Duration((centre+5*last)*1e9))
			}
			return s
		}
		r := Compare(sample(n, 100), sample(m, 100*(1-faster)))
		if r.Verdict == Faster || r.Verdict == Slower {
			said++
		}
		if r.Verdict == Faster && faster > 0 {
			right++
		}
		if truth := time.Duration(-100 * faster * 1e9); r.Bounded && r.Low <= truth &&
			truth <= r.High {
			covered++
		}
	}
	all := float64(rounds)
	return said / all, right / all, covered / all
}

// TestErrorRates counts, in simulated comparisons, verdicts without a
// difference, intervals around the truth, and improvements found.
func TestErrorRates(t *testing.T) {
	for _, size := range [][2]int{{4, 4}, {5, 5}, {8, 8}, {5, 3}, {4, 9}} {
		const rounds = 8000
		said, _, covered := simulate(ways[0], size[0], size[1], rounds, 0, 1)
		_, _, moved := simulate(ways[0], size[0], size[1], rounds, 0.1, 2)
		if said > 0.055 {
			t.Errorf("%v boots: a difference that is not there is seen in %.1f %%", size, 100*said)
		}
		for _, c := range []float64{covered, moved} {
			if c < 0.945 || c > 0.985 {
				t.Errorf("%v boots: the interval covers the truth in %.1f %%", size, 100*c)
			}
		}
	}
	if _, right, _ := simulate(ways[0], 5, 5, 4000, 0.15, 3); right < 0.9 {
		t.Errorf("15 %% faster is found in %.1f %%", 100*right)
	}
}

// booted is a boot that was ready, and in which somebody then logged in and
// could work after a while.
func booted(user string, ready, usable float64) boot.Boot {
	at := func(s float64) time.Duration { return time.Duration(s * 1e9) }
	return boot.Boot{Ready: boot.Of(at(ready), boot.Log),
		Logins: []boot.Login{{User: user, Began: at(ready)}},
		Course: []boot.Use{{}, {At: at(usable), CPU: at(usable)}, {At: at(usable + 60),
			CPU: at(usable)}}}
}

// leading compares boots without a difference in which two people log in at
// random, on what leads. It returns how often a verdict was said, and how often
// it was on usable, as shares.
func leading(n, m, rounds int) (said, onUsable float64) {
	rng := rand.New(rand.NewPCG(5, uint64(n*100+m)))
	for range rounds {
		sample := func(n int) (boots []boot.Boot) {
			for range n {
				ready := 100 + 5*rng.NormFloat64()
				user, more := "maria", 60.0
				if rng.Float64() < 0.3 {
					user, more = "teo", 90
				}
				boots = append(boots, booted(user, ready, ready+more+6*rng.NormFloat64()))
			}
			return boots
		}
		before, after := sample(n), sample(m)
		on := Leading(before, after, false)
		if on.Name == usable {
			onUsable++
		}
		v := Compare(on.Values(before), on.Values(after)).Verdict
		if v == Faster || v == Slower {
			said++
		}
	}
	return said / float64(rounds), onUsable / float64(rounds)
}

// TestWhatLeads chooses what a verdict is on, by how many boots of a kind there
// are, and sees no difference more often for it.
func TestWhatLeads(t *testing.T) {
	of := func(maria, teo int) (all []boot.Boot) {
		for range maria {
			all = append(all, booted("maria", 100, 160))
		}
		for range teo {
			all = append(all, booted("teo", 100, 190))
		}
		return all
	}
	for _, c := range []struct {
		before, after []boot.Boot
		told          bool
		want          string
	}{
		{of(4, 1), of(4, 1), false, "usable (login of maria)"},
		{of(3, 5), of(3, 4), false, "usable (login of teo)"},
		{of(3, 2), of(3, 2), false, "ready"},
		{of(5, 0), of(0, 5), false, "ready"},
		{of(2, 0), of(1, 0), true, "usable (login of maria)"},
		{nil, nil, true, "usable (no login)"},
	} {
		if got := Leading(c.before, c.after, c.told).Title(); got != c.want {
			t.Errorf("%d and %d boots: %s; want %s", len(c.before), len(c.after), got, c.want)
		}
	}
	if said, on := leading(8, 8, 2000); said > 0.06 || on < 0.5 {
		t.Errorf("a difference that is not there is seen in %.1f %%; on usable %.1f %%", 100*said,
			100*on)
	}
}

// TestBlocks compares each person's boots with their own. The bounds are held
// against all orders that there are.
func TestBlocks(t *testing.T) {
	two := []Block[time.Duration]{
		{seconds(50, 51), seconds(40, 41)}, {seconds(90, 91), seconds(70, 71)},
	}
	if r := InBlocks(two, confidence); r.Bounded || r.Missing != 1 {
		t.Errorf("two people with two boots a side, 2 in 36: %+v", r)
	}
	three := append(two, Block[time.Duration]{seconds(20, 21), seconds(10, 11)})
	if r := InBlocks(three, confidence); r.Verdict != Faster || r.Estimate > -10*time.Second {
		t.Errorf("three people, 2 in 216: %+v", r)
	}
	none := append(two, Block[time.Duration]{seconds(1, 2, 3), nil})
	if a, b := InBlocks(two, 0.9), InBlocks(none, 0.9); a.Low != b.Low || a.High != b.High {
		t.Errorf("who did not log in again bears on it: %+v %+v", a, b)
	}
	sizes := []size{{2, 3}, {3, 2}}
	counts := map[int]int{}
	total := 0
	for _, x := range orders(2, 3) {
		for _, y := range orders(3, 2) {
			counts[x+y]++
			total++
		}
	}
	for _, tail := range []float64{0.01, 0.025, 0.1, 0.4} {
		k, sum := 0, 0
		for sum+counts[k] <= int(tail*float64(total)) {
			sum += counts[k]
			k++
		}
		if got := rank(sizes, tail); got != k {
			t.Errorf("of %.3f: rank %d, of all orders %d", tail, got, k)
		}
	}
	said, _ := inBlocks(6, 2000, 0, 0)
	if found, _ := inBlocks(6, 2000, 0.10, 0.10); said > 0.06 || found < 0.3 {
		t.Errorf("false in %.1f %%, found in %.1f %%", 100*said, 100*found)
	}
}

// orders are the Mann–Whitney statistics of all orders of two sides.
func orders(n, m int) (all []int) {
	if n == 0 || m == 0 {
		return []int{0}
	}
	all = append(all, orders(n-1, m)...) // the largest is of the first side
	for _, u := range orders(n, m-1) {
		all = append(all, u+n)
	}
	return all
}

// inBlocks compares boots in which two people log in at random, as where a
// change was to move usable of one. Their logins are faster by some shares. It
// returns how often a verdict was said, and how often in blocks.
func inBlocks(n, rounds int, maria, teo float64) (said, blocked float64) {
	rng := rand.New(rand.NewPCG(6, uint64(n)))
	for range rounds {
		sample := func(maria, teo float64) (boots []boot.Boot) {
			for range n {
				user, takes := "maria", 100*(1-maria)
				if rng.Float64() < 0.4 {
					user, takes = "teo", 140*(1-teo)
				}
				boots = append(boots, booted(user, 40, takes+5*rng.NormFloat64()))
			}
			return boots
		}
		before, after := sample(0, 0), sample(maria, teo)
		on := UsableOf("login of maria")
		if !on.Enough(before, after) {
			on = UsableOfEach(Kinds(append(before, after...)))
			blocked++
		}
		if v := on.Compare(before, after).Verdict; v == Faster || v == Slower {
			said++
		}
	}
	return said / float64(rounds), blocked / float64(rounds)
}

// TestErrorRatesTable prints the table of docs/statistics.md; make
// bench-statistics runs it.
func TestErrorRatesTable(t *testing.T) {
	if os.Getenv("CALMDAWN_STATISTICS") == "" {
		t.Skip("the long simulation is run by make bench-statistics")
	}
	const rounds = 200_000
	fmt.Println("| boots | how they differ | said without a difference | interval covers | 10 % " +
		"faster found | 15 % faster found |\n| --- | --- | ---: | ---: | ---: | ---: |")
	for _, w := range ways {
		for _, size := range [][2]int{{4, 4}, {5, 5}, {5, 3}, {8, 8}, {10, 5}} {
			said, _, covered := simulate(w, size[0], size[1], rounds, 0, 1)
			_, ten, _ := simulate(w, size[0], size[1], rounds, 0.10, 2)
			_, fifteen, _ := simulate(w, size[0], size[1], rounds, 0.15, 3)
			fmt.Printf("| %d and %d | %s | %.2f %% | %.2f %% | %.1f %% | %.1f %% |\n", size[0],
				size[1], w.name, 100*said, 100*covered, 100*ten, 100*fifteen)
		}
	}
	for _, n := range []int{5, 8, 12} {
		said, on := leading(n, n, rounds/4)
		fmt.Printf("\n%d and %d boots of two people at random, on what leads: %.2f %% said "+
			"without a difference; on usable in %.0f %% of them.\n", n, n, 100*said, 100*on)
	}
	fmt.Printf("\n| boots of two people at random | in blocks | said without a difference | " +
		"both 10 %% faster found | maria alone found |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, n := range []int{4, 5, 6, 8, 12} {
		said, blocked := inBlocks(n, rounds/4, 0, 0)
		both, _ := inBlocks(n, rounds/4, 0.10, 0.10)
		one, _ := inBlocks(n, rounds/4, 0.10, 0)
		fmt.Printf("| %d and %d | %.0f %% | %.2f %% | %.1f %% | %.1f %% |\n", n, n, 100*blocked,
			100*said, 100*both, 100*one)
	}
	// Looking after each boot, and stopping at the first verdict.
	rng := rand.New(rand.NewPCG(9, 9))
	early := 0
	for range rounds {
		var before, after []time.Duration
		for range 5 {
			before = append(before, time.Duration((100+5*rng.NormFloat64())*1e9))
		}
		for range 10 {
			after = append(after, time.Duration((100+5*rng.NormFloat64())*1e9))
			if v := Compare(before, after).Verdict; v == Faster || v == Slower {
				early++
				break
			}
		}
	}
	fmt.Printf("\nLooking after each of ten boots and stopping at the first verdict: %.2f %% see "+
		"a difference that is not there.\n", 100*float64(early)/rounds)
}

// TestExplain checks that the parts of a difference add up to it, and say what
// became of what.
func TestExplain(t *testing.T) {
	// each takes a second after the one before it; those with a ' beside them
	side := func(n int, units ...string) []boot.Boot {
		var all []boot.Boot
		for range n {
			b := boot.Boot{
				Goal:   "goal.target",
				Kernel: "k" + units[0],
				Phases: []boot.Phase{{Name: "kernel", Took: time.Second}},
			}
			last, at := "", time.Second
			for _, name := range units {
				beside := strings.TrimSuffix(name, "'")
				s := boot.Span{
					Native: beside + ".service",
					Begin:  boot.Of(at, boot.Bus),
					End:    boot.Of(at+time.Second, boot.Bus),
					After:  []string{"x"},
				}
				if beside == name {
					if last != "" {
						s.After = []string{last}
					}
					at, last = at+time.Second, s.Native
				}
				b.Spans = append(b.Spans, s)
			}
			b.Spans = append(b.Spans, boot.Span{
				Native: "goal.target",
				Begin:  boot.Of(at, boot.Bus),
				End:    boot.Of(at, boot.Bus),
				After:  []string{last},
			})
			b.Ready = boot.Of(at, boot.Bus)
			all = append(all, b)
		}
		return all
	}
	before, after := side(3, "a", "b", "c", "d'"), side(2, "a", "d", "c'")
	w := Explain(before, after, -1100*time.Millisecond)
	sum := w.Others + w.Remainder
	kinds := map[string]Kind{}
	for _, r := range w.Reasons {
		sum += r.Change()
		kinds[r.Name] = r.Kind
	}
	// what does not know its order is counted, for it explains nothing
	blind := Explain(append(before, boot.Boot{Ready: boot.Of(time.Second, boot.Bus)}), after, 0)
	if w.Blind != 0 || blind.Blind != 1 {
		t.Errorf("%d and %d boots know no order", w.Blind, blind.Blind)
	}
	want := map[string]Kind{"b.service": Gone, "c.service": NotWaited, "d.service": NowWaited}
	if sum != -1100*time.Millisecond || w.Remainder != -100*time.Millisecond ||
		!maps.Equal(kinds, want) {
		t.Errorf("%+v add up to %v", w, sum)
	}
}

// TestChoose chooses boots by words.
func TestChoose(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 8, 0, 0, 0, time.UTC) }
	s := Shelf{
		Labels:  map[string][]string{"memory": {"eeee0005"}},
		Changes: map[int64]time.Time{3: day(3).Add(time.Hour), 4: day(3).Add(2 * time.Hour)},
		Zone:    time.UTC,
	}
	for i := range 6 {
		b := boot.Boot{
			ID:    fmt.Sprintf("%c%c%c%c%04d", 'a'+i, 'a'+i, 'a'+i, 'a'+i, i+1),
			Began: day(i + 1),
			Ready: boot.Of(time.Second, boot.Log),
		}
		if i == 4 { // as the boots of a Windows machine are named
			b.ID = "2026-11-05T08:00:00Z0005"
			s.Labels["memory"] = []string{b.ID}
		}
		s.Boots = append(s.Boots, b)
	}
	s.Steps = Steps(s.Boots, []time.Time{s.Changes[3], s.Changes[4]})
	for words, want := range map[string]string{
		"1":                      "1",
		"2-4":                    "2 3 4",
		"1,3,2-3":                "1 2 3",
		"2026-11-05":             "5",
		"2026-11-01..2026-11-02": "1 2",
		"ffff":                   "6",
		"2026-11-05T08:00:00Z":   "5",
		"memory,AAAA0001":        "1 5",
		"change:4":               "4 5 6",
		"before change:3":        "1 2 3",
		"9":                      "",
		"0":                      "",
		"5-2":                    "",
		"aa":                     "",
		"nonsense":               "",
		"change:9":               "",
		"2026-12-01":             "",
		"":                       "",
	} {
		words, before := strings.CutPrefix(words, "before ")
		some, err := s.Choose(words, !before)
		var got []string
		for _, b := range some {
			got = append(got, strings.TrimLeft(b.ID[len(b.ID)-4:], "0"))
		}
		if strings.Join(got, " ") != want || (err == nil) != (want != "") {
			t.Errorf("%q: %v, %v; want %s", words, got, err, want)
		}
	}
}

func ExampleCompare() {
	r := Compare(seconds(100, 104, 98, 101, 103), seconds(76, 74, 79, 75, 77))
	fmt.Println(r.Verdict, "by", -r.Estimate)
	// Output: faster by 25s
}

// TestWhatElseChanged tells another memory from what kernels report
// differently.
func TestWhatElseChanged(t *testing.T) {
	of := func(memory int64) []boot.Boot {
		return []boot.Boot{{Kernel: "6.1", Processors: 2, Memory: memory * 1e6}}
	}
	for memory, told := range map[int64]bool{
		10_000: false, 9_800: false, 10_200: false, 9_799: true, 10_201: true, 0: false,
	} {
		if all := Changed(of(10_000), of(memory)); (len(all) > 0) != told {
			t.Errorf("%d MB after 10000: %v", memory, all)
		}
	}
	other := []boot.Boot{{Kernel: "6.2", Processors: 4}}
	if all := Changed(of(1), other); len(all) != 2 {
		t.Errorf("%q", all)
	}
}
