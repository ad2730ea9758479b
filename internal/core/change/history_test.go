package change_test

import (
	"testing"
	"time"

	"calmdawn/internal/core/change"
)

// TestTakeBackOfOverlappingChanges takes changes back that touched one path, in
// every order.
func TestTakeBackOfOverlappingChanges(t *testing.T) {
	absent := change.Node{Kind: change.Absent}
	link := func(to string) change.Node { return change.Node{Kind: change.Link, Target: to} }
	for name, states := range map[string][]change.Node{
		"a link":             {link("a"), absent, link("b"), link("/dev/null")},
		"a file comes, goes": {absent, text("x\n"), absent, text("y\n")},
		"lines apart": {
			text("a\nb\nc\nd\n"),
			text("#a\nb\nc\nd\n"),
			text("#a\nb\n#c\nd\n"),
			text("#a\n#b\n#c\nd\n"),
		},
		"the same line": {text("a\nb\n"), text("#a\nb\n"), text("# a\nb\n"), text("a!\nb\n")},
	} {
		for _, order := range [][]int{
			{0, 1, 2},
			{0, 2, 1},
			{1, 0, 2},
			{1, 2, 0},
			{2, 0, 1},
			{2, 1, 0},
		} {
			var steps []change.Step
			for i := range 3 {
				before, after := states[i], states[i+1]
				before.ModTime, after.ModTime = int64(i), int64(i+1)
				steps = append(steps, change.Step{
					Change: int64(i + 1),
					Edit:   change.Edit{Path: "/p", Before: before, After: after},
				})
			}
			now := steps[2].Edit.After
			for n, i := range order {
				e, err := change.TakeBack(steps, int64(i+1), now, time.Unix(9, 0), false)
				if err != nil {
					t.Fatalf("%s, %v: taking %d back: %v", name, order, i+1, err)
				}
				now = e.After
				steps[i].UndoneBy = int64(10 + n)
			}
			if !now.Same(states[0]) || now.Kind != change.Absent && now.ModTime != 0 {
				t.Errorf("%s, %v: in the end %s of %d, %q", name, order, now.Describe(),
					now.ModTime, now.Data)
			}
		}
	}
}

func TestTakeBackOfWhatSomebodyElseWentOnFrom(t *testing.T) {
	link := func(to string) change.Node { return change.Node{Kind: change.Link, Target: to} }
	steps := []change.Step{
		{Change: 1, Edit: change.Edit{Path: "/p", Before: link("a"), After: link("b")}},
		{Change: 2, Edit: change.Edit{Path: "/p", Before: link("theirs"), After: link("c")}},
	}
	if e, err := change.TakeBack(steps, 1, link("c"), time.Time{},
		false); err != nil || !e.After.Same(link("c")) {
		t.Errorf("the first, which somebody overwrote: %+v, %v", e, err)
	}
	if e, err := change.TakeBack(steps, 2, link("c"), time.Time{},
		false); err != nil || !e.After.Same(link("theirs")) {
		t.Errorf("the second: %+v, %v", e, err)
	}
	if _, err := change.TakeBack(steps, 2, link("else"), time.Time{}, false); err == nil {
		t.Error("a path that somebody changed since was given back")
	}
	if e, err := change.TakeBack(steps, 2, link("else"), time.Time{},
		true); err != nil || !e.After.Same(link("theirs")) {
		t.Errorf("overwriting: %+v, %v", e, err)
	}
}
