package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// A filter is the flags of every command that takes items by what they are.
type filter struct{ visit.Filter }

var filterHelp = map[string]string{
	"kind":   "only this `KIND`: program, service, task",
	"state":  "only this `STATE`: on, off, delayed, broken",
	"when":   "only what starts at this `MOMENT`: boot, login, later",
	"owner":  "only items of this `USER`",
	"maker":  "only items whose maker's name contains `TEXT`",
	"role":   "only items with this `ROLE`, such as update or sound",
	"advice": "only this `ADVICE`: keep, can wait, can go, look it up, clean up",
}

func (f *filter) flags(a *app, cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&f.All, "all", false, "show the operating system's own parts too")
	for _, c := range f.Choices() {
		flags.StringSliceVar(c.Values, c.Name, nil, filterHelp[c.Name])
	}
}

// A listing is how a list is to be shown.
type listing struct {
	filter
	each  bool // with a row for each item
	csv   bool
	save  bool
	now   bool // with what runs at this moment
	sort  string
	group string
	grade []string // one of them suffices; none: any
}

// grades are what --grade takes.
var grades = []string{
	string(forecast.Heavy), string(forecast.Moderate), string(forecast.Light),
	string(forecast.Unknown),
}

func (a *app) listCommand() *cobra.Command {
	var f listing
	cmd := &cobra.Command{
		Use:   "list [TEXT...]",
		Short: "Show what the machine launches by itself at boot and login",
		Long: `List shows everything that the machine launches by itself, the costliest first.
The operating system's own parts are folded into one line. At a terminal its
rows have numbers, which other commands take: show 3, disable 1 4-6. Items of
one package that cost nothing share a row, whose number means all of them.

What it holds of each kind of machine, and what is not looked at: calmdawn help
scope. What the columns mean: calmdawn help costs, calmdawn help states.`,
		Example: `  calmdawn list
  calmdawn list cue                      what has "cue" in its name, maker or command
  calmdawn list --advice "can go,can wait" --when boot
  calmdawn list --group maker            by maker
  calmdawn list --sort cpu-now           the busiest now (running machine)
  calmdawn list --all --csv > items.csv  for a spreadsheet`,
		Args: func(_ *cobra.Command, args []string) error {
			f.Words = args
			return nil
		},
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			if err := f.Check(); err != nil {
				return err
			}
			if err := f.checkOrder(); err != nil {
				return err
			}
			for _, g := range f.grade {
				if !slices.Contains(grades, g) {
					return usage("--grade takes %s, not %q", strings.Join(grades, ", "), g)
				}
			}
			if f.csv && a.json {
				return usage("--csv and --json are two forms; choose one")
			}
			l, err := a.lookAtBoots()
			if err != nil {
				return err
			}
			defer l.Close()
			if f.now {
				if err := l.ReadPresent(); err != nil {
					return err
				}
			}
			if f.save {
				if err := a.saveSurvey(l); err != nil {
					return err
				}
			}
			return a.list(l, f)
		},
	}
	f.flags(a, cmd)
	cmd.Flags().StringSliceVar(&f.grade, "grade", nil, "only what costs so much, a `GRADE`: "+
		"heavy, moderate, light, unknown")
	cmd.Flags().BoolVar(&f.each, "each", false, "show a row for each item, also of one package")
	cmd.Flags().BoolVar(&f.csv, "csv", false, "print comma-separated values, safe to open in a "+
		"spreadsheet")
	cmd.Flags().BoolVar(&f.save, "save", false, "keep this survey in the casebook, with its date")
	cmd.Flags().BoolVar(&f.now, "now", false, "show what each item uses of processors and memory "+
		"at this moment (running machine)")
	cmd.Flags().StringVar(&f.sort, "sort", "cost", "sort by `COLUMN`: cost, title, wait, cpu, "+
		"cpu-now, …")
	cmd.Flags().StringVar(&f.group, "group", "", "put items together by `WHAT`: maker, role, "+
		"advice, owner, …")
	return cmd
}

