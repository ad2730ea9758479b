package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/document"
	"calmdawn/internal/family"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// bootsView is how boots are to be shown.
type bootsView struct {
	spans   bool
	id      string
	csv     bool
	picture string
	last    int
}

func (a *app) bootsCommand() *cobra.Command {
	var v bootsView
	cmd := &cobra.Command{
		Use:   "boots [BOOT]",
		Short: "Show the boots that the machine remembers, and how long each took",
		Long: `Boots shows every boot that the machine still remembers: when it began, when
one could work with it, when it was ready and had settled, and its phases. Of
one boot it shows what usable, or ready, waited for.

One boot is named by its number, its day, the beginning of its id, a label of
yours, or last. It is shown as a way: one stretch after the other, and what
worked beside each. --picture draws it: one line, the thicker the busier the
machine was, with a card for each stretch.

What the figures mean: calmdawn help usable. They come from the log, the
records of our recorder, and on the running machine the service managers' own
clocks. Of each figure the finest is taken.`,
		Example: `  calmdawn boots
  calmdawn boots 3                       what boot 3 waited for
  calmdawn boots --spans                 what the last one waited for
  calmdawn boots --spans --picture boot.png
  calmdawn boots --json --spans
  calmdawn boots --csv > boots.csv       for a spreadsheet`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("boots shows one boot, or all; %q is a second", args[1])
			}
			return nil
		},
		ValidArgsFunction: first(a.completeBoots),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 && v.id != "" {
				return usage("%q and --boot %s are two ways to name one boot; choose one",
					args[0], v.id)
			}
			if len(args) == 1 && v.last > 0 {
				return usage("--last lists several boots, and %q is one; give either", args[0])
			}
			if len(args) == 1 {
				v.id, v.spans = args[0], true
			}
			switch {
			case v.id != "" && !v.spans:
				return usage("--boot chooses the boot for --spans; give both")
			case v.picture != "" && !v.spans:
				return usage("--picture draws the boot of --spans; give both")
			case v.csv && a.json:
				return usage("--csv and --json are two forms; choose one")
			case v.last < 0:
				return usage("--last takes a number of boots, not %d", v.last)
			}
			return a.boots(v)
		},
	}
	cmd.Flags().BoolVar(&v.spans, "spans", false, "show the starts of the items within a boot")
	cmd.Flags().StringVar(&v.id, "boot", "", "which `BOOT`: a number, date, id or label; the last "+
		"one if not given")
	cmd.Flags().BoolVar(&v.csv, "csv", false, "print comma-separated values: a line a boot, with "+
		"--spans a line a start")
	cmd.Flags().StringVar(&v.picture, "picture", "", "draw the boot into `FILE`, whose name "+
		"ends in .png or .svg")
	cmd.Flags().IntVar(&v.last, "last", 0, "only the last `N` boots")
	return cmd
}

func (a *app) boots(v bootsView) error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	done := a.progress("reading the log")
	found := m.Remember(0) // all of them, since they are numbered from the first
	done()
	labels, _ := m.ReadLabels() // what cannot be read of the casebook is told below
	shown := found.Boots[max(0, len(found.Boots)-cmp.Or(v.last, len(found.Boots))):]
	if v.id != "" && len(found.Boots) > 0 {
		b, err := a.pickBoot(found.Boots, labels, v.id)
		if err != nil {
			return err
		}
		shown = []boot.Boot{b}
	}
	switch {
	case a.json:
		return a.writeJSON(document.NewBoots(shown, found.Unread, v.spans))
	case v.csv && v.spans && len(shown) > 0:
		return writeCSV(a, spanColumns, shown[len(shown)-1].Spans)
	case v.csv && v.spans:
		return nil
	case v.csv:
		return writeCSV(a, bootColumns(), shown)
	}
	s := a.screen()
	if len(found.Boots) == 0 {
		s.Say(render.Strong, "The machine remembers no boot: there is no log in %s that could be "+
			"read.", m.Log())
		a.unreadLog(s, found)
		if m.Recordable() {
			s.Line("Where the log is kept in memory only, the operating system keeps it on the " +
				"disk once that folder exists.")
		}
		return nil
	}
	if v.spans {
		return a.road(s, shown[len(shown)-1], v)
	}
	changes, _ := m.ReadChanges()
	a.tellUnsettled(m.Root, changes)
	a.bootTable(s, found.Boots, len(shown), changes, labels, m.Recordable())
	a.unreadLog(s, found)
	s.Line("Next: what one boot waited for, with %s", a.call("boots --spans"))
	return nil
}

