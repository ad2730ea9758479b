package forecast

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// Of some boots a machine tells when one could work, and what its login's
// programs computed, and nothing of what waited for what. What can be replayed
// of them is the login. Its programs, each from when it began, and the system's
// own work beside them compete for the processors. Each works on one at most.
// How much that own work is, is fitted, so that the replay ends when one could
// work. Nothing is known of the disk, nor of services: the saving is a lower
// bound of what it takes to compute.
//
// Whether that says anything is tried on the boots themselves. Each is replayed
// with what the own work was in the middle of the others, see [judgeLogins].

// leastLogins is how many logins of one kind it takes to tell.
const leastLogins = 4

// newLogin prepares such a replay.
func newLogin(b boot.Boot) (*Replay, error) {
	if !b.Worked.Known || b.Processors == 0 || len(b.Programs) == 0 {
		return nil, errors.New("nothing is known of what waited for what")
	}
	r := &Replay{
		Boot:       b,
		Inputs:     Inputs{Processor: true, Busy: -1},
		Login:      true,
		index:      map[boot.Key]int{},
		byName:     map[string][]int{},
		byProgram:  map[int]int{},
		goal:       -1,
		first:      -1,
		processors: float64(b.Processors),
		usable:     b.Usable(),
	}
	for _, s := range b.Spans {
		r.units = append(r.units, unit{key: s.Key(), program: -1})
	}
	for i, p := range b.Programs {
		r.units = append(r.units, unit{
			key:     boot.Key{Native: programPrefix + p.Name, Owner: p.Owner},
			ran:     true,
			begin:   p.Began,
			fixed:   true,
			program: i,
			piece:   piece{compute: p.CPU},
		})
	}
	all := r.alive(nil)
	if r.fitOwn(all); r.runLogin(all).Usable.Value > b.Worked.Value+finest {
		return nil, errors.New("its login's programs computed longer than until one could work")
	}
	r.allAlive, r.baseAlive, r.unchanged = all, all, r.runLogin(all)
	r.baseline = r.unchanged
	return r, nil
}

// fitOwn finds how much the system's own work is.
func (r *Replay) fitOwn(all []bool) {
	low, high := time.Duration(0), time.Duration(float64(r.Boot.Worked.Value)*r.processors)
	for range 40 {
		r.own = low + (high-low)/2
		if r.runLogin(all).Usable.Value > r.Boot.Worked.Value {
			high = r.own
		} else {
			low = r.own
		}
	}
	r.own = low
}

// A loginJob is one piece of work in a login.
type loginJob struct {
	begin, left float64 // seconds
}

// runLogin replays the login without some programs.
func (r *Replay) runLogin(alive []bool) Outcome {
	from := r.Boot.Ready.Value
	var jobs []loginJob
	for i, u := range r.units {
		if u.ran {
			from = min(from, u.begin)
		}
		if u.ran && alive[i] && u.begin < r.Boot.Worked.Value { // what comes later is past it
			jobs = append(jobs, loginJob{u.begin.Seconds(), u.compute.Seconds()})
		}
	}
	jobs = append(jobs, loginJob{from.Seconds(), r.own.Seconds()})
	slices.SortStableFunc(jobs, func(a, b loginJob) int {
		switch {
		case a.begin < b.begin:
			return -1
		case a.begin > b.begin:
			return 1
		}
		return 0
	})
	now, next := from.Seconds(), 0
	var active []loginJob
	for next < len(jobs) || len(active) > 0 {
		for next < len(jobs) && jobs[next].begin <= now {
			active = append(active, jobs[next])
			next++
		}
		if len(active) == 0 {
			now = jobs[next].begin
			continue
		}
		rate := min(1, r.processors/float64(len(active)))
		step := math.Inf(1)
		for _, j := range active {
			step = min(step, j.left/rate)
		}
		if next < len(jobs) {
			step = min(step, jobs[next].begin-now)
		}
		now += step
		for i := range active {
			active[i].left -= step * rate
		}
		active = slices.DeleteFunc(active, func(j loginJob) bool { return j.left < 1e-9 })
	}
	end := max(seconds(now), r.Boot.Ready.Value)
	return Outcome{
		Ready:   r.Boot.Ready.Value,
		Settled: boot.Of(end, r.Boot.Worked.From),
		Usable:  boot.Of(end, r.Boot.Worked.From),
		began:   make([]time.Duration, len(r.units)),
		done:    make([]time.Duration, len(r.units)),
	}
}

// judgeLogins replays each login with what the system's own work was in the
// middle of the others of its kind. How far that is from what was measured is
// its error; with too large an error, or too few logins, nothing is forecast
// from logins.
func judgeLogins(replays []*Replay) (fit []*Replay, why error) {
	of := map[string][]*Replay{}
	few := 0 // logins of one person, where they are too few
	for _, r := range replays {
		if !r.Login {
			fit = append(fit, r)
			continue
		}
		of[r.usable.Kind] = append(of[r.usable.Kind], r)
	}
	for _, r := range replays {
		like := of[r.usable.Kind]
		if !r.Login {
			continue
		}
		if len(like) < leastLogins {
			few = max(few, len(like))
			continue
		}
		var others []time.Duration
		for _, o := range like {
			if o != r {
				others = append(others, o.own)
			}
		}
		own := r.own
		r.own = boot.Median(others)
		off := r.runLogin(r.allAlive).Usable.Value - r.Boot.Worked.Value
		r.own = own
		r.Error = off.Abs().Seconds() / r.Boot.Worked.Value.Seconds()
	}
	for _, like := range of {
		worst := 0.0
		for _, r := range like {
			worst = max(worst, r.Error)
		}
		switch {
		case len(like) < leastLogins:
		case worst > MaxError:
			why = fmt.Errorf("replays of its logins are up to %.0f %% from what was measured",
				100*worst)
		default:
			fit = append(fit, like...)
		}
	}
	if few > 0 && why == nil && len(fit) == 0 {
		why = fmt.Errorf("it takes %d boots with logins of one person since the machine was set "+
			"up like this, and there %s", leastLogins, map[bool]string{
			true: "is one", false: fmt.Sprintf("are %d", few),
		}[few == 1])
	}
	slices.SortStableFunc(fit, func(a, b *Replay) int { return a.Boot.Began.Compare(b.Boot.Began) })
	return fit, why
}

// Bears reports whether replays tell anything of a scenario: those of logins
// know the programs of these alone.
func Bears(replays []*Replay, p Scenario) bool {
	return slices.ContainsFunc(replays, func(r *Replay) bool {
		return !r.Login || len(r.indexes(p.all())) > 0
	})
}
