package document

import (
	"cmp"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
)

// Conditions is what conditions prints.
type Conditions struct {
	Format     string      `json:"format"`
	Conditions []Condition `json:"conditions"`
}

// A Condition is something else that bears on how long a boot takes.
type Condition struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Why   string `json:"why"`
	Bad   bool   `json:"bad"`
	When  string `json:"when"`
}

// NewConditions makes the document of conditions.
func NewConditions(all []boot.Condition) Conditions {
	return Conditions{"calmdawn.conditions/1", newConditions(all)}
}

func newConditions(all []boot.Condition) []Condition {
	list := []Condition{}
	for _, c := range all {
		list = append(list, Condition(c))
	}
	return list
}

// A Drift is what drift prints.
type Drift struct {
	Format      string       `json:"format"`
	From        string       `json:"from"`
	To          string       `json:"to"`
	Differences []Difference `json:"differences"`
}

// A Difference is one item that is not as it was.
type Difference struct {
	ID     string     `json:"id"`
	Title  string     `json:"title"`
	Kind   drift.Kind `json:"kind"`
	State  string     `json:"state"`
	Detail string     `json:"detail,omitempty"`
	By     string     `json:"by,omitempty"`
	Change int64      `json:"change,omitempty"`
}

// NewDrift makes the document of how two surveys differ.
func NewDrift(from, to time.Time, found []drift.Difference) Drift {
	d := Drift{
		Format:      "calmdawn.drift/1",
		From:        from.UTC().Format(time.RFC3339),
		To:          to.UTC().Format(time.RFC3339),
		Differences: []Difference{},
	}
	for _, x := range found {
		d.Differences = append(d.Differences, Difference{
			x.ID, x.Title, x.Kind, x.State, x.Detail, x.By, x.Ours,
		})
	}
	return d
}

// Trials is what trial prints.
type Trials struct {
	Format string  `json:"format"`
	Trials []Trial `json:"trials"`
}

// A Trial is one change that is or was on trial.
type Trial struct {
	Change int64        `json:"change"`
	Until  string       `json:"until"`
	State  change.Trial `json:"state"`
	Days   int          `json:"days_left"`
}

// NewTrials makes the document of changes that have a trial, as of now.
func NewTrials(all []change.Change, now time.Time) Trials {
	d := Trials{"calmdawn.trial/1", []Trial{}}
	for _, c := range all {
		state, days := c.TrialAt(now)
		d.Trials = append(d.Trials, Trial{c.ID, c.Terms.Until, state, days})
	}
	return d
}

// A Guard is what guard prints.
type Guard struct {
	Format  string  `json:"format"`
	On      bool    `json:"on"`
	Changes []int64 `json:"changes"`
	Boots   int     `json:"boots"`
	Acted   bool    `json:"acted"`
	Trouble string  `json:"trouble,omitempty"`
}

// A Recorder is what recorder status prints.
type Recorder struct {
	Format    string `json:"format"`
	Installed bool   `json:"installed"`
	Armed     bool   `json:"armed"`
	Boots     int    `json:"boots"`
	Last      string `json:"last,omitempty"`
}

// A Report is a report for programs.
type Report struct {
	Format     string      `json:"format"`
	Made       string      `json:"made"`
	By         string      `json:"by,omitempty"`
	Host       string      `json:"host"`
	OS         string      `json:"os"`
	Answer     string      `json:"answer"`
	Simulated  bool        `json:"simulated"`
	Comparison *Comparison `json:"comparison,omitempty"`
	Changes    []Change    `json:"changes"`
	Left       []Left      `json:"left"`
	Conditions []Condition `json:"conditions"`
	Boots      []Point     `json:"boots"`
}

// Left is an item that was left as it is.
type Left struct {
	ID     string      `json:"id"`
	Title  string      `json:"title"`
	Role   string      `json:"role,omitempty"`
	Advice item.Advice `json:"advice"`
	Reason string      `json:"reason,omitempty"`
	Saves  *float64    `json:"saves,omitempty"`
}

// A Point is one boot of a report's plot.
type Point struct {
	ID    string   `json:"id"`
	Began string   `json:"began"`
	Ready *float64 `json:"ready,omitempty"`
	Odd   []string `json:"odd"`
}

// NewReport begins the document of a report.
func NewReport(s item.Survey, made time.Time, by, answer string) Report {
	return Report{
		Format:     "calmdawn.report/1",
		Made:       made.UTC().Format(time.RFC3339),
		By:         by,
		Host:       s.Host,
		OS:         s.OS,
		Answer:     answer,
		Changes:    []Change{},
		Left:       []Left{},
		Conditions: []Condition{},
		Boots:      []Point{},
	}
}

// AddChanges notes the changes that came to their end.
func (d *Report) AddChanges(changes []change.Change) {
	for _, c := range changes {
		if c.Status == change.Done {
			d.Changes = append(d.Changes, inner(c))
		}
	}
}

// AddConditions notes what else bears on a boot.
func (d *Report) AddConditions(all []boot.Condition) { d.Conditions = newConditions(all) }

// AddLeft notes an item that was left as it is, with what it costs.
func (d *Report) AddLeft(it item.Item, c forecast.Cost) {
	left := Left{
		ID:     it.ID,
		Title:  it.Title,
		Role:   it.Role,
		Advice: it.Advice,
		Reason: cmp.Or(it.Protected, it.Reason),
	}
	if lead := c.Wait.Lead(); c.Replayed && lead.Shows {
		saves := lead.Saving.Median.Seconds()
		left.Saves = &saves
	}
	d.Left = append(d.Left, left)
}

// AddBoots notes the boots of the plot.
func (d *Report) AddBoots(boots []boot.Boot) {
	for _, b := range boots {
		d.Simulated = d.Simulated || b.Simulated
		d.Boots = append(d.Boots, Point{
			b.ID,
			b.Began.UTC().Format(time.RFC3339),
			number(b.Ready),
			append([]string{}, b.Odd...),
		})
	}
}
