package say

import (
	"fmt"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// together is what is forecast for all that a proposal switches off or delays.
func together(l *visit.Visit, p proposal.Proposal) *change.Forecast {
	all, _ := l.Resolve(p, false)
	return l.ForecastOfAll(all)
}

// Proposed writes down what is proposed for a machine.
func Proposed(l *visit.Visit, now time.Time) proposal.Proposal {
	p := proposal.Proposal{Machine: l.Host, Made: now}
	proposed, left := l.Propose()
	for _, out := range left {
		out.Why = "they are " + out.Why
		for i, id := range out.IDs {
			out.IDs[i] = render.Clean(id)
		}
		p.Left = append(p.Left, out)
	}
	for _, one := range proposed {
		d := DecisionOf(l, one.Item)
		d.Do, d.By = one.Do, one.By
		if one.Stays != nil {
			d.Why += "; it stays, since it cannot be switched off: " +
				render.Clean(one.Stays.Error())
		}
		p.Decide = append(p.Decide, d)
	}
	return p
}

// DecisionOf is a decision on an item with what is known for it; what is
// decided is still missing.
func DecisionOf(l *visit.Visit, it item.Item) proposal.Decision {
	d := proposal.Decision{
		ID:    it.ID,
		Title: render.Clean(it.Title),
		Why:   render.Clean(why(it)),
	}
	if c := l.Cost(it); c.Replayed {
		lead := c.Wait.Lead()
		d.Forecast = fmt.Sprintf("forecast: no effect on %s shown", lead.On)
		if lead.Shows {
			d.Forecast = fmt.Sprintf("forecast: %s %s sooner without it (between %s)", lead.On,
				render.Duration(lead.Saving.Median), span(lead.Saving))
		}
	}
	if j, ok := l.Joint(it); ok {
		d.Forecast = fmt.Sprintf("forecast: %s sooner, once others are decided on too",
			render.Duration(j.Gain))
	}
	return d
}

// ShowProposed says what a proposal for a machine decides, and that it stands
// in a file.
func ShowProposed(s Page, l *visit.Visit, p proposal.Proposal, file string) {
	n := map[string]int{}
	for _, d := range p.Decide {
		n[d.Do]++
	}
	s.Say(render.Strong, "%s in %s: %d to switch off, %d to delay, %d to keep unless you decide "+
		"otherwise.", Count(len(p.Decide), "decision", "decisions"), render.Clean(file),
		n[proposal.Disable], n[proposal.Delay], n[proposal.Keep])
	if f := together(l, p); f != nil {
		s.Wrap(2, "%s%s%s", ForecastLine(*f), OfSimulated(l), setUpNow(l))
	}
	var parts []string
	for _, out := range p.Left {
		parts = append(parts, fmt.Sprintf("%d %s", len(out.IDs), strings.TrimPrefix(out.Why,
			"they are ")))
	}
	if len(parts) > 0 {
		s.Wrap(2, "  Left out: %s. The file names them at its end.", strings.Join(parts, ", "))
	}
	s.Line("Next: edit it, then %s", s.Call("apply "+ShellWord(file)))
}
