package document_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/elsewhere"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/document"
	"calmdawn/internal/document/schematest"
)

const sec = time.Second

var now = time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)

// whole is an item of which everything is known.
var whole = item.Item{
	ID:         "service:star-index.service",
	Kind:       item.Service,
	Native:     "star-index.service",
	Title:      "Star-catalogue indexer",
	Owner:      "maria",
	When:       item.AtBoot,
	State:      item.On,
	Why:        "x",
	Fires:      "daily",
	Unsure:     true,
	Because:    []string{"goal", "star-index.service"},
	NeededBy:   []string{"service:star-cache.service"},
	Starters:   []item.Starter{{Name: "star.socket"}},
	Command:    "/opt/star/index",
	Program:    "/opt/star/index",
	File:       "/etc/systemd/system/star-index.service",
	Conditions: []string{"ConditionPathExists=/x"},
	Package:    "star",
	Version:    "1.2",
	Section:    "science",
	Summary:    "an index",
	Installed:  now,
	Maker:      "Pellin",
	System:     true,
	Leftover:   true,
	Role:       "index",
	Advice:     item.CanGo,
	Reason:     "nobody waits for it",
	Note:       "keep at night",
	Protected:  "no",
}

var saving = forecast.Saving{Median: 3 * sec, Low: 2 * sec, High: 4 * sec}

func cost() forecast.Cost {
	return forecast.Cost{
		Grade:    forecast.Heavy,
		Replayed: true,
		Wait:     forecast.Forecast{Saving: saving, Boots: 5, Shows: true, AtLeast: true},
		CPU:      boot.Of(2*sec, boot.Recorder),
		DiskRead: boot.Bytes(1<<20, boot.Recorder),
		Memory:   boot.Bytes(1<<24, boot.Bus),
		Seen:     4,
		Of:       5,

		AfterLogin: boot.Of(sec, boot.Recorder),
	}
}

func full(it item.Item) document.Facts {
	return document.Facts{
		Own:     boot.OwnTime{Median: sec, Boots: 4, Of: 5, Simulated: true},
		Cost:    cost(),
		Running: true,
		Present: boot.Present{CPU: 0.25, Memory: 1 << 20},
		Joint:   &document.Joint{Seconds: 2, With: []string{"service:a.service"}},
		WorkOf:  "b.service",
	}
}

func bare(item.Item) document.Facts { return document.Facts{} }

func recorded(id string, ready time.Duration) boot.Boot {
	return boot.Boot{
		ID:         id,
		Began:      now,
		Phases:     []boot.Phase{{Name: "kernel", Took: sec}},
		Ready:      boot.Of(ready, boot.Bus),
		Goal:       "graphical.target",
		Start:      boot.FastStart,
		Slow:       []boot.Slow{{Kind: "program", Name: "a.exe", Path: "/a.exe", Took: sec, By: 1}},
		Settled:    boot.Settled{FromReady: boot.Of(sec, boot.Recorder)},
		Simulated:  true,
		Sources:    []boot.Source{boot.Log, boot.Recorder},
		Kernel:     "6.1",
		Processors: 2,
		Memory:     1 << 33,
		Odd:        []string{"it was cold"},
		Waits:      []boot.Wait{{What: "a passphrase", At: sec, Took: sec}},
		Conditions: []boot.Condition{{Name: "power", Value: "battery", Bad: true, When: "now"}},
		Spans: []boot.Span{{
			Native:   "star-index.service",
			Owner:    "maria",
			Begin:    boot.Of(sec, boot.Log),
			End:      boot.Of(2*sec, boot.Bus),
			CPU:      boot.Of(sec, boot.Recorder),
			DiskRead: boot.Bytes(1, boot.Recorder),
			Memory:   boot.Bytes(2, boot.Bus),
			Failed:   true,
			Skipped:  true,
		}, {Native: "unknown.service"}},
	}
}

func made(id int64) change.Change {
	return change.Change{
		ID:     id,
		Verb:   change.Disable,
		Status: change.Planned,
		MadeAt: now,
		MadeBy: "root",
		Targets: []change.Target{{
			ID:     whole.ID,
			Title:  whole.Title,
			Before: item.On,
			After:  item.Off,
			When:   item.AtBoot,
		}},
		Edits: []change.Edit{{
			Path:   "/etc/x",
			Before: change.Node{Kind: change.File, Data: []byte("x"), Mode: 0o644},
			After:  change.Node{Kind: change.Link, Target: "/dev/null"},
		}},
		Forecast: &change.Forecast{Now: 9 * sec, Saving: 3 * sec, Low: 2 * sec, High: 4 * sec},
		Terms:    change.Terms{Until: "2026-12-07", Proposal: "meridian 2026"},
		Outcome:  &change.Outcome{Saved: 3 * sec, Within: true},
		UndoneBy: 7,
		Undoes:   2,
		Settlement: &change.Settlement{
			At:   now,
			Left: []string{"/etc/y"},
		},
	}
}

// between is a comparison of four boots with four, of which all is known.
func between(t *testing.T) job.Comparison {
	t.Helper()
	ready, ok := compare.MeasureOf("ready")
	if !ok {
		t.Fatal("there is no ready")
	}
	c := job.Comparison{Changes: []change.Change{made(3)}, On: ready, Different: []string{"x"}}
	for i := range 4 {
		c.Sides.Before = append(c.Sides.Before, recorded("a", 50*sec+time.Duration(i)))
		c.Sides.After = append(c.Sides.After, recorded("b", 40*sec+time.Duration(i)))
	}
	c.Sides.LeftOut = []boot.Boot{recorded("c", sec)}
	c.Measure()
	c.Why = compare.Why{Reasons: []compare.Reason{{Name: "x", Before: sec, Kind: compare.Gone}}}
	c.Steps = []job.Stage{{Changes: c.Changes, Side: c.Main.After, Shift: c.Main}, {}}
	return c
}

