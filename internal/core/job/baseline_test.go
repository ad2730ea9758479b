package job

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
)

var day = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func at(hours int) time.Time { return day.Add(time.Duration(hours) * time.Hour) }

// booted are boots at the given hours.
func booted(hours ...int) (boots []boot.Boot) {
	for _, h := range hours {
		boots = append(boots, boot.Boot{
			ID:    fmt.Sprint(h),
			Began: at(h),
			Ready: boot.Of(time.Minute, boot.Log),
		})
	}
	return boots
}

// turned is a change of one item.
func turned(id int64, hour int, what string, before, after item.State) change.Change {
	return change.Change{
		ID:      id,
		Verb:    change.Disable,
		Status:  change.Done,
		MadeAt:  at(hour),
		Targets: []change.Target{{ID: what, Before: before, After: after}},
	}
}

// undone takes a change back.
func undone(id int64, hour int, c *change.Change) change.Change {
	c.UndoneBy = id
	return change.Change{
		ID:      id,
		Verb:    change.Undo,
		Status:  change.Done,
		MadeAt:  at(hour),
		Undoes:  c.ID,
		Targets: []change.Target{{ID: c.Targets[0].ID, Before: item.Off, After: item.On}},
	}
}

func TestBaseline(t *testing.T) {
	off := turned(1, 10, "a", item.On, item.Off)
	wait := turned(2, 11, "b", item.On, item.Delayed)
	taken := turned(1, 10, "a", item.On, item.Off)
	back := undone(2, 20, &taken)
	fresh := turned(1, 10, "new", item.Off, item.On)
	for _, c := range []struct {
		name    string
		boots   []boot.Boot
		changes []change.Change
		want    string // boots, off, lacks
	}{
		{"nothing was changed", booted(1, 2), nil, "1 2 [] []"},
		{"it was booted since", booted(1, 12), []change.Change{off}, "12 [] []"},
		{"it waits for a restart", booted(1, 2), []change.Change{off, wait}, "1 2 [a b] []"},
		{"one waits, one was booted", booted(1, 2, 10, 11), []change.Change{
			turned(1, 2, "a", item.On, item.Off), turned(2, 12, "b", item.On, item.Off),
		}, "10 11 [b] []"},
		{"taken back, with boots from before", booted(1, 2, 15), []change.Change{taken, back},
			"1 2 [] []"},
		{"taken back, without them", booted(15), []change.Change{taken, back}, "15 [] [a]"},
		{"switched on, in no boot", booted(1, 2), []change.Change{fresh}, "1 2 [] [new]"},
		{"no boot at all", nil, []change.Change{off}, " [] []"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := BaselineOf(c.boots, c.changes, at(100))
			var ids []string
			for _, b := range b.Boots {
				ids = append(ids, b.ID)
			}
			got := fmt.Sprintf("%s %v %v", strings.Join(ids, " "), b.Off, b.Lacks)
			if got != c.want {
				t.Errorf("%s; want %s", got, c.want)
			}
		})
	}
}
