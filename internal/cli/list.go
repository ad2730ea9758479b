package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/machine"
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
		_ = cmd.RegisterFlagCompletionFunc(c.Name, a.completeChoice(c))
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

// orders are what a list can be sorted by, besides cost.
var orders = map[string]func(item.Item) string{
	"title":  func(it item.Item) string { return it.Title },
	"maker":  func(it item.Item) string { return it.Maker },
	"state":  func(it item.Item) string { return string(it.State) },
	"when":   func(it item.Item) string { return string(it.When) },
	"owner":  func(it item.Item) string { return it.Owner },
	"role":   func(it item.Item) string { return it.Role },
	"advice": func(it item.Item) string { return string(it.Advice) },
	"kind":   func(it item.Item) string { return string(it.Kind) },
	"id":     func(it item.Item) string { return it.ID },
}

func (a *app) listCommand() *cobra.Command {
	var f listing
	cmd := &cobra.Command{
		Use:   "list [TEXT...]",
		Short: "Show what the machine launches by itself at boot and login",
		Long: `List shows everything that the machine launches by itself: services, timers
and the programs of desktop logins, of the machine and of each user; old init
scripts and rc.local; every line of the crontabs and the scripts that they
run; and, with low confidence, what login scripts leave running. The operating
system's own parts are folded into one line; --all shows them.

Wait is how much sooner one could work without the item, where logins were
recorded; else how much sooner the machine would be ready: a forecast, from
replays of its last boots. CPU is the processor time it used by the end of the
boot or login. An item is heavy if its wait is at least 5 % of the time until
one can work, or its processor time 10 % of what all processors could have done
until then; moderate from 1.5 % or 3 %; else light. A grades.toml of your own
in calmdawn's configuration folder changes that. Waits overlap: their sum is
not what all would save.

State on: the next boot or login launches it, or arms it. off: it is set up,
and is not launched. broken: it would be launched, but its program is gone.
What only the running machine can tell (a condition on its hardware, say) is
named on the item's page.

Not looked at: udev rules, network hooks, mounts and swap, what containers
launch, other init systems than systemd, kernel command lines that name
another goal, generators other than for old scripts, and what programs launch
in turn once they run.`,
		Example: `  calmdawn list                          added items, costliest first
  calmdawn list --all                    the operating system's own parts too
  calmdawn list cue                      what has "cue" in its name, maker or command
  calmdawn list --advice "can go,can wait" --when boot
  calmdawn list --maker pellin           what one maker put there
  calmdawn list --group maker            by maker
  calmdawn list --state broken           what is launched although its program is gone
  calmdawn list --sort cpu               what runs now, the busiest first (running machine)
  calmdawn list --save                   keep this survey in the casebook
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
			for flag, value := range map[string]string{"sort": f.sort, "group": f.group} {
				byFigure := slices.Contains([]string{"cost", "cpu", "memory"}, value)
				if _, ok := orders[value]; value != "" && !ok && !byFigure ||
					byFigure && flag == "group" {
					return usage("--%s takes %s, not %q", flag,
						strings.Join(slices.Sorted(maps.Keys(orders)), ", "), value)
				}
			}
			f.now = f.now || f.sort == "cpu" || f.sort == "memory"
			if f.csv && a.json {
				return usage("--csv and --json are two forms; choose one")
			}
			l, err := a.look()
			if err != nil {
				return err
			}
			defer l.Close()
			if err := l.ReadBoots(); err != nil {
				return err
			}
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
	cmd.Flags().StringVar(&f.sort, "sort", "cost", "sort by `WHAT`: cost, cpu, memory, title, "+
		"maker, role, advice, state, when, owner, kind or id")
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
	for _, it := range l.Items {
		switch {
		case !f.Accepts(it):
		case (it.System || it.Ours) && !f.All:
			folded = append(folded, it)
		case startsWithRoot(it) && !f.All && len(f.Owner) == 0:
			roots = append(roots, it)
		default:
			shown = append(shown, it)
		}
	}
	l.ByCost(shown)
	l.ByPresent(shown, f.sort)
	for _, by := range []string{f.sort, f.group} {
		if key, ok := orders[by]; ok {
			slices.SortStableFunc(shown, func(a, b item.Item) int {
				return strings.Compare(strings.ToLower(key(a)), strings.ToLower(key(b)))
			})
		}
	}
	switch {
	case a.json:
		rest := len(folded) + len(roots)
		return a.writeJSON(document.NewList(l.Survey, shown, rest, l.Changes, factsOf(l)))
	case f.csv:
		return writeCSV(a, itemColumns(l), shown)
	}
	s := a.screen()
	s.Say(render.Strong, "%s", headline(l, f.filter))
	if !f.Chooses() {
		s.Wrap(0, "%s", outlook(l))
	}
	a.missingDisks(s, l.Unread)
	if len(shown) > 0 {
		s.Line("")
		a.table(s, l, f, shown)
	}
	s.Line("")
	if len(folded) > 0 {
		s.Line("%s of the operating system itself (%s): %s",
			count(len(folded), "more is a part", "more are parts"), states(folded),
			a.call("list --all"))
	}
	mayWait := slices.DeleteFunc(slices.Clone(folded), func(it item.Item) bool {
		return it.Advice != item.CanGo && it.Advice != item.CanWait ||
			!l.Costs[it.ID].Wait.Lead().Shows
	})
	l.ByCost(mayWait)
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
	a.unread(s, l.Unread)
	if len(shown) > 0 {
		s.Line("Next: look at one of them, for instance %s", a.call("show "+shellWord(shown[0].ID)))
	}
	return nil
}

// startsWithRoot reports whether an item is set up for all users alike, and
// this is root's.
func startsWithRoot(it item.Item) bool {
	return strings.HasSuffix(it.ID, "@root") && it.Kind != item.Program &&
		it.When != item.AtBoot && !strings.HasPrefix(it.File, "/root/")
}

// missingDisks says loudly what makes a list look whole that is not.
func (a *app) missingDisks(s *render.Screen, places []item.Unread) {
	for _, u := range places {
		if strings.Contains(u.Reason, "not mounted") {
			s.Say(render.Bad, "MIND: %s %s.", render.Clean(u.Path), u.Reason)
		}
	}
}

// itemFields are the columns of a list of items; longest is the longest wait
// among them, for bars.
func itemFields(
	s *render.Screen,
	l *visit.Visit,
	longest time.Duration,
) []render.Field[item.Item] {
	return []render.Field[item.Item]{
		{Column: render.Column{Title: "TITLE", Flex: 18}, Cell: func(it item.Item) render.Cell {
			return render.Cell{Text: render.Clean(it.Title), Tone: stateTone(it.State)}
		}},
		{Column: render.Column{Title: "GRADE", Keep: 12}, Cell: func(it item.Item) render.Cell {
			return gradeCell(l, it)
		}},
		{
			Column: render.Column{Title: "WAIT", Right: true, Keep: 11},
			Cell:   func(it item.Item) render.Cell { return waitCell(l, it) },
		},
		{Column: render.Column{Keep: 5}, Cell: func(it item.Item) render.Cell {
			return waitBar(s, l, it, longest)
		}},
		{
			Column: render.Column{Title: "CPU", Right: true, Keep: 9},
			Cell:   func(it item.Item) render.Cell { return cpuCell(l, it) },
		},
		{
			Column: render.Column{Title: "DISK", Right: true, Keep: 4},
			Cell: func(it item.Item) render.Cell {
				return amountCell(it, l.Costs[it.ID].DiskRead)
			},
		},
		{
			Column: render.Column{Title: "MEMORY", Right: true, Keep: 3},
			Cell:   func(it item.Item) render.Cell { return amountCell(it, l.Costs[it.ID].Memory) },
		},
		{
			Column: render.Column{Title: "OWN TIME", Right: true, Keep: 2},
			Cell: func(it item.Item) render.Cell {
				own, ok := l.OwnTime(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Seconds(own.Median))
			},
		},
		{
			Column: render.Column{Title: "AFTER LOGIN", Right: true, Keep: 3},
			Cell: func(it item.Item) render.Cell {
				c := l.Costs[it.ID]
				if !c.AfterLogin.Known || !it.State.Launched() {
					return render.Cell{}
				}
				return render.C("+" + render.Seconds(c.AfterLogin.Value))
			},
		},
		{
			Column: render.Column{Title: "WORK OF", Keep: 6},
			Cell: func(it item.Item) render.Cell {
				other, ok := l.WorkOf(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Clean(other.Native))
			},
		},
		{
			Column: render.Column{Title: "CPU NOW", Right: true, Keep: 12},
			Cell: func(it item.Item) render.Cell {
				p, ok := l.Present(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(fmt.Sprintf("%.1f %%", 100*p.CPU))
			},
		},
		{
			Column: render.Column{Title: "MEMORY NOW", Right: true, Keep: 12},
			Cell: func(it item.Item) render.Cell {
				p, ok := l.Present(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Bytes(p.Memory))
			},
		},
		{Column: render.Column{Title: "STATE"}, Cell: func(it item.Item) render.Cell {
			return render.Cell{Text: string(it.State), Tone: stateTone(it.State)}
		}},
		{Column: render.Column{Title: "ADVICE", Keep: 10}, Cell: func(it item.Item) render.Cell {
			return render.Cell{Text: string(it.Advice), Tone: adviceTone(it.Advice)}
		}},
		{Column: render.Column{Title: "WHEN", Keep: 8}, Cell: func(it item.Item) render.Cell {
			if it.Unsure {
				return render.C(string(it.When) + "?")
			}
			return render.C(string(it.When))
		}},
		{Column: render.Column{Title: "OWNER", Keep: 7}, Cell: func(it item.Item) render.Cell {
			return render.C(render.Clean(it.Owner))
		}},
		{Column: render.Column{Title: "ROLE", Keep: 3}, Cell: func(it item.Item) render.Cell {
			return render.C(it.Role)
		}},
		{
			Column: render.Column{Title: "MAKER", Keep: 2, Flex: 12},
			Cell:   func(it item.Item) render.Cell { return render.C(render.Clean(it.Maker)) },
		},
		{
			Column: render.Column{Title: "SWITCHED OFF", Keep: 6},
			Cell: func(it item.Item) render.Cell {
				return render.Cell{Text: offSince(l, it), Tone: render.Dim}
			},
		},
		{
			Column: render.Column{Title: "NOTE", Keep: 1, Flex: 12},
			Cell:   func(it item.Item) render.Cell { return render.C(render.Clean(it.Note)) },
		},
		{Column: render.Column{Title: "ID"}, Cell: func(it item.Item) render.Cell {
			return render.C(render.Clean(it.ID))
		}},
	}
}

// table shows items, in groups where that is wanted.
func (a *app) table(s *render.Screen, l *visit.Visit, f listing, shown []item.Item) {
	longest := time.Duration(0)
	for _, it := range shown {
		longest = max(longest, l.Costs[it.ID].Wait.Lead().Saving.Median)
	}
	fields := itemFields(s, l, longest)
	var rows [][]render.Cell
	last := ""
	for n, it := range shown {
		if key, ok := orders[f.group]; ok && (n == 0 || key(it) != last) {
			last = key(it)
			if n > 0 {
				rows = append(rows, make([]render.Cell, len(fields)))
			}
			heading := make([]render.Cell, len(fields))
			heading[0] = render.Cell{
				Text: cmp.Or(render.Clean(last), "("+f.group+" not known)"),
				Tone: render.Strong,
			}
			rows = append(rows, heading)
		}
		rows = append(rows, render.Row(fields, it))
	}
	s.Table(render.Columns(fields), rows)
	if f.now && !slices.ContainsFunc(shown, func(it item.Item) bool {
		_, runs := l.Present(it)
		return runs
	}) {
		s.Line("")
		s.Line("Of none of these anything can be seen to run at this moment.")
	}
	a.costNotes(s, l)
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
	if !f.Chooses() {
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

// unread tells which places the survey could not read.
func (a *app) unread(s *render.Screen, places []item.Unread) {
	if len(places) == 0 {
		return
	}
	places = slices.DeleteFunc(slices.Clone(places), func(u item.Unread) bool {
		return strings.Contains(u.Reason, "not mounted")
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
		return u.Reason == machine.NoPermission
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
		f := document.Facts{Cost: l.Costs[it.ID]}
		f.Own, _ = l.OwnTime(it)
		f.Present, f.Running = l.Present(it)
		return f
	}
}
