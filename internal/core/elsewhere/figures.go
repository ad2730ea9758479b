package elsewhere

import (
	"math"
	"time"
)

// Enough is of how many machines a median, a rank or an outcome is told at
// least. Of fewer, one machine could decide it, or be known by it.
const Enough = 3

// borrowed is how many machines' worth of the figure over all items stands
// beside that of one item.
const borrowed = 3

// Shrunk draws a figure of few machines towards that over all: it is as if
// three more machines had the latter. Of many machines it stays nearly as it
// is.
func Shrunk(of time.Duration, machines int, all time.Duration) time.Duration {
	n := float64(machines)
	return time.Duration((n*float64(of) + borrowed*float64(all)) / (n + borrowed))
}

// A Share is how many of some machines have something, beside how many of the
// others do.
type Share struct{ Have, Of, OthersHave, Others int }

// Chance is how likely so many of the some have it, or more, by luck alone. It
// is the upper tail of the hypergeometric distribution, as in Fisher's exact
// test.
func (s Share) Chance() float64 {
	all, having := s.Of+s.Others, s.Have+s.OthersHave
	sum := 0.0
	for k := s.Have; k <= min(s.Of, having); k++ {
		if having-k <= s.Others {
			sum += math.Exp(choose(s.Of, k) + choose(s.Others, having-k) - choose(all, having))
		}
	}
	return min(1, sum)
}

// choose is the logarithm of the number of ways to choose k of n.
func choose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}
