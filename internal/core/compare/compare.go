// Package compare tells whether two sets of boots differ, and by how much, from
// few boots and without assuming how they spread.
package compare

import (
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// A Verdict is the answer in words.
type Verdict string

// The verdicts.
const (
	Faster       Verdict = "faster"
	Slower       Verdict = "slower"
	NoDifference Verdict = "no difference shown"
	TooFew       Verdict = "too few boots"
)

// confidence is how sure the interval is to cover the true shift, at least.
const confidence = 0.95

// A Side is what is told of one set of boots, in the unit of its values: a
// [time.Duration], or bytes.
type Side[N ~int64] struct {
	N           int
	Median      N // 0 for no boots
	Least, Most N
}

// A Result compares the boots after with those before.
type Result[N ~int64] struct {
	Before, After Side[N]
	// Estimate is the shift from before to after, negative for faster. It is
	// the Hodges–Lehmann estimate, the median of all differences between a boot
	// after and one before. It is meaningful when both sides have boots.
	Estimate N
	// Low and High bound the shift with at least 95 % confidence, from the
	// exact distribution of the Mann–Whitney statistic. Bounded is false where
	// the boots are too few for such bounds.
	Low, High N
	Bounded   bool
	Verdict   Verdict
	// Missing is how many more boots after are needed for a verdict, with the
	// boots before as they are. It is -1 where no reasonable number would do.
	Missing int
	// Shows is how large a difference boots that spread like these have to have
	// between them before a verdict says so. The same boots would be moved
	// apart by it. It is meaningful where Bounded.
	Shows N
}

// Times is the comparison of durations.
type Times = Result[time.Duration]

// mostMissing is how many boots it is reasonable to ask for.
const mostMissing = 20

// Compare compares figures of boots; both sides may be empty. The verdict
// speaks of boots that were not chosen by their outcome. Who looks after each
// boot and stops at the first "faster" will see false ones, about twice as
// often as the 5 % say.
func Compare[N ~int64](before, after []N) Result[N] {
	r := Result[N]{Before: side(before), After: side(after), Verdict: TooFew}
	if len(before) == 0 || len(after) == 0 {
		r.Missing = missing(len(before), len(after))
		return r
	}
	differences := make([]N, 0, len(before)*len(after))
	for _, a := range after {
		for _, b := range before {
			differences = append(differences, a-b)
		}
	}
	slices.Sort(differences)
	r.Estimate = boot.Median(differences)
	k := rank(len(before), len(after), (1-confidence)/2)
	if k == 0 {
		r.Missing = missing(len(before), len(after))
		return r
	}
	r.Low, r.High, r.Bounded = differences[k-1], differences[len(differences)-k], true
	r.Shows = max(r.High-r.Estimate, r.Estimate-r.Low)
	switch {
	case r.High < 0:
		r.Verdict = Faster
	case r.Low > 0:
		r.Verdict = Slower
	default:
		r.Verdict = NoDifference
	}
	return r
}

func missing(before, after int) int {
	for more := 1; before > 0 && more <= mostMissing; more++ {
		if rank(before, after+more, (1-confidence)/2) > 0 {
			return more
		}
	}
	return -1
}

func side[N ~int64](values []N) Side[N] {
	if len(values) == 0 {
		return Side[N]{}
	}
	return Side[N]{
		N:      len(values),
		Median: boot.Median(values),
		Least:  slices.Min(values),
		Most:   slices.Max(values),
	}
}

// rank returns the largest k with P(U < k) <= tail, for the Mann–Whitney
// statistic U. The samples have n and m values, without a difference between
// them. It is 0 where even the smallest U is likelier than that.
func rank(n, m int, tail float64) int {
	counts := distribution(n, m)
	total := 0.0
	for _, c := range counts {
		total += c
	}
	sum := 0.0
	for u, c := range counts {
		if sum += c / total; sum > tail {
			return u
		}
	}
	return 0
}

// distribution counts, for each value of U, the orders of n and m values that
// give it. Those are the coefficients of the Gaussian binomial (n+m over n).
func distribution(n, m int) []float64 {
	counts := make([]float64, n*m+1)
	counts[0] = 1
	for i := 1; i <= n; i++ {
		for u := len(counts) - 1; u >= m+i; u-- { // times 1 - q^(m+i)
			counts[u] -= counts[u-m-i]
		}
		for u := i; u < len(counts); u++ { // over 1 - q^i
			counts[u] += counts[u-i]
		}
	}
	return counts
}
