package ledger

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// settle finishes what interrupted calls left: a change is taken back, an undo
// is carried through. A path at which that cannot be keeps its record open, for
// itself alone; everything else goes on.
func (l *Ledger) settle() error {
	if l.book == nil {
		return nil
	}
	if err := l.load(); err != nil {
		return err
	}
	defer l.hold()()
	for _, c := range l.records() {
		if c.Status != change.Planned {
			continue
		}
		if err := l.settleOne(c); err != nil {
			return fmt.Errorf("change %d was interrupted, and settling it cannot be recorded: %w",
				c.ID, err)
		}
	}
	if err := l.writeGuide(); err != nil {
		l.note("The guide beside the casebook could not be brought up to date: %s.",
			machine.Reason(err))
	}
	l.endChores()
	return nil
}

// settleOne settles one open record as far as it can be. The error is of the
// casebook; what cannot be done on the machine stays open in the record.
func (l *Ledger) settleOne(c change.Change) error {
	before := change.Settlement{}
	if c.Settlement != nil {
		before = *c.Settlement
	}
	after := change.Settlement{
		At:   l.at,
		By:   l.by,
		Done: slices.Clone(before.Done),
		Left: before.Left,
		Open: map[string]string{},
	}
	for _, e := range wayOut(c) {
		if before.Settled(e.Path) {
			continue
		}
		if away := l.root.Reach(e); away != nil {
			after.Open[e.Path] = l.reason(away)
			continue
		}
		if err := l.root.SweepBeside(e); err != nil {
			l.note("What an interrupted call left beside %s could not be removed: %s.", e.Path,
				machine.Reason(err))
		}
		err := l.finish(e, c.MadeAt)
		if err != nil && (c.Chore() || isMark(e)) {
			err = l.root.Force(e) // it is all ours
		}
		if err != nil && c.Chore() {
			l.note("What we had put at %s could not be put right: %s.", e.Path, machine.Reason(err))
		}
		if err != nil {
			after.Open[e.Path] = l.reason(err)
			continue
		}
		after.Done = append(after.Done, e.Path)
		l.edited = append(l.edited, e)
	}
	c.Settlement = &after
	if len(after.Open) > 0 {
		if len(after.Done) == len(before.Done) && len(before.Open) > 0 {
			return nil // nothing new
		}
		forget, err := l.tidy(c, change.Planned)
		if err == nil {
			err = l.book.Settle(c, forget)
		}
		if err == nil {
			err = l.load()
		}
		l.remember(c)
		return err
	}
	c.Status = change.Failed
	if c.Verb == change.Undo {
		c.Status = change.Done
	}
	if err := l.end(c, c.Status); err != nil {
		return err
	}
	l.remember(c)
	return l.load()
}

// remember has a settled change told to people; of chores they need not know.
func (l *Ledger) remember(c change.Change) {
	if !c.Chore() {
		l.recovered = append(l.recovered, c)
	}
}

// wayOut is what settles an open record: an undo is carried through, anything
// else is taken back.
func wayOut(c change.Change) []change.Edit {
	if c.Verb == change.Undo {
		return c.Edits
	}
	var back []change.Edit
	for _, e := range slices.Backward(c.Edits) {
		back = append(back, e.Inverse())
	}
	return back
}

// finish brings a path from one of the states that an edit may have been
// stopped in to the edit's end. It is for taking back and for recovery, and
// passes over what is done. Where the path is in none of those states, somebody
// else changed it. A text gets the edit's lines where they are found again.
// Anything else is a *change.Conflict and is left alone.
func (l *Ledger) finish(e change.Edit, at time.Time) error {
	now, err := l.found(e)
	if err != nil {
		return err
	}
	switch {
	case now.Means != "" && now.Agrees(e.After) && !now.Agrees(e.Before):
		return nil
	case now.Same(e.After), now.Kind == change.File && now.Bare(e.After).Same(e.After):
		if change.SameTime(e.After.ModTime, now.ModTime) || now.Kind == change.Absent {
			return nil
		}
		e.Before = now // all but its time is as it should be
	case now.Same(e.Before), now.Links > 1 && change.Torn(e, now):
		e.Before = now
	case now.Kind == change.File && now.Bare(e.Before).Same(e.Before):
		e.Before = now // its file system has added to what an interrupted edit made
	default:
		if e, err = change.Rebase(e, now, []change.Node{e.Before, e.After}, at); err != nil {
			return err
		}
	}
	return l.root.Apply(e)
}

