package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
)

// A filter chooses items by the flags that every command that lists items has.
type filter struct {
	all                       bool
	kind, state, owner, maker string
}

func (f *filter) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&f.all, "all", false, "show the operating system's own parts too")
	flags.StringVar(&f.kind, "kind", "", "only items of this `KIND`: program, service or task")
	flags.StringVar(&f.state, "state", "", "only items in this `STATE`: on, off, delayed or broken")
	flags.StringVar(&f.owner, "owner", "", "only items of this `USER`")
	flags.StringVar(&f.maker, "maker", "", "only items whose maker's name contains `TEXT`")
}

func (f *filter) check() error {
	kinds := []string{"", string(item.Program), string(item.Service), string(item.Task)}
	states := []string{"", string(item.On), string(item.Off), string(item.Delayed), string(item.Broken)}
	switch {
	case !slices.Contains(kinds, f.kind):
		return usage("--kind takes program, service or task, not %q", f.kind)
	case !slices.Contains(states, f.state):
		return usage("--state takes on, off, delayed or broken, not %q", f.state)
	}
	return nil
}

func (f *filter) accepts(it item.Item) bool {
	return (f.kind == "" || f.kind == string(it.Kind)) && (f.state == "" || f.state == string(it.State)) &&
		(f.owner == "" || f.owner == it.Owner) &&
		(f.maker == "" || strings.Contains(strings.ToLower(it.Maker), strings.ToLower(f.maker)))
}

func (a *app) listCommand() *cobra.Command {
	var f filter
	cmd := &cobra.Command{
		Use:   "list",
		Short: "Show what the machine launches by itself at boot and login",
		Long: `List shows what the machine launches by itself: services that are enabled by links, programs
of the desktop login, and crontab lines for the boot. The operating system's own parts are
folded into one line; --all shows them.

State on: the next boot or login launches it. off: it is set up, and is not launched.
broken: it would be launched, but its program is gone.

Not looked at yet: units of the users' own service managers, timers, sockets and paths as
items of their own, other lines of crontabs, init scripts, login scripts, udev rules,
network hooks, and what generators make while the machine boots.`,
		Example: `  calmdawn list                          added items; the operating system's own are folded
  calmdawn list --all                    every item
  calmdawn list --maker pellin           what one maker put there
  calmdawn list --state broken           what is launched although its program is gone
  calmdawn list --owner maria            what one user's login launches
  calmdawn list --all --json             for scripts`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			if err := f.check(); err != nil {
				return err
			}
			l, err := a.look()
			if err != nil {
				return err
			}
			defer l.Close()
			l.readBoots()
			return a.list(l, f)
		},
	}
	f.flags(cmd)
	return cmd
}

func noWords(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no word %q\n%s --help explains it", cmd.CommandPath(), args[0], cmd.CommandPath())
	}
	return nil
}

func (a *app) list(l *look, f filter) error {
	var shown, folded []item.Item
	for _, it := range l.Items {
		switch {
		case !f.accepts(it):
		case it.System && !f.all:
			folded = append(folded, it)
		default:
			shown = append(shown, it)
		}
	}
	l.byCost(shown)
	if a.json {
		return a.writeJSON(listDocument(l, shown, len(folded)))
	}
	s := a.screen()
	s.Line("%s", s.Paint(render.Strong, headline(l, f)))
	if len(shown) > 0 {
		s.Line("")
		rows, rated := make([][]render.Cell, 0, len(shown)), false
		for _, it := range shown {
			state := render.Cell{Text: string(it.State), Tone: stateTone(it.State)}
			title := render.Cell{Text: render.Clean(it.Title), Tone: stateTone(it.State)}
			own := ""
			if t, ok := l.ownTime(it); ok {
				own, rated = render.Seconds(t.Median), true
			}
			rows = append(rows, []render.Cell{title, render.C(own), state, render.C(string(it.When)), render.C(render.Clean(it.Owner)), render.C(render.Clean(it.Maker)), {Text: l.offSince(it), Tone: render.Dim}, render.C(render.Clean(it.ID))})
		}
		s.Table([]render.Column{
			{Title: "TITLE", Flex: 18}, {Title: "OWN TIME", Right: true, Keep: 5}, {Title: "STATE"}, {Title: "WHEN", Keep: 3}, {Title: "OWNER", Keep: 2},
			{Title: "MAKER", Keep: 1, Flex: 12}, {Title: "SWITCHED OFF", Keep: 4}, {Title: "ID"},
		}, rows)
		if rated {
			s.Line("")
			fit := boot.Fit(l.boots, ratedBoots)
			s.Wrap(0, "Own time: how long a service's start took by itself, the median of %s%s. Starts overlap: what a boot would gain without one is not known from it.", count(len(fit), "boot", "boots"), simulated(fit))
		}
	}
	s.Line("")
	if len(folded) > 0 {
		s.Line("%s of the operating system itself (%s): %s", count(len(folded), "more is a part", "more are parts"), states(folded), a.call("list --all"))
	}
	a.unread(s, l.Unread)
	if len(shown) > 0 {
		s.Line("Next: look at one of them, for instance %s", a.call("show "+shellWord(shown[0].ID)))
	}
	return nil
}

