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
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/document"
	"calmdawn/internal/linux"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
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
		Use:   "boots",
		Short: "Show the boots that the machine remembers, and how long each took",
		Long: `Boots shows every boot that the machine still remembers: when it began, when
one could work with it, when it was ready and had settled, and its phases.
Ready counts from the moment the kernel began until the boot's goal was
reached; firmware and loader stand beside it. Settled is when the machine had
gone quiet; only the recorder sees that.

Usable is when the machine had gone quiet after ready and after the first
login at it, less the time from ready to that login: when one could work.
Boots of different people, and ones without a login, are not put together.
Time in which the machine waited for a person is taken out, and shown.

A boot is odd if something about it makes it no measure of the machine: it is
named, and left out of comparisons.

It reads the log, the records of our recorder, and on the running machine the
service managers' own clocks. Of each figure the finest is taken.

--spans shows one boot as a way: what usable, or ready, waited for, one stretch
after the other, and what worked beside each. --picture draws it: one line, the
thicker the busier the machine was, with a card for each stretch.`,
		Example: `  calmdawn boots
  calmdawn boots --spans                 what the last boot waited for
  calmdawn boots --spans --boot be6fe0a8
  calmdawn boots --spans --picture boot.png
  calmdawn boots --json --spans
  calmdawn boots --csv > boots.csv       for a spreadsheet`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
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
	cmd.Flags().StringVar(&v.id, "boot", "", "the boot whose id begins with `ID`; the last one "+
		"if not given")
	cmd.Flags().BoolVar(&v.csv, "csv", false, "print comma-separated values: a line a boot, with "+
		"--spans a line a start")
	cmd.Flags().StringVar(&v.picture, "picture", "", "draw the boot into `FILE`, whose name "+
		"ends in .png or .svg")
	cmd.Flags().IntVar(&v.last, "last", 0, "only the last `N` boots")
	return cmd
}

func (a *app) boots(v bootsView) error {
	r, err := a.place().Open()
	if err != nil {
		return err
	}
	defer r.Close()
	done := a.progress("reading the log")
	found := a.place().Remember(r, v.last)
	done()
	switch {
	case a.json:
		return a.writeJSON(document.NewBoots(found.Boots, found.Unread, v.spans))
	case v.csv:
		return a.bootsCSV(found, v)
	}
	s := a.screen()
	if len(found.Boots) == 0 {
		s.Say(render.Strong, "The machine remembers no boot: there is no log in %s that could be "+
			"read.", journal.Folder)
		a.unreadLog(s, found)
		s.Line("Where the log is kept in memory only, the operating system keeps it on the disk " +
			"once that folder exists.")
		return nil
	}
	if v.spans {
		return a.road(s, found, v)
	}
	changes, _ := a.place().ReadChanges(r) // what cannot be read of the casebook is told below
	a.tellUnsettled(r, changes)
	labels, _ := a.place().ReadLabels(r)
	a.bootTable(s, found, changes, labels, v.last > 0)
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

// bootFields are the columns of a list of boots. Their numbers count from the
// first that is remembered, so that a part of the list has none.
func bootFields(
	labels map[string][]string,
	part bool,
) []render.Field[numberedBoot] {
	fields := []render.Field[numberedBoot]{
		{
			Column: render.Column{Title: "NO", Right: true, Keep: 7},
			Cell: func(b numberedBoot) render.Cell {
				if part {
					return render.Cell{}
				}
				return render.C(fmt.Sprint(b.number))
			},
		},
		{Column: render.Column{Title: "BOOT"}, Cell: func(b numberedBoot) render.Cell {
			return render.C(b.ID[:8])
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

func (a *app) bootTable(
	s *render.Screen,
	found linux.Boots,
	changes []change.Change,
	labels map[string][]string,
	part bool,
) {
	alike := job.BaselineOf(found.Boots, changes, a.now()).Boots
	s.Say(render.Strong, "%s", bootHeadline(alike))
	s.Line("")
	fields := bootFields(labels, part)
	columns := render.Columns(fields)
	type dated struct {
		at  time.Time
		row []render.Cell
	}
	var rows []dated
	for n, b := range found.Boots {
		rows = append(rows, dated{b.Began, render.Row(fields, numberedBoot{b, n + 1})})
	}
	for _, c := range changes {
		if c.Status != change.Done {
			continue
		}
		row := make([]render.Cell, len(columns))
		row[2] = render.Cell{Text: day(c.MadeAt), Tone: render.Good}
		row[len(row)-1] = render.Cell{
			Text: fmt.Sprintf("change %d: %s", c.ID, what(c)),
			Tone: render.Good,
		}
		rows = append(rows, dated{c.MadeAt, row})
	}
	slices.SortStableFunc(rows, func(x, y dated) int { return x.at.Compare(y.at) })
	var cells [][]render.Cell
	for _, d := range rows {
		cells = append(cells, d.row)
	}
	s.Table(columns, cells)
	s.Line("")
	if slices.ContainsFunc(found.Boots, func(b boot.Boot) bool { return b.Usable().Known }) {
		s.SayWrapped(0, render.Dim, "Usable: when one could work, the time left out in which it "+
			"waited for somebody to log in. Login: who did, and when, counted from ready.")
	} else {
		s.SayWrapped(0, render.Dim, "When it was usable nobody recorded; %s has that done.",
			a.call("recorder on"))
	}
	for _, b := range found.Boots {
		if u := b.Usable(); u.Unsure != "" {
			s.SayWrapped(2, render.Dim, "Uncertain: usable of %s, since %s.", b.ID[:8], u.Unsure)
		}
	}
	for _, b := range found.Boots {
		if len(b.Odd) > 0 {
			s.SayWrapped(2, render.Warn, "Odd: %s, since %s.", b.ID[:8],
				render.Clean(strings.Join(b.Odd, "; ")))
		}
	}
}

// notes says in a few words what is to be known of a boot.
func notes(b boot.Boot) (string, render.Tone) {
	var all []string
	tone := render.Dim
	if len(b.Odd) > 0 {
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
func (a *app) unreadLog(s *render.Screen, found linux.Boots) {
	if slices.ContainsFunc(found.Unread, func(u item.Unread) bool {
		return u.Reason == machine.NoPermission
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

func pickBoot(boots []boot.Boot, id string) (boot.Boot, error) {
	if id == "" {
		return boots[len(boots)-1], nil
	}
	var fits []boot.Boot
	for _, b := range boots {
		if strings.HasPrefix(b.ID, strings.ToLower(id)) {
			fits = append(fits, b)
		}
	}
	switch len(fits) {
	case 1:
		return fits[0], nil
	case 0:
		return boot.Boot{}, usage("no remembered boot has an id that begins with %q; calmdawn "+
			"boots lists them", id)
	}
	return boot.Boot{}, usage("%d boots have an id that begins with %q; give more of it",
		len(fits), id)
}

// bootsCSV writes a line a boot, or a line a start.
func (a *app) bootsCSV(found linux.Boots, v bootsView) error {
	switch {
	case !v.spans:
		return writeCSV(a, bootColumns(), found.Boots)
	case len(found.Boots) == 0:
		return nil
	}
	b, err := pickBoot(found.Boots, v.id)
	if err != nil {
		return err
	}
	return writeCSV(a, spanColumns, b.Spans)
}
