package document

import (
	"time"

	"calmdawn/internal/core/elsewhere"
)

// A Workshop is what a question about many machines prints.
type Workshop struct {
	Format   string        `json:"format"`
	Question string        `json:"question"` // the command's name
	Rows     []WorkshopRow `json:"rows"`
	// Suspects are what changed on machines that became slower. What is least
	// likely to be chance comes first.
	Suspects []WorkshopRow `json:"suspects,omitempty"`
}

// A WorkshopRow is a row of an answer; each question has fields of its own.
type WorkshopRow struct {
	Machine string `json:"machine,omitempty"`
	Model   string `json:"model,omitempty"`
	Title   string `json:"title,omitempty"`
	Maker   string `json:"maker,omitempty"`
	Family  string `json:"family,omitempty"`
	Owner   string `json:"owner,omitempty"`
	State   string `json:"state,omitempty"`
	Version string `json:"version,omitempty"`
	Verb    string `json:"verb,omitempty"`
	Taken   string `json:"taken,omitempty"`
	Off     string `json:"off,omitempty"`
	AddedBy string `json:"added_by,omitempty"`

	Machines    *int `json:"machines,omitempty"`
	Measured    *int `json:"measured,omitempty"`
	Joint       *int `json:"joint,omitempty"`
	Back        *int `json:"back,omitempty"`
	Items       *int `json:"items,omitempty"`
	BootsBefore *int `json:"boots_before,omitempty"`
	BootsAfter  *int `json:"boots_after,omitempty"`
	Slower      *int `json:"slower,omitempty"`
	OfSlower    *int `json:"of_slower,omitempty"`
	Others      *int `json:"others,omitempty"`
	OfOthers    *int `json:"of_others,omitempty"`

	Wait   *float64 `json:"wait,omitempty"` // seconds, as all that follow
	Sum    *float64 `json:"sum,omitempty"`
	Median *float64 `json:"median,omitempty"`
	Saved  *float64 `json:"saved,omitempty"`
	Likely *float64 `json:"likely,omitempty"`
	Ready  *float64 `json:"ready,omitempty"`
	Usable *float64 `json:"usable,omitempty"`
	Before *float64 `json:"before,omitempty"`
	After  *float64 `json:"after,omitempty"`
	Chance *float64 `json:"chance,omitempty"` // from 0 to 1
}

// NewWorkshop makes the document of the answer to a question.
func NewWorkshop[T any](question string, answer []T, row func(T) WorkshopRow) Workshop {
	return Workshop{"calmdawn.workshop/1", question, rowsOf(answer, row), nil}
}

func rowsOf[T any](answer []T, row func(T) WorkshopRow) []WorkshopRow {
	rows := []WorkshopRow{}
	for _, one := range answer {
		rows = append(rows, row(one))
	}
	return rows
}

// HoldingRow is the row of a machine that launches an item.
func HoldingRow(h elsewhere.Holding) WorkshopRow {
	return WorkshopRow{
		Title: h.Title, Maker: h.Maker, Machine: h.Machine, Owner: h.Owner, State: h.State,
		Version: h.Version, Wait: inSeconds(h.Wait), Taken: inUTC(h.Taken), AddedBy: h.By,
	}
}

// ExpenseRow is the row of what an item costs over all machines.
func ExpenseRow(e elsewhere.Expense) WorkshopRow {
	return WorkshopRow{
		Title: e.Title, Maker: e.Maker, Family: e.Family, Machines: &e.Machines,
		Measured: &e.Measured, Sum: inSeconds(&e.Sum), Median: inSeconds(e.Median),
	}
}

// EffectRow is the row of what decisions on an item brought.
func EffectRow(e elsewhere.Effect) WorkshopRow {
	return WorkshopRow{
		Title: e.Title, Maker: e.Maker, Family: e.Family, Verb: e.Verb, Machines: &e.Machines,
		Measured: &e.Measured, Saved: inSeconds(e.Saved), Likely: inSeconds(e.Likely),
		Joint: &e.Joint, Back: &e.Back,
	}
}

// ReturnRow is the row of an item that came back on.
func ReturnRow(r elsewhere.Return) WorkshopRow {
	return WorkshopRow{
		Machine: r.Machine, Title: r.Title, Maker: r.Maker, Off: inUTC(r.Off),
		Taken: inUTC(r.Taken),
	}
}

// CallRow is the row of a machine that may be worth a visit.
func CallRow(c elsewhere.Call) WorkshopRow {
	return WorkshopRow{
		Machine: c.Machine, Model: c.Model, Items: &c.Items, Sum: inSeconds(c.Sum),
		Ready: inSeconds(c.Ready), Usable: inSeconds(c.Usable), Taken: inUTC(c.Taken),
	}
}

// SlowedRow is the row of a machine whose boots take longer.
func SlowedRow(s elsewhere.Slowed) WorkshopRow {
	return WorkshopRow{
		Machine: s.Machine, Before: inSeconds(&s.Before), After: inSeconds(&s.After),
		BootsBefore: &s.Boots, BootsAfter: &s.Since,
	}
}

// NewSlower makes the document of machines that became slower.
func NewSlower(slower []elsewhere.Slowed, suspects []elsewhere.Suspect) Workshop {
	d := NewWorkshop("slower", slower, SlowedRow)
	d.Suspects = rowsOf(suspects, func(s elsewhere.Suspect) WorkshopRow {
		chance := s.Chance()
		return WorkshopRow{
			Title: s.Title, Maker: s.Maker, Family: s.Family, Version: s.Version,
			Slower: &s.Have, OfSlower: &s.Of,
			Others: &s.OthersHave, OfOthers: &s.Others, Chance: &chance,
		}
	})
	return d
}

func inSeconds(d *time.Duration) *float64 {
	if d == nil {
		return nil
	}
	s := d.Seconds()
	return &s
}

func inUTC(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.UTC().Format(time.RFC3339)
}
