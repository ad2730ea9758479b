package ledger

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// An Unsettled error refuses a change because an interrupted one holds one of
// its paths.
type Unsettled struct {
	Change change.Change // the interrupted one
	Path   string
}

func (u *Unsettled) Error() string {
	return fmt.Sprintf("%s is still held by change %d, which was interrupted and could not be "+
		"settled there (%s)",
		u.Path, u.Change.ID, u.Change.WhyOpen(u.Path))
}

// CarryOut records the change and makes its edits: all of them, or none.
//
// Every path has to be as the change expects it, times included, before
// anything is recorded; one that is not is a *change.Conflict. When an edit
// fails, those made are taken back and the error says which and why; the
// machine is then as it was. Paths of an undo that are away stay open in its
// record, as a *Beyond error tells. The signals that end a program wait until
// it is over, see [Ledger.Caught].
func (l *Ledger) CarryOut(c change.Change) (change.Change, error) {
	if l.barred != nil {
		return c, l.barred
	}
	beyond := l.beyond(c)
	if err := l.check(within(c, beyond)); err != nil {
		return c, fmt.Errorf("nothing was changed: %w", err)
	}
	if err := l.needBook(); err != nil {
		return c, err
	}
	c, err := l.withMark(c)
	if err != nil {
		return c, err
	}
	c = l.recordMounts(c, beyond)
	defer l.hold()()
	marks, err := l.marks(within(c, beyond))
	if err != nil {
		return c, err
	}
	if c, err = l.book.Begin(c, marks); err != nil {
		return c, err
	}
	if err = l.reload(); err == nil {
		err = l.makeAll(within(c, beyond), marks)
	}
	if err == nil && l.root.SelfMade() {
		err = l.amend(&c, beyond)
	}
	if err == nil && len(beyond) > 0 {
		return c, l.leaveOpen(c, beyond)
	}
	if err == nil {
		err = l.end(c, change.Done)
	}
	if err != nil {
		return c, l.giveUp(within(c, beyond), err)
	}
	c.Status = change.Done
	if err := l.reload(); err != nil {
		return c, fmt.Errorf("change %d is done and recorded, but the guide beside the casebook "+
			"could not be brought up to date: %w", c.ID, err)
	}
	if l.root.Exposed() {
		l.note("Other users of the machine may read what is kept in %s: its file system holds no "+
			"rights.", l.root.Home.Casebook)
	}
	if c.Verb != change.Watch {
		l.endChores()
	}
	return c, nil
}

// check compares the machine with what the change expects.
func (l *Ledger) check(c change.Change) error {
	wrong := []error{l.elsewhere(c)}
	seen := map[string]bool{}
	for _, e := range c.Edits {
		if !change.IsAddress(e.Path) || seen[e.Path] {
			return fmt.Errorf("%q cannot be edited", e.Path)
		}
		seen[e.Path] = true
		if err := l.homeOwns(e); err != nil {
			wrong = append(wrong, err)
			continue
		}
		if open, held := l.unsettled(e.Path); held {
			wrong = append(wrong, &Unsettled{open, e.Path})
			continue
		}
		now, err := l.root.Node(e.Path, e.Home)
		if err != nil {
			return err
		}
		if !now.Identical(e.Before) {
			wrong = append(wrong, &change.Conflict{Edit: e, Now: now})
		}
	}
	return errors.Join(wrong...)
}

// homeOwns refuses, where the machine is root's to change, a file in a home
// that belongs to somebody else. It is edited with the rights of the home's
// owner, who could take it away and never give it back.
func (l *Ledger) homeOwns(e change.Edit) error {
	if e.Home == "" || os.Geteuid() != 0 || e.Before.Identical(e.After) {
		return nil
	}
	home, err := l.root.Stat(e.Home)
	if err != nil || home.UID == 0 {
		return err
	}
	for _, n := range []change.Node{e.Before, e.After} {
		if n.Kind == change.File && (n.UID != home.UID || n.GID != home.GID) {
			return &machine.Refusal{Path: e.Path, Reason: fmt.Sprintf("belongs to user %d and "+
				"group %d, in the home of user %d and group %d; give it to them with chown, or "+
				"edit it by hand", n.UID, n.GID, home.UID, home.GID)}
		}
	}
	return nil
}

