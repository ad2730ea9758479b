package visit

import (
	"errors"
	"slices"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
)

// A Proposed is what is proposed for one item.
type Proposed struct {
	item.Item
	Do    string // [proposal.Disable], [proposal.Delay] or [proposal.Keep]
	Stays bool   // it could wait by advice, and cannot be delayed
}

// Propose puts decisions in order: those that bring most together first, then
// what else can go or wait, then what is to be looked up. It takes
// [Visit.ReadBoots].
func (v *Visit) Propose() []Proposed {
	candidates := v.Dispensable()
	v.ByCost(candidates)
	var order []item.Item
	if len(v.Replays) > 0 {
		var sets []forecast.Set
		for _, it := range candidates {
			sets = append(sets, v.SetOf(it))
		}
		steps, _ := forecast.Best(v.Replays, sets)
		for _, st := range steps {
			order = append(order, candidates[st.Index])
		}
	}
	all := slices.Clone(v.Items)
	v.ByCost(all)
	for _, advice := range []item.Advice{item.CanGo, item.CanWait, item.LookUp} {
		for _, it := range all {
			known := slices.ContainsFunc(order, func(o item.Item) bool { return o.ID == it.ID })
			if !known && it.Advice == advice && undecided(it) && it.Protected == "" &&
				(advice != item.LookUp || !it.System) {
				order = append(order, it)
			}
		}
	}
	var proposed []Proposed
	for _, it := range order {
		proposed = append(proposed, v.propose(it))
	}
	return proposed
}

// propose is what is proposed for an item: what can wait is delayed if it can
// be.
func (v *Visit) propose(it item.Item) Proposed {
	p := Proposed{Item: it, Do: proposal.Keep}
	switch it.Advice {
	case item.CanGo:
		p.Do = proposal.Disable
	case item.CanWait:
		p.Do = proposal.Delay
		if v.MayTurn(it, item.Delayed) != nil {
			p.Do, p.Stays = proposal.Keep, true
		}
	}
	return p
}

// A Resolved is a decision with what it means on this machine.
type Resolved struct {
	proposal.Decision
	Here bool // the item exists on this machine
	Item item.Item
	To   item.State
	Fate string // what becomes of it, in words
	Now  bool   // it is to be carried out
}

// Resolve looks up the decisions on this machine. With next only the first that
// is not carried out yet is to be.
func (v *Visit) Resolve(p proposal.Proposal, next bool) (all []Resolved, missing int) {
	doing := 0
	for _, d := range p.Decide {
		one := Resolved{
			Decision: d,
			To: map[string]item.State{
				proposal.Disable: item.Off,
				proposal.Delay:   item.Delayed,
			}[d.Do],
		}
		one.Item, one.Here = v.Lookup(d.ID)
		switch {
		case !one.Here:
			one.Fate = "does not exist here"
			missing++
		case d.Do == proposal.Keep:
			one.Fate = "is kept"
		case one.Item.State == one.To:
			one.Fate = "is " + string(one.To) + " already"
		case one.To == item.Delayed && !one.Item.State.Launched():
			one.Fate = "is off already, and stays so"
		case next && doing > 0:
			one.Fate = "comes later"
		default:
			one.Now, one.Fate = true, "will be "+Participle(one.To)
			doing++
		}
		all = append(all, one)
	}
	return all, missing
}

// Terms are the conditions under which a proposal is carried out.
type Terms struct {
	Next   bool     // only the first decision that is not carried out yet
	Insist []string // protected items that are meant all the same
	Until  string   // the last day of a trial; empty for none
	Guard  Wanted
}

// An Applying is a proposal with what it comes to on a machine.
type Applying struct {
	*Visit
	All     []Resolved
	Missing int // of the items
	Picked  []item.Item
	Changes []change.Change
}

// PlanProposal works out what a proposal means on this machine. An error of
// type [Refused] says which decisions cannot be carried out.
func (d *Desk) PlanProposal(p proposal.Proposal, t Terms) (Applying, error) {
	v, err := d.look()
	if err != nil {
		return Applying{}, err
	}
	a := Applying{Visit: v}
	a.All, a.Missing = v.Resolve(p, t.Next)
	var refused []error
	for _, r := range a.All {
		if !r.Now {
			continue
		}
		a.Picked = append(a.Picked, r.Item)
		c, err := v.turn(wishOf(r), []item.Item{r.Item}, d.At)
		if err != nil {
			refused = append(refused, err)
		}
		a.Changes = append(a.Changes, c)
	}
	if len(refused) > 0 {
		return a, &Refused{errors.Join(refused...)}
	}
	if err := v.protect(a.Picked, t.Insist); err != nil {
		return a, err
	}
	for _, c := range a.Changes {
		if _, err := d.planGuard(c, t.Guard); err != nil {
			return a, err
		}
	}
	return a, nil
}

// Refused says why decisions of a proposal cannot be carried out.
type Refused struct{ Why error }

func (r *Refused) Error() string { return r.Why.Error() }
func (r *Refused) Unwrap() error { return r.Why }

func wishOf(r Resolved) Wish {
	w := Wish{Verb: change.Disable, To: r.To}
	if r.To == item.Delayed {
		w.Verb = change.Delay
	}
	w.By, _ = r.Later()
	return w
}

// Decide makes a change of one decision, planned anew on what those before it
// left. The change has no number where nothing was left to do.
func (d *Desk) Decide(
	r Resolved,
	terms change.Terms,
	wanted Wanted,
) (change.Change, Guarding, error) {
	none := change.Change{}
	v, err := d.look()
	if err != nil {
		return none, Guarding{}, err
	}
	it, ok := v.Lookup(r.ID)
	if !ok {
		return none, Guarding{}, errors.New("it is not there any more, after the decisions " +
			"before it")
	}
	c, err := v.turn(wishOf(r), []item.Item{it}, d.Now())
	if err != nil || len(c.Targets) == 0 {
		return none, Guarding{}, err
	}
	if err := v.ReadBoots(); err != nil {
		return none, Guarding{}, err
	}
	c.Terms, c.Forecast = terms, v.ForecastOf([]item.Item{it}, wishOf(r).held())
	c.Terms.Job, c.Terms.JobOf = v.forecastOfJob([]item.Item{it})
	g, err := d.planGuard(c, wanted)
	if err != nil {
		return none, g, err
	}
	c, err = d.CarryOut(c, &g)
	return c, g, err
}
