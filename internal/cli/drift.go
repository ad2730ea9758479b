package cli

import (
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

func (a *app) driftCommand() *cobra.Command {
	var keep, list, all bool
	cmd := &cobra.Command{
		Use:   "drift [SURVEY [SURVEY]]",
		Short: "Show what has changed since the last survey, and what came on again",
		Long: `Drift holds what the machine launches now against the last survey that was
kept, or against survey SURVEY; or one survey against another. It shows what
is new, gone, switched on or off, or altered. Above all it shows what is on
again after we switched it off, and by whom, if a package manager wrote it
down. What changes of ours did is told apart.

Each change keeps a survey of what it left, in the place of the one that the
change before it left on the same day. --keep keeps one besides. The exit
status is 3 if anything was found that no change of ours did.`,
		Example: `  calmdawn drift --keep          after the job is done
  calmdawn drift                 on the next visit
  calmdawn drift 1 2             between two surveys
  calmdawn drift --surveys       which surveys there are`,
		Args: func(_ *cobra.Command, args []string) error {
			for _, arg := range args {
				if n, err := strconv.ParseInt(arg, 10, 64); err != nil || n < 1 {
					return usage("%q is not the number of a survey; calmdawn drift --surveys "+
						"lists "+
						"them", arg)
				}
			}
			if len(args) > 2 {
				return usage("drift compares two surveys, and %q is a third", args[2])
			}
			return nil
		},
		ValidArgsFunction: a.completeSurveys,
		RunE: func(_ *cobra.Command, args []string) error {
			if list && a.json {
				return usage("drift --surveys prints no document; drift --json does")
			}
			if list {
				return a.surveys()
			}
			return a.drift(args, keep, all)
		},
	}
	cmd.Flags().BoolVar(&keep, "keep", false, "keep the present survey to compare with next time")
	cmd.Flags().BoolVar(&list, "surveys", false, "list the surveys that were kept")
	cmd.Flags().BoolVar(&all, "all", false, "show parts of the operating system one by one too")
	return cmd
}

// surveys lists what was kept.
func (a *app) surveys() error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	book, err := casebook.Read(m.Root, m.Casebook)
	var all []casebook.Kept
	if err == nil {
		defer book.Close()
		all, err = book.Surveys()
	}
	if err != nil && !errors.Is(err, casebook.ErrNone) {
		return err
	}
	say.ShowSurveys(a.screen(), all)
	return nil
}

func (a *app) drift(args []string, keep, all bool) error {
	l, err := a.look()
	if err != nil {
		return err
	}
	defer l.Close()
	var sides []visit.Survey
	var missing error
	for _, arg := range append(args, "0")[:max(1, len(args))] {
		n, _ := strconv.ParseInt(arg, 10, 64)
		side, err := l.Kept(n)
		if errors.Is(err, visit.ErrNoSurvey) {
			err = fmt.Errorf("%w; %s keeps one", err, a.call("drift --keep"))
		}
		if err != nil {
			if n != 0 {
				return err
			}
			missing = err
		}
		sides = append(sides, side)
	}
	if len(sides) == 1 {
		now := l.PresentSurvey()
		if missing != nil { // only what changes of ours decided can be told
			sides[0] = visit.Survey{Items: now.Items, At: now.At, Name: "nothing"}
		}
		sides = append(sides, now)
	}
	found := l.Drift(sides[0], sides[1])
	others := 0
	for _, d := range found {
		if d.Ours == 0 {
			others++
		}
	}
	if a.json {
		err = a.writeJSON(document.NewDrift(sides[0].At, sides[1].At, found))
	} else {
		say.ShowDrift(a.screen(), l, say.Drift{
			Old: sides[0], New: sides[1], Found: found, Missing: missing, All: all, Keep: keep,
		})
	}
	if err == nil && keep {
		err = a.saveSurvey(l)
	}
	if err == nil && others > 0 {
		return &status{exitNo, nil}
	}
	return err
}
