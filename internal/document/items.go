package document

import (
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
)

// A List is what list prints.
type List struct {
	Format  string `json:"format"`
	Machine string `json:"machine,omitempty"`
	// MachineID is as its operating system has it, HardwareID the computer's.
	MachineID  string        `json:"machine_id,omitempty"`
	HardwareID string        `json:"hardware_id,omitempty"`
	Family     string        `json:"family,omitempty"`
	Model      string        `json:"model,omitempty"`
	Taken      string        `json:"taken,omitempty"`
	OS         string        `json:"os,omitempty"`
	Running    bool          `json:"running,omitempty"` // it is the machine that ran calmdawn
	Items      []Item        `json:"items"`
	Folded     int           `json:"folded"`
	Unread     []item.Unread `json:"unread"`
	Remarks    []item.Unread `json:"remarks,omitempty"`
	// Unsettled is what an interrupted change left in between.
	Unsettled []unSettled `json:"unsettled"`
}

// An Item is one thing that a machine launches.
type Item struct {
	ID         string     `json:"id"`
	Kind       item.Kind  `json:"kind"`
	Native     string     `json:"native"`
	Title      string     `json:"title"`
	Owner      string     `json:"owner"`
	When       item.When  `json:"when"`
	State      item.State `json:"state"`
	Why        string     `json:"why,omitempty"`
	Because    []string   `json:"because"`
	NeededBy   []string   `json:"needed_by"`
	Starters   []string   `json:"starters"`
	Conditions []string   `json:"conditions"`
	Command    string     `json:"command,omitempty"`
	Program    string     `json:"program,omitempty"`
	File       string     `json:"file"`
	Package    string     `json:"package,omitempty"`
	Maker      string     `json:"maker,omitempty"`
	Archive    string     `json:"archive,omitempty"`
	Came       string     `json:"came,omitempty"`
	System     bool       `json:"system"`
	OwnTime    *OwnTime   `json:"own_time,omitempty"`
	Cost       *Cost      `json:"cost,omitempty"`
	Now        *Present   `json:"now,omitempty"`
	Fires      string     `json:"fires,omitempty"`
	Confidence string     `json:"confidence,omitempty"`
	Version    string     `json:"version,omitempty"`
	Section    string     `json:"section,omitempty"`
	Summary    string     `json:"summary,omitempty"`
	Installed  string     `json:"installed,omitempty"`
	Opaque     string     `json:"opaque,omitempty"`
	Leftover   bool       `json:"leftover,omitempty"`
	Generated  bool       `json:"generated,omitempty"`
	Role       string     `json:"role"`
	Advice     string     `json:"advice"`
	Reason     string     `json:"reason,omitempty"`
	Lost       string     `json:"lost,omitempty"`
	Demand     string     `json:"demand,omitempty"`
	Note       string     `json:"note,omitempty"`
	Protected  string     `json:"protected,omitempty"`
	Returns    string     `json:"returns,omitempty"`
	RanLast    string     `json:"ran_last,omitempty"`
	WithOthers *Joint     `json:"with_others,omitempty"`
	WorkOf     string     `json:"work_of,omitempty"`
}

// Joint is what an item brings only once others are decided on: seconds beyond
// what those bring, and their ids.
type Joint struct {
	Seconds float64  `json:"seconds"`
	With    []string `json:"with"`
}

// OwnTime is an item's own time: seconds, and how it is known.
type OwnTime struct {
	Median    float64 `json:"median"`
	Boots     int     `json:"boots"`
	Of        int     `json:"of"`
	Source    string  `json:"source"`
	Simulated bool    `json:"simulated"`
}

// Present is what an item uses at this moment: the share of one processor, and
// bytes of memory.
type Present struct {
	CPU    float64 `json:"cpu"`
	Memory int64   `json:"memory"`
}

// Facts are what is known of an item besides the survey.
type Facts struct {
	Own     boot.OwnTime // Boots is 0 where none was measured
	Cost    forecast.Cost
	Running bool // the next one is known
	Present boot.Present
	Joint   *Joint // nil where there is none
	WorkOf  string
}

// NewList makes the document of a survey: of the shown items, with how many
// others are folded. Of each, facts tells what is known besides.
func NewList(
	s item.Survey,
	shown []item.Item,
	folded int,
	changes []change.Change,
	facts func(item.Item) Facts,
) List {
	d := List{
		Format:     "calmdawn.list/1",
		Machine:    s.Host,
		MachineID:  s.MachineID,
		HardwareID: s.Hardware,
		Family:     s.Family,
		Model:      s.Model,
		OS:         s.OS,
		Running:    s.Running,
		Items:      []Item{},
		Folded:     folded,
		Unread:     append([]item.Unread{}, s.Unread...),
		Remarks:    s.Remarks,
		Unsettled:  newUnsettled(changes),
	}
	if !s.Taken.IsZero() {
		d.Taken = s.Taken.UTC().Format(time.RFC3339)
	}
	for _, it := range shown {
		d.Items = append(d.Items, newItem(it, facts(it)))
	}
	return d
}

// A Page is what show prints.
type Page struct {
	Format string `json:"format"`
	Item   Item   `json:"item"`
}

// NewPage makes the document of one item.
func NewPage(it item.Item, facts Facts) Page {
	return Page{"calmdawn.item/1", newItem(it, facts)}
}

func newItem(it item.Item, facts Facts) Item {
	list := func(s []string) []string { return append([]string{}, s...) } // [] rather than null
	d := Item{
		ID:         it.ID,
		Kind:       it.Kind,
		Native:     it.Native,
		Title:      it.Title,
		Owner:      it.Owner,
		When:       it.When,
		State:      it.State,
		Why:        it.Why,
		Because:    list(it.Because),
		NeededBy:   list(it.NeededBy),
		Starters:   list(it.Callers()),
		Conditions: list(it.Conditions),
		Command:    it.Command,
		Program:    it.Program,
		File:       it.File,
		Package:    it.Package,
		Maker:      it.Maker,
		Archive:    it.Archive,
		Came:       it.Came,
		Lost:       it.Lost,
		Demand:     it.Demand,
		System:     it.System,
		Cost:       newCost(facts.Cost),
		Fires:      it.Fires,
		Version:    it.Version,
		Section:    it.Section,
		Summary:    it.Summary,
		Opaque:     it.Opaque,
		Leftover:   it.Leftover,
		Generated:  it.Generated,
		Role:       it.Role,
		Advice:     string(it.Advice),
		Reason:     it.Reason,
		Note:       it.Note,
		Protected:  it.Protected,
		Returns:    it.Returns,
		WithOthers: facts.Joint,
		WorkOf:     facts.WorkOf,
	}
	if own := facts.Own; own.Boots > 0 {
		d.OwnTime = &OwnTime{
			Median:    own.Median.Seconds(),
			Boots:     own.Boots,
			Of:        own.Of,
			Source:    string(own.From),
			Simulated: own.Simulated,
		}
	}
	if facts.Running {
		d.Now = &Present{facts.Present.CPU, facts.Present.Memory}
	}
	if it.Unsure {
		d.Confidence = "low"
	}
	if !it.RanLast.IsZero() {
		d.RanLast = it.RanLast.UTC().Format(time.RFC3339)
	}
	if !it.Installed.IsZero() {
		d.Installed = it.Installed.UTC().Format(time.RFC3339)
	}
	return d
}