// bootHeadline says how long boots take.
func bootHeadline(boots []boot.Boot) string {
	fit := boot.Fit(boots, visit.RatedBoots)
	if len(fit) == 0 {
		return fmt.Sprintf("%s remembered, none that became ready and can be compared.",
			count(len(boots), "boot is", "boots are"))
	}
	var ready []time.Duration
	for _, b := range fit {
		ready = append(ready, b.Ready.Value)
	}
	last := count(len(fit), "boot", "boots")
	of, kind := boot.Kinds(fit)
	if usable := of[kind]; len(usable) > 0 {
		among := "the median of the last " + last
		if len(usable) < len(fit) {
			among = fmt.Sprintf("the median of %d of the last %s", len(usable), last)
		}
		return fmt.Sprintf("Usable after %s (%s): %s%s; ready after %s.",
			render.Duration(boot.Median(usable)), kind, among, simulated(fit),
			render.Duration(boot.Median(ready)))
	}
	return fmt.Sprintf("Ready after %s: the median of the last %s%s.",
		render.Duration(boot.Median(ready)), last, simulated(fit))
}

// usableText says when one could work, with what is to be known of it.
func usableText(u boot.Usable) string {
	if !u.Known {
		return "when it was usable is not known"
	}
	text := fmt.Sprintf("usable after %s (%s", render.Duration(u.Value), render.Clean(u.Kind))
	switch w := u.Waited; {
	case w.Known && w.Value > 0:
		text += ", " + render.Duration(w.Value) + " after it was ready, which are left out"
	case w.Known:
		text += ", " + render.Duration(-w.Value) + " before it was ready"
	}
	return text + ")"
}

// loginText says who logged in, and how long after ready.
func loginText(b boot.Boot) string {
	u, all := b.Usable(), b.Logged()
	if len(all) == 0 {
		return ""
	}
	who := cmp.Or(render.Clean(all[0].User), "somebody")
	if !u.Waited.Known {
		return who
	}
	return fmt.Sprintf("%s %+.0f s", who, u.Waited.Value.Seconds())
}

// simulated labels figures that no machine measured.
func simulated(boots []boot.Boot) string {
	n := 0
	for _, b := range boots {
		if b.Simulated {
			n++
		}
	}
	switch n {
	case 0:
		return ", measured"
	case len(boots):
		return ", simulated"
	}
	return fmt.Sprintf(", %d of them simulated", n)
}

// A numberedBoot is one with its number among those that are remembered.
type numberedBoot struct {
	boot.Boot
	number int
}

