package visit

import (
	"maps"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
)

// A Foreseen is what boots would take without some items, or with them delayed.
type Foreseen struct {
	Items   []item.Item         // of which a forecast can be made
	Each    []forecast.Forecast // without each of them alone
	All     forecast.Forecast   // without all of them at once
	Unasked []boot.Key          // units that nothing else would have started
	By      time.Duration       // by how long they are delayed; 0 where they are off
	Outside []Outside
}

// An Outside is an item of which no forecast can be made.
type Outside struct {
	ID  string
	Why string
}

// Foresee returns what boots would take without some items, or with them
// delayed by more than 0. It takes [Visit.ReadBoots].
func (v *Visit) Foresee(items []item.Item, by time.Duration) Foreseen {
	f := Foreseen{By: by}
	whole := forecast.Set{}
	var sets []forecast.Set
	for _, it := range items {
		set, why := v.SetOf(it), "no boot knows a start of its own"
		if !it.State.Launched() {
			set, why = nil, "it is off"
		}
		if set != nil && !forecast.Bears(v.Replays, forecast.Scenario{Out: set}) {
			set, why = nil, "of the boots only logins can be replayed, and it is in none"
		}
		if set == nil {
			f.Outside = append(f.Outside, Outside{it.ID, why})
			continue
		}
		sets, f.Items = append(sets, set), append(f.Items, it)
		maps.Copy(whole, set)
	}
	f.All = forecast.OfDelay(v.Replays, whole, by)
	f.Each = forecast.Each(v.Replays, sets, by)
	f.Unasked = forecast.Unasked(v.Replays, whole)
	return f
}

// A Best is the few items that bring most of what all would that can go or wait
// by advice.
type Best struct {
	Items      []item.Item
	Steps      []forecast.Choice // of each item: what it brings beyond those before it
	All        forecast.Forecast // without all candidates
	Candidates int
}

// Felt reports whether leaving items out shows an effect.
func (b Best) Felt() bool { return len(b.Items) > 0 && b.All.Lead().Shows }

// Best finds them. It takes [Visit.ReadBoots], and boots that can be replayed;
// else it finds none.
func (v *Visit) Best() Best {
	candidates := v.Dispensable()
	best := Best{Candidates: len(candidates)}
	if len(v.Replays) == 0 {
		return best
	}
	var sets []forecast.Set
	for _, it := range candidates {
		sets = append(sets, v.SetOf(it))
	}
	best.Steps, best.All = forecast.Best(v.Replays, sets)
	for _, c := range best.Steps {
		best.Items = append(best.Items, candidates[c.Index])
	}
	return best
}
