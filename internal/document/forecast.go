package document

import (
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
)

// A Forecast is what forecast prints; figures are in seconds.
type Forecast struct {
	Format  string  `json:"format"`
	Ready   Ready   `json:"ready"`
	Settled *Saving `json:"settled,omitempty"`
	// Usable is when one can work, where that can be forecast.
	Usable      *UsableForecast `json:"usable,omitempty"`
	Items       []ForecastItem  `json:"items"`
	Boots       int             `json:"boots"`
	ReplayError float64         `json:"replay_error"`
	AtLeast     bool            `json:"at_least"`
	Stays       []string        `json:"stays"`
	// Unasked are what goes with the items, as far as is known: in those boots
	// nothing else asked for it.
	Unasked   []string `json:"unasked"`
	Simulated bool     `json:"simulated"`
}

// UsableForecast is when one can work, of boots of one kind.
type UsableForecast struct {
	Kind   string  `json:"kind"`
	Now    float64 `json:"now"`
	Saving Saving  `json:"saving"`
	Shows  bool    `json:"measurable"`
}

// Ready is when the boot is ready, and would be.
type Ready struct {
	Now    float64 `json:"now"`
	Then   float64 `json:"then"`
	Saving Saving  `json:"saving"`
}

// A Saving is a saving, and the range a measurement should fall into.
type Saving struct {
	Median float64 `json:"median"`
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
}

// A ForecastItem is the forecast of one item alone.
type ForecastItem struct {
	ID     string  `json:"id"`
	Now    float64 `json:"now"`
	Then   float64 `json:"then"`
	Saving Saving  `json:"saving"`
	Shows  bool    `json:"measurable"`
	// of what forecast --best shows: what the item is to become, and how late
	Do string `json:"do,omitempty"`
	By string `json:"by,omitempty"`
}

func newSaving(s forecast.Saving) Saving {
	return Saving{s.Median.Seconds(), s.Low.Seconds(), s.High.Seconds()}
}

// NewForecast makes the document of a forecast: of all items together, and of
// each by itself.
func NewForecast(
	f forecast.Forecast,
	items []item.Item,
	each []forecast.Forecast,
	unasked []boot.Key,
	simulated bool,
) Forecast {
	d := Forecast{
		Format:      "calmdawn.forecast/1",
		Ready:       Ready{f.Now.Seconds(), f.Then.Seconds(), newSaving(f.Saving)},
		Items:       []ForecastItem{},
		Boots:       f.Boots,
		ReplayError: f.Error,
		AtLeast:     f.AtLeast,
		Simulated:   simulated,
		Stays:       []string{},
		Unasked:     []string{},
	}
	for _, key := range unasked {
		d.Unasked = append(d.Unasked, key.Native)
	}
	if f.Quiet {
		s := newSaving(f.Settled)
		d.Settled = &s
	}
	if f.Kind != "" {
		d.Usable = &UsableForecast{
			f.Kind, f.UsableNow.Seconds(), newSaving(f.Usable), f.UsableShows,
		}
	}
	for i, it := range items {
		e := each[i]
		d.Items = append(d.Items, ForecastItem{
			ID: it.ID, Now: e.Now.Seconds(), Then: e.Then.Seconds(), Saving: newSaving(e.Saving),
			Shows: e.Shows,
		})
	}
	for _, key := range f.Stays {
		d.Stays = append(d.Stays, key.Native)
	}
	return d
}

// Cost is what an item costs; each figure says how it is known.
type Cost struct {
	Grade    forecast.Grade `json:"grade"`
	Wait     *WaitCost      `json:"wait,omitempty"`
	WaitOn   string         `json:"wait_on,omitempty"`
	CPU      *Seconds       `json:"cpu,omitempty"`
	DiskRead *Bytes         `json:"disk_read,omitempty"`
	Memory   *Bytes         `json:"memory,omitempty"`
	// AfterLogin is how long after the login it was launched.
	AfterLogin *Seconds `json:"after_login,omitempty"`
	Seen       int      `json:"seen"`
	Of         int      `json:"of"`
	// Simulated says that a simulator stands behind figures called measured.
	Simulated bool `json:"simulated"`
}

// WaitCost is how much sooner without an item what wait_on names would come.
type WaitCost struct {
	Seconds    float64 `json:"seconds"`
	Low        float64 `json:"low"`
	High       float64 `json:"high"`
	Known      string  `json:"known"`
	AtLeast    bool    `json:"at_least"`
	Measurable bool    `json:"measurable"`
}

// Seconds is a time with how it is known.
type Seconds struct {
	Seconds float64     `json:"seconds"`
	Known   string      `json:"known"`
	From    boot.Source `json:"from"`
}

// Bytes is an amount with how it is known.
type Bytes struct {
	Bytes int64       `json:"bytes"`
	Known string      `json:"known"`
	From  boot.Source `json:"from"`
}

func newCost(c forecast.Cost) *Cost {
	if !c.Known() {
		return nil
	}
	const measured = "measured"
	d := &Cost{Grade: c.Grade, Seen: c.Seen, Of: c.Of, Simulated: c.Simulated}
	if c.Replayed {
		lead := c.Wait.Lead()
		s := lead.Saving
		d.WaitOn = lead.On
		d.Wait = &WaitCost{
			s.Median.Seconds(), s.Low.Seconds(), s.High.Seconds(), "forecast", c.Wait.AtLeast,
			lead.Shows,
		}
	}
	if c.CPU.Known {
		d.CPU = &Seconds{c.CPU.Value.Seconds(), measured, c.CPU.From}
	}
	if c.AfterLogin.Known {
		d.AfterLogin = &Seconds{c.AfterLogin.Value.Seconds(), measured, c.AfterLogin.From}
	}
	if c.DiskRead.Known {
		d.DiskRead = &Bytes{c.DiskRead.Bytes, measured, c.DiskRead.From}
	}
	if c.Memory.Known {
		d.Memory = &Bytes{c.Memory.Bytes, measured, c.Memory.From}
	}
	return d
}
