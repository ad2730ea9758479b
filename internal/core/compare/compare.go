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
	return InBlocks([]Block[N]{{before, after}}, confidence)
}

// A Block is figures of boots that are alike but for what is compared, as those
// in which one person logged in.
type Block[N ~int64] struct{ Before, After []N }

// InBlocks compares figures of which only those of one block can be held
// against each other, with some confidence. Each boot after is compared with
// those before in its own block. The bounds are from the exact distribution of
// the sum of the blocks' Mann–Whitney statistics: a stratified rank test. With
// one block it is the plain one.
func InBlocks[N ~int64](blocks []Block[N], confidence float64) Result[N] {
	var before, after, differences []N
	var sizes []size
	for _, b := range blocks {
		before, after = append(before, b.Before...), append(after, b.After...)
		sizes = append(sizes, size{len(b.Before), len(b.After)})
		for _, late := range b.After {
			for _, early := range b.Before {
				differences = append(differences, late-early)
			}
		}
	}
	r := Result[N]{Before: side(before), After: side(after), Verdict: TooFew}
	tail := (1 - confidence) / 2
	if len(differences) == 0 {
		r.Missing = missing(sizes, tail)
		return r
	}
	slices.Sort(differences)
	r.Estimate = boot.Median(differences)
	k := rank(sizes, tail)
	if k == 0 {
		r.Missing = missing(sizes, tail)
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

// A size is how many figures a block has on each side.
type size struct{ before, after int }

// missing is how many more boots after make a verdict possible. All of them are
// in the block with most boots before. It is -1 where no reasonable number
// does.
func missing(sizes []size, tail float64) int {
	sizes = slices.Clone(sizes)
	best := -1
	for i, s := range sizes {
		if s.before > 0 && (best < 0 || s.before > sizes[best].before) {
			best = i
		}
	}
	for more := 1; best >= 0 && more <= mostMissing; more++ {
		sizes[best].after++
		if rank(sizes, tail) > 0 {
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

// rank returns the largest k with P(U < k) <= tail, for the sum U of the
// Mann–Whitney statistics of blocks, without a difference between their sides.
// It is 0 where even the smallest U is likelier than that.
func rank(sizes []size, tail float64) int {
	counts := []float64{1}
	for _, s := range sizes {
		counts = convolved(counts, distribution(s.before, s.after))
	}
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

// convolved are the counts of the sum of two statistics.
func convolved(a, b []float64) []float64 {
	if len(b) == 1 {
		return a // a block with an empty side tells nothing
	}
	sum := make([]float64, len(a)+len(b)-1)
	for i, x := range a {
		for j, y := range b {
			sum[i+j] += x * y
		}
	}
	return sum
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
