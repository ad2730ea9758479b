package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// An order says by what an item stands in a list.
type order func(l *visit.Visit, it item.Item) visit.Key

// byText sorts by a text.
func byText(text func(*visit.Visit, item.Item) string) order {
	return func(l *visit.Visit, it item.Item) visit.Key {
		t := strings.ToLower(text(l, it))
		return visit.Key{Text: t, Known: t != ""}
	}
}

// byAmount sorts by an amount.
func byAmount(amount func(*visit.Visit, item.Item) (n float64, known bool)) order {
	return func(l *visit.Visit, it item.Item) visit.Key {
		n, known := amount(l, it)
		if !known {
			return visit.Key{}
		}
		return visit.Amount(n)
	}
}

// orders are what a list can be sorted by besides cost: the names of its
// columns, with - for blanks.
var orders = map[string]order{
	"title":  byText(func(_ *visit.Visit, it item.Item) string { return it.Title }),
	"maker":  byText(func(_ *visit.Visit, it item.Item) string { return it.Maker }),
	"state":  byText(func(_ *visit.Visit, it item.Item) string { return string(it.State) }),
	"when":   byText(func(_ *visit.Visit, it item.Item) string { return string(it.When) }),
	"owner":  byText(func(_ *visit.Visit, it item.Item) string { return it.Owner }),
	"role":   byText(func(_ *visit.Visit, it item.Item) string { return it.Role }),
	"advice": byText(func(_ *visit.Visit, it item.Item) string { return string(it.Advice) }),
	"kind":   byText(func(_ *visit.Visit, it item.Item) string { return string(it.Kind) }),
	"id":     byText(func(_ *visit.Visit, it item.Item) string { return it.ID }),
	"note":   byText(func(_ *visit.Visit, it item.Item) string { return it.Note }),
	"work-of": byText(func(l *visit.Visit, it item.Item) string {
		other, _ := l.WorkOf(it)
		return other.Native
	}),
	"grade": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		place := slices.Index(gradesUp, gradeOf(l, it))
		return float64(place), place >= 0 && it.State.Launched()
	}),
	"wait": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		c := l.Cost(it)
		known := it.State.Launched() && c.Replayed && !notForecast(it, c)
		if !c.Wait.Lead().Shows {
			return 0, known
		}
		return float64(c.Wait.Lead().Saving.Median), known
	}),
	"cpu": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		c := l.Cost(it).CPU
		return float64(c.Value), c.Known && it.State.Launched()
	}),
	"disk": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		d := l.Cost(it).DiskRead
		return float64(d.Bytes), d.Known && it.State.Launched()
	}),
	"memory": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		m := l.Cost(it).Memory
		return float64(m.Bytes), m.Known && it.State.Launched()
	}),
	"own-time": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		own, known := l.OwnTime(it)
		return float64(own.Median), known
	}),
	"after-login": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		d := l.Cost(it).AfterLogin
		return float64(d.Value), d.Known && it.State.Launched()
	}),
	"cpu-now": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		p, runs := l.Present(it)
		return p.CPU, runs
	}),
	"memory-now": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		p, runs := l.Present(it)
		return float64(p.Memory), runs
	}),
	"switched-off": byAmount(func(l *visit.Visit, it item.Item) (float64, bool) {
		c, ok := l.LastChange(it.ID)
		return float64(c.ID), ok
	}),
}

// Two columns that many tables have: what people call an item keeps its width
// longer than its id stands beside it.
var (
	itemColumn = render.Column{Title: "ITEM", Flex: 18, Firm: 5}
	idColumn   = render.Column{Title: "ID", Keep: 5}
)

// groups are what puts items together: what several of them share.
var groups = []string{"advice", "grade", "kind", "maker", "owner", "role", "state", "when"}

// checkOrder refuses orders and groups that there are not. A column's name may
// be given as it stands above the column.
func (f *listing) checkOrder() error {
	for _, name := range []*string{&f.sort, &f.group} {
		*name = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(*name)), " ", "-")
	}
	if _, ok := orders[f.sort]; !ok && f.sort != "cost" {
		return usage("--sort takes cost, %s, not %q", strings.Join(sortWords(), ", "), f.sort)
	}
	if f.group != "" && !slices.Contains(groups, f.group) {
		return usage("--group takes %s, not %q", strings.Join(groups, ", "), f.group)
	}
	f.now = f.now || strings.HasSuffix(f.sort, "-now")
	return nil
}

