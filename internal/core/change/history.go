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

// TakeBack returns the edit that takes one change's step back, with the path as
// it is now. steps are all that the ledger did to the path, undos aside, in
// their order. That of the given change must be among them and stand.
//
// What a path should hold is worked out by doing the steps that stand, one
// after another, from what was there at first. A text gets the lines of each,
// anything else is what the last one made of it. So changes that touch one path
// can be taken back in any order. Where a step found something else than the
// ledger had left, it is worked out from there. Of the steps before it, a text
// may still hold the lines. Where the path is not as that says, somebody else
// changed it: texts are fitted line by line, see [Rebase], anything else is a
// *Conflict. overwrite gives back what should be there all the same.
func TakeBack(steps []Step, change int64, now Node, at time.Time, overwrite bool) (Edit, error) {
	start := lastStart(steps, at)
	of := slices.IndexFunc(steps, func(s Step) bool { return s.Change == change })
	step := steps[of]
	edit := Edit{Path: step.Edit.Path, Home: step.Edit.Home, Before: now}
	undone := func(s Step) bool { return s.UndoneBy != 0 }
	with := func(s Step) bool { return undone(s) || s.Change == change }
	should := replay(steps, start, at, undone)
	edit.After = replay(steps, start, at, with)
	switch {
	case should.Same(edit.After) && (should.ModTime == edit.After.ModTime || of < start):
		edit.After = now
		if of < start && step.Edit.linesIn(now) && !overwrite {
			return edit, &Conflict{Edit: step.Edit.Inverse(), Now: now}
		}
		return edit, nil
	case now.Same(should), overwrite:
		return edit, nil
	case now.Agrees(edit.After) && !now.Agrees(should):
		edit.After = now
		return edit, nil
	}
	var known []Node
	for _, s := range steps {
		known = append(known, s.Edit.Before, s.Edit.After)
	}
	return Rebase(Edit{
		Path:   edit.Path,
		Home:   edit.Home,
		Before: should,
		After:  edit.After,
	}, now, known, at)
}

// linesIn reports whether a text holds a line that the edit put into it.
func (e Edit) linesIn(now Node) bool {
	if !e.Before.text() || !e.After.text() || !now.text() {
		return false
	}
	had, has := lines(string(e.Before.Data)), lines(string(now.Data))
	for _, l := range lines(string(e.After.Data)) {
		if !slices.Contains(had, l) && slices.Contains(has, l) {
			return true
		}
	}
	return false
}

// lastStart returns the last step that found something else than the ledger had
// left; the first one found what was there before all.
func lastStart(steps []Step, at time.Time) int {
	start := 0
	for i, s := range steps {
		if i == start {
			continue
		}
		left := replay(steps[:i], start, at, func(o Step) bool {
			return o.UndoneBy != 0 && o.UndoneBy <= s.Change
		})
		if !left.Same(s.Edit.Before) {
			start = i
		}
	}
	return start
}

// replay does the steps from start on that are not undone, from what the first
// of them found. Lines of earlier ones that were undone since are not in it.
func replay(steps []Step, start int, at time.Time, undone func(Step) bool) Node {
	var known []Node
	for _, s := range steps {
		known = append(known, s.Edit.Before, s.Edit.After)
	}
	first := steps[start]
	n := first.Edit.Before
	for _, s := range slices.Backward(steps[:start]) {
		// it was gone when the first step looked
		before := s.UndoneBy != 0 && s.UndoneBy < first.Change
		if before || !undone(s) || !n.text() || !s.Edit.linesIn(n) {
			continue
		}
		if fitted, err := Rebase(s.Edit.Inverse(), n, known, at); err == nil {
			n = fitted.After
		}
	}
	for _, s := range steps[start:] {
		if undone(s) {
			continue
		}
		fitted, err := Rebase(s.Edit, n, known, at)
		if err != nil {
			// its lines are not there any more: it holds the path as it made it
			fitted.After = s.Edit.After
		}
		n = fitted.After
	}
	return n
}
