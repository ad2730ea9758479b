// Package guard puts the boot guard into a machine, and does its work there.
// Those are three small units that count the boots since a change. They take it
// back when the machine has failed to become ready twice in a row. It is no
// part of the change it guards, but a chore of the ledger. It stands before the
// change's first edit, goes when nothing is guarded, and leaves no trace. So
// the change can be undone as if it had never been there.
package guard

import (
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/failures"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
)

// By is who takes changes back, in the ledger.
const By = "boot guard"

// A Kit is the guard for machines of one kind.
type Kit interface {
	// Refused says why a change of some paths cannot be guarded; empty where it
	// can. beyond are those of them that the guard will not reach at once.
	Refused(r *machine.Root, paths []string) (why string, beyond []string)
	// Install plans in d what puts the guard in, with this program for the
	// machine, in place of one that is left of another time.
	Install(d *machine.Draft, r *machine.Root, program []byte) error
	// Paths lists where the guard, or one for another goal, stands, in the
	// order in which it is taken away.
	Paths(r *machine.Root) []string
	// Start is the start of the machine that runs us.
	Start(r *machine.Root) Host
}

// There reports whether the guard, or a part of it, is in the machine.
func There(k Kit, r *machine.Root) bool {
	for _, p := range k.Paths(r) {
		if _, err := r.Lstat(p); err == nil {
			return true
		}
	}
	return false
}

// Put puts the guard into the machine, for a change that is to be carried out
// next with Guarded among its terms. It has it count boots from now on. program
// is this program for the machine, usual how long the machine takes until it is
// ready. An error leaves the machine as it was.
func Put(
	k Kit,
	led *ledger.Ledger,
	r *machine.Root,
	program []byte,
	usual time.Duration,
	at time.Time,
) error {
	d := r.Draft(at)
	if err := k.Install(d, r, program); err != nil {
		return err
	}
	anew := func(s *failures.State) { *s = failures.State{Usual: usual} }
	if err := keep(led, anew); err != nil {
		return err
	}
	edits := d.Edits()
	if len(edits) == 0 {
		return nil // it watches over another change already
	}
	_, err := led.CarryOut(change.Change{Verb: change.Watch, MadeAt: at, MadeBy: By, Edits: edits})
	return err
}

// keep changes what the guard remembers.
func keep(led *ledger.Ledger, update func(*failures.State)) error {
	return led.Keep(func(b *casebook.Book) error { return b.UpdateGuard(update) })
}

// Remove has no change guarded any more and takes the guard out of the machine,
// whoever put it there.
func Remove(k Kit, led *ledger.Ledger, r *machine.Root, at time.Time) error {
	unguard := func(t *change.Terms) { t.Guarded = false }
	if err := led.UpdateTerms(change.Guarded(led.Changes()), unguard); err != nil {
		return err
	}
	d := r.Draft(at)
	for _, p := range k.Paths(r) {
		if _, err := r.Lstat(p); err != nil {
			continue
		}
		if err := d.Remove(p, ""); err != nil {
			return err
		}
	}
	if len(d.Edits()) == 0 {
		return nil
	}
	_, err := led.CarryOut(change.Change{
		Verb:   change.Leave,
		MadeAt: at,
		MadeBy: By,
		Edits:  d.Edits(),
	})
	return err
}
