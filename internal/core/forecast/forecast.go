package forecast

import (
	"cmp"
	"encoding/json"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"calmdawn/internal/core/boot"
)

// Boots is how many of the last boots stand behind a forecast at most.
const Boots = 5

// A Set is what is left out of a boot. It holds units by their keys, and with
// [ProgramKey] and [LineKey] programs of logins that have no unit.
type Set map[boot.Key]bool

const programPrefix = "program "

// ProgramKey names a program of a login by its path; without an owner, that of
// every user.
func ProgramKey(path, owner string) boot.Key {
	return boot.Key{Native: programPrefix + path, Owner: owner}
}

// LineKey names a program of a login by how it is launched, as [ProgramKey]
// does where nothing else launches it.
func LineKey(l boot.Line, owner string) boot.Key {
	if len(l.Others) == 0 {
		return ProgramKey(l.Program, owner)
	}
	text, _ := json.Marshal(l) // strings alone
	return boot.Key{Native: programPrefix + string(text), Owner: owner}
}

// lineOf reads the name of a program of a login; false for that of a unit.
func lineOf(native string) (l boot.Line, ok bool) {
	text, ok := strings.CutPrefix(native, programPrefix)
	if strings.HasPrefix(text, "{") {
		return l, json.Unmarshal([]byte(text), &l) == nil
	}
	return boot.Line{Program: text}, ok
}

// Rebase has forecasts count from the boot without a set: from what the machine
// would do now, where the set has been switched off since.
func (r *Replay) Rebase(set Set) {
	r.off, r.baseAlive, r.baseline, r.kept = nil, r.allAlive, r.unchanged, r.keptFirst
	if off := r.indexes(set); len(off) > 0 {
		r.off, r.baseAlive = off, r.alive(off)
		r.baseline = r.runBase(r.baseAlive)
	}
}

// indexes are the units of a set in this boot.
func (r *Replay) indexes(set Set) map[int]bool {
	off := map[int]bool{}
	for key := range set {
		if line, ok := lineOf(key.Native); ok {
			var launched []int
			if len(r.Boot.Programs) > 0 {
				launched = r.Boot.Launched(line, key.Owner)
			}
			for i, u := range r.units[len(r.Boot.Spans):] {
				if u.program >= 0 && slices.Contains(launched, u.program) {
					off[len(r.Boot.Spans)+i] = true
				}
			}
			continue
		}
		for _, i := range r.byName[key.Native] {
			if u := r.units[i]; u.key.Owner == key.Owner ||
				key.Owner == AnyOwner && u.key.Owner != "" {
				off[i] = true
			}
		}
	}
	return off
}

// A Scenario is what boots would be without, or have later.
type Scenario struct {
	Out  Set // takes no part
	Back Set // takes part again, of what forecasts leave out anyhow, see [Replay.Rebase]
	// Late starts only so long after the machine is ready, or after the login.
	Late map[time.Duration]Set
}

// Empty reports whether the scenario leaves boots as they are.
func (p Scenario) Empty() bool { return len(p.all()) == 0 }

// all is everything that the scenario names.
func (p Scenario) all() Set {
	all := maps.Clone(p.Out)
	if all == nil {
		all = Set{}
	}
	maps.Copy(all, p.Back)
	for _, set := range p.Late {
		maps.Copy(all, set)
	}
	return all
}

// Under replays the boot under a scenario, and without what forecasts do not
// count anyhow. stays are those units that are left out and that something else
// starts all the same.
func (r *Replay) Under(p Scenario) (out Outcome, stays []boot.Key) {
	off, back := r.indexes(p.Out), r.indexes(p.Back)
	gone := maps.Clone(off)
	for i := range r.off {
		if !back[i] {
			off[i] = true
		}
	}
	by := map[int]time.Duration{}
	for late, set := range p.Late {
		for i := range r.indexes(set) {
			by[i] = late
		}
	}
	alive := r.alive(off)
	same := len(by) == 0
	for i, u := range r.units {
		if gone[i] && !r.off[i] && alive[i] && u.ran {
			stays = append(stays, u.key)
		}
		same = same && (alive[i] == r.baseAlive[i] || !u.ran)
	}
	if same {
		return r.baseline, stays
	}
	if len(by) > 0 {
		return r.held(by).run(alive), stays
	}
	return r.rerun(alive), stays
}

