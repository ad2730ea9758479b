package compare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// TestDistribution checks the counts against all orders of the values, written out.
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
		{seconds(100, 101, 102, 103, 400), seconds(60, 61, 62, 63, 500), NoDifference, -40, 0},
	} {
		r := Compare(c.before, c.after)
		if r.Verdict != c.want || r.Missing != c.missing || r.Estimate != seconds(c.estimate)[0] {
			t.Errorf("%v against %v: %+v; want %q, %v s", c.after, c.before, r, c.want, c.estimate)
		}
	}
}

// TestCoverage counts how often the interval covers the truth, and how often boots without a difference get a verdict.
func TestCoverage(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{4, 5, 8} {
		const rounds = 20_000
		covered, wrong := 0, 0
		for range rounds {
			sample := func() []time.Duration {
				var s []time.Duration
				for range n {
					s = append(s, time.Duration((100+5*rng.NormFloat64())*1e9))
				}
				return s
			}
			r := Compare(sample(), sample())
			if r.Low <= 0 && r.High >= 0 {
				covered++
			}
			if r.Verdict == Faster || r.Verdict == Slower {
				wrong++
			}
		}
		if share := float64(covered) / rounds; share < 0.945 || share > 0.985 {
			t.Errorf("%d and %d boots: the interval covers the truth in %.1f %%", n, n, 100*share)
		}
		if share := float64(wrong) / rounds; share > 0.055 {
			t.Errorf("%d and %d boots: a difference that is not there is seen in %.1f %%", n, n, 100*share)
		}
	}
}

func ExampleCompare() {
	r := Compare(seconds(100, 104, 98, 101, 103), seconds(76, 74, 79, 75, 77))
	fmt.Println(r.Verdict, "by", -r.Estimate)
	// Output: faster by 25s
}
