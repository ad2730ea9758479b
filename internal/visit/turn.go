package visit

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/family"
)

// A Wish is what is to be decided about some items.
type Wish struct {
	Verb       change.Verb
	To         item.State
	Filter              // of the items, besides those named
	IDs        []string // ids, names or parts of names, or patterns with * in them
	Best       bool     // the few that bring most, of those that can go or wait by advice
	Insist     []string // protected items that are meant all the same, as in IDs
	Starters   bool     // what could start the items on demand as well
	Dependents bool     // what needs the items as well
	Twins      bool     // what launches the same programs as well, as far as it can be turned
	By         time.Duration
	Until      string // the last day of a trial; empty for none
	Guard      Wanted
}

// held is by how long what is wished holds items back; 0 where it does not.
func (w Wish) held() time.Duration {
	if w.To != item.Delayed {
		return 0
	}
	return w.By
}

// A Turning is a wish with what it comes to on a machine.
type Turning struct {
	*Visit
	Wish    Wish
	Picked  []item.Item
	LeftOut []item.Item   // of those, what is off and was to be delayed
	Fixed   []item.Item   // what the filter fits and cannot be turned so
	Change  change.Change // without targets where nothing is left to do
	Guard   Guarding
}

// Choose returns the items that a wish names: by id, by pattern, or by what
// they are. What a filter fits and cannot be turned so is left out, unless
// nothing else fits.
func (v *Visit) Choose(w Wish) ([]item.Item, error) {
	if w.Best {
		return v.best()
	}
	var ids []string
	for _, id := range w.IDs {
		if !strings.Contains(id, "*") {
			ids = append(ids, id)
			continue
		}
		pattern := regexp.MustCompile("^" + strings.ReplaceAll(
			regexp.QuoteMeta(strings.ToLower(id)), `\*`, ".*") + "$")
		found := false
		for _, it := range v.Items {
			if slices.ContainsFunc(namesOf(it), pattern.MatchString) {
				ids, found = append(ids, it.ID), true
			}
		}
		if !found {
			return nil, misuse("%s has no item like %q; calmdawn list --all shows every item with "+
				"its id", v.name(), id)
		}
	}
	if w.Chooses() {
		fits, fixed := v.fitting(w)
		if len(fits) == 0 {
			fits = fixed // which says why
		}
		for _, it := range fits {
			ids = append(ids, it.ID)
		}
		if len(fits) == 0 {
			return nil, misuse("no item of %s matches; try the same flags with calmdawn list",
				v.name())
		}
	}
	picked, err := v.Pick(ids)
	for i := 0; err == nil && i < len(picked); i++ { // the list grows with those of those
		var more []string
		if w.Dependents {
			more = append(more, picked[i].NeededBy...)
		}
		if w.Twins {
			can, _ := v.Twins(picked[i])
			more = append(more, can...)
		}
		for _, id := range more {
			if it, ok := v.Find(id); ok && it.State.Launched() {
				picked = addNew(picked, it)
			}
		}
	}
	return picked, err
}

// fitting are the items that the filter of a wish fits: those that can be
// turned so, or are so already, and the others.
func (v *Visit) fitting(w Wish) (fits, fixed []item.Item) {
	for _, it := range v.Items {
		switch {
		case !w.Chooses() || !w.Accepts(it) || !w.All && (it.System || it.Aside):
		case it.State != w.To && v.MayTurn(it, w.To) != nil:
			fixed = append(fixed, it)
		default:
			fits = append(fits, it)
		}
	}
	return fits, fixed
}

// Twins are the ids of what else launches an item's program: what can be
// switched off, and what cannot.
func (v *Visit) Twins(it item.Item) (can, cannot []string) {
	for _, id := range it.Twins {
		other, ok := v.Find(id)
		switch {
		case !ok || !other.State.Launched():
		case other.Protected == "" && v.MayTurn(other, item.Off) == nil:
			can = append(can, id)
		default:
			cannot = append(cannot, id)
		}
	}
	return can, cannot
}