// needBook makes the casebook where the machine has none yet.
func (l *Ledger) needBook() (err error) {
	if l.book == nil {
		l.book, err = casebook.Write(l.root, l.choice)
	}
	if err == nil {
		l.notes, l.book.Warnings = append(l.notes, l.book.Warnings...), nil
	}
	return err
}

// makeAll makes the folders and the edits of a recorded change.
func (l *Ledger) makeAll(c change.Change, marks []change.FolderMark) error {
	for _, m := range marks {
		if _, err := l.root.Stat(m.Path); m.Made && err != nil {
			if err := l.root.MakeFolder(m.Path, m.Home, 0o755); err != nil {
				return err
			}
		}
	}
	if err := l.openMark(c); err != nil {
		return err
	}
	for _, e := range c.Edits {
		if e.Before.Identical(e.After) || isMark(e) {
			continue // an undo finds it as it shall be; a mark comes last
		}
		if err := l.root.Apply(e); err != nil {
			return err
		}
	}
	for _, e := range c.Edits {
		if isMark(e) {
			return l.root.Force(e)
		}
	}
	return nil
}

// amend records of files what their file system added to them, so that they are
// known again.
func (l *Ledger) amend(c *change.Change, beyond map[string]error) error {
	c.Edits = slices.Clone(c.Edits)
	for i, e := range c.Edits {
		if e.After.Kind != change.File || beyond[e.Path] != nil {
			continue
		}
		made, err := l.root.Node(e.Path, e.Home)
		if err != nil {
			return err
		}
		c.Edits[i].After.Xattrs = made.Xattrs
		c.Edits[i].After.Mode, c.Edits[i].After.UID, c.Edits[i].After.GID = made.Mode, made.UID,
			made.GID
	}
	return l.book.Amend(*c)
}

// giveUp takes back what a failed change has made, and says what came of it.
func (l *Ledger) giveUp(c change.Change, why error) error {
	for _, e := range slices.Backward(c.Edits) {
		if err := l.root.SweepBeside(e.Inverse()); err != nil {
			l.note("What the attempt left beside %s could not be removed: %s.", e.Path,
				machine.Reason(err))
		}
		err := l.finish(e.Inverse(), c.MadeAt)
		if err != nil && isMark(e) {
			err = l.root.Force(e.Inverse())
		}
		if err != nil {
			why = fmt.Errorf("%w\nand taking back what was already done failed too: %w", why, err)
			if err := l.settleOne(c); err != nil {
				return fmt.Errorf("%w\nand the record could not be closed: %w", why, err)
			}
			return l.told(c.ID, why)
		}
	}
	if err := l.end(c, change.Failed); err != nil {
		return fmt.Errorf("%w\nthe machine is as it was, but the record could not be closed: %w",
			why, err)
	}
	if err := l.reload(); err != nil {
		return fmt.Errorf("nothing was changed: %w\nand the guide beside the casebook could not "+
			"be brought up to date: %w", why, err)
	}
	l.endChores()
	return fmt.Errorf("nothing was changed: %w", why)
}

// told adds to an error what of a change is open after all.
func (l *Ledger) told(id int64, why error) error {
	c, _ := l.Find(id)
	open := c.Open()
	if len(open) == 0 {
		return fmt.Errorf("%w\na second attempt succeeded", why)
	}
	return fmt.Errorf("%w\nchange %d stays open at %s: the next call that changes something "+
		"tries again", why, id, strings.Join(open, ", "))
}

// reload reads the records anew and brings the guide up to date.
func (l *Ledger) reload() error {
	if err := l.load(); err != nil {
		return err
	}
	return l.writeGuide()
}
