package cli

import (
	"errors"
	"fmt"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
)

// undoing is how changes are to be taken back.
type undoing struct{ yes, all, overwrite bool }

func (a *app) undoCommand() *cobra.Command {
	var u undoing
	cmd := &cobra.Command{
		Use:   "undo CHANGE | --all",
		Short: "Take a change back, exactly",
		Long: `Undo restores every path that a change touched: bytes, link, mode, owner, modification time
and extended attributes. Changes can be taken back in any order. A path that somebody else
changed since is shown and left alone, and nothing of that change is undone then.

It works on the running machine and, with --root, on the disk of one that no longer starts.`,
		Example: `  calmdawn undo 3
  calmdawn undo --all
  calmdawn --root /mnt undo --all --yes`,
		Args: func(cmd *cobra.Command, args []string) error {
			if u.all == (len(args) > 0) || len(args) > 1 {
				return usage("undo takes the number of one change, or --all; calmdawn history lists them")
			}
			return nil
		},
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(_ *cobra.Command, args []string) error {
			number := int64(0)
			if !u.all {
				n, err := strconv.ParseInt(args[0], 10, 64)
				if err != nil || n < 1 {
					return usage("%q is no number of a change; calmdawn history lists them", args[0])
				}
				number = n
			}
			return a.undo(number, u)
		},
	}
	cmd.Flags().BoolVarP(&u.yes, "yes", "y", false, "do it without asking")
	cmd.Flags().BoolVar(&u.overwrite, "overwrite", false, "put a path back although somebody else changed it since")
	cmd.Flags().BoolVar(&u.all, "all", false, "take back every change in force, the newest first")
	return cmd
}

// undo takes one change back, or all that stand for number 0.
func (a *app) undo(number int64, u undoing) error {
	r, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer r.Close()
	var ids []int64
	for _, c := range slices.Backward(changes) {
		if number == 0 && c.Stands() || c.ID == number {
			ids = append(ids, c.ID)
		}
	}
	s := a.screen()
	switch {
	case number == 0 && len(ids) == 0:
		s.Line("Nothing to do: no change is in force.")
		return nil
	case len(ids) == 0:
		return usage("there is no change %d; calmdawn history lists them", number)
	case a.json && number == 0:
		return usage("undo --all prints text; with --json take changes back one at a time")
	}
	for _, id := range ids {
		if err := a.undoOne(r, s, id, u); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) undoOne(r *machine.Root, s *render.Screen, id int64, u undoing) error {
	plan, err := a.previewUndo(r, id, u.overwrite)
	var conflict *change.Conflict
	if errors.As(err, &conflict) {
		return fmt.Errorf("change %d cannot be taken back as it is, and nothing was changed: %w\nto put the recorded state back all the same: %s", id, err, a.call(fmt.Sprintf("undo %d --overwrite", id)))
	}
	if err != nil {
		return err
	}
	s.Line("%s", s.Paint(render.Strong, fmt.Sprintf("Taking change %d back:", id)))
	a.showTargets(s, plan)
	return a.carryOut(r, s, plan, wish{yes: u.yes, overwrite: u.overwrite})
}

// previewUndo works out what an undo would do, from a casebook opened for reading.
func (a *app) previewUndo(r *machine.Root, id int64, overwrite bool) (change.Change, error) {
	book, err := casebook.Read(r, a.casebook)
	if err != nil {
		return change.Change{}, err
	}
	defer book.Close()
	return ledger.Preview(r, book, id, a.now(), whoami(), overwrite)
}
