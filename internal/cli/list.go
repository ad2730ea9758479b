package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
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
	csv   bool
	save  bool
	now   bool // with what runs at this moment
	sort  string
	group string
}

func (a *app) listCommand() *cobra.Command {
	var f listing
	cmd := &cobra.Command{
		Use:   "list [TEXT...]",
		Short: "Show what the machine launches by itself at boot and login",
		Long: `List shows everything that the machine launches by itself, the costliest first.
The operating system's own parts are folded into one line. At a terminal its
rows have numbers, which other commands take: show 3, disable 1 4-6.

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
		case !f.Accepts(it):
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
		if order, ok := orders[by]; ok {
			visit.SortBy(shown, func(it item.Item) visit.Key { return order(l, it) })
		}
	}
	switch {
	case a.json:
		rest := len(folded) + len(roots) + aside
		return a.writeJSON(document.NewList(l.Survey, shown, rest, l.Changes, factsOf(l)))
	case f.csv:
		return writeCSV(a, itemColumns(l), shown)
	}
	s := a.screen()
	s.Say(render.Strong, "%s", headline(l, f.filter))
	if !f.Chooses() {
		s.Wrap(0, "%s", outlook(l))
	}
	a.gaps(s, l.Unread)
	if len(shown) > 0 {
		s.Line("")
		a.table(s, l, f, shown)
	} else {
		a.keepList(l, nil)
	}
	s.Line("")
	if len(folded) > 0 {
		s.Line("%s of the operating system itself (%s): %s",
			count(len(folded), "more is a part", "more are parts"), states(folded),
			a.call("list --all"))
	}
	if aside > 0 {
		s.Line("Besides %s, which are not switched: %s",
			count(aside, "driver or the like", "drivers and the like"),
			a.call("list --all"))
	}
	mayWait := slices.DeleteFunc(slices.Clone(folded), func(it item.Item) bool {
		return it.Advice != item.CanGo && it.Advice != item.CanWait
	})
	l.Rate(mayWait)
	mayWait = slices.DeleteFunc(mayWait, func(it item.Item) bool {
		return !l.Cost(it).Wait.Lead().Shows
	})
	l.SortByCost(mayWait)
	if text := named(l, mayWait, "  Of these may go or wait, and cost: "); text != "" {
		s.Wrap(2, "%s", text)
	}
	if l.Guessed && len(folded) > 0 {
		s.Wrap(2, "  Nothing is on record of which packages somebody chose: what is a part is "+
			"told from their priority, their section and the sets of installers.")
	}
	if len(roots) > 0 {
		s.Line("%s only when root logs in: %s", count(len(roots), "more starts", "more start"),
			a.call("list --owner root"))
	}
	for _, b := range slices.Backward(l.Boots) {
		if len(b.Programs) == 0 || f.Chooses() {
			continue
		}
		if u := l.LoginUse(b); u.Whole() > u.Items {
			s.Line("%s of the processor time of the last recorded login belongs to no item: %s",
				capital(share(u.Whole()-u.Items, u.Whole())), a.call("boots "+b.Short()))
		}
		break
	}
	a.unread(s, l.Unread)
	remarks(s, l.Remarks)
	if len(shown) > 0 {
		s.Line("Next: look at one of them, for instance with %s",
			a.call("show "+shellWord(shown[0].ID)))
	}
	return nil
}

// gaps says loudly what makes a list look whole that is not.
func (a *app) gaps(s *render.Screen, places []item.Unread) {
	for _, u := range places {
		if u.Kind == item.Gap {
			s.SayWrapped(2, render.Bad, "MIND: %s %s.", render.Clean(u.Path),
				render.Clean(u.Reason))
		}
	}
}

func adviceTone(a item.Advice) render.Tone {
	switch a {
	case item.CanGo, item.CanWait:
		return render.Good
	case item.CleanUp:
		return render.Warn
	}
	return render.Plain
}

// headline answers what the list is asked for.
func headline(l *visit.Visit, f filter) string {
	switch {
	case len(l.Items) == 0:
		return fmt.Sprintf("Nothing was found that %s launches by itself.", machineName(l))
	case !f.Chooses():
		return fmt.Sprintf("%s launches %s by itself (%s).", machineName(l),
			count(launched(l.Items), "thing", "things"), states(l.Items))
	}
	var fits []item.Item
	for _, it := range l.Items {
		if f.Accepts(it) {
			fits = append(fits, it)
		}
	}
	if len(fits) == 0 {
		return fmt.Sprintf("None of the %d items of %s is like that.", len(l.Items),
			machineName(l))
	}
	return fmt.Sprintf("%d of the %d items of %s (%s).", len(fits), len(l.Items), machineName(l),
		states(fits))
}

func launched(items []item.Item) (n int) {
	for _, it := range items {
		if it.State.Launched() {
			n++
		}
	}
	return n
}

// states says how many items are in each state: "48 on, 6 off, 3 broken".
func states(items []item.Item) string {
	n := map[item.State]int{}
	for _, it := range items {
		n[it.State]++
	}
	var parts []string
	for _, st := range []item.State{item.On, item.Delayed, item.Broken, item.Off} {
		if n[st] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[st], st))
		}
	}
	return strings.Join(parts, ", ")
}

// remarks tells what is to be known of places that were read.
func remarks(s *render.Screen, places []item.Unread) {
	const most = 8
	for _, u := range places[:min(most, len(places))] {
		s.SayWrapped(2, render.Warn, "Mind: %s: %s.", render.Clean(u.Path), render.Clean(u.Reason))
	}
	if n := len(places) - most; n > 0 {
		s.Line("And %d remarks more: list --json has all.", n)
	}
}

// unread tells which places the survey could not read.
func (a *app) unread(s *render.Screen, places []item.Unread) {
	if len(places) == 0 {
		return
	}
	places = slices.DeleteFunc(slices.Clone(places), func(u item.Unread) bool {
		return u.Kind == item.Gap
	})
	if len(places) == 0 {
		return
	}
	const most = 8
	s.Say(render.Warn, "%s",
		"Not the whole list: "+count(len(places), "place was not read.", "places were not read."))
	for _, u := range places[:min(most, len(places))] {
		s.Line("  %s: %s", render.Clean(u.Path), render.Clean(u.Reason))
	}
	if slices.ContainsFunc(places, func(u item.Unread) bool {
		return u.Kind == item.Denied
	}) {
		s.Line("  To see what needs permission, call it as root (sudo).")
	}
	if len(places) > most {
		s.Line("  and %d more: %s", len(places)-most, a.call("list --json"))
	}
}

// factsOf tells what is known of items besides the survey.
func factsOf(l *visit.Visit) func(item.Item) document.Facts {
	return func(it item.Item) document.Facts {
		f := document.Facts{Cost: l.Cost(it)}
		f.Own, _ = l.OwnTime(it)
		f.Present, f.Running = l.Present(it)
		return f
	}
}
