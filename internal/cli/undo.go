package cli

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/render"
)

// undoing is how changes are to be taken back.
type undoing struct {
	yes, all, overwrite bool
	leave               []string // paths
}

func (a *app) undoCommand() *cobra.Command {
	var u undoing
	cmd := &cobra.Command{
		Use:   "undo CHANGE... | --all",
		Short: "Take changes back, exactly",
		Long: `Undo restores every path that a change touched: bytes, link, mode, owner,
modification time and extended attributes. Changes can be taken back in any
order, several at once by their numbers or as a range, which takes those that
are in force. A path that somebody else changed since is shown, and nothing at
all is undone then: --overwrite puts it back all the same, --leave takes the
rest back and leaves it as it is.

A change that was interrupted, by a power cut or a kill, is settled by the
next call that changes something, this one too. Where a path of it cannot be,
the same two flags close it.

It works on the running machine and, with --root, on the disk of one that no
longer starts.`,
		Example: `  calmdawn undo 3
  calmdawn undo 5 8-12
  calmdawn undo 4 --leave /etc/crontab
  calmdawn undo --all
  calmdawn --root /mnt undo --all --yes`,
		Args: func(cmd *cobra.Command, args []string) error {
			if u.all == (len(args) > 0) {
				return usage("undo takes the numbers of changes, or --all; calmdawn history " +
					"lists them")
			}
			if len(u.leave) > 0 && (u.all || len(args) > 1 || strings.Contains(args[0], "-")) {
				return usage("--leave goes with the number of one change")
			}
			return nil
		},
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(_ *cobra.Command, args []string) error { return a.undo(args, u) },
	}
	cmd.Flags().BoolVarP(&u.yes, "yes", "y", false, "do it without asking")
	cmd.Flags().BoolVar(&u.overwrite, "overwrite", false, "put a path back although somebody "+
		"else changed it since")
	cmd.Flags().StringArrayVar(&u.leave, "leave", nil, "leave this `PATH` of the change as it "+
		"is, and take back the rest")
	cmd.Flags().BoolVar(&u.all, "all", false, "take back every change in force, the newest first")
	return cmd
}

// undo takes the changes back that words name.
func (a *app) undo(words []string, u undoing) error {
	if u.all {
		words = []string{fmt.Sprintf("1-%d", int64(math.MaxInt64))}
	}
	a.closing = true
	return a.alter(u.yes, func(d *desk) (plan, error) {
		if d.led.Blind() {
			return plan{}, d.barred
		}
		ids, err := changeNumbers(d.led.Changes(), words)
		if u.all {
			err = nil // none in force is no mistake
		}
		if err != nil {
			return plan{}, err
		}
		return a.planUndo(d, ids, u)
	})
}

// planUndo works out how the changes of the given numbers are taken back, the
// newest first.
func (a *app) planUndo(d *desk, ids []int64, u undoing) (plan, error) {
	s := a.screen()
	plans, open, left, err := a.undoable(d, ids, u)
	closes := u.overwrite || len(u.leave) > 0
	switch {
	case err != nil:
		return plan{}, err
	case d.barred != nil && len(open) > 0:
		return plan{}, d.barred
	case len(open) > 0 && closes:
		return a.resolve(d, s, plans, open, u, left)
	}
	left = errors.Join(left, a.leftOpen(open))
	switch {
	case len(plans) > 0:
		return a.takeBack(d, s, plans, u, left), nil
	case left != nil:
		return plan{}, left
	}
	return plan{nothing: func() error {
		if len(ids) > 0 {
			s.Line("Nothing more to do.")
		} else {
			s.Line("Nothing to do: no change is in force.")
		}
		return nil
	}}, nil
}

// undoable plans the undo of changes. open are interrupted ones that are among
// them or hold their paths, left says why others cannot be taken back.
func (a *app) undoable(
	d *desk,
	ids []int64,
	u undoing,
) (plans, open []change.Change, left, err error) {
	keep := func(c change.Change) {
		if !slices.ContainsFunc(open, func(o change.Change) bool { return o.ID == c.ID }) {
			open = append(open, c)
		}
	}
	for _, id := range ids {
		if c, interrupted := d.led.Interrupted(id); interrupted {
			keep(c)
			continue
		}
		if settledNow(d.led, id) {
			continue // which has been said
		}
		p, err := d.led.PlanUndo(id, a.undoing(d, u))
		held := (*ledger.Unsettled)(nil)
		switch {
		case err == nil:
			plans = append(plans, p)
		case errors.As(err, &held) && len(ids) > 1:
			keep(held.Change)
		case u.all && u.overwrite: // which says: as much as can be
			left = errors.Join(left, a.refused(id, err))
		default:
			return nil, nil, nil, a.refused(id, err)
		}
	}
	for _, c := range d.led.Changes() {
		if u.all && len(c.Open()) > 0 {
			keep(c)
		}
	}
	return plans, open, left, nil
}

