package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

func (a *app) driftCommand() *cobra.Command {
	var keep, list, all bool
	cmd := &cobra.Command{
		Use:   "drift [SURVEY [SURVEY]]",
		Short: "Show what has changed since the last survey, and what came on again",
		Long: `Drift holds what the machine launches now against the last survey that was
kept, or against survey SURVEY; or one survey against another. It shows what
is new, gone, switched on or off, altered, and above all what is on again
after we switched it off, and by whom if a package manager wrote it down. What
changes of ours did is told apart.

--keep keeps the present survey for the next time. The exit status is 3 if
anything was found that no change of ours did.`,
		Example: `  calmdawn drift --keep          after the job is done
  calmdawn drift                 on the next visit
  calmdawn drift 1 2             between two surveys
  calmdawn drift --surveys       which surveys there are`,
		Args: func(_ *cobra.Command, args []string) error {
			for _, arg := range args {
				if n, err := strconv.ParseInt(arg, 10, 64); err != nil || n < 1 {
					return usage("%q is no number of a survey; calmdawn drift --surveys lists "+
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
	s := a.screen()
	book, err := casebook.Read(m.Root, m.Casebook)
	var all []casebook.Kept
	if err == nil {
		defer book.Close()
		all, err = book.Surveys()
	}
	if err != nil && !errors.Is(err, casebook.ErrNone) {
		return err
	}
	if len(all) == 0 {
		s.Line("No survey was kept. %s keeps one.", a.call("drift --keep"))
	}
	for _, k := range all {
		s.Line("%4d  %s", k.Number, day(k.TakenAt))
	}
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
		a.showDrift(l, sides, found, missing, all, keep)
	}
	if err == nil && keep {
		err = a.saveSurvey(l)
	}
	if err == nil && others > 0 {
		return &status{exitNo, nil}
	}
	return err
}

func (a *app) showDrift(
	l *visit.Visit,
	sides []visit.Survey,
	found []drift.Difference,
	missing error,
	all, keep bool,
) {
	s := a.screen()
	var rows [][]render.Cell
	ours, folded, again, gone, fresh := 0, 0, 0, false, false
	for _, d := range found {
		switch {
		case d.Ours != 0:
			ours++
			continue
		case d.System && !all && d.Kind != drift.OnAgain:
			folded++
			continue
		case d.Kind == drift.OnAgain:
			again++
		}
		gone, fresh = gone || d.Kind == drift.Gone, fresh || d.Kind == drift.New
		tone := render.Plain
		if d.Kind == drift.OnAgain || d.Kind == drift.New {
			tone = render.Warn
		}
		rows = append(rows, []render.Cell{
			{Text: string(d.Kind), Tone: tone},
			render.C(render.Clean(d.Title)),
			render.C(render.Clean(strings.Trim(d.Detail+"; "+d.By, "; "))),
			render.C(render.Clean(d.ID)),
		})
	}
	since := fmt.Sprintf("since %s, %s", sides[0].Name, day(sides[0].At))
	if sides[1].Name != "now" {
		since = fmt.Sprintf("between %s, %s, and %s, %s", sides[0].Name, day(sides[0].At),
			sides[1].Name, day(sides[1].At))
	}
	answer := fmt.Sprintf("Nothing is different %s.", since)
	if missing != nil {
		since = "from what its changes decided"
		answer = "What its changes decided is as they left it."
	}
	if n := len(rows) + folded; n > 0 {
		answer = fmt.Sprintf("%s different on %s %s.", count(n, "item is", "items are"),
			machineName(l), since)
	}
	s.Say(render.Strong, "%s", answer)
	s.Line("")
	if len(rows) > 0 {
		s.Table([]render.Column{
			{Title: "IT IS"},
			{Title: "ITEM", Flex: 18, Firm: 5},
			{Title: "HOW", Flex: 24, Firm: 5},
			idColumn,
		}, rows)
		s.Line("")
	}
	if folded > 0 {
		s.Line("%s of the operating system besides; --all shows them.",
			count(folded, "part", "parts"))
	}
	if ours > 0 {
		s.Line("%s by its changes, and not listed: %s",
			count(ours, "difference was made", "differences were made"), a.call("history"))
	}
	if missing != nil && !keep {
		s.SayWrapped(0, render.Dim, "%s",
			"What is new or gone cannot be told: "+missing.Error()+".")
	}
	if gone && !sides[1].Whole {
		s.SayWrapped(0, render.Warn, "What is called gone may stand in what was not read.")
	}
	if fresh && !sides[0].Whole && missing == nil {
		s.SayWrapped(0, render.Warn, "What is called new may have stood in what was not read then.")
	}
	a.gaps(s, l.Unread)
	a.unread(s, l.Unread)
	switch {
	case again > 0:
		var ids []string
		for _, d := range found {
			if d.Kind == drift.OnAgain && d.Ours == 0 {
				ids = append(ids, shellWord(d.ID))
			}
		}
		s.Line("Next: switch off what is on again, with %s",
			a.call("disable "+strings.Join(ids, " ")))
	case len(rows) > 0:
		s.Line("Next: look at one of them, with %s; when all is well, %s", a.call("show ITEM"),
			a.call("drift --keep"))
	}
}
