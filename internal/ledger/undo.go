package ledger

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// Undoing is how a change is to be taken back.
type Undoing struct {
	At        time.Time
	By        string
	Overwrite bool     // put a path back although somebody else changed it
	Leave     []string // leave these paths as they are
	Before    []int64  // changes that are taken back before this one
}

// An Unreachable error says why a path of a change cannot be looked at any
// more.
type Unreachable struct {
	Path string
	Err  error
}

func (u *Unreachable) Error() string { return u.Path + ": " + u.Err.Error() }
func (u *Unreachable) Unwrap() error { return u.Err }

// PlanUndo works out what takes change id back, now: its edits the other way
// round, fitted to the present state of their paths. Paths that somebody
// changed since are *change.Conflict errors, those that an interrupted change
// still holds *Unsettled ones, all of them joined. Of paths that are away the
// undo has the states in which they were left; where all are, that is an
// *Unreachable error each.
func (l *Ledger) PlanUndo(id int64, u Undoing) (change.Change, error) {
	c, ok := l.Find(id)
	switch {
	case !ok:
		return c, fmt.Errorf("there is no change %d; calmdawn history lists them", id)
	case c.Verb == change.Undo:
		return c, fmt.Errorf("change %d is itself an undo; make the change %d again instead", id,
			c.Undoes)
	case c.Status == change.Failed && c.Settlement != nil:
		return c, fmt.Errorf("change %d had been interrupted and was taken back then; nothing is "+
			"left to take back", id)
	case c.Status == change.Failed:
		return c, fmt.Errorf("change %d failed when it was made and left nothing to take back", id)
	case c.UndoneBy != 0:
		return c, fmt.Errorf("change %d is already undone, by change %d", id, c.UndoneBy)
	}
	if c.Verb == change.Recover {
		if err := l.needed(c, u.Before); err != nil {
			return c, err
		}
	}
	undo := change.Change{Verb: change.Undo, MadeAt: u.At, MadeBy: u.By, Undoes: id}
	for _, t := range c.Targets {
		t.Before, t.After = t.After, t.Before
		undo.Targets = append(undo.Targets, t)
	}
	left := map[string]bool{}
	for _, word := range u.Leave {
		i := slices.IndexFunc(c.Edits, func(e change.Edit) bool { return e.Names(word) })
		if i < 0 {
			return c, fmt.Errorf("change %d touches no path %s", id, word)
		}
		left[c.Edits[i].Path] = true
	}
	var wrong, beyond []error
	for _, e := range slices.Backward(c.Edits) {
		if left[e.Path] {
			continue
		}
		if open, held := l.unsettled(e.Path); held {
			wrong = append(wrong, &Unsettled{open, e.Path})
			continue
		}
		now, err := l.found(e)
		if away := (*machine.Away)(nil); errors.As(err, &away) {
			now, beyond = l.leftAt(e), append(beyond, &Unreachable{e.Path, err})
		} else if err != nil {
			wrong = append(wrong, &Unreachable{e.Path, err})
			continue
		}
		fitted, err := change.TakeBack(l.steps(e.Path), id, now, u.At, u.Overwrite)
		if conflict := (*change.Conflict)(nil); errors.As(err, &conflict) {
			conflict.Words = func(n change.Node) string { return l.root.Words(e.Path, n) }
		}
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		fitted.Mounts = e.Mounts
		undo.Edits = append(undo.Edits, fitted)
	}
	if len(beyond) == len(undo.Edits) { // nothing of it could be done
		wrong = append(wrong, beyond...)
	}
	return undo, errors.Join(wrong...)
}

// found is what stands at the path of an edit that was made.
func (l *Ledger) found(e change.Edit) (change.Node, error) {
	if err := l.root.Reach(e); err != nil {
		return change.Node{}, err
	}
	return l.root.Node(e.Path, e.Home)
}

// steps returns what the ledger did to a path, in its order, undos aside.
func (l *Ledger) steps(p string) []change.Step {
	var steps []change.Step
	for _, c := range l.records() {
		i := slices.IndexFunc(c.Edits, func(e change.Edit) bool { return e.Path == p })
		if i >= 0 && c.Verb != change.Undo && c.Status == change.Done {
			steps = append(steps, change.Step{Change: c.ID, UndoneBy: c.UndoneBy, Edit: c.Edits[i]})
		}
	}
	return steps
}
