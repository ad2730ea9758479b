package review

import (
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// A plan is the decisions so far, in the order in which they were made. It is
// replaced, never changed.
type plan struct {
	number    int // tells it from others
	decisions []proposal.Decision
	at        map[string]int  // where an item's decision is
	insist    map[string]bool // protected items that are meant all the same
}

var plans atomic.Int64

// of is the place of an item's decision; -1 where there is none.
func (p plan) of(id string) int {
	if i, ok := p.at[id]; ok {
		return i
	}
	return -1
}

// turns reports whether the plan changes anything.
func (p plan) turns() bool {
	return slices.ContainsFunc(p.decisions, func(d proposal.Decision) bool {
		return d.Do != proposal.Keep
	})
}

// with is the plan with other decisions on some items; an empty Do takes an
// item's away.
func (p plan) with(all []proposal.Decision, insist bool) plan {
	next := plan{number: int(plans.Add(1)), insist: maps.Clone(p.insist)}
	if next.insist == nil {
		next.insist = map[string]bool{}
	}
	next.decisions = slices.Clone(p.decisions)
	gone := false
	for _, d := range all {
		delete(next.insist, d.ID)
		if insist {
			next.insist[d.ID] = true
		}
		gone = gone || d.Do == ""
		if i := p.of(d.ID); i >= 0 {
			d.Note = next.decisions[i].Note
			next.decisions[i] = d
		} else {
			next.decisions = append(next.decisions, d)
		}
	}
	if gone {
		next.decisions = slices.DeleteFunc(next.decisions, func(d proposal.Decision) bool {
			return d.Do == ""
		})
	}
	next.at = make(map[string]int, len(next.decisions))
	for i, d := range next.decisions {
		next.at[d.ID] = i
	}
	return next
}

// says is the word for a decision in the list.
var says = map[string]string{
	proposal.Disable: "off",
	proposal.Delay:   "later",
	proposal.Enable:  "on",
	proposal.Keep:    "keep",
}

// summary says what the plan has: "4 off, 1 later".
func (p plan) summary() string {
	n := map[string]int{}
	for _, d := range p.decisions {
		n[d.Do]++
	}
	var parts []string
	for _, do := range []string{proposal.Disable, proposal.Delay, proposal.Enable, proposal.Keep} {
		if n[do] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[do], says[do]))
		}
	}
	return strings.Join(parts, ", ")
}

// states are what decisions turn items into.
var states = map[string]item.State{
	proposal.Disable: item.Off,
	proposal.Delay:   item.Delayed,
	proposal.Enable:  item.On,
}

// decide puts a decision on what is meant. The same one again takes it away.
func (m *Model) decide(do string, by time.Duration, insist bool) {
	all := m.meant()
	if len(all) == 0 {
		m.say(render.Warn, "There is nothing in the list to decide on.")
		return
	}
	items := m.v.Items
	same := do != proposal.Delay && !insist && !slices.ContainsFunc(all, func(i int) bool {
		at := m.plan.of(items[i].ID)
		return at < 0 || m.plan.decisions[at].Do != do
	})
	next := make([]proposal.Decision, 0, len(all))
	left := map[string]int{}
	var why objection
	for _, i := range all {
		it := &items[i]
		d := proposal.Decision{ID: it.ID, Do: do, Title: it.Title}
		if do == proposal.Delay {
			d.By = visit.ByText(by)
		}
		if same {
			d.Do = ""
		} else if why = against(it, do, insist); why.one != "" {
			left[why.many]++
			continue
		}
		next = append(next, d)
	}
	first := items[all[0]]
	switch {
	case len(next) == 0 && len(all) == 1:
		m.say(render.Warn, "%s %s.", render.Clean(first.Title), why.one)
	case len(next) == 0:
		m.say(render.Warn, "None of the %d can be decided so: %s.", len(all), counted(left))
	default:
		m.take(m.plan.with(next, insist && do != ""))
		m.message = ""
		if len(left) > 0 {
			m.say(render.Warn, "Left out: %s.", counted(left))
		} else if len(all) == 1 && next[0].Do != "" && do != proposal.Keep {
			if text := say.Minding(m.v, first, states[do]); text != "" {
				m.say(render.Warn, "%s", text)
			}
		}
		m.unmark()
	}
}