// bootFields are the columns of a list of boots.
func bootFields(labels map[string][]string) []render.Field[numberedBoot] {
	fields := []render.Field[numberedBoot]{
		{
			Column: render.Column{Title: "NO", Right: true},
			Cell:   func(b numberedBoot) render.Cell { return render.C(fmt.Sprint(b.number)) },
		},
		{Column: render.Column{Title: "BOOT", Keep: 8}, Cell: func(b numberedBoot) render.Cell {
			return render.C(b.Short())
		}},
		{Column: render.Column{Title: "BEGAN"}, Cell: func(b numberedBoot) render.Cell {
			return render.C(day(b.Began))
		}},
		{
			Column: render.Column{Title: "USABLE", Right: true},
			Cell: func(b numberedBoot) render.Cell {
				u := b.Usable()
				if u.Unsure != "" {
					return render.C(figure(u.Figure) + "?")
				}
				return render.C(figure(u.Figure))
			},
		},
		{
			Column: render.Column{Title: "LOGIN", Keep: 9},
			Cell:   func(b numberedBoot) render.Cell { return render.C(loginText(b.Boot)) },
		},
		{
			Column: render.Column{Title: "READY", Right: true},
			Cell:   func(b numberedBoot) render.Cell { return render.C(figure(b.Ready)) },
		},
		{
			Column: render.Column{Title: "SETTLED", Right: true, Keep: 6},
			Cell: func(b numberedBoot) render.Cell {
				if !b.Settled.FromReady.Known {
					return render.Cell{}
				}
				return render.C("+" + render.Seconds(b.Settled.FromReady.Value))
			},
		},
	}
	for i, name := range boot.PhaseNames {
		fields = append(fields, render.Field[numberedBoot]{
			Column: render.Column{Title: strings.ToUpper(name), Right: true, Keep: 1 + i},
			Cell:   func(b numberedBoot) render.Cell { return render.C(figure(b.Phase(name))) },
		})
	}
	return append(fields,
		render.Field[numberedBoot]{
			Column: render.Column{Title: "NOTE", Keep: 10, Flex: 16},
			Cell: func(b numberedBoot) render.Cell {
				text, tone := notes(b.Boot)
				for _, label := range slices.Sorted(maps.Keys(labels)) {
					if slices.Contains(labels[label], b.ID) {
						text = strings.Trim(label+"; "+text, "; ")
					}
				}
				return render.Cell{Text: render.Clean(text), Tone: tone}
			},
		})
}

// bootTable shows the last boots of all that are remembered, and the changes
// between them.
func (a *app) bootTable(
	s *render.Screen,
	all []boot.Boot,
	last int,
	changes []change.Change,
	labels map[string][]string,
	recordable bool,
) {
	s.SayWrapped(0, render.Strong, "%s",
		bootHeadline(job.BaselineOf(all, changes, a.now()).Boots))
	s.Line("")
	fields := bootFields(labels)
	columns := render.Columns(fields)
	began := slices.IndexFunc(columns, func(c render.Column) bool { return c.Title == "BEGAN" })
	shown := all[len(all)-last:]
	made := job.CarriedOut(changes)
	slices.SortStableFunc(made, func(x, y change.Change) int { return x.MadeAt.Compare(y.MadeAt) })
	if last < len(all) { // of what was before them nothing is shown
		made = slices.DeleteFunc(made, func(c change.Change) bool {
			return c.MadeAt.Before(shown[0].Began)
		})
	}
	var rows [][]render.Cell
	until := func(end func(change.Change) bool) {
		n := 0
		for n < len(made) && end(made[n]) {
			n++
		}
		for _, text := range folded(made[:n]) {
			row := make([]render.Cell, len(columns))
			row[began] = render.Cell{Text: text[0], Tone: render.Good}
			row[len(row)-1] = render.Cell{Text: text[1], Tone: render.Good}
			rows = append(rows, row)
		}
		made = made[n:]
	}
	for i, b := range shown {
		until(func(c change.Change) bool { return c.MadeAt.Before(b.Began) })
		rows = append(rows, render.Row(fields, numberedBoot{b, len(all) - last + i + 1}))
	}
	until(func(change.Change) bool { return true })
	titles := s.Table(columns, rows)
	s.Line("")
	legend := ""
	if titles["USABLE"] {
		legend = "Usable: when one could work, the time left out in which it waited for somebody " +
			"to log in."
	}
	if titles["LOGIN"] && slices.ContainsFunc(shown, func(b boot.Boot) bool {
		return b.Usable().Waited.Known
	}) {
		legend += " Login: who did, and when, counted from ready."
	}
	if legend != "" {
		s.SayWrapped(0, render.Dim, "%s", legend)
	} else if recordable {
		s.SayWrapped(0, render.Dim, "When it was usable nobody recorded; %s has that done.",
			a.call("recorder on"))
	} else {
		s.SayWrapped(0, render.Dim, "When it was usable nobody wrote down.")
	}
	for _, b := range shown {
		if u := b.Usable(); u.Unsure != "" {
			s.SayWrapped(2, render.Dim, "Uncertain: usable of %s, since %s.", b.Short(), u.Unsure)
		}
	}
	for _, b := range shown {
		if len(b.Odd) > 0 && !onlyUnwritten(b) {
			s.SayWrapped(2, render.Warn, "Odd: %s, since %s.", b.Short(),
				render.Clean(strings.Join(b.Odd, "; ")))
		}
	}
}

