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
		Use:   "undo CHANGE... | --all",
		Short: "Take changes back, exactly",
		Long: `Undo restores every path that a change touched: bytes, link, mode, owner, modification time
and extended attributes. Changes can be taken back in any order, several at once by their
numbers or as a range, which takes those that are in force. A path that somebody else changed
since is shown and left alone, and nothing at all is undone then.

It works on the running machine and, with --root, on the disk of one that no longer starts.`,
		Example: `  calmdawn undo 3
  calmdawn undo 5 8-12
  calmdawn undo --all
  calmdawn --root /mnt undo --all --yes`,
		Args: func(cmd *cobra.Command, args []string) error {
			if u.all == (len(args) > 0) {
				return usage("undo takes the numbers of changes, or --all; calmdawn history lists them")
			}
			return nil
		},
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(_ *cobra.Command, args []string) error { return a.undo(args, u) },
	}
	cmd.Flags().BoolVarP(&u.yes, "yes", "y", false, "do it without asking")
	cmd.Flags().BoolVar(&u.overwrite, "overwrite", false, "put a path back although somebody else changed it since")
	cmd.Flags().BoolVar(&u.all, "all", false, "take back every change in force, the newest first")
	return cmd
}

// undo takes the changes back that words name.
func (a *app) undo(words []string, u undoing) error {
	r, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer r.Close()
	if u.all {
		words = []string{fmt.Sprintf("1-%d", int64(math.MaxInt64))}
	}
	ids, err := changeNumbers(changes, words)
	switch s := a.screen(); {
	case u.all && len(ids) == 0:
		s.Line("Nothing to do: no change is in force.")
		return nil
	case err != nil:
		return err
	case len(ids) == 1:
		return a.undoOne(r, s, ids[0], u)
	case a.json:
		return usage("undo of several changes prints text; with --json take them back one at a time")
	default:
		return a.undoAll(r, s, ids, u)
	}
}

// changeNumbers are the changes that words name by number, or as a range of those in force; the newest first.
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
			return nil, usage("%q is no number of a change and no range such as 3-7; calmdawn history lists them", word)
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

// undoAll takes several changes back, if each of them can be.
func (a *app) undoAll(r *machine.Root, s *render.Screen, ids []int64, u undoing) error {
	var rows [][]render.Cell
	var plans []change.Change
	var all change.Change
	for _, id := range ids {
		plan, err := a.previewUndo(r, id, u.overwrite)
		if err != nil {
			return a.refused(id, err)
		}
		if err := writable(r, plan); err != nil {
			return err
		}
		for _, t := range plan.Targets {
			rows = append(rows, []render.Cell{render.C(strconv.FormatInt(id, 10)), render.C(render.Clean(t.Title)), render.C(fmt.Sprintf("%s → %s", t.Before, t.After)), render.C(render.Clean(t.ID))})
		}
		plans, all.Targets, all.Edits = append(plans, plan), append(all.Targets, plan.Targets...), append(all.Edits, plan.Edits...)
	}
	s.Line("%s", s.Paint(render.Strong, fmt.Sprintf("Taking %d changes back, the newest first:", len(ids))))
	s.Table([]render.Column{{Title: "CHANGE", Right: true}, {Title: "ITEM", Flex: 18}, {Title: "STATE"}, {Title: "ID"}}, rows)
	s.Line("")
	s.Line("This touches %s. It takes effect %s.", count(len(all.Edits), "path", "paths"), effect(all))
	if err := a.confirm(s, u.yes); err != nil {
		return err
	}
	var made []change.Edit
	defer func() { reloadManager(r, s, made) }()
	for i, plan := range plans {
		c, err := a.makeChange(r, s, plan, wish{overwrite: u.overwrite, amid: true})
		if err != nil {
			return fmt.Errorf("change %d is not taken back: %w\n%d of %d were before it, and stay so; %s lists them", plan.Undoes, err, i, len(plans), a.call("history"))
		}
		made = append(made, c.Edits...)
	}
	s.Line("")
	s.Line("%s", s.Paint(render.Good, fmt.Sprintf("%d changes are taken back. It takes effect %s%s.", len(plans), effect(all), restart(all))))
	return nil
}

// refused says why a change cannot be taken back, and what would do it.
func (a *app) refused(id int64, err error) error {
	if conflict := (*change.Conflict)(nil); errors.As(err, &conflict) {
		return fmt.Errorf("change %d cannot be taken back as it is, and nothing was changed: %w\nto put the recorded state back all the same: %s", id, err, a.call(fmt.Sprintf("undo %d --overwrite", id)))
	}
	return err
}

func (a *app) undoOne(r *machine.Root, s *render.Screen, id int64, u undoing) error {
	plan, err := a.previewUndo(r, id, u.overwrite)
	if err != nil {
		return a.refused(id, err)
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