// saveSurvey keeps the whole survey in the casebook.
func (a *app) saveSurvey(l *visit.Visit) error {
	all := document.NewList(l.Survey, l.Items, 0, l.Changes, factsOf(l))
	n, where, err := l.Keep(all)
	if err == nil {
		fmt.Fprintf(a.Err, "Kept as survey %d in %s.\n", n, where)
	}
	return err
}

func noWords(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no word %q\n%s --help explains it", cmd.CommandPath(), args[0],
			cmd.CommandPath())
	}
	return nil
}

func (a *app) list(l *visit.Visit, f listing) error {
	var shown, folded, roots []item.Item
	aside := 0
	for _, it := range l.Items {
		switch {
		case !f.Accepts(it) || !f.graded(l, it):
		case (it.System || it.Ours) && !f.All:
			folded = append(folded, it)
		case it.Aside && !f.All:
			aside++
		case it.AdminToo && !f.All && len(f.Owner) == 0:
			roots = append(roots, it)
		default:
			shown = append(shown, it)
		}
	}
	l.SortByCost(shown)
	for _, by := range []string{f.sort, f.group} {
		if order, ok := say.Orders[by]; ok {
			visit.SortBy(shown, func(it item.Item) visit.Key { return order(l, it) })
		}
	}
	rest := len(folded) + len(roots) + aside
	none := error(nil)
	if len(shown)+rest == 0 && len(l.Items) > 0 {
		none = &status{exitNo, nil}
	}
	switch {
	case a.json:
		return errors.Join(a.writeJSON(document.NewList(l.Survey, shown, rest, l.Changes,
			factsOf(l))), none)
	case f.csv:
		return errors.Join(a.writeCSV(say.ItemsCSV(l, shown)), none)
	case none != nil:
		if words := f.asFlags(); words != "" {
			return usage("no item of %s has that in its name, maker or command; %s shows what is "+
				"so", say.MachineName(l), a.call("list "+words))
		}
	}
	rows := visit.Rows(shown)
	if !f.each && !f.All && !f.now && len(f.Words) == 0 {
		rows = l.Gather(shown)
	}
	numbered := a.keepList(l, rows)
	say.ShowList(a.screen(), l, say.Listing{
		Shown: rows, Folded: folded, AdminToo: roots, Aside: aside, Filter: f.Filter,
		Group: f.group, Now: f.now, Numbered: numbered, Grades: f.grade,
	})
	return none
}

// graded reports whether an item costs as much as is asked for.
func (f listing) graded(l *visit.Visit, it item.Item) bool {
	return len(f.grade) == 0 || it.State.Launched() &&
		slices.Contains(f.grade, string(cmp.Or(l.Cost(it).Grade, forecast.Unknown)))
}

// asFlags are words as flags, if each of them is what one takes: "broken" as
// "--state broken"; empty otherwise.
func (f listing) asFlags() string {
	var flags []string
	choices := append(f.Choices(), visit.Choice{Name: "grade", Allowed: grades})
	for _, w := range f.Words {
		w = visit.Spaced(strings.ToLower(w))
		i := slices.IndexFunc(choices, func(c visit.Choice) bool {
			return slices.Contains(c.Allowed, w)
		})
		if i < 0 {
			return ""
		}
		flags = append(flags, "--"+choices[i].Name+" "+strings.ReplaceAll(w, " ", "-"))
	}
	return strings.Join(flags, " ")
}

// factsOf tells what is known of items besides the survey.
func factsOf(l *visit.Visit) func(item.Item) document.Facts {
	return func(it item.Item) document.Facts {
		f := document.Facts{Cost: l.Cost(it)}
		f.Own, _ = l.OwnTime(it)
		f.Present, f.Running = l.Present(it)
		if other, ok := l.WorkOf(it); ok {
			f.WorkOf = other.Native
		}
		if j, ok := l.Joint(it); ok {
			f.Joint = &document.Joint{Seconds: j.Gain.Seconds(), With: []string{}}
			for _, other := range j.With {
				f.Joint.With = append(f.Joint.With, other.ID)
			}
		}
		return f
	}
}
