package visit

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/ledger"
)

// A Proposed is what is proposed for one item.
type Proposed struct {
	item.Item
	Do    string // [proposal.Disable], [proposal.Delay] or [proposal.Keep]
	By    string // of a delay, for how long
	Stays error  // why it is kept although by advice it could go or wait
}

// Propose puts decisions in order: those that bring most together first. Then
// comes what else can go, is to be cleaned up, can wait, and is to be looked
// up. It tells besides why each other item is not among them. It takes
// [Visit.ReadBoots].
func (v *Visit) Propose() (proposed []Proposed, left []proposal.Left) {
	order := v.Best().Items
	in := map[string]bool{}
	for _, it := range order {
		in[it.ID] = true
	}
	all := slices.Clone(v.Items)
	v.SortByCost(all)
	for _, advice := range []item.Advice{
		item.CanGo,
		item.CleanUp,
		item.CanWait,
		item.LookUp,
	} {
		for _, it := range all {
			if !in[it.ID] && it.Advice == advice && v.leftOut(it) == "" {
				order, in[it.ID] = append(order, it), true
			}
		}
	}
	by := ByText(v.PastUsable())
	for _, it := range order {
		p := v.propose(it)
		if p.Do == proposal.Delay {
			p.By = by
		}
		proposed = append(proposed, p)
	}
	at := map[string]int{}
	for _, it := range v.Items {
		why := v.leftOut(it)
		if in[it.ID] || why == "" {
			continue
		}
		n, known := at[why]
		if !known {
			n, at[why] = len(left), len(left)
			left = append(left, proposal.Left{Why: why})
		}
		left[n].IDs = append(left[n].IDs, it.ID)
	}
	return proposed, left
}

// leftOut says why a proposal has no line for an item, as what it is; empty
// where it has one.
func (v *Visit) leftOut(it item.Item) string {
	_, decided := v.LastChange(it.ID)
	switch {
	case !it.State.Launched():
		return "off already"
	case it.Protected != "":
		return "protected"
	case it.State == item.Delayed && (decided || it.Advice != item.CanGo):
		return "delayed already"
	case it.Advice == item.Keep:
		return "to be kept, by advice"
	case it.Advice == item.LookUp && it.System:
		return "parts of the operating system to be looked up"
	}
	return ""
}

// propose is what is proposed for an item: what its advice says, where that can
// be done.
func (v *Visit) propose(it item.Item) Proposed {
	p := Proposed{Item: it, Do: proposal.Keep}
	switch it.Advice {
	case item.CanGo, item.CleanUp:
		p.Do, p.Stays = proposal.Disable, v.MayTurn(it, item.Off)
	case item.CanWait:
		p.Do = proposal.Delay // else it would not be advised
	}
	if p.Stays != nil {
		p.Do = proposal.Keep
	}
	return p
}

// PlanBest finds the few items that bring most, on the machine as it is now. An
// error says that nothing would.
func (s *Session) PlanBest() (*Visit, Best, error) {
	v, err := s.look()
	if err == nil {
		err = v.ReadBoots()
	}
	if err != nil {
		return v, Best{}, err
	}
	best := v.Best()
	if !best.Felt() {
		return v, best, misuse("no item of %s that may go or wait by advice shows an effect",
			v.name())
	}
	return v, best, nil
}

// A Resolved is a decision with what it means on this machine.
type Resolved struct {
	proposal.Decision
	Here bool // the item exists on this machine
	Item item.Item
	To   item.State
	Fate string // what becomes of it, in words
	Now  bool   // it is to be carried out
	Back int64  // the change that is taken back for it; 0 for none
}

// turned is what the item is to become.
func (r Resolved) turned() turned {
	by, _ := r.Later()
	return turned{r.Item, r.To, by}
}

