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
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// undoing is how changes are to be taken back.
type undoing struct {
	visit.Undoing
	yes bool
}

func (a *app) undoCommand() *cobra.Command {
	var u undoing
	cmd := &cobra.Command{
		Use:   "undo CHANGE... | --all",
		Short: "Take changes back, exactly",
		Long: `Undo restores every path that a change touched: bytes, link, mode, owner,
modification time and extended attributes. Changes can be taken back in any
order, several at once by their numbers or as a range, which takes those that
are in force. If somebody else changed a path since, it is named and nothing
is undone. --overwrite puts it back all the same. --leave takes the rest back
and leaves that path as it is.

A change that was interrupted, by a power cut or a kill, is settled by the
next call that changes something, this one too. Where a path of it cannot be,
the same two flags close it.

Where Windows was not shut down, its registry is brought to its newest state
before the first change. That is a change of its own (recover). It is taken
back last, once nothing else stands in it; what Windows wrote since stays.

It works on the running machine and, with --root, on the disk of one that no
longer starts.`,
		Example: `  calmdawn undo last
  calmdawn undo 3
  calmdawn undo 5 8-12
  calmdawn undo 4 --leave /etc/cron.d/mast
  calmdawn undo --all
  calmdawn --root /mnt undo --all --yes`,
		Args: func(cmd *cobra.Command, args []string) error {
			if u.All == (len(args) > 0) {
				return usage("undo takes the numbers of changes, or --all; calmdawn history " +
					"lists them")
			}
			if len(u.Leave) > 0 && (u.All || len(args) > 1 || strings.Contains(args[0], "-")) {
				return usage("--leave goes with the number of one change")
			}
			return nil
		},
		ValidArgsFunction: a.completeChanges("", change.Change.Stands, "last"),
		RunE:              func(_ *cobra.Command, args []string) error { return a.undo(args, u) },
	}
	cmd.Flags().BoolVarP(&u.yes, "yes", "y", false, "do it without asking")
	cmd.Flags().BoolVar(&u.Overwrite, "overwrite", false, "put a path back although somebody "+
		"else changed it since")
	cmd.Flags().StringArrayVar(&u.Leave, "leave", nil, "leave this `PATH` of the change as it "+
		"is, and take back the rest")
	cmd.Flags().BoolVar(&u.All, "all", false, "take back every change in force but the "+
		"recorder's, the newest first")
	return cmd
}

// undo takes the changes back that words name.
func (a *app) undo(words []string, u undoing) error {
	if u.All {
		words = []string{fmt.Sprintf("1-%d", int64(math.MaxInt64))}
	}
	a.closing = true
	return a.alter(u.yes, func(d *visit.Session) (action, error) {
		if d.Ledger.Blind() {
			return action{}, d.Barred
		}
		ids, err := changeNumbers(d.Ledger.Changes(), words)
		if u.All { // the recorder is no decision about an item, and goes by its own command
			recorder := recorderChanges(d.Ledger.Changes())
			ids = slices.DeleteFunc(ids, func(id int64) bool { return recorder[id] })
			if len(recorder) > 0 {
				a.once("The boot recorder stays; to take it away: " + a.call("recorder off"))
			}
			err = nil // none in force is no mistake
		}
		if err != nil {
			return action{}, err
		}
		return a.planUndo(d, ids, u)
	})
}

// recorderChanges are the numbers of the changes in force that put the recorder
// in.
func recorderChanges(changes []change.Change) map[int64]bool {
	found := map[int64]bool{}
	for _, c := range changes {
		if c.Verb == change.Record && c.Stands() {
			found[c.ID] = true
		}
	}
	return found
}

// planUndo works out how the changes of the given numbers are taken back, the
// newest first.
func (a *app) planUndo(d *visit.Session, ids []int64, u undoing) (action, error) {
	s := a.screen()
	undo, err := d.PlanUndo(ids, u.Undoing)
	closes := u.Overwrite || len(u.Leave) > 0
	switch {
	case err != nil:
		return action{}, a.calls().Refused(err)
	case d.Barred != nil && len(undo.Open) > 0:
		return action{}, d.Barred
	}
	var left error
	for _, err := range undo.Left {
		left = errors.Join(left, a.calls().Refused(err))
	}
	if len(undo.Open) > 0 && closes {
		return a.resolve(d, s, undo, u, left), nil
	}
	left = errors.Join(left, a.calls().LeftOpen(undo.Open))
	for _, stays := range undo.Stays {
		a.once(say.Stays(stays))
	}
	switch {
	case len(undo.Plans) > 0:
		return a.takeBack(s, d.Root, undo.Plans, u, left), nil
	case left != nil:
		return action{}, left
	}
	return action{nothing: func() error {
		if len(ids) > 0 && len(undo.Stays) == 0 {
			s.Line("Nothing more to do.")
		} else if len(ids) > 0 {
			s.Line("Nothing to do.")
		} else {
			s.Line("Nothing to do: no change is in force.")
		}
		return nil
	}}, nil
}

