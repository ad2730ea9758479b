package cli

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
)

func (a *app) trialCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "trial",
		Short: "Show which changes are on trial, and keep them or take them back",
		Long: `A change that was made with --trial is on trial until a day. Nothing happens
by itself then: calmdawn alone, and trial, say that it is due, and you keep it
or take it back. The day counts where you are; a clock that is before the
change was made is said, and no trial is judged by it.`,
		Example: `  calmdawn disable service:cue-update.service --trial 14d
  calmdawn trial
  calmdawn trial keep 3
  calmdawn trial keep all
  calmdawn trial return 3
  calmdawn trial until 2026-12-24 3`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.trials() },
	}
	onTrial := func(c change.Change) bool {
		state, _ := c.TrialAt(a.now())
		return goesOn(state)
	}
	sub := func(use, short string, least int, run func([]string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short,
			ValidArgsFunction: a.completeChanges("", onTrial, "all"),
			Args: func(_ *cobra.Command, args []string) error {
				if len(args) < least {
					return usage("something is missing: it is calmdawn trial %s, with the "+
						"numbers that calmdawn trial shows", use)
				}
				return nil
			},
			RunE: func(_ *cobra.Command, args []string) error { return run(args) }}
	}
	yes := false
	back := sub("return CHANGE...", "Take changes on trial back", 1, func(args []string) error {
		m, changes, err := a.openChanges()
		if err != nil {
			return err
		}
		m.Close()
		if args, err = a.onTrialIfAll(changes, args); err != nil {
			return err
		}
		return a.undo(args, undoing{yes: yes})
	})
	back.Flags().BoolVarP(&yes, "yes", "y", false, "do it without asking")
	cmd.AddCommand(
		sub("keep CHANGE...", "Confirm changes: they stay", 1, func(args []string) error {
			return a.setTerms(args, func(t *change.Terms) {
				t.Kept = a.now().Format(time.DateOnly)
			}, "stays")
		}),
		back,
		sub(
			"until DAY CHANGE...",
			"Let a trial last until another day, or begin one",
			2,
			func(args []string) error {
				until, err := change.ParseTrial(args[0], a.now())
				if err != nil {
					return usage("%w", err)
				}
				return a.setTerms(args[1:], func(t *change.Terms) {
					t.Until, t.Kept = until, ""
				}, "is on trial until "+date(until))
			},
		),
	)
	return cmd
}

func goesOn(t change.Trial) bool {
	return t == change.OnTrial || t == change.Due || t == change.ClockOff
}

// onTrialIfAll are the numbers of the changes whose trial goes on, for "all";
// other words as they are.
func (a *app) onTrialIfAll(changes []change.Change, words []string) ([]string, error) {
	if !slices.Equal(words, []string{"all"}) {
		return words, nil
	}
	words = nil
	for _, c := range changes {
		if state, _ := c.TrialAt(a.now()); goesOn(state) {
			words = append(words, fmt.Sprint(c.ID))
		}
	}
	if len(words) == 0 {
		return nil, usage("no change is on trial")
	}
	return words, nil
}

// setTerms changes the terms of the changes that words name, if all of them are
// in force and on trial then.
func (a *app) setTerms(words []string, set func(*change.Terms), says string) error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	if words, err = a.onTrialIfAll(changes, words); err != nil {
		return err
	}
	ids, err := changeNumbers(changes, words)
	if err != nil {
		return err
	}
	for _, c := range changes {
		if !slices.Contains(ids, c.ID) {
			continue
		}
		if !c.Stands() {
			return usage("change %d is not in force (%s)", c.ID, fate(c))
		}
		if set(&c.Terms); c.Terms.Until == "" {
			return usage("change %d is not on trial", c.ID)
		}
	}
	book, err := m.Write()
	if err != nil {
		return err
	}
	defer book.Close()
	if err := book.UpdateTerms(ids, set); err != nil {
		return err
	}
	for _, id := range slices.Backward(ids) {
		a.screen().Line("Change %d %s.", id, says)
	}
	return nil
}

// onTrial are the changes that have a trial, and how many of them are due.
func (a *app) onTrial(changes []change.Change) (all []change.Change, due, off int) {
	for _, c := range changes {
		switch state, _ := c.TrialAt(a.now()); state {
		case change.NoTrial:
			continue
		case change.Due:
			due++
		case change.ClockOff:
			off++
		}
		all = append(all, c)
	}
	return all, due, off
}

func (a *app) trials() error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	all, due, off := a.onTrial(changes)
	if a.json {
		return a.writeJSON(document.NewTrials(all, a.now()))
	}
	s := a.screen()
	if len(all) == 0 {
		s.Line("No change is on trial.")
		s.Line("Next: put one on trial, with %s", a.call("trial until 14d CHANGE"))
		return nil
	}
	answer := "None is due."
	if due > 0 {
		answer = count(due, "change is due: keep it, or take it back.", "changes are due: keep "+
			"them, or take them back.")
	}
	s.Say(render.Strong, "%s", answer)
	if off > 0 {
		s.Say(render.Warn, "This computer's clock is before these changes were made; set it "+
			"right, then ask again.")
	}
	s.Line("")
	var rows [][]render.Cell
	for _, c := range all {
		rows = append(rows, []render.Cell{
			render.C(fmt.Sprint(c.ID)), render.C(what(c)), render.C(day(c.MadeAt)),
			render.C(date(c.Terms.Until)), a.trialCell(c),
		})
	}
	s.Table([]render.Column{
		{Title: "NO", Right: true},
		{Title: "WHAT", Flex: 20},
		{Title: "MADE", Keep: 1},
		{Title: "UNTIL", Keep: 2},
		{Title: "NOW"},
	}, rows)
	for _, c := range all {
		if state, _ := c.TrialAt(a.now()); state == change.Due || state == change.OnTrial {
			s.Line("")
			s.Line("Next: %s, or %s", a.call(fmt.Sprintf("trial keep %d", c.ID)),
				a.call(fmt.Sprintf("trial return %d", c.ID)))
			break
		}
	}
	return nil
}

func (a *app) trialCell(c change.Change) render.Cell {
	switch state, days := c.TrialAt(a.now()); state {
	case change.Due:
		return render.Cell{Text: "overdue by " + count(-days, "day", "days"), Tone: render.Warn}
	case change.OnTrial:
		if days == 0 {
			return render.C("on trial, today is the last day")
		}
		return render.C("on trial, " + count(days, "day", "days") + " left")
	case change.Confirmed:
		return render.Cell{Text: "kept on " + date(c.Terms.Kept), Tone: render.Dim}
	default:
		return render.Cell{Text: string(state), Tone: render.Dim}
	}
}
