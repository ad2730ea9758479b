package say

import (
	"fmt"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
)

// forCustomer is the part of a report that the customer reads: what was done,
// what to look out for, and whom to ask.
func (t *Report) forCustomer(add func(render.Section)) {
	done, lost := t.decisions()
	if len(done) == 0 {
		add(render.Section{Title: "What was done", Text: "Nothing was changed."})
	} else {
		add(render.Section{Title: "What was done", List: done})
		add(render.Section{Title: "What to look out for", List: append(lost, t.wayBack())})
	}
	if t.Contact != "" {
		add(render.Section{Title: "How to reach us", Text: t.Contact})
	}
}

// decisions are what the changes in force have decided, in the customer's
// words, and what is missing for it.
func (t *Report) decisions() (done, lost []string) {
	became := map[string]change.Target{} // by item: the last decision counts
	var order []string
	for _, c := range t.Visit.Changes {
		if !c.Stands() || !c.Decides() {
			continue
		}
		for _, target := range c.Targets {
			if _, known := became[target.ID]; !known {
				order = append(order, target.ID)
			}
			became[target.ID] = target
		}
	}
	var missing []string // what, in the order of the decisions
	whose := map[string][]string{}
	for _, state := range []item.State{item.Delayed, item.Off, item.On} {
		var titles []string
		for _, id := range order {
			target := became[id]
			if target.After != state {
				continue
			}
			title := render.Clean(target.Title)
			titles = appendNew(titles, title)
			it, ok := t.Visit.Lookup(id)
			if !ok || state != item.Off || it.Lost == "" {
				continue
			}
			if whose[it.Lost] == nil {
				missing = append(missing, it.Lost)
			}
			whose[it.Lost] = appendNew(whose[it.Lost], title)
		}
		if len(titles) > 0 {
			done = append(done, map[item.State]string{
				item.Delayed: "These start later, when one has been able to work for a while: ",
				item.Off:     "These no longer start by themselves: ",
				item.On:      "These start by themselves again: ",
			}[state]+few(titles)+".")
		}
	}
	for _, what := range missing {
		lost = append(lost, fmt.Sprintf("%s: %s.", few(whose[what]), what))
	}
	return done, lost
}

// wayBack tells the customer that nothing is for ever.
func (t *Report) wayBack() string {
	who := "whoever made this report"
	if t.By != "" {
		who = t.By
	}
	return "If anything is missing, or starts at a bad time: each of these can be taken back, " +
		"exactly as it was. Tell " + who + " what it is."
}

// appendNew adds a text that a list does not have yet.
func appendNew(list []string, text string) []string {
	if slices.Contains(list, text) {
		return list
	}
	return append(list, text)
}

// few are texts in a row, the first ones where they are many.
func few(texts []string) string {
	const most = 8
	more := ""
	if n := len(texts) - most; n > 1 {
		texts, more = texts[:most], fmt.Sprintf(" and %d more", n)
	}
	return strings.Join(texts, ", ") + more
}
