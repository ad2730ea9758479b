package job

import (
	"fmt"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
)

// off is a change that switches one item off.
func off(id int64, hour int) change.Change {
	return turned(id, hour, fmt.Sprint("item ", id), item.On, item.Off)
}

// ids are the hours at which boots began.
func ids(boots []boot.Boot) (all []string) {
	for _, b := range boots {
		all = append(all, b.ID)
	}
	return all
}

func TestSinceTheJobBegan(t *testing.T) {
	taken := off(1, 10)
	back := undone(2, 20, &taken)
	two := off(2, 20)
	backOfTwo := undone(3, 30, &two)
	old := off(1, 10)
	const month = 30 * 24
	for _, c := range []struct {
		name    string
		boots   []boot.Boot
		changes []change.Change
		begin   Begin
		want    string // changes, waiting, before, after, steps
	}{
		{
			"one change", booted(1, 2, 11, 12), []change.Change{off(1, 10)}, Begin{},
			"change 1, no change [1 2] [11 12] 2",
		},
		{
			"step by step", booted(1, 2, 11, 21, 31, 32),
			[]change.Change{off(1, 10), off(2, 20), off(3, 30)}, Begin{},
			"changes 1 to 3, no change [1 2] [31 32] 4",
		},
		{
			"the last waits for a restart", booted(1, 11, 12),
			[]change.Change{off(1, 10), off(2, 20)}, Begin{},
			"change 1, change 2 [1] [11 12] 2",
		},
		{
			"none was booted yet", booted(1, 2), []change.Change{off(1, 10), off(2, 20)}, Begin{},
			"changes 1 and 2, no change [1 2] [] 2",
		},
		{
			"all taken back", booted(1, 11, 21), []change.Change{taken, back}, Begin{},
			"change 2, no change [11] [21] 3",
		},
		{
			"the last taken back: boots from before it count", booted(1, 11, 21, 31),
			[]change.Change{off(1, 10), two, backOfTwo}, Begin{},
			"changes 1 to 3, no change [1] [11 31] 4",
		},
		{
			"a pause parts jobs", booted(1, 11, 12, month+11, month+12),
			[]change.Change{off(1, 10), off(2, month+10)}, Begin{},
			"change 2, no change [11 12] [" + fmt.Sprint(month+11, " ", month+12) + "] 2",
		},
		{
			"less than a pause does not", booted(1, month+8, month+12),
			[]change.Change{off(1, 10), off(2, month+9)}, Begin{},
			"changes 1 and 2, no change [1] [" + fmt.Sprint(month+12) + "] 3",
		},
		{
			"somebody has it begin later", booted(1, 11, 21),
			[]change.Change{off(1, 10), off(2, 20)}, Begin{Change: 2},
			"change 2, no change [11] [21] 2",
		},
		{
			"or by the day", booted(1, 11, 21),
			[]change.Change{off(1, 10), off(2, 20)}, Begin{Day: at(15)},
			"change 2, no change [11] [21] 2",
		},
		{
			"nothing is to begin with", booted(1, 11), []change.Change{off(1, 10)},
			Begin{Change: 7}, "none",
		},
		{"nothing was changed", booted(1, 2), nil, Begin{}, "none"},
		{
			"the undo of an old job belongs to it", booted(1, 11, 2*month+1),
			[]change.Change{old, undone(2, 2*month, &old)}, Begin{},
			"change 2, no change [11] [" + fmt.Sprint(2*month+1) + "] 3",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, ok := Since(c.boots, c.changes, compare.Measures[0], c.begin, at(9999))
			text := "none"
			if ok {
				text = fmt.Sprintf("%s, %s %v %v %d", change.Names(got.Changes),
					change.Names(got.Waiting), ids(got.Sides.Before), ids(got.Sides.After),
					len(got.Steps))
			}
			if text != c.want {
				t.Errorf("%s\nwant %s", text, c.want)
			}
		})
	}
}

func TestTheForecastOfAJobIsTheOneThatWasKept(t *testing.T) {
	kept := &change.Forecast{Saving: time.Minute}
	first, second := off(1, 10), off(2, 20)
	second.Terms.Job, second.Terms.JobOf = kept, []int64{1}
	second.Forecast = &change.Forecast{Saving: time.Second}
	changes := []change.Change{first, second}
	c, _ := Since(booted(1, 11, 21), changes, compare.Measures[0], Begin{}, at(99))
	if c.Forecast() != kept {
		t.Errorf("%+v", c.Forecast())
	}
	third := off(3, 22)
	third.Terms.Job, third.Terms.JobOf = &change.Forecast{}, []int64{1} // made with 2 undone
	c, _ = Since(booted(1, 11, 21, 31), append(changes, third), compare.Measures[0], Begin{},
		at(99))
	if c.Forecast() != nil {
		t.Errorf("a forecast of other changes is held against these: %+v", c.Forecast())
	}
	c, _ = Since(booted(1, 11, 21), changes, compare.Measures[0], Begin{Change: 2}, at(99))
	if c.Forecast() != second.Forecast {
		t.Errorf("of one change: %+v", c.Forecast())
	}
}

func TestBeforeTheJob(t *testing.T) {
	changes := []change.Change{off(1, 10), off(2, 20)}
	b, ok := Before(booted(1, 2, 11), changes, at(25))
	if got := fmt.Sprint(ids(b.Boots), b.Off, ok); got != "[1 2] [item 1 item 2] true" {
		t.Error(got)
	}
	if _, ok := Before(booted(1, 2, 11), changes, at(20+30*24)); ok {
		t.Error("the job goes on after its pause")
	}
	if _, ok := Before(booted(1, 2), nil, at(25)); ok {
		t.Error("a job without changes")
	}
}
