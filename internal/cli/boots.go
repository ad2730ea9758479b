package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
)

// ratedBoots is how many of the last boots stand behind a figure about an item.
const ratedBoots = 5

func (a *app) bootsCommand() *cobra.Command {
	var spans bool
	var id string
	cmd := &cobra.Command{
		Use:   "boots",
		Short: "Show the boots that the machine remembers, and how long each took",
		Long: `Boots reads the machine's own log and shows every boot that is still in it: when it began,
how long it took until it was ready, and its phases. Ready counts from the moment the kernel
began until the boot's goal was reached; firmware and loader stand beside it.

--spans shows one boot as a timeline: when each item began to start and when it counted as
started. Its own time is the stretch between; a boot without it may gain less, or more.`,
		Example: `  calmdawn boots
  calmdawn boots --spans                 the last boot as a timeline
  calmdawn boots --spans --boot be6fe0a8
  calmdawn boots --json --spans`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			if id != "" && !spans {
				return usage("--boot chooses the boot for --spans; give both")
			}
			return a.boots(spans, id)
		},
	}
	cmd.Flags().BoolVar(&spans, "spans", false, "show the starts of the items within a boot")
	cmd.Flags().StringVar(&id, "boot", "", "the boot whose id begins with `ID`; the last one if not given")
	return cmd
}

func (a *app) boots(spans bool, id string) error {
	r, err := a.open()
	if err != nil {
		return err
	}
	defer r.Close()
	found := a.remember(r, 0)
	if a.json {
		return a.writeJSON(bootsDocument(found, spans))
	}
	s := a.screen()
	if len(found.Boots) == 0 {
		s.Line("%s", s.Paint(render.Strong, "The machine remembers no boot: there is no log in "+journal.Folder+" that could be read."))
		a.unreadLog(s, found.Unread)
		s.Line("Where the log is kept in memory only, the operating system keeps it on the disk once that folder exists.")
		return nil
	}
	if spans {
		return a.timeline(s, r, found, id)
	}
	changes, err := a.readChanges(r)
	if err != nil {
		return err
	}
	a.bootTable(s, found, changes)
	a.unreadLog(s, found.Unread)
	s.Line("Next: one boot as a timeline, with %s", a.call("boots --spans"))
	return nil
}