// reason says in a line why a path could not be settled.
func (l *Ledger) reason(err error) string {
	if conflict := (*change.Conflict)(nil); errors.As(err, &conflict) {
		return "somebody else changed it since: it is " +
			l.root.Words(conflict.Edit.Path, conflict.Now) + " now"
	}
	text, _, _ := strings.Cut(machine.Reason(err), "\n")
	return text
}

// Interrupted returns the record that still holds paths open and has the given
// number, or takes the change of that number back.
func (l *Ledger) Interrupted(id int64) (change.Change, bool) {
	for _, c := range l.all {
		if len(c.Open()) > 0 && (c.ID == id || c.Undoes == id && id != 0) {
			return c, true
		}
	}
	return change.Change{}, false
}

// Resolve closes open paths of the interrupted change c as a person decided.
// Those in leave stay as they are found. With overwrite, the others are put
// into the state that they shall have, whatever is there now.
func (l *Ledger) Resolve(c change.Change, overwrite bool, leave []string) (change.Change, error) {
	if l.barred != nil {
		return c, l.barred
	}
	for _, p := range leave {
		if !slices.ContainsFunc(c.Open(), func(open string) bool {
			return change.NamedBy([]string{p}, open)
		}) {
			return c, fmt.Errorf("change %d holds no path %s open", c.ID, p)
		}
	}
	defer l.hold()()
	s := *c.Settlement
	s.At, s.By, s.Open = l.at, l.by, map[string]string{}
	for _, e := range wayOut(c) {
		switch {
		case c.Settlement.Settled(e.Path):
			continue
		case change.NamedBy(leave, e.Path):
			s.Left = append(s.Left, e.Path)
			continue
		case overwrite:
			err := l.root.Reach(e)
			if err == nil {
				err = l.root.SweepBeside(e)
			}
			if err != nil {
				s.Open[e.Path] = l.reason(err)
				continue
			}
			if err = errors.Join(err, l.root.Force(e)); err == nil {
				s.Done = append(s.Done, e.Path)
				l.edited = append(l.edited, e)
				continue
			}
			s.Open[e.Path] = l.reason(err)
		default:
			s.Open[e.Path] = c.Settlement.Open[e.Path]
		}
	}
	c.Settlement = &s
	var err error
	if len(s.Open) > 0 {
		var forget []string
		if forget, err = l.tidy(c, change.Planned); err == nil {
			err = l.book.Settle(c, forget)
		}
	} else {
		c.Status = change.Failed
		if c.Verb == change.Undo {
			c.Status = change.Done
		}
		err = l.end(c, c.Status)
	}
	if err == nil {
		err = l.reload()
	}
	l.endChores()
	return c, err
}

// endChores takes back the chores that have nothing more to do. What they are
// made of is ours alone, so it goes in whatever state it is. Where one cannot
// go, the next call tries again.
func (l *Ledger) endChores() {
	if l.ending { // whatever is carried out ends chores, this too
		return
	}
	l.ending = true
	defer func() { l.ending = false }()
	for _, c := range l.chores {
		over := c.Over(l.all)
		if over == "" || !c.Stands() {
			continue
		}
		plan, err := l.PlanUndo(c.ID, Undoing{At: l.at, By: l.by, Overwrite: true})
		if err == nil {
			_, err = l.CarryOut(plan)
		}
		if err != nil {
			l.note("%s, and could not be taken away: %s.", strings.ToUpper(over[:1])+over[1:],
				machine.Reason(err))
		}
	}
}

// UpdateTerms changes the terms of changes, and ends the chores that have
// nothing more to do by them.
func (l *Ledger) UpdateTerms(ids []int64, set func(*change.Terms)) error {
	if l.barred != nil {
		return l.barred
	}
	if len(ids) > 0 {
		if err := l.book.UpdateTerms(ids, set); err != nil {
			return err
		}
	}
	if err := l.load(); err != nil {
		return err
	}
	l.endChores()
	return nil
}

// Keep has a chore keep something in the casebook, which is made if there is
// none.
func (l *Ledger) Keep(what func(*casebook.Book) error) error {
	if l.barred != nil {
		return l.barred
	}
	if err := l.needBook(); err != nil {
		return err
	}
	return what(l.book)
}
