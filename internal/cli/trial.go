package cli

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
)

func (a *app) trialCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "trial",
		Short: "Show which changes are on trial, and keep them or take them back",
		Long: `A change that was made with --trial is on trial until a day. Nothing happens
by itself then: calmdawn alone, and trial, say that it is due, and you keep it
or take it back. Days are in your time zone. If the clock is earlier than
the change, that is reported and no trial is called due.`,
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
				}, "is on trial until "+say.Date(until))
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
			return usage("change %d is not in force (%s)", c.ID, say.Fate(c))
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

func (a *app) trials() error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	all, due, off := say.OnTrial(changes, a.now())
	if a.json {
		return a.writeJSON(document.NewTrials(all, a.now()))
	}
	say.ShowTrials(a.screen(), all, due, off, a.now())
	return nil
}
