package visit

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/guard"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
)

// Recorder is what puts the recorder into the machine and watches it.
func (m *Machine) Recorder() (recorder.Kit, error) {
	if r, ok := m.kind.(family.Recordable); ok {
		return r.Recorder(), nil
	}
	return nil, errors.New("boots of such machines cannot be recorded yet")
}

// Recordable reports whether boots of the machine can be watched at all.
func (m *Machine) Recordable() bool {
	_, ok := m.kind.(family.Recordable)
	return ok
}

// Guard is what guards the machine; nil where nothing does.
func (m *Machine) Guard() guard.Kit {
	if g, ok := m.kind.(family.Guardable); ok {
		return g.Guard()
	}
	return nil
}

// PlanRecorder works out what puts the recorder in, to watch so many boots;
// without edits where it is in already.
func (s *Session) PlanRecorder(boots int) (change.Change, error) {
	kit, err := s.Recorder()
	if err != nil {
		return change.Change{}, err
	}
	draft := s.Root.Draft(s.At)
	if kit.StateOf(s.Root).Armed {
		return s.recorderChange(item.On, item.On, draft), nil
	}
	program, err := recorder.OwnProgram()
	if err != nil {
		return change.Change{}, err
	}
	// one that has recorded all it was to
	if err := kit.Uninstall(draft, s.Root); err != nil {
		return change.Change{}, err
	}
	order := recorder.Order{Program: program, Boots: boots, At: s.At, Keeps: s.Root.Home.Casebook}
	if _, err := s.Root.Stat(order.Keeps); err != nil && s.Casebook.File != "" {
		order.Keeps = path.Dir(order.Keeps) // its first record makes it
	}
	if err := kit.Install(draft, s.Root, order); err != nil {
		return change.Change{}, fmt.Errorf("the recorder cannot be put into this machine, so "+
			"nothing was changed: %w", err)
	}
	return s.recorderChange(item.Off, item.On, draft), nil
}

// PlanRecorderOff works out what takes the recorder away. That is the undo of
// the change that put it in. Where that stands in another casebook, it is a
// change of its own. It has no edits where no recorder is there.
func (s *Session) PlanRecorderOff() (undo int64, c change.Change, err error) {
	for _, c := range slices.Backward(s.Ledger.Changes()) {
		if c.Verb == change.Record && c.Stands() && len(c.Targets) > 0 &&
			c.Targets[0].After == item.On {
			return c.ID, change.Change{}, nil
		}
	}
	kit, err := s.Recorder()
	if err != nil {
		return 0, change.Change{}, err
	}
	draft := s.Root.Draft(s.At)
	if err := kit.Uninstall(draft, s.Root); err != nil {
		return 0, change.Change{}, err
	}
	return 0, s.recorderChange(item.On, item.Off, draft), nil
}

func (s *Session) recorderChange(from, to item.State, draft *machine.Draft) change.Change {
	return change.Change{
		Verb:   change.Record,
		MadeAt: s.At,
		MadeBy: s.By,
		Edits:  draft.Edits(),
		Targets: []change.Target{{
			ID:     "recorder",
			Title:  "the boot recorder",
			Before: from,
			After:  to,
			When:   item.AtBoot,
		}},
	}
}

// Disarm has the recorder, which calls it, started no more.
func (m *Machine) Disarm(at time.Time) error {
	kit, err := m.Recorder()
	if err != nil {
		return err
	}
	led, err := ledger.Open(m.Root, m.Casebook, at, recorder.By)
	if err != nil {
		return err
	}
	defer led.Close()
	c, err := recorder.Disarm(kit, m.Root.Draft(at), at)
	if err == nil && len(c.Edits) > 0 {
		_, err = led.CarryOut(c)
	}
	return err
}
