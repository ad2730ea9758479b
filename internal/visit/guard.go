package visit

import (
	"errors"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/failures"
	"calmdawn/internal/guard"
)

// A Watching is the boot guard as somebody finds it who only looks.
type Watching struct {
	Changes []int64 // that it guards
	State   failures.State
	Part    bool // a part of it is in the machine, and does nothing
}

// On reports whether the guard would act.
func (w Watching) On() bool { return len(w.Changes) > 0 && !w.Part }

// Watching returns how the boot guard stands, of the machine's changes. Its
// state is always in the casebook inside the machine.
func (m *Machine) Watching(changes []change.Change) (w Watching, err error) {
	w.Changes = change.Guarded(changes)
	book, err := casebook.Read(m.Root, casebook.Choice{ThisMachine: m.Casebook.ThisMachine})
	if err == nil {
		w.State, err = book.Guard()
		book.Close()
	}
	if errors.Is(err, casebook.ErrNone) {
		err = nil
	}
	w.Part = m.GuardThere() && len(w.Changes) == 0
	return w, err
}

// GuardThere reports whether a guard, or a part of one, is in the machine.
func (m *Machine) GuardThere() bool {
	kit := m.Guard()
	return kit != nil && guard.There(kit, m.Root)
}