// changeNumbers are the changes that words name by number, as a range of those
// in force, or as the last that is; the newest first.
func changeNumbers(changes []change.Change, words []string) ([]int64, error) {
	named := map[int64]bool{}
	for _, word := range words {
		if word == "last" {
			i := len(changes) - 1
			for i >= 0 && !changes[i].Stands() {
				i--
			}
			if i < 0 {
				return nil, usage("no change is in force; calmdawn history lists them")
			}
			word = fmt.Sprint(changes[i].ID)
		}
		first, last, ranged := strings.Cut(word, "-")
		if !ranged {
			last = first
		}
		from, err1 := strconv.ParseInt(first, 10, 64)
		to, err2 := strconv.ParseInt(last, 10, 64)
		if err1 != nil || err2 != nil || from < 1 || to < from {
			return nil, usage("%q is not the number of a change, a range such as 3-7, or last; "+
				"calmdawn history lists them", word)
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

// takeBack is the plan that takes changes back; left says what is not among
// them and should be.
func (a *app) takeBack(
	s say.Page,
	r *machine.Root,
	plans []change.Change,
	u undoing,
	left error,
) action {
	if len(plans) == 1 && left == nil {
		c := plans[0]
		return action{changes: plans,
			show: func() {
				say.ShowTakingBack(s, r, plans)
				if !u.yes { // this is told when it is done
					s.Line("It takes effect %s.", say.Effect(c))
				}
			},
			carry: func(d *visit.Session) error {
				c, err := a.carryOut(d, s, c, nil)
				if part := (*ledger.Beyond)(nil); errors.As(err, &part) {
					a.tellManager(d, s, c.Edits)
				}
				if err != nil {
					return a.calls().Partly(err)
				}
				a.tellManager(d, s, c.Edits)
				return a.done(s, c)
			}}
	}
	var all change.Change
	for _, p := range plans {
		all.Targets, all.Edits = append(all.Targets, p.Targets...), append(all.Edits, p.Edits...)
	}
	return action{changes: plans,
		show: func() {
			say.ShowTakingBack(s, r, plans)
			if !u.yes {
				s.Line("It takes effect %s.", say.Effect(all))
			}
		},
		carry: func(d *visit.Session) error {
			if _, err := a.takeEach(d, s, plans, u); err != nil {
				return err
			}
			s.Line("")
			s.Say(render.Good, "%s taken back. It takes effect %s%s.",
				say.Count(len(plans), "change is", "changes are"), say.Effect(all),
				say.Restart(all))
			return left
		}}
}

// takeEach takes changes back one after another, and returns the undos.
func (a *app) takeEach(
	d *visit.Session,
	s say.Page,
	plans []change.Change,
	u undoing,
) ([]change.Change, error) {
	done, err := d.TakeBack(plans, u.Undoing)
	var made []change.Edit
	for _, c := range done {
		made = append(made, c.Edits...)
	}
	a.tellManager(d, s, made)
	if not := (*visit.NotUndone)(nil); errors.As(err, &not) {
		return done, fmt.Errorf("change %d is not taken back: %w\n%d of %d were before it, and "+
			"stay so; %s lists them", not.Change, a.calls().WithWays(not.Why), len(done),
			len(plans), a.call("history"))
	}
	return done, a.calls().Partly(err)
}

// resolve is the plan that closes interrupted changes as the technician
// decides, and takes others back.
func (a *app) resolve(
	d *visit.Session,
	s say.Page,
	undo visit.Undo,
	u undoing,
	left error,
) action {
	plans, open := undo.Plans, undo.Open
	agreed := append(slices.Clone(plans), d.Closing(open)...)
	show := func() {
		say.ShowResolving(s, open, plans, u.Undoing)
	}
	return action{changes: agreed, show: show, carry: func(d *visit.Session) error {
		var edited []change.Edit
		for _, c := range open {
			c, err := d.Ledger.Resolve(c, u.Overwrite, u.Leave)
			if err != nil {
				return err
			}
			edited = append(edited, c.Edits...)
			if len(c.Open()) > 0 {
				left = errors.Join(left, a.calls().LeftOpen([]change.Change{c}))
				continue
			}
			s.Say(render.Good, "Change %d is settled.", c.ID)
		}
		a.tellManager(d, s, edited)
		if _, err := a.takeEach(d, s, plans, u); err != nil {
			return err
		}
		if len(plans) > 0 {
			s.Say(render.Good, "%s taken back.",
				say.Count(len(plans), "change is", "changes are"))
		}
		return left
	}}
}
