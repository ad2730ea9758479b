package say

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// WaysOn says why an interrupted change is still open, and what closes it.
func (calls Calls) WaysOn(c change.Change) []string {
	var lines []string
	for _, p := range c.Open() {
		lines = append(lines,
			fmt.Sprintf("Change %d is open at %s: %s.", c.ID, render.Clean(p),
				render.Clean(c.WhyOpen(p))))
	}
	open := c.Open()
	leave := fmt.Sprintf("  To leave it as it is: %s",
		calls.Call(fmt.Sprintf("undo %d --leave %s", c.ID, ShellWord(open[0]))))
	if !slices.ContainsFunc(open, func(p string) bool { return !machine.SaysAway(c.WhyOpen(p)) }) {
		return append(lines,
			"  Set that right, then call calmdawn again: it finishes the change.", leave)
	}
	back := "put there what was before it"
	if c.Verb == change.Undo {
		back = "put there what was before the change"
	}
	return append(lines,
		fmt.Sprintf("  To %s, whatever is there now: %s", back, calls.Call(fmt.Sprintf("undo %d "+
			"--overwrite", c.ID))),
		leave)
}

// WithWays adds to the refusal of a path that an interrupted change holds what
// can be done about it.
func (calls Calls) WithWays(err error) error {
	if held := (*ledger.Unsettled)(nil); errors.As(err, &held) {
		return fmt.Errorf("%w\n%s", err, strings.Join(calls.WaysOn(held.Change), "\n"))
	}
	if held := (*ledger.HeldElsewhere)(nil); errors.As(err, &held) {
		with := calls
		with.Casebook = held.Casebook
		return fmt.Errorf("%w\ntake that back first, on that computer: %s\nif that casebook is "+
			"lost, remove %s from the machine by hand", err,
			with.Call(fmt.Sprintf("undo %d", held.Change)), held.Mark)
	}
	return err
}

// Insistable adds to the refusal of protected items how to insist on them.
func Insistable(err error) error {
	p := (*visit.Protected)(nil)
	if !errors.As(err, &p) {
		return err
	}
	var lines []string
	for i, it := range p.Items {
		lines = append(lines, fmt.Sprintf("%s is protected: %s\nif you are sure: --insist %s",
			it.ID, p.Why[i], ShellWord(it.ID)))
	}
	return errors.New(strings.Join(append(lines, "nothing was changed"), "\n"))
}

// LeftOpen says that interrupted changes are not taken back; nil where there
// are none.
func (calls Calls) LeftOpen(open []change.Change) error {
	var lines []string
	seen := map[int64]bool{}
	for _, c := range open {
		if !seen[c.ID] {
			lines = append(lines, calls.WaysOn(c)...)
		}
		seen[c.ID] = true
	}
	if len(lines) == 0 {
		return nil
	}
	return fmt.Errorf("not everything is taken back:\n%s", strings.Join(lines, "\n"))
}

// Partly adds to what is left of an undo how to leave it for good.
func (calls Calls) Partly(err error) error {
	part := (*ledger.Beyond)(nil)
	if !errors.As(err, &part) {
		return err
	}
	first := slices.Min(slices.Collect(maps.Keys(part.Why)))
	return fmt.Errorf("%w\nto leave it as it is: %s", err,
		calls.Call(fmt.Sprintf("undo %d --leave %s", part.Undo.Undoes, ShellWord(first))))
}

// Refused says why a change cannot be taken back, and what would do it.
func (calls Calls) Refused(err error) error {
	not := (*visit.NotUndone)(nil)
	if !errors.As(err, &not) {
		return err
	}
	id := not.Change
	if conflict := (*change.Conflict)(nil); errors.As(err, &conflict) {
		return fmt.Errorf("change %d cannot be taken back as it is, and nothing was changed: %w\n"+
			"to put the recorded state back all the same: %s\nto leave that path and take back "+
			"the rest: %s", id, err,
			calls.Call(fmt.Sprintf("undo %d --overwrite", id)),
			calls.Call(fmt.Sprintf("undo %d --leave %s", id, ShellWord(conflict.Edit.Path))))
	}
	if needed := (*ledger.Needed)(nil); errors.As(err, &needed) {
		return fmt.Errorf("change %d cannot be taken back, and nothing was changed: %w", id, err)
	}
	if gone := (*ledger.Unreachable)(nil); errors.As(err, &gone) {
		return fmt.Errorf("change %d cannot be taken back as it is, and nothing was changed: %w\n"+
			"set that right, or leave that path and take back the rest: %s", id, err,
			calls.Call(fmt.Sprintf("undo %d --leave %s", id, ShellWord(gone.Path))))
	}
	return calls.WithWays(not.Why)
}