func sortWords() []string { return slices.Sorted(maps.Keys(orders)) }

// A listed item is one with its number in the list.
type listed struct {
	item.Item
	number int // 0 where numbers would not be taken
}

// itemFields are the columns of a list of items; longest is the longest wait
// among them, for bars. What a command takes is never cut: where there are no
// numbers, ids stay longer.
func itemFields(
	s *render.Screen,
	l *visit.Visit,
	longest time.Duration,
	numbered bool,
) []render.Field[listed] {
	keepID := 8
	if !numbered {
		keepID = 23
	}
	field := func(c render.Column, cell func(item.Item) render.Cell) render.Field[listed] {
		return render.Field[listed]{
			Column: c,
			Cell:   func(it listed) render.Cell { return cell(it.Item) },
		}
	}
	text := func(of func(item.Item) string) func(item.Item) render.Cell {
		return func(it item.Item) render.Cell { return render.C(render.Clean(of(it))) }
	}
	return []render.Field[listed]{
		{Column: render.Column{Title: "NO", Right: true}, Cell: func(it listed) render.Cell {
			if it.number == 0 {
				return render.Cell{}
			}
			return render.C(fmt.Sprint(it.number))
		}},
		field(render.Column{Title: "TITLE", Flex: 18, Firm: 25}, func(it item.Item) render.Cell {
			return render.Cell{Text: render.Clean(it.Title), Tone: stateTone(it.State)}
		}),
		field(render.Column{Title: "GRADE", Keep: 24}, func(it item.Item) render.Cell {
			return gradeCell(l, it)
		}),
		field(render.Column{Title: "WAIT", Right: true, Keep: 30}, func(it item.Item) render.Cell {
			return waitCell(l, it)
		}),
		field(render.Column{Keep: 7}, func(it item.Item) render.Cell {
			return waitBar(s, l, it, longest)
		}),
		field(render.Column{Title: "CPU", Right: true, Keep: 19}, func(it item.Item) render.Cell {
			return cpuCell(l, it)
		}),
		field(render.Column{Title: "DISK", Right: true, Keep: 6}, func(it item.Item) render.Cell {
			return amountCell(it, l.Cost(it).DiskRead)
		}),
		field(render.Column{Title: "MEMORY", Right: true, Keep: 5}, func(it item.Item) render.Cell {
			return amountCell(it, l.Cost(it).Memory)
		}),
		field(
			render.Column{Title: "OWN TIME", Right: true, Keep: 2},
			func(it item.Item) render.Cell {
				own, ok := l.OwnTime(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Seconds(own.Median))
			},
		),
		field(
			render.Column{Title: "AFTER LOGIN", Right: true, Keep: 4},
			func(it item.Item) render.Cell {
				c := l.Cost(it)
				if !c.AfterLogin.Known || !it.State.Launched() {
					return render.Cell{}
				}
				return render.C("+" + render.Seconds(c.AfterLogin.Value))
			},
		),
		field(render.Column{Title: "WORK OF", Keep: 6}, text(func(it item.Item) string {
			other, _ := l.WorkOf(it)
			return other.Native
		})),
		field(
			render.Column{Title: "CPU NOW", Right: true, Keep: 28},
			func(it item.Item) render.Cell {
				p, ok := l.Present(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(fmt.Sprintf("%.1f %%", 100*p.CPU))
			},
		),
		field(
			render.Column{Title: "MEMORY NOW", Right: true, Keep: 28},
			func(it item.Item) render.Cell {
				p, ok := l.Present(it)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Bytes(p.Memory))
			},
		),
		field(render.Column{Title: "STATE"}, func(it item.Item) render.Cell {
			return render.Cell{Text: string(it.State), Tone: stateTone(it.State)}
		}),
		field(render.Column{Title: "ADVICE", Keep: 29}, func(it item.Item) render.Cell {
			return render.Cell{Text: string(it.Advice), Tone: adviceTone(it.Advice)}
		}),
		field(render.Column{Title: "WHEN", Keep: 20}, func(it item.Item) render.Cell {
			if it.Unsure {
				return render.C(string(it.When) + "?")
			}
			return render.C(string(it.When))
		}),
		field(
			render.Column{Title: "OWNER", Keep: 27},
			text(func(it item.Item) string { return it.Owner }),
		),
		field(
			render.Column{Title: "ROLE", Keep: 3},
			text(func(it item.Item) string { return it.Role }),
		),
		field(
			render.Column{Title: "MAKER", Keep: 2, Flex: 12},
			text(func(it item.Item) string { return it.Maker }),
		),
		field(render.Column{Title: "SWITCHED OFF", Keep: 12}, func(it item.Item) render.Cell {
			return render.Cell{Text: offSince(l, it), Tone: render.Dim}
		}),
		field(
			render.Column{Title: "NOTE", Keep: 11, Flex: 12},
			text(func(it item.Item) string { return it.Note }),
		),
		field(
			render.Column{Title: "ID", Keep: keepID},
			text(func(it item.Item) string { return it.ID }),
		),
	}
}

