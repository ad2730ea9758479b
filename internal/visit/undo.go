package visit

import (
	"errors"
	"fmt"
	"slices"

	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
)

// An Undoing is how changes are to be taken back.
type Undoing struct {
	All       bool     // as many of them as can be
	Overwrite bool     // paths that somebody else changed since are put back all the same
	Leave     []string // paths that stay as they are
}

// closes reports whether it decides on what an interrupted change left open.
func (u Undoing) closes() bool { return u.Overwrite || len(u.Leave) > 0 }

// An Undo is what taking changes back comes to.
type Undo struct {
	Plans []change.Change // in the order in which they are carried out
	// Open are interrupted changes that are among those named, or hold their
	// paths.
	Open []change.Change
	Left []error // why others cannot be taken back, as [NotUndone]
	// Stays tells of recoveries that stay, since what they stand for is needed.
	// That is no failure.
	Stays []error
}

// NotUndone tells which change cannot be taken back, and why.
type NotUndone struct {
	Change int64
	Why    error
}

func (n *NotUndone) Error() string { return n.Why.Error() }
func (n *NotUndone) Unwrap() error { return n.Why }

// PlanUndo works out how the changes of the given numbers are taken back, in
// that order. Where one of them cannot be, none is, unless as many as can be
// are asked for.
func (s *Session) PlanUndo(ids []int64, u Undoing) (Undo, error) {
	var undo Undo
	keep := func(c change.Change) {
		if !slices.ContainsFunc(undo.Open, func(o change.Change) bool { return o.ID == c.ID }) {
			undo.Open = append(undo.Open, c)
		}
	}
	for _, id := range s.recoveriesLast(ids) {
		if c, interrupted := s.Ledger.Interrupted(id); interrupted {
			keep(c)
			continue
		}
		if s.settledNow(id) {
			continue // which has been said
		}
		p, err := s.planUndo(id, u, ids)
		held := (*ledger.Unsettled)(nil)
		switch {
		case err == nil:
			undo.Plans = append(undo.Plans, p)
		case errors.As(err, new(*ledger.Needed)) && (u.All || len(ids) > 1):
			undo.Stays = append(undo.Stays, &NotUndone{id, err})
		case errors.As(err, &held) && len(ids) > 1:
			keep(held.Change)
		case u.All && u.Overwrite: // which says: as much as can be
			undo.Left = append(undo.Left, &NotUndone{id, err})
		default:
			return undo, &NotUndone{id, err}
		}
	}
	for _, c := range s.Ledger.Changes() {
		if u.All && len(c.Open()) > 0 {
			keep(c)
		}
	}
	if len(undo.Open) > 0 && u.closes() {
		return undo, undo.mayClose(u)
	}
	return undo, nil
}

// recoveriesLast are numbers of changes in their order, those last that brought
// to its newest state what the others edited.
func (s *Session) recoveriesLast(ids []int64) []int64 {
	recovers := func(id int64) bool {
		c, _ := s.Ledger.Find(id)
		return c.Verb == change.Recover
	}
	rest := slices.DeleteFunc(slices.Clone(ids), recovers)
	return append(rest, slices.DeleteFunc(slices.Clone(ids), func(id int64) bool {
		return !recovers(id)
	})...)
}

// planUndo plans one undo; before are the changes that are taken back with it.
func (s *Session) planUndo(id int64, u Undoing, before []int64) (change.Change, error) {
	return s.Ledger.PlanUndo(id, ledger.Undoing{
		At:        s.At,
		By:        s.By,
		Overwrite: u.Overwrite,
		Leave:     u.Leave,
		Before:    before,
	})
}

// settledNow reports whether opening the ledger has just taken a change back.
func (s *Session) settledNow(id int64) bool {
	return slices.ContainsFunc(s.Ledger.Recovered(), func(c change.Change) bool {
		return len(c.Open()) == 0 && (c.ID == id && c.Verb != change.Undo || c.Undoes == id)
	})
}

// mayClose refuses paths to be left that are not open.
func (undo Undo) mayClose(u Undoing) error {
	for _, c := range undo.Open {
		for _, p := range u.Leave {
			if !slices.ContainsFunc(c.Open(), func(open string) bool {
				return change.NamedBy([]string{p}, open)
			}) {
				return misuse("change %d is not open at %s, but at %q", c.ID, p, c.Open())
			}
		}
	}
	return nil
}

// Closing is what closing the open changes replaces, as changes that can be
// compared with a later look.
func (s *Session) Closing(open []change.Change) []change.Change {
	var all []change.Change
	for _, c := range open {
		found := change.Change{}
		for _, e := range c.Edits {
			if slices.Contains(c.Open(), e.Path) {
				e.Before, _ = s.Root.Node(e.Path, e.Home) // what cannot be read is replaced unread
				found.Edits = append(found.Edits, e)
			}
		}
		all = append(all, found)
	}
	return all
}

// TakeBack takes changes back one after another, each planned anew on what
// those before it left. It returns the undos that were recorded; after an error
// those stand.
func (s *Session) TakeBack(plans []change.Change, u Undoing) ([]change.Change, error) {
	var done []change.Change
	var beyond []error
	for _, p := range plans {
		c, err := s.planUndo(p.Undoes, u, nil)
		if err == nil && s.Ledger.Caught() != nil {
			err = fmt.Errorf("%s came in between", s.Ledger.Caught())
		}
		if err == nil {
			c, err = s.CarryOut(c, nil)
		}
		if part := (*ledger.Beyond)(nil); errors.As(err, &part) {
			beyond, err = append(beyond, part), nil
		}
		if err != nil {
			return done, &NotUndone{p.Undoes, err}
		}
		done = append(done, c)
	}
	return done, errors.Join(beyond...)
}
