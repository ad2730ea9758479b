package cli

import (
	"fmt"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
)

type compareJSON struct {
	Format     string          `json:"format"`
	Changes    []int64         `json:"changes"`
	Before     sideJSON        `json:"before"`
	After      sideJSON        `json:"after"`
	Simulated  bool            `json:"simulated"`
	On         string          `json:"on"`
	Milestones []milestoneJSON `json:"milestones"`
	Why        *whyJSON        `json:"why,omitempty"`
	Different  []string        `json:"different"`
	Steps      []stepJSON      `json:"steps"`
	Forecast   *forecastOut    `json:"forecast,omitempty"`
}

type sideJSON struct {
	Boots   []string      `json:"boots"`
	LeftOut []leftOutJSON `json:"left_out"`
}

type leftOutJSON struct {
	ID      string   `json:"id"`
	Reasons []string `json:"reasons"`
}

type milestoneJSON struct {
	Name       string          `json:"name"`
	Unit       string          `json:"unit"`
	Before     countJSON       `json:"before"`
	After      countJSON       `json:"after"`
	Difference *differenceJSON `json:"difference,omitempty"`
	Verdict    compare.Verdict `json:"verdict,omitempty"`
	Shows      *float64        `json:"shows,omitempty"`
	Missing    int             `json:"missing,omitempty"`
}

type countJSON struct {
	N      int      `json:"n"`
	Median *float64 `json:"median,omitempty"`
	Least  *float64 `json:"least,omitempty"`
	Most   *float64 `json:"most,omitempty"`
}

type differenceJSON struct {
	Estimate float64  `json:"estimate"`
	Low      *float64 `json:"low,omitempty"`
	High     *float64 `json:"high,omitempty"`
}

type whyJSON struct {
	Reasons   []reasonJSON `json:"reasons"`
	Others    float64      `json:"others"`
	Remainder float64      `json:"remainder"`
}

type reasonJSON struct {
	Name   string       `json:"name"`
	Kind   compare.Kind `json:"kind"`
	Before float64      `json:"before"`
	After  float64      `json:"after"`
	Change float64      `json:"change"`
}

type stepJSON struct {
	Changes    []int64         `json:"changes"`
	N          int             `json:"n"`
	Median     *float64        `json:"median,omitempty"`
	Difference *differenceJSON `json:"difference,omitempty"`
}

type forecastOut struct {
	Saving  float64  `json:"saving"`
	Low     float64  `json:"low"`
	High    float64  `json:"high"`
	AtLeast bool     `json:"at_least"`
	Outcome *float64 `json:"outcome,omitempty"`
	Within  *bool    `json:"within,omitempty"`
}

func (c comparison) document() compareJSON {
	d := compareJSON{
		Format:    "calmdawn.compare/1",
		Changes:   numbers(c.changes),
		On:        c.on.Name,
		Different: append([]string{}, c.changed...),
		Steps:     []stepJSON{},
	}
	d.Before, d.After = sideOf(c.sides.Before), sideOf(c.sides.After)
	for _, b := range c.sides.LeftOut {
		side := &d.After
		if n := len(c.sides.After); len(c.changes) > 0 && b.Began.Before(c.changes[0].MadeAt) ||
			len(c.changes) == 0 && (n == 0 || b.Began.Before(c.sides.After[0].Began)) {
			side = &d.Before
		}
		side.LeftOut = append(side.LeftOut, leftOutJSON{b.ID, b.Odd})
	}
	for _, side := range [][]boot.Boot{c.sides.Before, c.sides.After} {
		for _, b := range side {
			d.Simulated = d.Simulated || b.Simulated
		}
	}
	for _, m := range c.measures() {
		scale, unit := float64(time.Second), "seconds"
		if m.Bytes {
			scale, unit = 1, "bytes"
		}
		j := milestoneJSON{
			Name:       m.Name,
			Unit:       unit,
			Before:     countOf(m.Before, scale),
			After:      countOf(m.After, scale),
			Difference: differenceOf(m.Times, scale),
		}
		if m.Name == c.on.Name {
			j.Verdict, j.Missing = m.Verdict, max(0, m.Missing)
			if m.Bounded {
				shows := float64(m.Shows) / scale
				j.Shows = &shows
			}
		}
		d.Milestones = append(d.Milestones, j)
	}
	if len(c.why.Reasons) > 0 {
		d.Why = &whyJSON{Others: c.why.Others.Seconds(), Remainder: c.why.Remainder.Seconds()}
		for _, r := range c.why.Reasons {
			d.Why.Reasons = append(d.Why.Reasons, reasonJSON{
				r.Name, r.Kind, r.Before.Seconds(), r.After.Seconds(), r.Change().Seconds(),
			})
		}
	}
	for _, st := range c.steps {
		side := countOf(st.side, float64(time.Second))
		d.Steps = append(d.Steps, stepJSON{
			numbers(st.changes),
			side.N,
			side.Median,
			differenceOf(st.shift, float64(time.Second)),
		})
	}
	if f := c.forecast(); f != nil {
		d.Forecast = &forecastOut{
			Saving:  f.Saving.Seconds(),
			Low:     f.Low.Seconds(),
			High:    f.High.Seconds(),
			AtLeast: f.AtLeast,
		}
		if o, ok := c.outcome(); ok {
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

func sideOf(boots []boot.Boot) sideJSON {
	s := sideJSON{Boots: []string{}, LeftOut: []leftOutJSON{}}
	for _, b := range boots {
		s.Boots = append(s.Boots, b.ID)
	}
	return s
}

func countOf(s compare.Side[time.Duration], scale float64) countJSON {
	c := countJSON{N: s.N}
	if s.N > 0 {
		scaled := func(d time.Duration) *float64 { x := float64(d) / scale; return &x }
		c.Median, c.Least, c.Most = scaled(s.Median), scaled(s.Least), scaled(s.Most)
	}
	return c
}

func differenceOf(r compare.Times, scale float64) *differenceJSON {
	if r.Before.N == 0 || r.After.N == 0 {
		return nil
	}
	d := &differenceJSON{Estimate: float64(r.Estimate) / scale}
	if r.Bounded {
		low, high := float64(r.Low)/scale, float64(r.High)/scale
		d.Low, d.High = &low, &high
	}
	return d
}

// compareCSV writes a line a boot, of both sides and left out.
func (a *app) compareCSV(c comparison) error {
	head := []string{"side", "id", "began"}
	for _, m := range compare.Measures {
		unit := " (s)"
		if m.Bytes {
			unit = " (bytes)"
		}
		head = append(head, m.Name+unit)
	}
	rows := [][]string{append(head, "left out since", "simulated")}
	for _, side := range []struct {
		name  string
		boots []boot.Boot
	}{{"before", c.sides.Before}, {"after", c.sides.After}, {"left out", c.sides.LeftOut}} {
		for _, b := range side.boots {
			row := []string{side.name, b.ID, b.Began.UTC().Format(time.RFC3339)}
			for _, m := range compare.Measures {
				text := ""
				switch n, ok := m.Of(b); {
				case ok && m.Bytes:
					text = fmt.Sprint(n)
				case ok:
					text = fmt.Sprintf("%.3f", time.Duration(n).Seconds())
				}
				row = append(row, text)
			}
			rows = append(rows, append(row, strings.Join(b.Odd, "; "), fmt.Sprint(b.Simulated)))
		}
	}
	return a.writeCSV(rows)
}
