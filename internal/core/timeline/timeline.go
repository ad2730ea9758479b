// Package timeline arranges one boot as rows: what ready waited for, one thing
// after the other, and below what each had waited for what ran meanwhile.
package timeline

import (
	"cmp"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// A Timeline shows one boot: what ready waited for, what ran meanwhile, and
// when the machine was busy.
type Timeline struct {
	End        time.Duration // of the axis
	Ready      time.Duration // 0 where it never was
	Groups     []Group
	Marks      []Mark
	Busy       []boot.Use // of the whole machine; empty where nobody measured it
	Processors int        // 0 where not known; then Busy is shown as a share of one
}

// A Group is some rows that waited for the same.
type Group struct {
	Title string
	Rows  []Row
}

// A Row is one item, or one phase.
type Row struct {
	Label  string
	Depth  int           // below which row it stands: what it waited for
	Held   time.Duration // from when on it was waiting to be started
	Begin  time.Duration
	End    time.Duration // when it counted as started
	Work   []boot.Use    // what it used by which moment; empty where nobody measured it
	Path   bool          // ready waited for it
	Share  time.Duration // of ready, that it explains; the shares of a path add up to ready
	Failed bool
}

// A Mark is a moment with a name.
type Mark struct {
	Name string
	At   time.Duration
}

// An arrangement is a boot on its way to a timeline.
type arrangement struct {
	boot.Boot
	end    time.Duration
	graphs map[string]boot.Graph // by owner
	path   []boot.Span           // what ready waited for
	onPath map[boot.Key]bool
	show   map[boot.Key]bool // what has a row
}

// Of arranges a boot in groups of about so many rows: first what ready waited
// for, then what else ran, by what it had waited for. It returns how many items
// were folded. The boot's spans have to know their order (see [boot.Fill]);
// without it all of them stand in one group.
func Of(b boot.Boot, most int) (Timeline, int) {
	t := Timeline{Ready: b.Ready.Value, Busy: b.Course, Processors: b.Processors}
	t.Marks, t.End = marks(b)
	a := arrangement{
		Boot:   b,
		end:    t.End,
		graphs: map[string]boot.Graph{},
		onPath: map[boot.Key]bool{},
	}
	a.path = a.graph("").Path(b)
	for _, s := range a.path {
		a.onPath[s.Key()] = true
	}
	a.show = a.worthARow(most)
	if first := a.waitedFor(); len(first.Rows) > 0 {
		t.Groups = append(t.Groups, first)
	}
	t.Groups = append(t.Groups, a.meanwhile()...)
	folded := 0
	for _, s := range b.Spans {
		if s.OwnTime().Known && !a.show[s.Key()] {
			folded++
		}
	}
	return t, folded
}

// marks are the moments with names, and where the axis ends.
func marks(b boot.Boot) (all []Mark, end time.Duration) {
	if !b.Ready.Known {
		for _, s := range b.Spans {
			end = max(end, s.End.Value)
		}
		return nil, end
	}
	end = b.Ready.Value
	all = append(all, Mark{"ready", b.Ready.Value})
	if s := b.Settled.FromReady; s.Known {
		all = append(all, Mark{"settled", b.Ready.Value + s.Value})
		end += s.Value + s.Value/20
	}
	if s := b.Settled; s.Login.Known && s.FromLogin.Known {
		all = append(all,
			Mark{"login", s.Login.Value},
			Mark{"settled after login", s.Login.Value + s.FromLogin.Value})
		end = max(end, s.Login.Value+s.FromLogin.Value*21/20)
	}
	slices.SortFunc(all, func(x, y Mark) int { return cmp.Compare(x.At, y.At) })
	return all, end
}

func (a arrangement) graph(owner string) boot.Graph {
	g, known := a.graphs[owner]
	if !known {
		g = boot.GraphOf(a.Boot, owner)
		a.graphs[owner] = g
	}
	return g
}

// worthARow are the costliest items, and among what ready waited for all that
// took time.
func (a arrangement) worthARow(most int) map[boot.Key]bool {
	var all []boot.Span
	show := map[boot.Key]bool{}
	weight := func(s boot.Span) time.Duration {
		return max(s.OwnTime().Value, min(s.CPU.Value, a.end))
	}
	for _, s := range a.Spans {
		started := s.Begin.Known && s.Begin.Value < a.end && (s.End.Known || s.CPU.Known)
		switch {
		case !started || s.Skipped || s.Is(boot.Manager) || weight(s) < a.end/1000:
		case a.onPath[s.Key()] && s.OwnTime().Value >= a.end/200:
			show[s.Key()] = true
		default:
			all = append(all, s)
		}
	}
	slices.SortStableFunc(all, func(x, y boot.Span) int {
		return cmp.Compare(weight(y), weight(x))
	})
	for _, s := range all[:min(len(all), max(0, most-len(show)))] {
		show[s.Key()] = true
	}
	return show
}

// waitedFor is the group of what ready waited for. Each row explains the time
// since the one before it was done; what is folded counts for the next.
func (a arrangement) waitedFor() Group {
	g := Group{Title: "Ready waited for, one after the other"}
	if len(a.path) == 0 {
		g.Title = "Before the service manager"
	}
	explained := time.Duration(0)
	add := func(row Row) {
		row.Share = row.End - explained
		explained = row.End
		g.Rows = append(g.Rows, row)
	}
	at := time.Duration(0)
	for _, name := range boot.EarlyPhases {
		if p := a.Phase(name); p.Known {
			add(Row{Label: name, Held: at, Begin: at, End: at + p.Value, Path: true})
			at += p.Value
		}
	}
	for i, s := range a.path {
		last := i == len(a.path)-1 && a.Ready.Value-explained >= a.Ready.Value/200
		if a.show[s.Key()] || last {
			row := a.row(s)
			row.Path = true
			add(row)
		}
	}
	return g
}

// meanwhile are the groups of what else ran: each item stands below what it had
// waited for, if that has a row.
func (a arrangement) meanwhile() []Group {
	below := map[boot.Key][]boot.Span{}
	roots := map[string][]boot.Span{}
	var titles []string
	for _, s := range a.Spans {
		if !a.show[s.Key()] || a.onPath[s.Key()] {
			continue
		}
		title := "Meanwhile, not held back by anything known"
		if s.Owner != "" {
			title = "For " + s.Owner
		}
		if holder, ok := a.shownHolder(s); ok {
			if !a.onPath[holder.Key()] {
				below[holder.Key()] = append(below[holder.Key()], s)
				continue
			}
			title = "Meanwhile, once " + holder.Native + " was done"
		}
		if roots[title] == nil {
			titles = append(titles, title)
		}
		roots[title] = append(roots[title], s)
	}
	var groups []Group
	for _, title := range titles {
		g := Group{Title: title}
		var place func(spans []boot.Span, depth int)
		place = func(spans []boot.Span, depth int) {
			for _, s := range spans {
				row := a.row(s)
				row.Depth = depth
				g.Rows = append(g.Rows, row)
				place(below[s.Key()], depth+1)
			}
		}
		place(roots[title], 0)
		groups = append(groups, g)
	}
	return groups
}

// shownHolder returns the nearest unit with a row that a unit's start waited
// for, directly or through others.
func (a arrangement) shownHolder(s boot.Span) (boot.Span, bool) {
	const longest = 1000 // a hostile boot's order may be a circle
	for range longest {
		holder, ok := a.graph(s.Owner).Holder(s)
		if !ok {
			return boot.Span{}, false
		}
		if a.show[holder.Key()] || a.onPath[holder.Key()] {
			return holder, true
		}
		s = holder
	}
	return boot.Span{}, false
}

func (a arrangement) row(s boot.Span) Row {
	row := Row{
		Label:  s.Native,
		Held:   s.Begin.Value,
		Begin:  s.Begin.Value,
		End:    max(s.Begin.Value, s.End.Value),
		Work:   s.Course,
		Failed: s.Failed,
	}
	if holder, ok := a.graph(s.Owner).Holder(s); ok {
		row.Held = min(row.Begin, holder.First())
	}
	return row
}
