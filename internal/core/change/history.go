package change

import (
	"slices"
	"time"
)

// A Step is what one change did to one path.
type Step struct {
	Change   int64 // its number
	UndoneBy int64 // the number of the undo that took it back; 0 while it stands
	Edit     Edit
}

// TakeBack returns the edit that takes one change's step back, with the path as it is now. steps are all that the ledger did
// to the path, undos aside, in their order; that of the given change must be among them and stand.
//
// What a path should hold is worked out by doing the steps that stand, one after another, from what was there at first: a text
// gets the lines of each, anything else is what the last one made of it. So changes that touch one path can be taken back in
// any order. Where the path is not as that says, somebody else changed it: texts are fitted line by line, see [Rebase],
// anything else is a *Conflict. overwrite gives back what should be there all the same.
func TakeBack(steps []Step, change int64, now Node, at time.Time, overwrite bool) (Edit, error) {
	chain := lastChain(steps, at)
	of := slices.IndexFunc(steps, func(s Step) bool { return s.Change == change })
	edit := Edit{Path: steps[of].Edit.Path, Home: steps[of].Edit.Home, Before: now}
	if !slices.ContainsFunc(chain, func(s Step) bool { return s.Change == change }) {
		edit.After = now // somebody changed the path since, and later changes went on from there
		return edit, nil
	}
	stands := func(s Step) bool { return s.UndoneBy == 0 }
	should := replay(chain, at, stands)
	edit.After = replay(chain, at, func(s Step) bool { return stands(s) && s.Change != change })
	switch {
	case should.Same(edit.After) && should.ModTime == edit.After.ModTime:
		edit.After = now
		return edit, nil
	case now.Same(should), overwrite:
		return edit, nil
	}
	var known []Node
	for _, s := range steps {
		known = append(known, s.Edit.Before, s.Edit.After)
	}
	return Rebase(Edit{Path: edit.Path, Home: edit.Home, Before: should, After: edit.After}, now, known, at)
}

// lastChain returns the steps from the last one on that found something else than the ledger had left.
func lastChain(steps []Step, at time.Time) []Step {
	start := 0
	for i, s := range steps {
		if i == start {
			continue
		}
		left := replay(steps[start:i], at, func(o Step) bool { return o.UndoneBy == 0 || o.UndoneBy > s.Change })
		if !left.Same(s.Edit.Before) {
			start = i
		}
	}
	return steps[start:]
}

// replay does the steps that stand, from what the first of all found.
func replay(steps []Step, at time.Time, stands func(Step) bool) Node {
	n := steps[0].Edit.Before
	for _, s := range steps {
		if !stands(s) {
			continue
		}
		known := []Node{steps[0].Edit.Before}
		for _, o := range steps {
			known = append(known, o.Edit.After)
		}
		fitted, err := Rebase(s.Edit, n, known, at)
		if err != nil {
			fitted.After = s.Edit.After // its lines are not there any more: it holds the path as it made it
		}
		n = fitted.After
	}
	return n
}
