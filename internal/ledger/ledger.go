// Package ledger carries changes out so that each can be taken back: recorded durably before the first edit, verified
// after each, wholly done or wholly not.
//
// It decides nothing about items; it is given edits. The casebook keeps its records, the machine makes its edits.
package ledger

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// A Ledger is a machine with its casebook, locked for one writer.
type Ledger struct {
	root   *machine.Root
	book   *casebook.Book
	unlock func() error
	all    []change.Change // as of the last load, oldest first

	outside string // the casebook's file where it is not inside the machine

	// Recovered are the changes that were found unfinished when the ledger was opened, as they were settled.
	Recovered []change.Change
}

// Open opens the machine's ledger for changing it, and settles what an interrupted call left unfinished: a change is
// taken back, an undo is finished.
func Open(r *machine.Root, casebookFile string) (*Ledger, error) {
	book, err := casebook.Write(r, casebookFile)
	if err != nil {
		return nil, err
	}
	l := &Ledger{root: r, book: book, outside: casebookFile}
	lockAt := casebook.Folder
	if casebookFile != "" {
		lockAt = "/etc"
	}
	if l.unlock, err = r.Lock(lockAt); err != nil {
		book.Close()
		return nil, err
	}
	if err := l.recover(); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Close releases the ledger.
func (l *Ledger) Close() error { return errors.Join(l.unlock(), l.book.Close()) }

// Changes returns all changes, oldest first.
func (l *Ledger) Changes() []change.Change { return l.all }

func (l *Ledger) load() (err error) {
	l.all, err = l.book.Changes()
	return err
}

// recover settles changes that were recorded and never ended.
func (l *Ledger) recover() error {
	if err := l.load(); err != nil {
		return err
	}
	for _, c := range l.all {
		if c.Status != change.Planned {
			continue
		}
		err := l.sweep(c)
		if err == nil && c.Verb == change.Undo {
			_, err = l.make(c.Edits)
		} else if err == nil {
			if err = l.mendTorn(c.Edits); err == nil {
				err = l.takeBack(c.Edits)
			}
		}
		if err != nil {
			return fmt.Errorf("change %d was interrupted and cannot be settled: %w\nput that path back into one of the two states by hand, then call again", c.ID, err)
		}
		status := change.Failed
		if c.Verb == change.Undo {
			status = change.Done
		}
		if err := l.end(c, status); err != nil {
			return err
		}
		c.Status = status
		l.Recovered = append(l.Recovered, c)
	}
	if err := l.load(); err != nil || len(l.Recovered) == 0 {
		return err
	}
	return l.writeGuide(change.Change{Verb: change.Undo, MadeAt: l.Recovered[0].MadeAt})
}

// mendTorn puts files with several names back that a stop caught half written: they are written in place, so that alone
// they can be torn.
func (l *Ledger) mendTorn(edits []change.Edit) error {
	for _, e := range edits {
		now, err := l.root.Node(e.Path, e.Home)
		if err != nil {
			return err
		}
		inPlace := e.Before.Kind == change.File && e.After.Kind == change.File && now.Kind == change.File && now.Links > 1
		if !inPlace || now.Same(e.Before) || now.Same(e.After) {
			continue
		}
		if err := l.root.Apply(change.Edit{Path: e.Path, Home: e.Home, Before: now, After: e.Before}); err != nil {
			return err
		}
	}
	return nil
}

func (l *Ledger) sweep(c change.Change) error {
	for _, e := range c.Edits {
		if err := l.root.Sweep(path.Dir(e.Path), e.Home); err != nil {
			return err
		}
	}
	return nil
}

// CarryOut records the change and makes its edits. When one of them fails, those made are taken back and the error says
// which and why; the machine is then as it was.
func (l *Ledger) CarryOut(c change.Change) (change.Change, error) {
	for _, e := range c.Edits {
		if !path.IsAbs(e.Path) || path.Clean(e.Path) != e.Path || strings.ContainsRune(e.Path, 0) {
			return c, fmt.Errorf("%q is no path that can be edited; nothing was changed", e.Path)
		}
	}
	marks, err := l.marks(c)
	if err != nil {
		return c, err
	}
	c, err = l.book.Begin(c, marks)
	if err != nil {
		return c, err
	}
	err = l.writeGuide(c)
	for _, m := range marks {
		if _, statErr := l.root.Stat(m.Path); m.Made && statErr != nil {
			err = errors.Join(err, l.root.MakeFolder(m.Path, m.Home, 0o755))
		}
	}
	made := 0
	if err == nil {
		made, err = l.make(c.Edits)
	}
	if err == nil {
		err = l.end(c, change.Done)
	}
	if err == nil {
		c.Status = change.Done
		if err := l.load(); err != nil {
			return c, err
		}
		if err := l.writeGuide(change.Change{Verb: change.Undo, MadeAt: c.MadeAt}); err != nil { // an undo is no part of the guide
			return c, fmt.Errorf("change %d is done and recorded, but the guide beside the casebook could not be brought up to date: %w", c.ID, err)
		}
		return c, nil
	}
	if back := l.takeBack(c.Edits[:made]); back != nil {
		return c, fmt.Errorf("%w\nand taking back what was already done failed too: %w\ncall calmdawn again once the cause is gone: it finishes the way back by itself", err, back)
	}
	if back := l.end(c, change.Failed); back != nil {
		return c, fmt.Errorf("%w\nthe machine is as it was, but the record could not be closed: %w", err, back)
	}
	return c, fmt.Errorf("nothing was changed: %w", err)
}

// make makes the edits in their order and returns how many stand; one that is already made is passed over.
func (l *Ledger) make(edits []change.Edit) (made int, err error) {
	for i, e := range edits {
		now, err := l.root.Node(e.Path, e.Home)
		if err != nil {
			return i, err
		}
		if now.Same(e.After) {
			if now.ModTime == e.After.ModTime || now.Kind == change.Absent {
				continue
			}
			e.Before = now // all but its time is as it should be
		}
		if err := l.root.Apply(e); err != nil {
			if now, nodeErr := l.root.Node(e.Path, e.Home); nodeErr == nil && now.Same(e.After) {
				i++ // it was made, and then failed
			}
			return i, err
		}
	}
	return len(edits), nil
}

// takeBack makes the inverse edits in the opposite order.
func (l *Ledger) takeBack(edits []change.Edit) error {
	back := make([]change.Edit, 0, len(edits))
	for _, e := range slices.Backward(edits) {
		back = append(back, e.Inverse())
	}
	_, err := l.make(back)
	return err
}

// marks works out which folders a change touches and makes, and what their modification times are to become.
func (l *Ledger) marks(c change.Change) ([]change.FolderMark, error) {
	var marks []change.FolderMark
	seen := map[string]bool{}
	for _, e := range c.Edits {
		folder := path.Dir(e.Path)
		for ; !seen[folder]; folder = path.Dir(folder) {
			seen[folder] = true
			m, err := l.mark(folder, e.Home, c.MadeAt)
			if err != nil {
				return nil, err
			}
			marks = append(marks, m)
			if !m.Made {
				break
			}
		}
	}
	slices.SortFunc(marks, func(a, b change.FolderMark) int { return strings.Compare(a.Path, b.Path) })
	return marks, nil
}

// mark continues what is remembered of a folder while nobody else has touched it, and begins anew otherwise.
func (l *Ledger) mark(folder, home string, at time.Time) (change.FolderMark, error) {
	state, err := l.root.Folder(folder, home)
	if err != nil {
		return change.FolderMark{}, err
	}
	old, known, err := l.book.Mark(folder)
	if err != nil {
		return change.FolderMark{}, err
	}
	m := change.FolderMark{Path: folder, Home: home, Made: !state.Exists, Before: state.ModTime, Left: at.UnixNano()}
	if known && state.Exists {
		m.Made = old.Made
		if old.Left == state.ModTime {
			m.Before = old.Before
		}
	}
	return m, nil
}

// end gives the folders of c their times, removes those that the ledger made and nothing of ours needs any more, and
// closes the record.
func (l *Ledger) end(c change.Change, status change.Status) error {
	standing := l.standing(c, status)
	inUse := func(folder string) bool {
		return slices.ContainsFunc(standing, func(p string) bool { return strings.HasPrefix(p, strings.TrimSuffix(folder, "/")+"/") })
	}
	holdsEdit := func(folder string) bool {
		return slices.ContainsFunc(standing, func(p string) bool { return path.Dir(p) == folder })
	}
	var folders []string
	for _, e := range c.Edits {
		for folder := path.Dir(e.Path); !slices.Contains(folders, folder); folder = path.Dir(folder) {
			folders = append(folders, folder)
		}
	}
	slices.SortFunc(folders, func(a, b string) int { return strings.Compare(b, a) }) // the deepest first
	var forget []string
	for _, folder := range folders {
		m, known, err := l.book.Mark(folder)
		if err != nil {
			return err
		}
		if !known {
			continue
		}
		state, err := l.root.Folder(folder, m.Home)
		if err != nil {
			return err
		}
		switch {
		case !state.Exists:
			forget = append(forget, folder)
		case m.Made && !inUse(folder):
			forget = append(forget, folder)
			if state.Empty {
				err = l.root.RemoveFolder(folder, m.Home)
			}
		case m.Made || holdsEdit(folder) || inUse(folder) && l.madeBelow(folder, forget):
			err = l.root.SetFolderTime(folder, m.Home, m.Left)
		default:
			forget = append(forget, folder)
			err = l.root.SetFolderTime(folder, m.Home, m.Before)
		}
		if err != nil {
			return err
		}
	}
	return l.book.End(c, status, forget)
}

// madeBelow reports whether a folder that the ledger made still stands directly in the given one.
func (l *Ledger) madeBelow(folder string, gone []string) bool {
	entries, err := l.root.ReadDir(folder)
	if err != nil {
		return false
	}
	for _, e := range entries {
		p := path.Join(folder, e.Name)
		if m, known, err := l.book.Mark(p); err == nil && known && m.Made && !slices.Contains(gone, p) {
			return true
		}
	}
	return false
}

// standing returns the paths that changes in force hold, once c has ended with the given status.
func (l *Ledger) standing(c change.Change, status change.Status) []string {
	var paths []string
	add := func(c change.Change) {
		for _, e := range c.Edits {
			paths = append(paths, e.Path)
		}
	}
	for _, other := range l.all {
		if other.Stands() && other.ID != c.ID && !(other.ID == c.Undoes && status == change.Done) {
			add(other)
		}
	}
	if status == change.Done && c.Verb != change.Undo {
		add(c)
	}
	return paths
}

// PlanUndo works out what takes change id back, now: its edits the other way round, fitted to the present state of
// their paths. Paths that somebody changed since are *change.Conflict errors, all of them joined; with overwrite they are put
// back all the same.
func (l *Ledger) PlanUndo(id int64, at time.Time, by string, overwrite bool) (change.Change, error) {
	i := slices.IndexFunc(l.all, func(c change.Change) bool { return c.ID == id })
	if i < 0 {
		return change.Change{}, fmt.Errorf("there is no change %d; calmdawn history lists them", id)
	}
	c := l.all[i]
	switch {
	case c.Verb == change.Undo:
		return change.Change{}, fmt.Errorf("change %d is itself an undo; make the change %d again instead", id, c.Undoes)
	case c.Status == change.Failed:
		return change.Change{}, fmt.Errorf("change %d failed when it was made and left nothing to take back", id)
	case c.UndoneBy != 0:
		return change.Change{}, fmt.Errorf("change %d is already undone, by change %d", id, c.UndoneBy)
	}
	undo := change.Change{Verb: change.Undo, MadeAt: at, MadeBy: by, Undoes: id}
	for _, t := range c.Targets {
		t.Before, t.After = t.After, t.Before
		undo.Targets = append(undo.Targets, t)
	}
	var conflicts []error
	for _, e := range slices.Backward(c.Edits) {
		now, err := l.root.Node(e.Path, e.Home)
		if err != nil {
			return change.Change{}, err
		}
		fitted, err := change.TakeBack(l.steps(e.Path), id, now, at, overwrite)
		if err != nil {
			conflicts = append(conflicts, err)
			continue
		}
		undo.Edits = append(undo.Edits, fitted)
	}
	return undo, errors.Join(conflicts...)
}

// steps returns what the ledger did to a path, in its order, undos aside.
func (l *Ledger) steps(p string) []change.Step {
	var steps []change.Step
	for _, c := range l.all {
		i := slices.IndexFunc(c.Edits, func(e change.Edit) bool { return e.Path == p })
		if i >= 0 && c.Verb != change.Undo && c.Status == change.Done {
			steps = append(steps, change.Step{Change: c.ID, UndoneBy: c.UndoneBy, Edit: c.Edits[i]})
		}
	}
	return steps
}

// Preview is [Ledger.PlanUndo] for a casebook that is only read: it shows what an undo would do now.
func Preview(r *machine.Root, book *casebook.Book, id int64, at time.Time, by string, overwrite bool) (change.Change, error) {
	l := &Ledger{root: r, book: book}
	if err := l.load(); err != nil {
		return change.Change{}, err
	}
	return l.PlanUndo(id, at, by, overwrite)
}