// Without replays the boot without a set, as [Replay.Under] does.
func (r *Replay) Without(set Set) (out Outcome, stays []boot.Key) {
	return r.Under(Scenario{Out: set})
}

// A Follower is a unit that takes no part in a boot where some others do not,
// with how long its start took.
type Follower struct {
	boot.Key
	Took time.Duration
}

// Followers are the units that only run because those of a set do, the longest
// starts first.
func (r *Replay) Followers(set Set) (all []Follower) {
	off := r.indexes(set)
	own := maps.Clone(off)
	maps.Copy(off, r.off)
	alive := r.alive(off)
	for i, u := range r.units[:len(r.Boot.Spans)] {
		if u.ran && u.took > 0 && !own[i] && r.baseAlive[i] && !alive[i] {
			all = append(all, Follower{u.key, u.took})
		}
	}
	slices.SortStableFunc(all, func(a, b Follower) int { return cmp.Compare(b.Took, a.Took) })
	return all
}

// AnyOwner stands for every user, of an entry that is started for each.
const AnyOwner = "*"

// Unchanged is the replay of the boot as it was.
func (r *Replay) Unchanged() Outcome { return r.unchanged }

// A Saving is by how much sooner something comes, and the range a measurement
// should fall into.
type Saving struct{ Median, Low, High time.Duration }

// fewBusy is the part of the processors below which sharing them matters
// little, so that a replay that knows nothing of it is right too.
const fewBusy = 0.6

// A Forecast is what boots would have taken without a set.
type Forecast struct {
	// Now is ready: the median of the boots as measured, less what has been
	// switched off since; Then is that less the saving.
	Now, Then time.Duration
	Saving    Saving
	// Settled is the saving until the machine has gone quiet; only where the
	// boots have courses of time.
	Settled Saving
	Quiet   bool // whether Settled is known
	// Usable is the saving until one can work, in those of the boots that are
	// of one kind (see [boot.Usable]); UsableNow is when one can. Kind is empty
	// where that cannot be forecast.
	Usable    Saving
	UsableNow time.Duration
	// UsableBefore is what of Usable is already saved when the machine is
	// ready.
	UsableBefore time.Duration
	UsableShows  bool          // as Shows
	UsableSpread time.Duration // as Spread
	UsableBoots  int           // how many boots stand behind it
	Kind         string
	Boots        int
	// Error is the largest replay error among the boots, as a share of ready.
	Error float64
	// Login says that only logins could be replayed: of ready nothing is known.
	Login bool
	// AtLeast is set where the saving is a lower bound. What the units use of
	// the processors is not known, and they were busy or may have been.
	AtLeast bool
	// Shows is whether the saving is larger than Spread, what boots differ by
	// anyhow. It decides everywhere whether an effect counts as one.
	Shows  bool
	Spread time.Duration
	Stays  []boot.Key // of the set, what something else starts all the same
}

// Prepare makes replays of the last boots that are fit for it. Of those that
// cannot be replayed, why says so.
func Prepare(boots []boot.Boot) (replays []*Replay, why []error) {
	for _, b := range slices.Backward(boots) {
		if len(replays) == Boots {
			break
		}
		if !b.Fit() {
			continue
		}
		r, err := New(b)
		if err != nil {
			why = append(why, err)
			continue
		}
		replays = append(replays, r)
	}
	slices.Reverse(replays)
	replays, wrong := judgeLogins(replays)
	if wrong != nil { // which is more than of one boot
		why = append([]error{wrong}, why...)
	}
	return replays, why
}

// A Lead is what a forecast says of the figure that leads: usable, of boots of
// one kind, or ready where that cannot be forecast.
type Lead struct {
	On     string // "usable" or "ready"
	Kind   string // of usable
	Now    time.Duration
	Saving Saving
	Shows  bool
	Costs  bool // it would come later, by more than boots differ anyhow
}

// Ready is what the forecast says of ready.
func (f Forecast) Ready() Lead {
	return Lead{"ready", "", f.Now, f.Saving, f.Shows, f.Saving.Median < -f.Spread}
}