// table shows items, in groups where that is wanted.
func (a *app) table(s *render.Screen, l *visit.Visit, f listing, shown []item.Item) {
	longest := time.Duration(0)
	for _, it := range shown {
		longest = max(longest, l.Cost(it).Wait.Lead().Saving.Median)
	}
	numbered := a.keepList(l, shown)
	fields := itemFields(s, l, longest, numbered)
	title := slices.IndexFunc(fields, func(f render.Field[listed]) bool {
		return f.Title == "TITLE"
	})
	var rows [][]render.Cell
	for n, it := range shown {
		order, grouped := orders[f.group]
		if grouped && (n == 0 || order(l, shown[n-1]) != order(l, it)) {
			if n > 0 {
				rows = append(rows, make([]render.Cell, len(fields)))
			}
			heading := make([]render.Cell, len(fields))
			heading[title] = render.Cell{
				Text: cmp.Or(render.Clean(groupOf(l, it, f.group)), "("+f.group+" not known)"),
				Tone: render.Strong,
			}
			rows = append(rows, heading)
		}
		row := listed{Item: it}
		if numbered {
			row.number = n + 1
		}
		rows = append(rows, render.Row(fields, row))
	}
	titles := s.Table(render.Columns(fields), rows)
	if f.now && !slices.ContainsFunc(shown, func(it item.Item) bool {
		_, runs := l.Present(it)
		return runs
	}) {
		s.Line("")
		s.Line("None of these is seen to run at this moment.")
	}
	if titles["WAIT"] || len(l.Replays) == 0 {
		a.costNotes(s, l)
	}
}

// groupOf is what an item is put together with others by.
func groupOf(l *visit.Visit, it item.Item, by string) string {
	switch by {
	case "grade":
		if !it.State.Launched() {
			return ""
		}
		return string(gradeOf(l, it))
	case "kind":
		return string(it.Kind)
	}
	var f visit.Filter
	for _, c := range f.Choices() {
		if c.Name == by {
			return c.Of(it)
		}
	}
	return ""
}

// keepList keeps what is shown as the last list of the machine, whose numbers
// commands take; false where nobody could give them, or it cannot be kept.
func (a *app) keepList(l *visit.Visit, shown []item.Item) bool {
	folder, err := a.stateFolder()
	if !a.Ask || err != nil {
		return false
	}
	list := notebook.List{At: a.now()}
	for _, it := range shown {
		list.Rows = append(list.Rows, notebook.Row{
			ID:    it.ID,
			Title: it.Title,
			State: string(it.State),
		})
	}
	return list.Keep(folder, l.ListedAs(l.Root)) == nil
}

func (a *app) stateFolder() (string, error) {
	if a.State != "" {
		return a.State, nil
	}
	return notebook.StateFolder()
}

// lastList returns the list of a machine that the person who calls has seen;
// a script has seen none.
func (a *app) lastList(machine string) (notebook.List, error) {
	const why = "the numbers of the last list are for people: name the items"
	switch {
	case a.answered:
		return notebook.List{}, usage("%s, or leave --yes away", why)
	case !a.Ask:
		return notebook.List{}, usage("%s, since nobody is there to be asked", why)
	}
	folder, err := a.stateFolder()
	if err != nil {
		return notebook.List{}, notebook.ErrNoList
	}
	return notebook.LastList(folder, machine)
}
