package document

import (
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/job"
)

// A Comparison is what compare prints.
type Comparison struct {
	Format     string      `json:"format"`
	Changes    []int64     `json:"changes"`
	Before     Side        `json:"before"`
	After      Side        `json:"after"`
	Simulated  bool        `json:"simulated"`
	On         string      `json:"on"`
	Kind       string      `json:"kind,omitempty"`
	Milestones []Milestone `json:"milestones"`
	Why        *Why        `json:"why,omitempty"`
	Different  []string    `json:"different"`
	Steps      []Step      `json:"steps"`
	Forecast   *Kept       `json:"forecast,omitempty"`
}

// A Side is the ids of its boots.
type Side struct {
	Boots   []string  `json:"boots"`
	LeftOut []LeftOut `json:"left_out"`
}

// LeftOut is an odd boot, and why it is.
type LeftOut struct {
	ID      string   `json:"id"`
	Reasons []string `json:"reasons"`
}

// A Milestone is one figure of both sides, in its unit.
type Milestone struct {
	Name       string          `json:"name"`
	Kind       string          `json:"kind,omitempty"`
	Unit       string          `json:"unit"`
	Before     Count           `json:"before"`
	After      Count           `json:"after"`
	Difference *Shift          `json:"difference,omitempty"`
	Verdict    compare.Verdict `json:"verdict,omitempty"`
	Shows      *float64        `json:"shows,omitempty"`
	Missing    int             `json:"missing,omitempty"`
}

// A Count is a figure over several boots.
type Count struct {
	N      int      `json:"n"`
	Median *float64 `json:"median,omitempty"`
	Least  *float64 `json:"least,omitempty"`
	Most   *float64 `json:"most,omitempty"`
}

// A Shift is a difference with its bounds.
type Shift struct {
	Estimate float64  `json:"estimate"`
	Low      *float64 `json:"low,omitempty"`
	High     *float64 `json:"high,omitempty"`
}

// Why is what a shift of ready consists of.
type Why struct {
	Reasons   []Reason `json:"reasons"`
	Others    float64  `json:"others"`
	Remainder float64  `json:"remainder"`
}

// A Reason is one part of it.
type Reason struct {
	Name   string       `json:"name"`
	Kind   compare.Kind `json:"kind"`
	Before float64      `json:"before"`
	After  float64      `json:"after"`
	Change float64      `json:"change"`
}

// A Step is what the boots of one step of changes say.
type Step struct {
	Changes    []int64  `json:"changes"`
	N          int      `json:"n"`
	Median     *float64 `json:"median,omitempty"`
	Difference *Shift   `json:"difference,omitempty"`
}

// Kept is a forecast with what became of it: of usable or of ready, as on says.
type Kept struct {
	On      string   `json:"on"`
	Saving  float64  `json:"saving"`
	Low     float64  `json:"low"`
	High    float64  `json:"high"`
	AtLeast bool     `json:"at_least"`
	Outcome *float64 `json:"outcome,omitempty"`
	Within  *bool    `json:"within,omitempty"`
}

// NewComparison makes the document of a comparison.
func NewComparison(c job.Comparison) Comparison {
	d := Comparison{
		Format:    "calmdawn.compare/1",
		Changes:   numbers(c.Changes),
		On:        c.On.Name,
		Kind:      c.On.Kind,
		Different: append([]string{}, c.Different...),
		Steps:     []Step{},
	}
	d.Before, d.After = sideOf(c.Sides.Before), sideOf(c.Sides.After)
	for _, b := range c.Sides.LeftOut {
		side := &d.After
		if n := len(c.Sides.After); len(c.Changes) > 0 && b.Began.Before(c.Changes[0].MadeAt) ||
			len(c.Changes) == 0 && (n == 0 || b.Began.Before(c.Sides.After[0].Began)) {
			side = &d.Before
		}
		side.LeftOut = append(side.LeftOut, LeftOut{b.ID, b.Odd})
	}
	for _, side := range [][]boot.Boot{c.Sides.Before, c.Sides.After} {
		for _, b := range side {
			d.Simulated = d.Simulated || b.Simulated
		}
	}
	for _, m := range c.Measures() {
		scale, unit := float64(time.Second), "seconds"
		if m.Bytes {
			scale, unit = 1, "bytes"
		}
		j := Milestone{
			Name:       m.Name,
			Kind:       m.Kind,
			Unit:       unit,
			Before:     countOf(m.Before, scale),
			After:      countOf(m.After, scale),
			Difference: shiftOf(m.Times, scale),
		}
		if m.Title() == c.On.Title() {
			j.Verdict, j.Missing = m.Verdict, max(0, m.Missing)
			if m.Bounded {
				shows := float64(m.Shows) / scale
				j.Shows = &shows
			}
		}
		d.Milestones = append(d.Milestones, j)
	}
	if len(c.Why.Reasons) > 0 {
		d.Why = &Why{Others: c.Why.Others.Seconds(), Remainder: c.Why.Remainder.Seconds()}
		for _, r := range c.Why.Reasons {
			d.Why.Reasons = append(d.Why.Reasons, Reason{
				r.Name, r.Kind, r.Before.Seconds(), r.After.Seconds(), r.Change().Seconds(),
			})
		}
	}
	for _, st := range c.Steps {
		side := countOf(st.Side, float64(time.Second))
		d.Steps = append(d.Steps, Step{
			numbers(st.Changes),
			side.N,
			side.Median,
			shiftOf(st.Shift, float64(time.Second)),
		})
	}
	if kept := c.Forecast(); kept != nil {
		f := kept.Lead()
		o, ok := c.Outcome()
		if ok {
			f, _ = kept.Of(o.Kind)
		}
		d.Forecast = &Kept{
			On:      f.Title(),
			Saving:  f.Saving.Seconds(),
			Low:     f.Low.Seconds(),
			High:    f.High.Seconds(),
			AtLeast: f.AtLeast,
		}
		if ok {
			saved := o.Saved.Seconds()
			d.Forecast.Outcome, d.Forecast.Within = &saved, &o.Within
		}
	}
	return d
}

func numbers(changes []change.Change) []int64 {
	ids := []int64{}
	for _, ch := range changes {
		ids = append(ids, ch.ID)
	}
	return ids
}

func sideOf(boots []boot.Boot) Side {
	s := Side{Boots: []string{}, LeftOut: []LeftOut{}}
	for _, b := range boots {
		s.Boots = append(s.Boots, b.ID)
	}
	return s
}

func countOf(s compare.Side[time.Duration], scale float64) Count {
	c := Count{N: s.N}
	if s.N > 0 {
		scaled := func(d time.Duration) *float64 { x := float64(d) / scale; return &x }
		c.Median, c.Least, c.Most = scaled(s.Median), scaled(s.Least), scaled(s.Most)
	}
	return c
}

func shiftOf(r compare.Times, scale float64) *Shift {
	if r.Before.N == 0 || r.After.N == 0 {
		return nil
	}
	d := &Shift{Estimate: float64(r.Estimate) / scale}
	if r.Bounded {
		low, high := float64(r.Low)/scale, float64(r.High)/scale
		d.Low, d.High = &low, &high
	}
	return d
}