// Lead is what the forecast says of the figure that leads.
func (f Forecast) Lead() Lead {
	if f.Kind == "" {
		return f.Ready()
	}
	return Lead{"usable", f.Kind, f.UsableNow, f.Usable, f.UsableShows,
		f.Usable.Median < -f.UsableSpread}
}

// Title is what the figure is called: usable with its kind.
func (l Lead) Title() string {
	if l.Kind == "" {
		return l.On
	}
	return l.On + " (" + l.Kind + ")"
}

// Of forecasts boots without a set. There has to be a replay at least. Usable
// is of the kind that most boots have in which something of the set ran.
func Of(replays []*Replay, set Set) Forecast { return OfDelay(replays, set, 0) }

// OfDelay forecasts boots in which a set starts only some time after ready, or
// after the login; with 0 not at all. Work that begins when the machine has
// gone quiet already is past settled, and past usable.
func OfDelay(replays []*Replay, set Set, by time.Duration) Forecast {
	if by > 0 {
		return OfScenario(replays, Scenario{Late: map[time.Duration]Set{by: set}})
	}
	return OfScenario(replays, Scenario{Out: set})
}

// OfScenario forecasts boots under a scenario.
func OfScenario(replays []*Replay, p Scenario) Forecast {
	return of(replays, p, kindOf(replays, p.all()))
}

// of forecasts boots under a scenario; usable is of a kind.
func of(replays []*Replay, p Scenario, kind string) Forecast {
	f := Forecast{Boots: len(replays), Quiet: true}
	var now, saved, settled, usable, sooner, before []time.Duration
	for _, r := range replays {
		out, stays := r.Under(p)
		if r.usable.Known && r.usable.Kind == kind && out.Usable.Known &&
			r.baseline.Usable.Known {
			usable = append(usable,
				r.usable.Value-(r.unchanged.Usable.Value-r.baseline.Usable.Value))
			sooner = append(sooner, r.baseline.Usable.Value-out.Usable.Value)
			before = append(before, r.baseline.Ready-out.Ready)
		}
		now = append(now, r.Boot.Ready.Value-(r.unchanged.Ready-r.baseline.Ready))
		saved = append(saved, r.baseline.Ready-out.Ready)
		if out.Settled.Known && r.baseline.Settled.Known {
			settled = append(settled, r.baseline.Settled.Value-out.Settled.Value)
		} else {
			f.Quiet = false
		}
		f.Error = max(f.Error, r.Error)
		f.Login = r.Login
		known := r.Inputs.Processor && r.Inputs.Busy >= 0
		f.AtLeast = f.AtLeast || !known && !(r.Inputs.Busy >= 0 && r.Inputs.Busy < fewBusy)
		for _, key := range stays {
			if !slices.Contains(f.Stays, key) {
				f.Stays = append(f.Stays, key)
			}
		}
	}
	f.Now = boot.Median(now)
	f.Saving = rangeOf(saved, now)
	f.Then = f.Now - f.Saving.Median
	f.Spread = spread(now)
	f.Shows = f.Saving.Median > f.Spread
	if f.Quiet {
		f.Settled = rangeOf(settled, now)
	}
	if len(usable) > 0 {
		f.Kind, f.UsableBoots, f.UsableNow = kind, len(usable), boot.Median(usable)
		f.Usable, f.UsableBefore = rangeOf(sooner, usable), boot.Median(before)
		f.UsableSpread = spread(usable)
		f.UsableShows = f.Usable.Median > f.UsableSpread
	}
	return f
}

// kindOf is the kind of usable that most of the boots tell in which something
// of a set ran. Where it ran in none, it is that of most of them.
func kindOf(replays []*Replay, set Set) (most string) {
	of := map[string]int{}
	for _, r := range replays {
		if r.usable.Known {
			if of[r.usable.Kind]++; len(r.indexes(set)) > 0 {
				of[r.usable.Kind] += len(replays) + 1
			}
			if of[r.usable.Kind] >= of[most] {
				most = r.usable.Kind
			}
		}
	}
	return most
}

// Each forecasts boots without each of some sets, or with each held back by
// more than 0, on all processors.
func Each(replays []*Replay, sets []Set, by time.Duration) []Forecast {
	return each(sets, func(set Set) Forecast { return OfDelay(replays, set, by) })
}