func (a *app) undoing(d *desk, u undoing) ledger.Undoing {
	return ledger.Undoing{At: d.at, By: whoami(), Overwrite: u.overwrite, Leave: u.leave}
}

// settledNow reports whether opening the ledger has just taken a change back.
func settledNow(led *ledger.Ledger, id int64) bool {
	return slices.ContainsFunc(led.Recovered(), func(c change.Change) bool {
		return len(c.Open()) == 0 && (c.ID == id && c.Verb != change.Undo || c.Undoes == id)
	})
}

// leftOpen says that interrupted changes are not taken back; nil where there
// are none.
func (a *app) leftOpen(open []change.Change) error {
	var lines []string
	seen := map[int64]bool{}
	for _, c := range open {
		if !seen[c.ID] {
			lines = append(lines, a.waysOn(c)...)
		}
		seen[c.ID] = true
	}
	if len(lines) == 0 {
		return nil
	}
	return fmt.Errorf("not everything is taken back:\n%s", strings.Join(lines, "\n"))
}

// changeNumbers are the changes that words name by number, or as a range of
// those in force; the newest first.
func changeNumbers(changes []change.Change, words []string) ([]int64, error) {
	named := map[int64]bool{}
	for _, word := range words {
		first, last, ranged := strings.Cut(word, "-")
		if !ranged {
			last = first
		}
		from, err1 := strconv.ParseInt(first, 10, 64)
		to, err2 := strconv.ParseInt(last, 10, 64)
		if err1 != nil || err2 != nil || from < 1 || to < from {
			return nil, usage("%q is no number of a change and no range such as 3-7; calmdawn "+
				"history lists them", word)
		}
		found := false
		for _, c := range changes {
			if c.ID >= from && c.ID <= to && (!ranged || c.Stands()) {
				named[c.ID], found = true, true
			}
		}
		if !found && ranged {
			return nil, usage("no change of %s is in force; calmdawn history lists them", word)
		} else if !found {
			return nil, usage("there is no change %s; calmdawn history lists them", word)
		}
	}
	ids := slices.Sorted(maps.Keys(named))
	slices.Reverse(ids)
	return ids, nil
}

// inWords names changes as undo takes them.
func inWords(changes []change.Change) string {
	n := len(changes)
	if first, last := changes[0].ID, changes[n-1].ID; n > 2 && last-first == int64(n-1) {
		return fmt.Sprintf("%d-%d", first, last)
	}
	var words []string
	for _, c := range changes {
		words = append(words, strconv.FormatInt(c.ID, 10))
	}
	return strings.Join(words, " ")
}

// takeBack is the plan that takes changes back; left says what is not among
// them and should be.
func (a *app) takeBack(
	d *desk,
	s *render.Screen,
	plans []change.Change,
	u undoing,
	left error,
) plan {
	if len(plans) == 1 && left == nil {
		c := plans[0]
		return plan{changes: plans,
			show: func() {
				s.Say(render.Strong, "Taking change %d back:", c.Undoes)
				a.showTargets(s, c)
				s.Line("It takes effect %s.", effect(c))
			},
			carry: func(d *desk) error {
				c, err := a.carryOut(d, s, c, wish{})
				if err != nil {
					return err
				}
				return a.done(s, c)
			}}
	}
	var all change.Change
	for _, p := range plans {
		all.Targets, all.Edits = append(all.Targets, p.Targets...), append(all.Edits, p.Edits...)
	}
	return plan{changes: plans,
		show: func() {
			var rows [][]render.Cell
			for _, p := range plans {
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
				count(len(plans), "change", "changes"))
			s.Table([]render.Column{
				{Title: "CHANGE", Right: true},
				{Title: "ITEM", Flex: 18},
				{Title: "STATE"},
				{Title: "ID"},
			}, rows)
			s.Line("")
			s.Line("This touches %s. It takes effect %s.", count(len(all.Edits), "path", "paths"),
				effect(all))
		},
		carry: func(d *desk) error {
			if err := a.takeEach(d, s, plans, u); err != nil {
				return err
			}
			s.Line("")
			s.Say(render.Good, "%s taken back. It takes effect %s%s.",
				count(len(plans), "change is", "changes are"), effect(all), restart(all))
			return left
		}}
}