// bootHeadline says how long boots take.
func bootHeadline(boots []boot.Boot) string {
	fit := boot.Fit(boots, ratedBoots)
	if len(fit) == 0 {
		return fmt.Sprintf("%s remembered, none of which became ready.", count(len(boots), "boot is", "boots are"))
	}
	var ready []time.Duration
	for _, b := range fit {
		ready = append(ready, b.Ready.Value)
	}
	return fmt.Sprintf("Ready after %s: the median of the last %s%s.", render.Duration(boot.Median(ready)), count(len(fit), "boot", "boots"), simulated(fit))
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

func (a *app) bootTable(s *render.Screen, found linux.Boots, changes []change.Change) {
	s.Line("%s", s.Paint(render.Strong, bootHeadline(found.Boots)))
	s.Line("")
	columns := []render.Column{{Title: "BOOT"}, {Title: "BEGAN"}, {Title: "READY", Right: true}}
	for i, name := range boot.PhaseNames {
		columns = append(columns, render.Column{Title: strings.ToUpper(name), Right: true, Keep: 2 + i})
	}
	columns = append(columns, render.Column{Keep: 1}, render.Column{Title: "NOTE", Keep: 8, Flex: 16})
	longest := time.Duration(0)
	for _, b := range found.Boots {
		longest = max(longest, b.Ready.Value)
	}
	type dated struct {
		at  time.Time
		row []render.Cell
	}
	var rows []dated
	for _, b := range found.Boots {
		row := []render.Cell{render.C(b.ID[:8]), render.C(day(b.Began)), render.C(figure(b.Ready))}
		for _, name := range boot.PhaseNames {
			row = append(row, render.C(figure(b.Phase(name))))
		}
		notes := slices.Clone(b.Odd)
		if b.Simulated {
			notes = append(notes, "simulated")
		}
		bar := ""
		if s.Figures() && b.Ready.Known {
			bar = s.Bar(0, b.Ready.Value, longest, 20)
		}
		row = append(row, render.C(bar), render.Cell{Text: strings.Join(notes, "; "), Tone: render.Dim})
		rows = append(rows, dated{b.Began, row})
	}
	for _, c := range changes {
		if c.Status != change.Done {
			continue
		}
		row := make([]render.Cell, len(columns))
		row[1] = render.Cell{Text: day(c.MadeAt), Tone: render.Good}
		row[len(row)-1] = render.Cell{Text: fmt.Sprintf("change %d: %s", c.ID, what(c)), Tone: render.Good}
		rows = append(rows, dated{c.MadeAt, row})
	}
	slices.SortStableFunc(rows, func(x, y dated) int { return x.at.Compare(y.at) })
	var cells [][]render.Cell
	for _, d := range rows {
		cells = append(cells, d.row)
	}
	s.Table(columns, cells)
	s.Line("")
}

// figure shows a figure that may be unknown.
func figure(f boot.Figure) string {
	if !f.Known {
		return ""
	}
	return render.Seconds(f.Value)
}

func (a *app) unreadLog(s *render.Screen, places []item.Unread) {
	for _, u := range places {
		s.Line("%s", s.Paint(render.Warn, fmt.Sprintf("Of the log, %s: %s", render.Clean(u.Path), render.Clean(u.Reason))))
	}
}

// timeline draws one boot.
func (a *app) timeline(s *render.Screen, r *machine.Root, found linux.Boots, id string) error {
	b, err := pickBoot(found.Boots, id)
	if err != nil {
		return err
	}
	const most = 30
	spans := slices.DeleteFunc(slices.Clone(b.Spans), func(sp boot.Span) bool {
		return !sp.OwnTime().Known || b.Ready.Known && sp.First() > b.Ready.Value
	})
	slices.SortStableFunc(spans, func(x, y boot.Span) int { return cmp.Compare(y.OwnTime().Value, x.OwnTime().Value) })
	left := len(spans) - min(most, len(spans))
	spans = spans[:len(spans)-left]
	slices.SortStableFunc(spans, func(x, y boot.Span) int { return cmp.Compare(x.First(), y.First()) })

	how := "measured"
	if b.Simulated {
		how = "simulated"
	}
	ready := "it never became ready"
	full := time.Duration(0)
	for _, sp := range spans {
		full = max(full, sp.End.Value)
	}
	if b.Ready.Known {
		ready, full = "ready after "+render.Duration(b.Ready.Value), b.Ready.Value
	}
	s.Line("%s", s.Paint(render.Strong, fmt.Sprintf("The boot of %s: %s, %s.", day(b.Began), ready, how)))
	s.Line("")
	columns := []render.Column{{Title: "ITEM", Flex: 24}, {Title: "BEGAN", Right: true, Keep: 1}, {Title: "OWN TIME", Right: true}}
	wide := 0
	if s.Figures() {
		wide = max(20, min(90, s.Width()-52))
		columns = append(columns, render.Column{Title: "0 s" + strings.Repeat(" ", max(1, wide-3-len(render.Seconds(full)))) + render.Seconds(full)})
	} else {
		columns = append(columns, render.Column{Title: "ENDED", Right: true})
	}
	var rows [][]render.Cell
	for _, sp := range spans {
		tone := render.Plain
		if sp.Failed {
			tone = render.Warn
		}
		last := render.C(render.Seconds(sp.End.Value))
		if wide > 0 {
			last = render.Cell{Text: s.Bar(sp.Begin.Value, sp.End.Value, full, wide), Tone: render.Good}
		}
		rows = append(rows, []render.Cell{{Text: render.Clean(sp.Native), Tone: tone}, render.C(render.Seconds(sp.Begin.Value)), render.C(render.Seconds(sp.OwnTime().Value)), last})
	}
	s.Table(columns, rows)
	s.Line("")
	if left > 0 {
		s.Line("%s with less own time: %s", count(left, "more item", "more items"), a.call("boots --spans --json"))
	}
	s.Line("Own time is how long a start took by itself; starts overlap, and what a boot would gain without one is not its own time.")
	return nil
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
		return boot.Boot{}, usage("no remembered boot has an id that begins with %q; calmdawn boots lists them", id)
	}
	return boot.Boot{}, usage("%d boots have an id that begins with %q; give more of it", len(fits), id)
}

type bootsJSON struct {
	Format string        `json:"format"`
	Boots  []bootJSON    `json:"boots"`
	Unread []item.Unread `json:"unread"`
}

type bootJSON struct {
	ID        string             `json:"id"`
	Began     string             `json:"began"`
	Phases    map[string]float64 `json:"phases"`
	Ready     *float64           `json:"ready,omitempty"`
	Goal      string             `json:"goal,omitempty"`
	Odd       []string           `json:"odd"`
	Simulated bool               `json:"simulated"`
	Spans     []spanJSON         `json:"spans,omitempty"`
}

type spanJSON struct {
	Native string   `json:"native"`
	Begin  *float64 `json:"begin,omitempty"`
	End    *float64 `json:"end,omitempty"`
	CPU    *float64 `json:"cpu,omitempty"`
	Failed bool     `json:"failed,omitempty"`
}

// number is a figure in seconds, or nothing.
func number(f boot.Figure) *float64 {
	if !f.Known {
		return nil
	}
	n := f.Value.Seconds()
	return &n
}

func bootsDocument(found linux.Boots, spans bool) bootsJSON {
	d := bootsJSON{Format: "calmdawn.boots/1", Boots: []bootJSON{}, Unread: append([]item.Unread{}, found.Unread...)}
	for _, b := range found.Boots {
		j := bootJSON{ID: b.ID, Began: b.Began.UTC().Format(time.RFC3339Nano), Phases: map[string]float64{}, Ready: number(b.Ready), Goal: b.Goal, Odd: append([]string{}, b.Odd...), Simulated: b.Simulated}
		for _, p := range b.Phases {
			j.Phases[p.Name] = p.Took.Seconds()
		}
		for _, sp := range b.Spans {
			if spans {
				j.Spans = append(j.Spans, spanJSON{sp.Native, number(sp.Begin), number(sp.End), number(sp.CPU), sp.Failed})
			}
		}
		d.Boots = append(d.Boots, j)
	}
	return d
}
