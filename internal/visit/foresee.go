package visit

import (
	"fmt"
	"maps"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
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
// by advice. Each becomes what its advice says.
type Best struct {
	Items      []item.Item
	Do         []proposal.Decision // of each item
	Each       []forecast.Forecast // with each of them alone decided on so
	Chosen     forecast.Forecast   // with all of them
	Steps      []forecast.Choice   // of each: what it brings beyond those before it
	All        forecast.Forecast   // with all candidates decided on so
	Candidates int
}

// Felt reports whether leaving items out shows an effect.
func (b Best) Felt() bool { return len(b.Items) > 0 && b.All.Lead().Shows }

// Best finds them, once. It takes [Visit.ReadBoots], and boots that can be
// replayed; else it finds none. Several goroutines may call it.
func (v *Visit) Best() Best {
	if v.ratings == nil {
		return Best{}
	}
	v.ratings.findBest.Do(func() { v.ratings.best = v.bestOf(v.Dispensable()) })
	return v.ratings.best
}

// A Joint is what an item brings only once others are decided on.
type Joint struct {
	Gain time.Duration // beyond what those bring
	With []item.Item   // those that stand before it in [Visit.Best]
}

// Joint tells that of an item which shows no effect alone; false where others
// do not help either.
func (v *Visit) Joint(it item.Item) (j Joint, ok bool) {
	if !undecided(it) || v.Cost(it).Wait.Lead().Shows {
		return Joint{}, false
	}
	best := v.Best()
	for n, chosen := range best.Items {
		if chosen.ID == it.ID && best.Felt() && best.Steps[n].Gain > 0 {
			return Joint{best.Steps[n].Gain, best.Items[:n]}, n > 0 || len(best.Items) > 1
		}
	}
	return Joint{}, false
}

// bestOf finds them among candidates.
func (v *Visit) bestOf(candidates []item.Item) Best {
	best := Best{Candidates: len(candidates)}
	if len(v.Replays) == 0 {
		return best
	}
	plans, do := v.advised(candidates)
	best.Steps, best.All = forecast.Best(v.Replays, plans)
	var chosen forecast.Scenario
	for _, c := range best.Steps {
		best.Items = append(best.Items, candidates[c.Index])
		best.Do = append(best.Do, do[c.Index])
		best.Each = append(best.Each, forecast.OfScenario(v.Replays, plans[c.Index]))
		chosen = chosen.With(plans[c.Index])
	}
	best.Chosen = forecast.OfScenario(v.Replays, chosen)
	return best
}

// advised are what advice says of items, as plans and as decisions.
func (v *Visit) advised(items []item.Item) (plans []forecast.Scenario, do []proposal.Decision) {
	by := v.PastUsable()
	for _, it := range items {
		d := proposal.Decision{ID: it.ID, Do: proposal.Disable}
		plan := forecast.Scenario{Out: v.SetOf(it)}
		if it.Advice == item.CanWait {
			d.Do, d.By = proposal.Delay, ByText(by)
			plan = forecast.Scenario{Late: map[time.Duration]forecast.Set{by: v.SetOf(it)}}
		}
		plans, do = append(plans, plan), append(do, d)
	}
	return plans, do
}

// ByAdvice is what boots would take with all decided on that can go or wait by
// advice: the same as All of [Visit.Best].
func (v *Visit) ByAdvice() forecast.Forecast {
	plans, _ := v.advised(v.Dispensable())
	var whole forecast.Scenario
	for _, p := range plans {
		whole = whole.With(p)
	}
	return forecast.OfScenario(v.Replays, whole)
}

// PastUsable is for how long items have to be held back. They then begin only
// when somebody has been able to work for a while. It is whole minutes, one at
// least.
func (v *Visit) PastUsable() time.Duration {
	by := time.Minute
	for _, r := range v.Replays {
		if u := r.Boot.Usable(); u.Known {
			late := u.Value - r.Boot.Ready.Value + boot.Soon
			by = max(by, (late + time.Minute - 1).Truncate(time.Minute))
		}
	}
	return by
}

// ByText is a delay as people and proposals write it: "5m", "90s", "1h".
func ByText(by time.Duration) string {
	switch {
	case by > 0 && by%time.Hour == 0:
		return fmt.Sprintf("%dh", by/time.Hour)
	case by%time.Minute == 0:
		return fmt.Sprintf("%dm", by/time.Minute)
	}
	return fmt.Sprintf("%ds", by/time.Second)
}
