package visit

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/guard"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
)

// RecorderOf is what puts the recorder into a machine and watches it.
func RecorderOf(r *machine.Root) (recorder.Kit, error) {
	if kit := kind(r).Recorder(); kit != nil {
		return kit, nil
	}
	return nil, errors.New("boots of such machines cannot be recorded yet")
}

// Recordable reports whether boots of a machine can be watched at all.
func Recordable(r *machine.Root) bool { return kind(r).Recorder() != nil }

// GuardOf is what guards a machine; nil where nothing does.
func GuardOf(r *machine.Root) guard.Kit { return kind(r).Guard() }

// PlanRecorder works out what puts the recorder in, to watch so many boots;
// without edits where it is in already.
func (d *Desk) PlanRecorder(boots int) (change.Change, error) {
	kit, err := RecorderOf(d.Root)
	if err != nil {
		return change.Change{}, err
	}
	draft := d.Root.Draft(d.At)
	if kit.StateOf(d.Root).Armed {
		return d.recorderChange(item.On, item.On, draft), nil
	}
	program, err := recorder.OwnProgram()
	if err != nil {
		return change.Change{}, err
	}
	// one that has recorded all it was to
	if err := kit.Uninstall(draft, d.Root); err != nil {
		return change.Change{}, err
	}
	order := recorder.Order{Program: program, Boots: boots, At: d.At, Keeps: d.Root.Home.Casebook}
	if _, err := d.Root.Stat(order.Keeps); err != nil && d.Casebook.File != "" {
		order.Keeps = path.Dir(order.Keeps) // its first record makes it
	}
	if err := kit.Install(draft, d.Root, order); err != nil {
		return change.Change{}, fmt.Errorf("the recorder cannot be put into this machine, so "+
			"nothing was changed: %w", err)
	}
	return d.recorderChange(item.Off, item.On, draft), nil
}

// PlanRecorderOff works out what takes the recorder away: the undo of the
// change that put it in, or where that stands in another casebook a change of
// its own, without edits where there is none.
func (d *Desk) PlanRecorderOff() (undo int64, c change.Change, err error) {
	for _, c := range slices.Backward(d.Ledger.Changes()) {
		if c.Verb == change.Record && c.Stands() && len(c.Targets) > 0 &&
			c.Targets[0].After == item.On {
			return c.ID, change.Change{}, nil
		}
	}
	kit, err := RecorderOf(d.Root)
	if err != nil {
		return 0, change.Change{}, err
	}
	draft := d.Root.Draft(d.At)
	if err := kit.Uninstall(draft, d.Root); err != nil {
		return 0, change.Change{}, err
	}
	return 0, d.recorderChange(item.On, item.Off, draft), nil
}

func (d *Desk) recorderChange(from, to item.State, draft *machine.Draft) change.Change {
	return change.Change{
		Verb:   change.Record,
		MadeAt: d.At,
		MadeBy: d.By,
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
func (p Place) Disarm(r *machine.Root, at time.Time) error {
	kit, err := RecorderOf(r)
	if err != nil {
		return err
	}
	led, err := ledger.Open(r, p.Casebook, at, recorder.By)
	if err != nil {
		return err
	}
	defer led.Close()
	c, err := recorder.Disarm(kit, r.Draft(at), at)
	if err == nil && len(c.Edits) > 0 {
		_, err = led.CarryOut(c)
	}
	return err
}