// folded tells of the changes between two boots, each with its day; where there
// are more than a few, in one line.
func folded(changes []change.Change) (lines [][2]string) {
	const few = 3
	if len(changes) <= few {
		for _, c := range changes {
			lines = append(lines, [2]string{
				day(c.MadeAt), fmt.Sprintf("change %d: %s", c.ID, what(c)),
			})
		}
		return lines
	}
	of := map[string]int{}
	for _, c := range changes {
		of[string(c.Verb)]++
	}
	var verbs []string
	for _, verb := range slices.Sorted(maps.Keys(of)) {
		verbs = append(verbs, fmt.Sprintf("%d %s", of[verb], verb))
	}
	return [][2]string{{
		day(changes[len(changes)-1].MadeAt),
		fmt.Sprintf("changes %s: %s", inWords(changes), strings.Join(verbs, ", ")),
	}}
}

// onlyUnwritten reports whether nothing is odd of a boot but that its times
// were not written down: so are most of some machines.
func onlyUnwritten(b boot.Boot) bool { return b.Unwritten && len(b.Odd) == 1 }

// notes says in a few words what is to be known of a boot.
func notes(b boot.Boot) (string, render.Tone) {
	var all []string
	tone := render.Dim
	switch {
	case onlyUnwritten(b):
		all = append(all, "nothing was written down of how long it took")
	case len(b.Odd) > 0:
		all, tone = append(all, "odd, see below"), render.Warn
	}
	waited := time.Duration(0)
	for _, w := range b.Waits {
		waited += w.Took
	}
	if waited > 0 {
		all = append(all, "without "+render.Duration(waited)+" of waiting for a person")
	}
	switch {
	case b.Simulated:
		all = append(all, "simulated")
	case slices.Contains(b.Sources, boot.Recorder):
		all = append(all, "recorded")
	}
	return strings.Join(all, "; "), tone
}

// figure shows a figure that may be unknown.
func figure(f boot.Figure) string {
	if !f.Known {
		return ""
	}
	return render.Seconds(f.Value)
}

// unreadLog tells what of the log could not be read, and whom else could not be
// asked.
func (a *app) unreadLog(s *render.Screen, found family.Boots) {
	if slices.ContainsFunc(found.Unread, func(u item.Unread) bool {
		return u.Kind == item.Denied
	}) {
		s.Say(render.Warn, "This is a part: what needs permission was not read, and boots or "+
			"starts may be missing. Call it as root (sudo) for all of it.")
	}
	for _, u := range found.Unread {
		s.Say(render.Warn, "Not read: %s: %s", render.Clean(u.Path), render.Clean(u.Reason))
	}
	for _, note := range found.Notes {
		s.SayWrapped(2, render.Dim, "%s", "Not asked: "+render.Clean(note))
	}
}

// pickBoot is the boot that a word means, as compare takes them: its number in
// boots, its date, the beginning of its id, its label. An empty word, or last,
// is the last one.
func (a *app) pickBoot(boots []boot.Boot, labels map[string][]string, word string) (boot.Boot,
	error) {
	if word == "" || word == "last" {
		return boots[len(boots)-1], nil
	}
	shelf := compare.Shelf{Boots: boots, Labels: labels, Zone: time.Local}
	found, err := shelf.Choose(word, true)
	if err != nil {
		return boot.Boot{}, usage("%w\n%s lists the boots", err, a.call("boots"))
	}
	if len(found) > 1 {
		text := fmt.Sprintf("%q is %d boots; give one of them", word, len(found))
		for _, b := range found[:min(mostNamed, len(found))] {
			text += fmt.Sprintf("\n%s, of %s", b.Short(), day(b.Began))
		}
		return boot.Boot{}, usage("%s", text)
	}
	return found[0], nil
}

// mostNamed is how many of several a message lists.
const mostNamed = 8