// best are the few items that bring most of what all would that can go by
// advice. What can wait is not switched off.
func (v *Visit) best() ([]item.Item, error) {
	if v.ratings == nil {
		if err := v.ReadBoots(); err != nil {
			return nil, err
		}
	}
	if len(v.Replays) == 0 {
		return nil, misuse("what would bring most is not known for %s: no boot of it can be "+
			"replayed", v.name())
	}
	best := v.bestOf(slices.DeleteFunc(v.Dispensable(), func(it item.Item) bool {
		return it.Advice != item.CanGo
	}))
	if !best.Felt() {
		return nil, misuse("no item of %s that can go by advice shows an effect; apply --best "+
			"has those wait that can", v.name())
	}
	return best.Items, nil
}

// Protected refuses to switch off what the machine or its user depends on.
type Protected struct {
	Items []item.Item
	Why   []string // of each
}

func (p *Protected) Error() string {
	var lines []string
	for i, it := range p.Items {
		lines = append(lines, it.ID+" is protected: "+p.Why[i])
	}
	return strings.Join(lines, "\n")
}

// protect refuses what the machine or its user depends on, unless somebody
// insists on that very item.
func (v *Visit) protect(picked []item.Item, insist []string) error {
	insisted, err := v.Pick(insist)
	if err != nil {
		return err
	}
	meant := func(id string) bool {
		return slices.ContainsFunc(insisted, func(it item.Item) bool { return it.ID == id })
	}
	p := &Protected{}
	var ways []string
	if live, ok := v.kind.(family.Live); ok {
		ways = live.Ways()
	}
	for _, it := range picked {
		why := it.Protected
		if v.Remote && slices.Contains(ways, it.Native) {
			why = "you are connected through it right now"
		}
		if why != "" && it.State.Launched() && !meant(it.ID) {
			p.Items, p.Why = append(p.Items, it), append(p.Why, why)
		}
	}
	if len(p.Items) == 0 {
		return nil
	}
	return p
}

// fixed refuses protected items that cannot be turned at all, so that nobody is
// told to insist on them.
func (v *Visit) fixed(p *Protected, to item.State) error {
	var refused []error
	for _, it := range p.Items {
		if err := v.MayTurn(it, to); err != nil {
			refused = append(refused, cannotBe(it, to, err))
		}
	}
	return errors.Join(refused...)
}

func cannotBe(it item.Item, to item.State, why error) error {
	return fmt.Errorf("%s cannot be %s: %w", it.ID, Participle(to), why)
}

// PlanTurn works out what a wish means on this machine.
func (s *Session) PlanTurn(w Wish) (Turning, error) {
	v, err := s.look()
	if err != nil {
		return Turning{}, err
	}
	t := Turning{Visit: v, Wish: w}
	if t.Picked, err = v.Choose(w); err != nil {
		return t, err
	}
	if _, t.Fixed = v.fitting(w); slices.ContainsFunc(t.Fixed, func(it item.Item) bool {
		return slices.ContainsFunc(t.Picked, func(p item.Item) bool { return p.ID == it.ID })
	}) {
		t.Fixed = nil // they are refused
	}
	if w.To != item.On {
		err := v.protect(t.Picked, w.Insist)
		if p := (*Protected)(nil); errors.As(err, &p) {
			err = cmp.Or(v.fixed(p, w.To), err)
		}
		if err != nil {
			return t, err
		}
	}
	var rest []item.Item
	for _, it := range t.Picked {
		if w.To == item.Delayed && !it.State.Launched() && len(t.Picked) > 1 {
			t.LeftOut = append(t.LeftOut, it)
		} else {
			rest = append(rest, it)
		}
	}
	t.Change, err = v.turn(w.Verb, turnAll(rest, w), w.Starters, s.At)
	if err != nil || len(t.Change.Targets) == 0 {
		return t, err
	}
	if w.To != item.On {
		if err := v.ReadBoots(); err != nil {
			return t, err
		}
		t.Change.Forecast = v.ForecastOf(t.Picked, w.held())
		t.Change.Terms.Job, t.Change.Terms.JobOf = v.forecastOfJob(t.Picked)
	}
	t.Change.Terms.Until = w.Until
	t.Guard, err = s.planGuard(t.Change, w.Guard)
	return t, err
}

// A turned item is one with what it is to become.
type turned struct {
	item.Item
	to item.State
	by time.Duration // how late, where it is delayed
}

// turnAll gives items what a wish says.
func turnAll(items []item.Item, w Wish) (all []turned) {
	for _, it := range items {
		all = append(all, turned{it, w.To, w.By})
	}
	return all
}