// An objection says why a decision on an item is none, of one item and of
// several.
type objection struct{ one, many string }

// against is what the survey has against a decision; empty for nothing.
func against(it *item.Item, do string, insist bool) objection {
	is := func(what string) objection { return objection{"is " + what, what} }
	switch {
	case do == proposal.Keep || do == "":
		return objection{}
	case it.Ours:
		return objection{"is calmdawn's own and goes by its own command", "calmdawn's own"}
	case it.State == states[do] && do != proposal.Delay,
		do == proposal.Enable && it.State == item.Broken:
		return is(string(it.State) + " already")
	case do == proposal.Delay && !it.State.Launched():
		return is("off")
	case do != proposal.Enable && it.Protected != "" && it.State.Launched() && !insist:
		why, _, _ := strings.Cut(render.Clean(it.Protected), " (role ")
		return objection{"is protected: " + why + " (! decides all the same)", "protected"}
	}
	return objection{}
}

// counted lists reasons, each with how many items it left out.
func counted(left map[string]int) string {
	var parts []string
	for _, why := range slices.Sorted(maps.Keys(left)) {
		parts = append(parts, fmt.Sprintf("%d %s", left[why], why))
	}
	return strings.Join(parts, ", ")
}

// take makes a plan the present one.
func (m *Model) take(next plan) {
	const deepest = 200
	m.history = append(m.history, m.plan)
	if len(m.history) > deepest {
		m.history = m.history[1:]
	}
	m.plan, m.saved = next, len(next.decisions) == 0
}

// takeBack undoes the last decision.
func (m *Model) takeBack() {
	if len(m.history) == 0 {
		m.say(render.Plain, "There is no decision to undo.")
		return
	}
	m.plan, m.history = m.history[len(m.history)-1], m.history[:len(m.history)-1]
	m.saved, m.message = len(m.plan.decisions) == 0, ""
}

// worked is what a plan comes to.
type worked struct {
	plan     plan
	forecast *change.Forecast
	refused  map[string]error // decisions that cannot be carried out
	unseen   int              // decided items that no boot shows
}

// workOut finds out what a plan comes to. It may run beside the screen.
func workOut(v *visit.Visit, p plan) worked {
	all, _ := v.Resolve(proposal.Proposal{Decide: p.decisions}, false)
	w := worked{plan: p, refused: v.Refusals(all, p.insist)}
	for i, r := range all {
		if w.refused[r.ID] != nil {
			all[i].Now = false
		} else if r.Now && v.Cost(r.Item).Seen == 0 {
			w.unseen++
		}
	}
	w.forecast = v.ForecastOfAll(all)
	return w
}

// writeTo writes the decisions as a proposal to a file of the technician's. One
// that is there is written over only with replace; else that is
// [fs.ErrExist].
func (m *Model) writeTo(file string, replace bool) error {
	p := proposal.Proposal{Machine: m.v.Host, Made: m.o.Now()}
	for _, d := range m.plan.decisions {
		if it, ok := m.v.Lookup(d.ID); ok {
			known := say.DecisionOf(m.v, it)
			d.Title, d.Why, d.Forecast = known.Title, known.Why, known.Forecast
		}
		p.Decide = append(p.Decide, d)
	}
	text, err := proposal.Write(p)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(file); err == nil && !replace {
		return fs.ErrExist
	}
	err = ownfile.Write(file, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
	if err != nil {
		return fmt.Errorf("the plan cannot be written: %w", err)
	}
	return nil
}