// Resolve looks up the decisions on this machine. With next only the first that
// is not carried out yet is to be. What a change of ours switched off is
// switched on by taking that change back. That is so where all that it decided
// on is to be switched on.
func (v *Visit) Resolve(p proposal.Proposal, next bool) (all []Resolved, missing int) {
	doing := 0
	for _, d := range p.Decide {
		one := Resolved{
			Decision: d,
			To: map[string]item.State{
				proposal.Disable: item.Off,
				proposal.Delay:   item.Delayed,
				proposal.Enable:  item.On,
			}[d.Do],
		}
		if one.Item, one.Here = v.Lookup(d.ID); one.Here {
			one.ID = one.Item.ID
		}
		switch {
		case !one.Here:
			one.Fate = "does not exist here"
			missing++
		case d.Do == proposal.Keep:
			one.Fate = "is kept"
		case one.Item.State == one.To || one.To == item.On && one.Item.State == item.Broken:
			one.Fate = "is " + string(one.Item.State) + " already"
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
	for i, r := range all {
		if c, ok := v.LastChange(r.ID); ok && r.Now && r.To == item.On && v.whole(c, all) {
			all[i].Back = c.ID
			all[i].Fate += fmt.Sprintf(": change %d is taken back", c.ID)
		}
	}
	return all, missing
}

// whole reports whether all that a change decided on, and no later one, is to
// be switched on.
func (v *Visit) whole(c change.Change, all []Resolved) bool {
	return !slices.ContainsFunc(c.Targets, func(t change.Target) bool {
		last, ok := v.LastChange(t.ID)
		return ok && last.ID == c.ID && !strings.HasPrefix(t.ID, "starter:") &&
			!slices.ContainsFunc(all, func(r Resolved) bool {
				return r.ID == t.ID && r.Now && r.To == item.On
			})
	})
}

// Terms are the conditions under which a proposal is carried out.
type Terms struct {
	Next     bool     // only the first decision that is not carried out yet
	Together bool     // all decisions as one change
	Insist   []string // protected items that are meant all the same
	Until    string   // the last day of a trial; empty for none
	Guard    Wanted
}

// An Applying is a proposal with what it comes to on a machine.
type Applying struct {
	*Visit
	All     []Resolved
	Missing int // of the items
	Picked  []item.Item
	Undo    Undo            // of the changes that are taken back, which come first
	Changes []change.Change // all of them
}

// PlanProposal works out what a proposal means on this machine. An error of
// type [Refused] says which decisions cannot be carried out, one of type
// [NotUndone] which change cannot be taken back.
func (s *Session) PlanProposal(p proposal.Proposal, t Terms) (Applying, error) {
	v, err := s.look()
	if err != nil {
		return Applying{}, err
	}
	a := Applying{Visit: v}
	a.All, a.Missing = v.Resolve(p, t.Next)
	var refused []error
	for _, group := range grouped(a.All, t.Together) {
		var all []turned
		for _, r := range group {
			all = append(all, r.turned())
		}
		c, err := v.turn(verbOf(group), all, false, s.At)
		if err != nil {
			refused = append(refused, err)
		}
		a.Changes = append(a.Changes, c)
	}
	if len(refused) > 0 {
		return a, &Refused{errors.Join(refused...)}
	}
	var held []item.Item
	var back []int64
	for _, r := range a.All {
		if r.Now {
			a.Picked = append(a.Picked, r.Item)
		}
		if r.Now && r.To != item.On {
			held = append(held, r.Item)
		}
		if r.Back != 0 && !slices.Contains(back, r.Back) {
			back = append(back, r.Back)
		}
	}
	if err := v.protect(held, t.Insist); err != nil {
		return a, err
	}
	for _, c := range a.Changes {
		if _, err := s.planGuard(c, t.Guard); err != nil {
			return a, err
		}
	}
	slices.Sort(back)
	slices.Reverse(back)
	a.Undo, err = s.PlanUndo(back, Undoing{})
	if err == nil && len(a.Undo.Open) > 0 {
		open := a.Undo.Open[0]
		err = &ledger.Unsettled{Change: open, Path: open.Open()[0]}
	}
	a.Changes = append(slices.Clone(a.Undo.Plans), a.Changes...)
	return a, err
}

// grouped puts the decisions that are to be carried out, but for those that
// taking a change back does, into changes. That is one each, or all in one.
func grouped(all []Resolved, together bool) (groups [][]Resolved) {
	for _, r := range all {
		switch {
		case !r.Now || r.Back != 0:
		case together && len(groups) > 0:
			groups[0] = append(groups[0], r)
		default:
			groups = append(groups, []Resolved{r})
		}
	}
	return groups
}

// Refused says why decisions of a proposal cannot be carried out.
type Refused struct{ Why error }

func (r *Refused) Error() string { return r.Why.Error() }
func (r *Refused) Unwrap() error { return r.Why }

// verbOf is what decisions do together.
func verbOf(all []Resolved) change.Verb {
	verb := change.Verb("")
	for _, r := range all {
		one := map[item.State]change.Verb{
			item.Off:     change.Disable,
			item.Delayed: change.Delay,
			item.On:      change.Enable,
		}[r.To]
		if verb != "" && verb != one {
			return change.Decide
		}
		verb = one
	}
	return verb
}

// Groups are the decisions that make one change each.
func (a Applying) Groups(together bool) [][]Resolved { return grouped(a.All, together) }

// Decide makes one change of decisions, planned anew on what those before it
// left. The change has no number where nothing was left to do.
func (s *Session) Decide(
	group []Resolved,
	terms change.Terms,
	wanted Wanted,
) (change.Change, Guarding, error) {
	none := change.Change{}
	v, err := s.look()
	if err != nil {
		return none, Guarding{}, err
	}
	var all []turned
	var held []item.Item
	for i, r := range group {
		it, ok := v.Lookup(r.ID)
		if !ok {
			return none, Guarding{}, errors.New("it is not there any more, after the decisions " +
				"before it")
		}
		group[i].Item = it
		all = append(all, group[i].turned())
		if r.To != item.On {
			held = append(held, it)
		}
	}
	c, err := v.turn(verbOf(group), all, false, s.Now())
	if err != nil || len(c.Targets) == 0 {
		return none, Guarding{}, err
	}
	if err := v.ReadBoots(); err != nil {
		return none, Guarding{}, err
	}
	c.Terms = terms
	if len(held) > 0 {
		c.Forecast = v.ForecastOfAll(group)
		c.Terms.Job, c.Terms.JobOf = v.forecastOfJob(held)
	}
	g, err := s.planGuard(c, wanted)
	if err != nil {
		return none, g, err
	}
	c, err = s.CarryOut(c, &g)
	return c, g, err
}
