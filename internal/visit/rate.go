package visit

import (
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// ratings are the costs of the items that were asked for. To rate one, all
// boots are replayed without it.
type ratings struct {
	rater *forecast.Rater

	mu    sync.Mutex
	costs map[string]forecast.Cost // by item id; the zero value where nothing is known

	findBest sync.Once
	best     Best
}

// clone has the same costs, which advice does not change; what is best is to be
// found anew. It may be called of nil.
func (r *ratings) clone() *ratings {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return &ratings{rater: r.rater, costs: maps.Clone(r.costs)}
}

// Cost is what an item costs the boots that were read; the zero value where
// nothing is known, or none were. It is worked out once. Several goroutines may
// call it.
func (v *Visit) Cost(it item.Item) forecast.Cost {
	r, set := v.ratings, v.SetOf(it)
	if r == nil || set == nil {
		return forecast.Cost{}
	}
	r.mu.Lock()
	c, known := r.costs[it.ID]
	r.mu.Unlock()
	if known {
		return c
	}
	c = v.rate(set)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.costs[it.ID] = c
	return c
}

// rate works out what a set costs.
func (v *Visit) rate(set forecast.Set) forecast.Cost {
	rated.Add(1)
	var wait forecast.Forecast
	replayed := len(v.Replays) > 0
	if replayed {
		wait = forecast.Of(v.Replays, set)
		// a lower bound that shows nothing tells nothing
		replayed = !wait.Login || wait.Lead().Shows
	}
	if c := v.ratings.rater.Cost(set, wait, replayed); c.Known() {
		return c
	}
	return forecast.Cost{}
}

// Rate rates some items, on all processors: for what asks for each of them.
func (v *Visit) Rate(items []item.Item) {
	machine.EachLarge(len(items), func(i int) { v.Cost(items[i]) })
}

// SortByCost rates items and puts them in order, the costliest first.
func (v *Visit) SortByCost(items []item.Item) {
	v.Rate(items)
	SortBy(items, v.ByCost)
}

// Rated is how many times this process has rated an item. Each takes replays of
// all boots, so tests hold against it what a command asks for.
func Rated() int64 { return rated.Load() }

var rated atomic.Int64

// LongestWait is the longest wait of an item.
func (v *Visit) LongestWait() (longest time.Duration) {
	v.Rate(v.Items)
	for _, it := range v.Items {
		longest = max(longest, v.Cost(it).Wait.Lead().Saving.Median)
	}
	return longest
}
