// Package drift tells how what a machine launches differs between two surveys.
package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// An Item is what of an item is compared.
type Item struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	State   string `json:"state"`
	When    string `json:"when"`
	Command string `json:"command"`
	Package string `json:"package"`
	Version string `json:"version"`
	System  bool   `json:"system"`
	// Generated: only the running machine shows it, and no survey of its disk.
	Generated bool `json:"generated"`
}

// Launched reports whether the next boot or login launches it.
func (i Item) Launched() bool { return i.State == "on" || i.State == "delayed" }

// Lasting leaves out of a running machine's items, and of its disk's, what the
// disk cannot show: whether what is generated is launched.
func Lasting(running, disk []Item) (ofRunning, ofDisk []Item) {
	shown, made := byID(disk), map[string]bool{}
	for _, i := range running {
		made[i.ID] = i.Generated && !shown[i.ID].Launched()
	}
	untold := func(i Item) bool { return made[i.ID] }
	return slices.DeleteFunc(slices.Clone(running), untold),
		slices.DeleteFunc(slices.Clone(disk), untold)
}

// A Kind says what became of an item.
type Kind string

// The kinds of differences.
const (
	New     Kind = "new"
	Gone    Kind = "gone"
	OnAgain Kind = "on again" // after we switched it off
	On      Kind = "switched on"
	Off     Kind = "switched off"
	Altered Kind = "altered"
	Other   Kind = "otherwise" // its state or moment is another one
)

// rank puts first what a technician wants to know first.
var rank = []Kind{OnAgain, New, On, Altered, Other, Off, Gone}

// A Difference is what is different about one item.
type Difference struct {
	Item   // as it is now; as it was where it is gone
	Kind   Kind
	Detail string // what was, and what is; empty where the kind says it all
	By     string // who did it, where that can be told
	Ours   int64  // the change of ours that did it; 0 for none
}

// A Decision is what a change of ours did to an item, last.
type Decision struct {
	Change int64
	At     time.Time
	State  string // that it left the item in
}

// An Event is what a package manager did.
type Event struct {
	At      time.Time
	What    string // installed, upgraded, removed
	Package string
	Version string
}

// Compare tells what is different after a moment. ours are the decisions of
// changes in force, by id; events what package managers did, in any order. A
// difference that is exactly what a change of ours wanted names that change.
func Compare(
	before, after []Item,
	since time.Time,
	ours map[string]Decision,
	events []Event,
) []Difference {
	was, is := byID(before), byID(after)
	var all []Difference
	for id, now := range is {
		then, known := was[id]
		d, from := Difference{Item: now}, since
		mine, decided := ours[id]
		switch {
		case decided && mine.State == "off" && now.Launched():
			d.Kind = OnAgain
			d.Detail, from = fmt.Sprintf("change %d had switched it off", mine.Change), mine.At
		case !known:
			d.Kind = New
		case then.State != now.State && now.Launched() && !then.Launched():
			d.Kind = On
		case then.State != now.State && now.State == "off":
			d.Kind = Off
		case then.Command != now.Command:
			d.Kind, d.Detail = Altered, "it was "+then.Command+", it is "+now.Command
		case then.State != now.State:
			d.Kind, d.Detail = Other, "it was "+then.State+", it is "+now.State
		case then.When != now.When:
			d.Kind, d.Detail = Other, "it was launched at "+then.When+", it is at "+now.When
		default:
			continue
		}
		if decided && mine.State == now.State && d.Kind != Altered && mine.At.After(since) {
			d.Ours = mine.Change
		}
		d.By = by(now.Package, then.Version, now.Version, from, events)
		all = append(all, d)
	}
	for id, then := range was {
		if _, still := is[id]; still {
			continue
		}
		d := Difference{Item: then, Kind: Gone, By: by(then.Package, "", "", since, events)}
		// of some items nothing is left on the disk when they are off
		if mine, decided := ours[id]; decided && mine.State == "off" && mine.At.After(since) {
			d.Kind, d.State, d.By, d.Ours = Off, "off", "", mine.Change
		}
		all = append(all, d)
	}
	slices.SortFunc(all, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(slices.Index(rank, a.Kind), slices.Index(rank, b.Kind)),
			strings.Compare(a.ID, b.ID))
	})
	return all
}

// by says what a package manager did to an item's package since then.
func by(name, old, current string, since time.Time, events []Event) string {
	if name == "" {
		return ""
	}
	var last Event
	since = since.Truncate(time.Second) // logs tell no more than that
	for _, e := range events {
		if e.Package == name && !e.At.Before(since) && e.At.After(last.At) {
			last = e
		}
	}
	switch {
	case !last.At.IsZero():
		return "package " + name + ", " + last.What + " on " +
			last.At.Local().Format("2 Jan 2006, 15:04")
	case old != "" && current != "" && old != current:
		return "package " + name + ", which went from " + old + " to " + current
	}
	return ""
}

func byID(items []Item) map[string]Item {
	all := make(map[string]Item, len(items))
	for _, it := range items {
		all[it.ID] = it
	}
	return all
}
