package visit

import (
	"cmp"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
)

// A Key is by what an item stands in a list: a text, or amounts, of which the
// largest come first. What is not known comes last.
type Key struct {
	Text    string
	Amounts [3]float64
	Known   bool
}

// Amount is a key of one amount.
func Amount(n float64) Key { return Key{Amounts: [3]float64{n}, Known: true} }

// compare says which of two keys of one order comes first.
func (k Key) compare(o Key) int {
	switch {
	case k.Known != o.Known && k.Known:
		return -1
	case k.Known != o.Known:
		return 1
	case k.Amounts != o.Amounts:
		return slices.Compare(o.Amounts[:], k.Amounts[:])
	}
	return strings.Compare(k.Text, o.Text)
}

// ByCost is the order that puts those launched items first whose leaving out
// would save most. Then come those that use most of the processors, then those
// whose own time is longest.
func (v *Visit) ByCost(it item.Item) Key {
	if !it.State.Launched() {
		return Key{}
	}
	c := v.Cost(it)
	own, _ := v.OwnTime(it)
	wait := 0.0
	if c.Wait.Lead().Shows {
		wait = float64(c.Wait.Lead().Saving.Median)
	}
	return Key{Amounts: [3]float64{wait, float64(c.CPU.Value), float64(own.Median)}, Known: true}
}

// Arrange orders numbers of items by the keys of those; of equal ones the order
// stays.
func Arrange(numbers []int, items []item.Item, key func(item.Item) Key) {
	type keyed struct {
		Key
		number, at int
	}
	keys := make([]keyed, len(numbers))
	for at, n := range numbers {
		keys[at] = keyed{key(items[n]), n, at}
	}
	slices.SortFunc(keys, func(a, b keyed) int { // faster than a stable one
		return cmp.Or(a.compare(b.Key), a.at-b.at)
	})
	for at, k := range keys {
		numbers[at] = k.number
	}
}

// SortBy sorts items by their keys, in place; equal ones stay in their order.
func SortBy(items []item.Item, key func(item.Item) Key) {
	numbers := make([]int, len(items))
	for i := range numbers {
		numbers[i] = i
	}
	Arrange(numbers, items, key)
	sorted := make([]item.Item, len(items))
	for at, n := range numbers {
		sorted[at] = items[n]
	}
	copy(items, sorted)
}