// headline answers what the list is asked for.
func headline(l *look, f filter) string {
	if f == (filter{all: f.all}) {
		return fmt.Sprintf("%s launches %s by itself (%s).", l.machineName(), count(launched(l.Items), "thing", "things"), states(l.Items))
	}
	var fits []item.Item
	for _, it := range l.Items {
		if f.accepts(it) {
			fits = append(fits, it)
		}
	}
	if len(fits) == 0 {
		return fmt.Sprintf("None of the %d items of %s is like that.", len(l.Items), l.machineName())
	}
	return fmt.Sprintf("%d of the %d items of %s (%s).", len(fits), len(l.Items), l.machineName(), states(fits))
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
	const most = 8
	s.Line("%s", s.Paint(render.Warn, "Not the whole list: "+count(len(places), "place was not read.", "places were not read.")))
	for _, u := range places[:min(most, len(places))] {
		s.Line("  %s: %s", render.Clean(u.Path), render.Clean(u.Reason))
	}
	if len(places) > most {
		s.Line("  and %d more: %s", len(places)-most, a.call("list --json"))
	}
}

type listJSON struct {
	Format  string        `json:"format"`
	Machine string        `json:"machine,omitempty"`
	OS      string        `json:"os,omitempty"`
	Items   []itemJSON    `json:"items"`
	Folded  int           `json:"folded"`
	Unread  []item.Unread `json:"unread"`
}

type itemJSON struct {
	ID         string     `json:"id"`
	Kind       item.Kind  `json:"kind"`
	Native     string     `json:"native"`
	Title      string     `json:"title"`
	Owner      string     `json:"owner"`
	When       item.When  `json:"when"`
	State      item.State `json:"state"`
	Why        string     `json:"why,omitempty"`
	Because    []string   `json:"because"`
	NeededBy   []string   `json:"needed_by"`
	Starters   []string   `json:"starters"`
	Conditions []string   `json:"conditions"`
	Command    string     `json:"command,omitempty"`
	Program    string     `json:"program,omitempty"`
	File       string     `json:"file"`
	Package    string     `json:"package,omitempty"`
	Maker      string     `json:"maker,omitempty"`
	System     bool       `json:"system"`
	OwnTime    *ownJSON   `json:"own_time,omitempty"`
}

// ownJSON is an item's own time: seconds, and how it is known.
type ownJSON struct {
	Median    float64 `json:"median"`
	Boots     int     `json:"boots"`
	Of        int     `json:"of"`
	Source    string  `json:"source"`
	Simulated bool    `json:"simulated"`
}

func (l *look) documentOf(it item.Item) itemJSON {
	list := func(s []string) []string { return append([]string{}, s...) } // [] rather than null
	var own *ownJSON
	if t, ok := l.ownTime(it); ok {
		own = &ownJSON{t.Median.Seconds(), t.Boots, t.Of, "journal", t.Simulated}
	}
	return itemJSON{
		ID: it.ID, Kind: it.Kind, Native: it.Native, Title: it.Title, Owner: it.Owner, When: it.When, State: it.State,
		Why: it.Why, Because: list(it.Because), NeededBy: list(it.NeededBy), Starters: list(it.Starters),
		Conditions: list(it.Conditions), Command: it.Command, Program: it.Program, File: it.File,
		Package: it.Package, Maker: it.Maker, System: it.System, OwnTime: own,
	}
}

func listDocument(l *look, items []item.Item, folded int) listJSON {
	d := listJSON{Format: "calmdawn.list/1", Machine: l.Host, OS: l.OS, Items: []itemJSON{}, Folded: folded, Unread: append([]item.Unread{}, l.Unread...)}
	for _, it := range items {
		d.Items = append(d.Items, l.documentOf(it))
	}
	return d
}