// Stays says why a recovery is not taken back with the rest.
func Stays(err error) string {
	id := int64(0)
	if not := (*visit.NotUndone)(nil); errors.As(err, &not) {
		id = not.Change
	}
	return fmt.Sprintf("Change %d, a file brought to its newest state, stays: %s.", id,
		render.Clean(err.Error()))
}

// ShowTakingBack says which changes are to be taken back, the newest first, as
// plans that undo them: of one change, all that it touches.
func ShowTakingBack(s Page, r *machine.Root, plans []change.Change) {
	if len(plans) == 1 {
		s.Say(render.Strong, "Taking change %d back:", plans[0].Undoes)
		ShowTargets(s, nil, plans[0])
		ShowEdits(s, r, plans[0])
		return
	}
	var rows [][]render.Cell
	paths := 0
	for _, p := range plans {
		paths += len(p.Edits)
		if len(p.Targets) == 0 {
			rows = append(rows, []render.Cell{
				render.C(strconv.FormatInt(p.Undoes, 10)),
				render.C("newest state of " + strings.Join(recovered(p), ", ")),
				render.C(""), render.C(""),
			})
		}
		for _, t := range p.Targets {
			rows = append(rows, []render.Cell{
				render.C(strconv.FormatInt(p.Undoes, 10)),
				render.C(render.Clean(t.Title)),
				render.C(fmt.Sprintf("%s → %s", t.Before, t.After)),
				render.C(render.Clean(t.ID)),
			})
		}
	}
	s.Say(render.Strong, "Taking %s back, the newest first:",
		Count(len(plans), "change", "changes"))
	s.Table([]render.Column{
		{Title: "CHANGE", Right: true},
		itemColumn,
		{Title: "STATE"},
		idColumn,
	}, rows)
	s.Line("")
	s.Line("This touches %s.", Count(paths, "path", "paths"))
}

// ShowResolving says what becomes of each path at which changes are open, and
// which others are taken back besides.
func ShowResolving(s Page, open, plans []change.Change, u visit.Undoing) {
	for _, c := range open {
		for _, p := range c.Open() {
			does := "stays open"
			if change.NamedBy(u.Leave, p) {
				does = "is left as it is"
			} else if u.Overwrite {
				does = "gets what was there before the change, whatever is there now"
			}
			s.Wrap(2, "Of change %d, %s %s.", c.ID, render.Clean(p), does)
		}
	}
	if len(plans) == 0 {
		return
	}
	var ids []int64
	for _, p := range plans {
		ids = append(ids, p.Undoes)
	}
	s.Line("Besides, %s taken back: %s.", Count(len(plans), "change is", "changes are"),
		numbered(ids))
}

// Settled says what became of an interrupted change.
func Settled(c change.Change) string {
	switch {
	case len(c.Open()) > 0:
		return fmt.Sprintf("Change %d had been interrupted. It is settled but for %s.", c.ID,
			Count(len(c.Open()), "path", "paths"))
	case c.Verb == change.Undo:
		return fmt.Sprintf("Change %d, which takes change %d back, had been interrupted; it was "+
			"finished.", c.ID, c.Undoes)
	}
	return fmt.Sprintf("Change %d had been interrupted; it was taken back, and the machine is as "+
		"it was before it.", c.ID)
}

// Unsettled says, where nothing is settled, what a change leaves in between
// that was interrupted. Or it is being made while somebody looks. Of one that
// is closed it says nothing. locked says that somebody holds the machine's
// lock.
func (calls Calls) Unsettled(c change.Change, locked bool) []string {
	switch {
	case len(c.Open()) == 0:
		return nil
	case locked:
		return []string{fmt.Sprintf("Change %d is being made at this moment; what is shown may be "+
			"half of it.", c.ID)}
	case c.Settlement != nil:
		return calls.WaysOn(c)
	}
	return []string{fmt.Sprintf("Change %d was interrupted: what is shown is the machine as it "+
		"is, changed in part. To have it settled: %s", c.ID,
		calls.Call(fmt.Sprintf("undo %d", c.ID)))}
}