// TestFormsFollowTheirSchemas makes each document twice: of all that there can
// be, and of nothing.
func TestFormsFollowTheirSchemas(t *testing.T) {
	survey := item.Survey{
		Host:   "meridian",
		OS:     "x",
		Family: "linux", MachineID: "a1", Hardware: "b2", Model: "Tindle Bench 3", Taken: now,
		Items:   []item.Item{whole},
		Unread:  []item.Unread{{Path: "/x", Reason: "y"}},
		Remarks: []item.Unread{{Path: "/x", Reason: "z"}},
	}
	second := time.Second
	report := document.NewReport(survey, now, "us", "faster")
	report.AddChanges([]change.Change{made(3)})
	report.AddLeft(whole, cost())
	report.AddBoots([]boot.Boot{recorded("a", sec), {ID: "b"}})
	report.AddConditions([]boot.Condition{{Name: "power"}})
	c := document.NewComparison(between(t))
	report.Comparison = &c
	apply := document.NewApply()
	apply.Add(made(4))
	apply.Missing = []string{"service:gone.service"}
	f := forecast.Forecast{
		Now:     9 * sec,
		Then:    6 * sec,
		Saving:  saving,
		Settled: saving,
		Quiet:   true,
		Boots:   5,
		Stays:   []boot.Key{{Native: "x.timer"}},
	}
	tried := made(1)
	tried.Status, tried.UndoneBy = change.Done, 0
	none := forecast.Forecast{}
	each := []forecast.Forecast{f}
	empty := job.Comparison{On: compare.Measures[0]}
	poor := item.Item{Kind: item.Task, When: item.Later, State: item.Off}
	one := []change.Change{made(1)}
	differences := []drift.Difference{{
		Item: drift.Item{ID: "x", Title: "y", State: "on"},
		Kind: drift.New,
		By:   "z",
		Ours: 3,
	}}
	for _, c := range []struct {
		name, schema string
		document     any
	}{
		{"a list", "list-1", document.NewList(survey, survey.Items, 2, one, full)},
		{"an empty list", "list-1", document.NewList(item.Survey{}, nil, 0, nil, bare)},
		{"an answer", "workshop-1", document.NewWorkshop("effects", []elsewhere.Effect{
			{Title: "x", Maker: "y", Verb: "disable", Saved: &second, Likely: &second},
		}, document.EffectRow)},
		{"who", "workshop-1", document.NewWorkshop("who", []elsewhere.Holding{
			{Title: "x", Machine: "y", Owner: "z", State: "on", Wait: &second, Taken: now},
		}, document.HoldingRow)},
		{"costs", "workshop-1", document.NewWorkshop("costs", []elsewhere.Expense{
			{Title: "x", Family: "linux", Median: &second},
		}, document.ExpenseRow)},
		{"returned", "workshop-1", document.NewWorkshop("returned", []elsewhere.Return{
			{Title: "x", Off: now, Taken: now},
		}, document.ReturnRow)},
		{"visits", "workshop-1", document.NewWorkshop("visits", []elsewhere.Call{
			{Machine: "x", Model: "y", Sum: &second, Ready: &second, Usable: &second},
		}, document.CallRow)},
		{"slower", "workshop-1", document.NewSlower([]elsewhere.Slowed{{Machine: "x"}},
			[]elsewhere.Suspect{{Title: "x", Share: elsewhere.Share{Have: 3, Of: 3, Others: 4}}})},
		{"no answer", "workshop-1", document.NewSlower(nil, nil)},
		{"an item", "item-1", document.NewPage(whole, full(whole))},
		{"a bare item", "item-1", document.NewPage(poor, bare(poor))},
		{"boots", "boots-1", document.NewBoots([]boot.Boot{recorded("a", sec), {}}, nil, true)},
		{"no boots", "boots-1", document.NewBoots(nil, survey.Unread, false)},
		{"a change", "change-1", document.NewChange(made(3))},
		{"a bare change", "change-1", document.NewChange(change.Change{Verb: change.Enable})},
		{"a history", "history-1", document.NewHistory([]change.Change{made(1), made(2)})},
		{"what was applied", "apply-1", apply},
		{"nothing applied", "apply-1", document.NewApply()},
		{"a comparison", "compare-1", c},
		{"one of no boots", "compare-1", document.NewComparison(empty)},
		{"a forecast", "forecast-1", document.NewForecast(f, survey.Items, each,
			[]boot.Key{{Native: "a.service"}}, true)},
		{"one of nothing", "forecast-1", document.NewForecast(none, nil, nil, nil, false)},
		{"conditions", "conditions-1", document.NewConditions(recorded("a", 0).Conditions)},
		{"a drift", "drift-1", document.NewDrift(now, now, differences)},
		{"no drift", "drift-1", document.NewDrift(now, now, nil)},
		{"trials", "trial-1", document.NewTrials([]change.Change{tried}, now)},
		{"a report", "report-1", report},
		{"a bare report", "report-1", document.NewReport(item.Survey{}, now, "", "x")},
	} {
		t.Run(c.name, func(t *testing.T) {
			text, err := json.Marshal(c.document)
			if err != nil {
				t.Fatal(err)
			}
			schematest.Check(t, c.schema, text)
			if !strings.HasPrefix(string(text), `{"format":"calmdawn.`) {
				t.Errorf("it is not named by its first field: %.40s", text)
			}
			if strings.Contains(string(text), ":null") {
				t.Errorf("null where a list or nothing is meant: %s", text)
			}
		})
	}
}