// turn works out the change that turns items, and with starters what can start
// them on demand; those already as wished are left out. One that cannot be
// turned refuses all of them.
func (v *Visit) turn(
	verb change.Verb,
	all []turned,
	starters bool,
	at time.Time,
) (change.Change, error) {
	d := v.Root.Draft(at)
	plan := v.inventory.Turner(d)
	c := change.Change{Verb: verb, MadeAt: at, MadeBy: v.By}
	var refused []error
	for _, it := range all {
		done := it.State == it.to && it.to != item.Delayed ||
			it.to == item.On && it.State == item.Broken
		if !done {
			err := v.canWait(it.Item, it.to)
			if err == nil {
				err = plan.Turn(it.Item, it.to, it.by)
			}
			if err != nil {
				refused = append(refused, cannotBe(it.Item, it.to, err))
				continue
			}
			c.Targets = append(c.Targets, change.Target{
				ID:     it.ID,
				Title:  it.Title,
				Before: it.State,
				After:  it.to,
				When:   it.When,
			})
		}
		if !starters {
			continue
		}
		for _, starter := range SwitchableStarters(it.Item) {
			if err := plan.TurnStarter(it.Item, starter, it.to); err != nil {
				refused = append(refused, fmt.Errorf("%s, which can start %s, cannot be switched "+
					"%s: %w", starter, it.ID, it.to, err))
			}
			c.Targets = append(c.Targets, change.Target{
				ID:     "starter:" + starter.Name,
				Title:  starter.Name,
				Before: item.On,
				After:  it.to,
				When:   it.When,
			})
		}
	}
	if len(refused) > 0 {
		if len(all) > 1 {
			refused = append(refused, errors.New("nothing was changed: it is all of them or none"))
		}
		return c, errors.Join(refused...)
	}
	c.Edits = d.Edits()
	again := func(t change.Target) bool { return t.Before == item.Delayed && t.After == t.Before }
	if len(c.Edits) == 0 && !slices.ContainsFunc(c.Targets, func(t change.Target) bool {
		return !again(t)
	}) {
		c.Targets = nil // they are delayed by that time already
	}
	if len(c.Targets) > 0 && len(c.Edits) == 0 {
		return c, errors.New("there is nothing to edit that would do it")
	}
	return c, nil
}

// canWait refuses to delay what is not launched, or what others need.
func (v *Visit) canWait(it item.Item, to item.State) error {
	if to != item.Delayed {
		return nil
	}
	if !it.State.Launched() {
		return errors.New("it is off; switch it on first")
	}
	for _, id := range it.NeededBy {
		if other, ok := v.Find(id); ok && other.State.Launched() {
			return fmt.Errorf("%s needs it and would start it all the same", id)
		}
	}
	return nil
}

// MayTurn says why an item cannot be turned; nil where it can. Protected items
// take insisting besides.
func (v *Visit) MayTurn(it item.Item, to item.State) error {
	if err := v.canWait(it, to); err != nil {
		return err
	}
	return v.inventory.Turner(v.Root.Draft(v.Now())).Turn(it, to, time.Minute)
}

// Refusals say why decisions cannot be carried out, by the ids of their items.
// insist has those of protected ones that are meant all the same. It may be
// called by several goroutines at once.
func (v *Visit) Refusals(all []Resolved, insist map[string]bool) map[string]error {
	refused := map[string]error{}
	var held []item.Item
	for _, r := range all {
		if !r.Now || r.Back != 0 {
			continue
		}
		if r.To != item.On && !insist[r.ID] {
			held = append(held, r.Item)
		}
		one := []Resolved{r}
		if _, err := v.turn(verbOf(one), []turned{r.turned()}, false, v.Now()); err != nil {
			refused[r.ID] = err
		}
	}
	if p := (*Protected)(nil); errors.As(v.protect(held, nil), &p) {
		for i, it := range p.Items {
			refused[it.ID] = fmt.Errorf("%s is protected: %s", it.ID, p.Why[i])
		}
	}
	return refused
}

// Launches are the items that an item itself launches. Those are the ones of
// another mechanism in whose chains it stands, as the lines of crontabs behind
// their daemon.
func (v *Visit) Launches(it item.Item) (all []item.Item) {
	for _, other := range v.Items {
		if launches(it, other) {
			all = append(all, other)
		}
	}
	return all
}

