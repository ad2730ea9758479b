package document

import (
	"encoding/hex"
	"fmt"
	"time"

	"calmdawn/internal/core/change"
)

// A Change is one change, done, undone or planned.
type Change struct {
	Format      string          `json:"format,omitempty"`
	Change      int64           `json:"change,omitempty"`
	Verb        change.Verb     `json:"verb"`
	Status      change.Status   `json:"status,omitempty"`
	MadeAt      string          `json:"made_at"`
	MadeBy      string          `json:"made_by"`
	Items       []change.Target `json:"items"`
	Edits       []Edit          `json:"edits"`
	TakesEffect change.Effect   `json:"takes_effect"`
	Forecast    *Saving         `json:"forecast,omitempty"` // for ready
	// ForecastUsable is what was forecast for usable, and its kind.
	ForecastUsable *UsableSaving `json:"forecast_usable,omitempty"`
	Undoes         int64         `json:"undoes,omitempty"`
	UndoneBy       int64         `json:"undone_by,omitempty"`
	Proposal       string        `json:"proposal,omitempty"`
	TrialUntil     string        `json:"trial_until,omitempty"`
	Outcome        *float64      `json:"outcome,omitempty"`
	OutcomeOf      string        `json:"outcome_of,omitempty"` // "ready", or "usable"
	SettledAt      string        `json:"settled_at,omitempty"`
	Left           []string      `json:"left,omitempty"`
	Unsettled      []unSettled   `json:"unsettled,omitempty"`
}

// A UsableSaving is by how much sooner one can work, in boots of one kind.
type UsableSaving struct {
	Kind string `json:"kind"`
	Saving
}

// An Edit is one path with what it was and what it becomes.
type Edit struct {
	Path   string `json:"path"`
	Before Node   `json:"before"`
	After  Node   `json:"after"`
}

// A Node is what stands at a path.
type Node struct {
	Kind   change.NodeKind `json:"kind"`
	Target string          `json:"target,omitempty"`
	Size   *int            `json:"size,omitempty"`
	Mode   string          `json:"mode,omitempty"`
	Type   *uint32         `json:"type,omitempty"` // of a value, as the registry numbers types
	Data   *string         `json:"data,omitempty"` // of a value, in hexadecimal digits
}

func newNode(n change.Node) Node {
	d := Node{Kind: n.Kind, Target: n.Target}
	if n.Kind == change.File {
		size := len(n.Data)
		d.Size, d.Mode = &size, fmt.Sprintf("%04o", n.Mode)
	}
	if n.Kind == change.Value {
		data := hex.EncodeToString(n.Data)
		d.Type, d.Data = &n.Type, &data
	}
	return d
}

// NewChange makes the document of one change.
func NewChange(c change.Change) Change {
	d := Change{
		Format:      "calmdawn.change/1",
		Change:      c.ID,
		Verb:        c.Verb,
		Status:      c.Status,
		MadeAt:      c.MadeAt.UTC().Format(time.RFC3339),
		MadeBy:      c.MadeBy,
		Items:       append([]change.Target{}, c.Targets...),
		Edits:       []Edit{},
		TakesEffect: c.TakesEffect(),
		Undoes:      c.Undoes,
		UndoneBy:    c.UndoneBy,
	}
	if f := c.Forecast; f != nil {
		d.Forecast = &Saving{f.Saving.Seconds(), f.Low.Seconds(), f.High.Seconds()}
		if u := f.Usable; u != nil {
			d.ForecastUsable = &UsableSaving{
				u.Kind, Saving{u.Saving.Seconds(), u.Low.Seconds(), u.High.Seconds()},
			}
		}
	}
	d.Proposal, d.TrialUntil = c.Terms.Proposal, c.Terms.Until
	if c.Outcome != nil {
		saved := c.Outcome.Saved.Seconds()
		d.Outcome, d.OutcomeOf = &saved, "ready"
		if c.Outcome.Kind != "" {
			d.OutcomeOf = "usable"
		}
	}
	if c.Settlement != nil {
		d.SettledAt, d.Left = c.Settlement.At.UTC().Format(time.RFC3339), c.Settlement.Left
	}
	if c.Status == change.Planned {
		d.Unsettled = newUnsettled([]change.Change{c})
	}
	for _, e := range c.Edits {
		d.Edits = append(d.Edits, Edit{e.Path, newNode(e.Before), newNode(e.After)})
	}
	return d
}

// unSettled is a path that an interrupted change holds open.
type unSettled struct {
	Change int64  `json:"change"`
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

func newUnsettled(changes []change.Change) []unSettled {
	all := []unSettled{}
	for _, c := range changes {
		for _, p := range c.Open() {
			all = append(all, unSettled{c.ID, p, c.WhyOpen(p)})
		}
	}
	return all
}

// Apply is what apply prints.
type Apply struct {
	Format  string   `json:"format"`
	Changes []Change `json:"changes"`
	Missing []string `json:"missing"`
}

// NewApply begins the document of a proposal that is carried out.
func NewApply() Apply {
	return Apply{Format: "calmdawn.apply/1", Changes: []Change{}, Missing: []string{}}
}

// Add notes a change that was carried out.
func (d *Apply) Add(c change.Change) { d.Changes = append(d.Changes, inner(c)) }

// inner is a change inside another document, which has the format's name.
func inner(c change.Change) Change {
	d := NewChange(c)
	d.Format = ""
	return d
}

// A History is what history prints.
type History struct {
	Format  string   `json:"format"`
	Changes []Change `json:"changes"`
}

// NewHistory makes the document of all changes.
func NewHistory(changes []change.Change) History {
	d := History{Format: "calmdawn.history/1", Changes: []Change{}}
	for _, c := range changes {
		d.Changes = append(d.Changes, inner(c))
	}
	return d
}
