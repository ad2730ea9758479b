// Package ledger carries changes out so that each can be taken back. They are
// recorded durably before the first edit, verified after each, wholly done or
// wholly not. It is the one door to a machine's files: nobody else makes edits.
//
// It decides nothing about items; it is given edits. The casebook keeps its
// records, the machine makes its edits.
package ledger

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// Patience is how long [Open] waits for another calmdawn to be done.
var Patience = 5 * time.Second

// A Ledger is a machine with the record of its changes. It is locked, settled
// and ready to be changed by [Open], or only looked at by [View]. It is used by
// one goroutine. Close it after use.
type Ledger struct {
	root    *machine.Root
	book    *casebook.Book // nil where the machine has none yet
	release func() error
	choice  casebook.Choice
	barred  error
	blind   bool // the casebook is there, and may not be read
	at      time.Time
	by      string

	all    []change.Change // as of the last load, oldest first
	chores []change.Change

	recovered []change.Change
	edited    []change.Edit
	notes     []string
	caught    os.Signal

	ending bool // chores are being taken back
}

// Open locks the machine and settles what an interrupted call left unfinished:
// a change is taken back, an undo is finished. at and by say when that is, and
// who does it.
//
// Where nothing can be written, the ledger is only looked at, as by [View], and
// [Ledger.Barred] says why. No casebook is made before there is something to
// record.
func Open(r *machine.Root, choice casebook.Choice, at time.Time, by string) (*Ledger, error) {
	if barred := casebook.Barred(r, choice); barred != nil {
		l, err := View(r, choice)
		if errors.Is(err, fs.ErrPermission) {
			l, err = &Ledger{root: r, choice: choice, blind: true}, nil
			l.note("What was changed before is not known: the casebook may not be read.")
		}
		if l != nil {
			l.barred = barred
		}
		return l, err
	}
	l := &Ledger{root: r, choice: choice, at: at, by: by}
	r.Keeper = keeper{l}
	var err error
	if l.release, err = r.Lock(Patience); err != nil {
		return nil, err
	}
	if casebook.Exists(r, choice) {
		err = l.needBook()
	}
	if err == nil {
		err = l.settle()
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// View opens the machine's ledger to look at it. It takes no lock, settles
// nothing and writes nothing.
func View(r *machine.Root, choice casebook.Choice) (*Ledger, error) {
	l := &Ledger{root: r, choice: choice, barred: errors.New("the ledger was opened to look at " +
		"it only")}
	book, err := casebook.Read(r, choice)
	if errors.Is(err, casebook.ErrNone) {
		return l, nil
	}
	if err != nil {
		return nil, err
	}
	l.book, l.notes, r.Keeper = book, book.Warnings, keeper{l}
	if err := l.load(); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Close releases the ledger.
func (l *Ledger) Close() error {
	l.root.Keeper = nil
	var errs []error
	if l.book != nil {
		errs = append(errs, l.book.Close())
	}
	if l.release != nil {
		errs = append(errs, l.release())
	}
	return errors.Join(errs...)
}

// Barred says why the machine cannot be changed; nil where it can.
func (l *Ledger) Barred() error { return l.barred }

// Blind reports whether there is a casebook that may not be read, so that
// nothing is known of earlier changes.
func (l *Ledger) Blind() bool { return l.blind }

// Changes returns all changes, oldest first. The slice is the ledger's own.
func (l *Ledger) Changes() []change.Change { return l.all }

// Recovered returns the changes that were found unfinished, as they were
// settled, or as far as they were.
func (l *Ledger) Recovered() []change.Change { return l.recovered }

// Edited returns the edits that settling made.
func (l *Ledger) Edited() []change.Edit { return l.edited }

// Notes returns what people should know and cannot help, and forgets it: what
// could not be put right around an edit, a sentence each.
func (l *Ledger) Notes() []string {
	notes := l.notes
	l.notes = nil
	return notes
}

func (l *Ledger) note(format string, values ...any) {
	if text := fmt.Sprintf(format, values...); !slices.Contains(l.notes, text) {
		l.notes = append(l.notes, text)
	}
}

func (l *Ledger) load() error {
	if l.book == nil {
		return nil
	}
	var err1, err2 error
	l.all, err1 = l.book.Changes()
	l.chores, err2 = l.book.Chores()
	return errors.Join(err1, err2)
}

// records are all that is recorded, chores first.
func (l *Ledger) records() []change.Change { return slices.Concat(l.chores, l.all) }

// Find returns the record of the given number; a chore's is below zero.
func (l *Ledger) Find(id int64) (change.Change, bool) {
	for _, c := range l.records() {
		if c.ID == id {
			return c, true
		}
	}
	return change.Change{}, false
}

// unsettled returns the record that still holds a path open.
func (l *Ledger) unsettled(p string) (change.Change, bool) {
	for _, c := range l.records() {
		if slices.Contains(c.Open(), p) {
			return c, true
		}
	}
	return change.Change{}, false
}