func each[T any](sets []T, of func(T) Forecast) []Forecast {
	all := make([]Forecast, len(sets))
	var calls errgroup.Group
	calls.SetLimit(runtime.GOMAXPROCS(0))
	for i := range sets {
		calls.Go(func() error {
			all[i] = of(sets[i])
			return nil
		})
	}
	_ = calls.Wait() // none of them fails
	return all
}

// A Choice is one more item to leave out, and what that brings.
type Choice struct {
	Index int // of the candidate
	// Saving is that of all chosen so far, this one among them; Gain is by how
	// much it is more than without it.
	Saving Saving
	Gain   time.Duration
}

// With is a scenario with what another one leaves out, or has start late.
func (p Scenario) With(q Scenario) Scenario {
	sum := Scenario{Out: maps.Clone(p.Out), Back: p.Back, Late: map[time.Duration]Set{}}
	if sum.Out == nil {
		sum.Out = Set{}
	}
	maps.Copy(sum.Out, q.Out)
	for _, late := range []map[time.Duration]Set{p.Late, q.Late} {
		for by, set := range late {
			if sum.Late[by] == nil {
				sum.Late[by] = Set{}
			}
			maps.Copy(sum.Late[by], set)
		}
	}
	return sum
}

// Best goes by the figure that leads. It chooses, one after the other, the
// candidates that bring most, left out or late, beyond those already chosen. It
// goes on until they bring nine tenths of what all candidates together would.
// It returns that saving too. A choice that later ones made needless is left
// out.
func Best(replays []*Replay, candidates []Scenario) (chosen []Choice, all Forecast) {
	const enough = 0.9
	whole := Scenario{}
	for _, c := range candidates {
		whole = whole.With(c)
	}
	kind := kindOf(replays, whole.all()) // one for all steps, so that they compare
	without := func(p Scenario) Forecast { return of(replays, p, kind) }
	saves := func(f Forecast) time.Duration { return f.Lead().Saving.Median }
	all = without(whole)
	taken := Scenario{}
	have := time.Duration(0)
	left := map[int]bool{}
	for i := range candidates {
		left[i] = true
	}
	for len(left) > 0 && have < time.Duration(enough*float64(saves(all))) {
		var order []int
		var plans []Scenario
		for i := range left {
			order = append(order, i)
		}
		slices.Sort(order)
		for _, i := range order {
			plans = append(plans, taken.With(candidates[i]))
		}
		best, at := -time.Hour, -1
		found := each(plans, without)
		for n, f := range found {
			if saves(f) > best {
				best, at = saves(f), n
			}
		}
		i := order[at]
		delete(left, i)
		taken = taken.With(candidates[i])
		chosen = append(chosen, Choice{i, found[at].Lead().Saving, best - have})
		have = max(have, best)
	}
	// Where several wait side by side, the first ones bring nothing before the
	// last: what brought nothing in the end goes.
	for n := len(chosen) - 1; n >= 0 && len(chosen) > 1; n-- {
		plan := Scenario{}
		for m, c := range chosen {
			if m != n {
				plan = plan.With(candidates[c.Index])
			}
		}
		if saves(without(plan)) >= have-have/100 {
			chosen = slices.Delete(chosen, n, n+1)
		}
	}
	sum, last := Scenario{}, time.Duration(0)
	for n := range chosen {
		sum = sum.With(candidates[chosen[n].Index])
		chosen[n].Saving = without(sum).Lead().Saving
		chosen[n].Gain, last = chosen[n].Saving.Median-last, chosen[n].Saving.Median
	}
	return chosen, all
}

// rangeOf is the median of savings with the range from the least to the most.
// That is widened by what ready varies by between the boots. It is widened too
// by what replays were found to be off by, of the saving itself
// (docs/forecast-accuracy.md).
func rangeOf(saved, ready []time.Duration) Saving {
	const model = 0.1
	median := boot.Median(saved)
	wide := spread(ready) + time.Duration(model*float64(median.Abs()))
	return Saving{median, slices.Min(saved) - wide, slices.Max(saved) + wide}
}

// spread is half of what the boots differ by. It is at least the share by which
// boots were found to drift from one hour to the next, though nobody touched
// them.
func spread(ready []time.Duration) time.Duration {
	const least = 0.04
	half := (slices.Max(ready) - slices.Min(ready)) / 2
	return max(half, time.Duration(least*float64(boot.Median(ready))))
}