// takeEach takes changes back one after another, each planned anew on what
// those before it left.
func (a *app) takeEach(d *desk, s *render.Screen, plans []change.Change, u undoing) error {
	var made []change.Edit
	defer func() { reloadManager(d.root, s, made) }()
	for i, p := range plans {
		c, err := d.led.PlanUndo(p.Undoes, a.undoing(d, u))
		if err == nil && d.led.Caught() != nil {
			err = fmt.Errorf("%s came in between", d.led.Caught())
		}
		if err == nil {
			c, err = a.carryOut(d, s, c, wish{amid: true})
		}
		if err != nil {
			return fmt.Errorf("change %d is not taken back: %w\n%d of %d were before it, and "+
				"stay so; %s lists them", p.Undoes, err, i, len(plans), a.call("history"))
		}
		made = append(made, c.Edits...)
	}
	return nil
}

// resolve is the plan that closes interrupted changes as the technician
// decides, and takes others back.
func (a *app) resolve(
	d *desk,
	s *render.Screen,
	plans, open []change.Change,
	u undoing,
	left error,
) (plan, error) {
	agreed := slices.Clone(plans)
	for _, c := range open {
		for _, p := range u.leave {
			if !slices.Contains(c.Open(), p) {
				return plan{}, usage("change %d is not open at %s, but at %s", c.ID, p,
					strings.Join(c.Open(), ", "))
			}
		}
		found := change.Change{}
		for _, e := range c.Edits {
			if slices.Contains(c.Open(), e.Path) {
				e.Before, _ = d.root.Node(e.Path, e.Home) // what cannot be read is replaced unread
				found.Edits = append(found.Edits, e)
			}
		}
		agreed = append(agreed, found)
	}
	show := func() {
		for _, c := range open {
			for _, p := range c.Open() {
				does := "stays open"
				if slices.Contains(u.leave, p) {
					does = "is left as it is"
				} else if u.overwrite {
					does = "gets what was there before the change, whatever is there now"
				}
				s.Wrap(2, "Of change %d, %s %s.", c.ID, render.Clean(p), does)
			}
		}
		if len(plans) > 0 {
			s.Line("Besides, %s taken back: %s.", count(len(plans), "change is", "changes are"),
				a.undone(plans))
		}
	}
	return plan{changes: agreed, show: show, carry: func(d *desk) error {
		var edited []change.Edit
		for _, c := range open {
			c, err := d.led.Resolve(c, u.overwrite, u.leave)
			if err != nil {
				return err
			}
			edited = append(edited, c.Edits...)
			if len(c.Open()) > 0 {
				left = errors.Join(left, a.leftOpen([]change.Change{c}))
				continue
			}
			s.Say(render.Good, "Change %d is settled.", c.ID)
		}
		reloadManager(d.root, s, edited)
		if err := a.takeEach(d, s, plans, u); err != nil {
			return err
		}
		if len(plans) > 0 {
			s.Say(render.Good, "%s", count(len(plans), "change is", "changes are")+" taken back.")
		}
		return left
	}}, nil
}

func (a *app) undone(plans []change.Change) string {
	var ids []int64
	for _, p := range plans {
		ids = append(ids, p.Undoes)
	}
	return numbered(ids)
}

// refused says why a change cannot be taken back, and what would do it.
func (a *app) refused(id int64, err error) error {
	if conflict := (*change.Conflict)(nil); errors.As(err, &conflict) {
		return fmt.Errorf("change %d cannot be taken back as it is, and nothing was changed: %w\n"+
			"to put the recorded state back all the same: %s\nto leave that path and take back "+
			"the rest: %s", id, err,
			a.call(fmt.Sprintf("undo %d --overwrite", id)),
			a.call(fmt.Sprintf("undo %d --leave %s", id, shellWord(conflict.Edit.Path))))
	}
	if gone := (*ledger.Unreachable)(nil); errors.As(err, &gone) {
		return fmt.Errorf("change %d cannot be taken back as it is, and nothing was changed: %w\n"+
			"put the folder back, or leave that path and take back the rest: %s", id, err,
			a.call(fmt.Sprintf("undo %d --leave %s", id, shellWord(gone.Path))))
	}
	return a.withWays(err)
}