func launches(it, other item.Item) bool {
	return other.State.Launched() && other.Mechanism != it.Mechanism && it.Owner == "" &&
		slices.Contains(other.Because, it.Native)
}

// SwitchableStarters are the units that can start an item on demand and can be
// switched off with it: a bus name cannot.
func SwitchableStarters(it item.Item) []item.Starter {
	return slices.DeleteFunc(slices.Clone(it.Starters), func(s item.Starter) bool {
		return s.Bus
	})
}

// Masks reports whether a change has the service manager refuse to start an
// item, whoever asks.
func (v *Visit) Masks(c change.Change, it item.Item) bool {
	return family.Masks(v.inventory, c.Edits, it)
}

// Participle says what becomes of an item that is turned: "switched off".
func Participle(to item.State) string {
	if to == item.Delayed {
		return "delayed"
	}
	return "switched " + string(to)
}

// forecastOfJob is what is forecast when items are switched off or delayed on
// top of what the job that goes on has decided. It counts from the boots before
// the job. It is nil where none does, or nothing can be.
func (v *Visit) forecastOfJob(items []item.Item) (f *change.Forecast, of []int64) {
	before, ok := job.Before(v.Boots, v.Changes, v.Now())
	if !ok {
		return nil, nil
	}
	replays, _ := forecast.Prepare(v.Order(boot.Fit(before.Boots, RatedBoots)))
	set := v.setOfAll(before.Off)
	for _, it := range items {
		maps.Copy(set, v.SetOf(it))
	}
	return keep(replays, forecast.Scenario{Out: set}), before.Changes
}

// ForecastOf is what is forecast when items are switched off, or delayed where
// by is more than 0; nil where nothing can be.
func (v *Visit) ForecastOf(items []item.Item, by time.Duration) *change.Forecast {
	set := v.launchedOf(items)
	if by > 0 {
		return keep(v.Replays, forecast.Scenario{Late: map[time.Duration]forecast.Set{by: set}})
	}
	return keep(v.Replays, forecast.Scenario{Out: set})
}

// ForecastOfAll is what is forecast when decisions are carried out together;
// nil where nothing can be. What is switched on counts as far as the boots have
// it. It may be called by several goroutines at once.
func (v *Visit) ForecastOfAll(all []Resolved) *change.Forecast {
	p := forecast.Scenario{
		Out:  forecast.Set{},
		Back: forecast.Set{},
		Late: map[time.Duration]forecast.Set{},
	}
	for _, r := range all {
		set := v.SetOf(r.Item)
		switch {
		case !r.Now:
		case r.To == item.On:
			maps.Copy(p.Back, set)
		case !r.Item.State.Launched():
		case r.To == item.Off:
			maps.Copy(p.Out, set)
		default:
			by, _ := r.Later()
			if p.Late[by] == nil {
				p.Late[by] = forecast.Set{}
			}
			maps.Copy(p.Late[by], set)
		}
	}
	return keep(v.Replays, p)
}

// launchedOf is what the replays leave out without those items that are
// launched.
func (v *Visit) launchedOf(items []item.Item) forecast.Set {
	set := forecast.Set{}
	for _, it := range items {
		if it.State.Launched() {
			maps.Copy(set, v.SetOf(it))
		}
	}
	return set
}

// keep makes a forecast as it is kept with a change; nil where nothing can be
// forecast, or a plan is empty.
func keep(replays []*forecast.Replay, p forecast.Scenario) *change.Forecast {
	if len(replays) == 0 || p.Empty() || !forecast.Bears(replays, p) {
		return nil
	}
	f := forecast.OfScenario(replays, p)
	if f.Login && !f.UsableShows {
		return nil // a lower bound that shows nothing tells nothing
	}
	kept := func(now, spread time.Duration, s forecast.Saving, boots int) change.Forecast {
		return change.Forecast{
			Now:     now,
			Saving:  s.Median,
			Low:     s.Low,
			High:    s.High,
			Boots:   boots,
			AtLeast: f.AtLeast,
			Spread:  spread,
		}
	}
	ready := kept(f.Now, f.Spread, f.Saving, f.Boots)
	if f.Kind != "" {
		usable := kept(f.UsableNow, f.UsableSpread, f.Usable, f.UsableBoots)
		ready.Usable, usable.Kind = &usable, f.Kind
		if f.Login {
			return &usable
		}
	}
	return &ready
}
