package say

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// An Order says by what an item stands in a list.
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

// Orders are what a list can be sorted by besides cost: the names of its
// columns, with - for blanks.
var Orders = map[string]order{
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

// Groups are what puts items together: what several of them share.
var Groups = []string{"advice", "grade", "kind", "maker", "owner", "role", "state", "when"}

// SortWords are the names of what a list can be sorted by besides cost.
func SortWords() []string { return slices.Sorted(maps.Keys(Orders)) }

// An itemRow is one row of a list of items.
type itemRow struct {
	item.Item
	number int // 0 where numbers would not be taken
	of     *visit.Visit
}

// itemOrder is in which order the columns of a list stand in a file.
var itemOrder = []string{
	"id", "kind", "title", "state", "when", "fires", "owner", "maker", "package", "version",
	"role", "advice", "reason", "grade", "wait (s)", "processor time (s)", "own time (s)",
	"command", "file", "system", "note", "disk read (bytes)", "memory (bytes)", "after login (s)",
	"work of", "switched off", "processors now", "memory now (bytes)",
}

// itemFields are the columns of a list of items. What a command takes is never
// cut: where there are no numbers, ids stay longer. bar draws a wait; nil where
// none is drawn.
func itemFields(numbered bool, bar func(itemRow) render.Cell) []field[itemRow] {
	keepID := 8
	if !numbered {
		keepID = 23
	}
	text := func(head string, of func(item.Item) string) field[itemRow] {
		return field[itemRow]{head: head, text: func(it itemRow) string { return of(it.Item) }}
	}
	return []field[itemRow]{
		{
			Column: render.Column{Title: "NO", Right: true},
			cell: func(it itemRow) render.Cell {
				if it.number == 0 {
					return render.Cell{}
				}
				return render.C(fmt.Sprint(it.number))
			},
		},
		{
			Column: render.Column{Title: "TITLE", Flex: 18, Firm: 25},
			cell: func(it itemRow) render.Cell {
				return render.Cell{Text: render.Clean(it.Title), Tone: StateTone(it.State)}
			},
			head: "title",
			text: func(it itemRow) string { return it.Title },
		},
		text("kind", func(it item.Item) string { return string(it.Kind) }),
		{
			Column: render.Column{Title: "WAIT", Right: true, Keep: 30},
			cell:   func(it itemRow) render.Cell { return WaitCell(it.of, it.Item) },
			head:   "wait (s)",
			number: func(it itemRow) string {
				if c := it.of.Cost(it.Item); c.Replayed {
					return inSeconds(c.Wait.Lead().Saving.Median)
				}
				return ""
			},
		},
		{Column: render.Column{Keep: 7}, cell: bar},
		{
			Column: render.Column{Title: "CPU", Right: true, Keep: 19},
			cell:   func(it itemRow) render.Cell { return cpuCell(it.of, it.Item) },
			head:   "processor time (s)",
			number: func(it itemRow) string { return figureInSeconds(it.of.Cost(it.Item).CPU) },
		},
		{
			Column: render.Column{Title: "GRADE", Keep: 26},
			cell:   func(it itemRow) render.Cell { return GradeCell(it.of, it.Item) },
			head:   "grade",
			text:   func(it itemRow) string { return string(it.of.Cost(it.Item).Grade) },
		},
		{
			Column: render.Column{Title: "DISK", Right: true, Keep: 6},
			cell: func(it itemRow) render.Cell {
				return amountCell(it.Item, it.of.Cost(it.Item).DiskRead)
			},
			head:   "disk read (bytes)",
			number: func(it itemRow) string { return inBytes(it.of.Cost(it.Item).DiskRead) },
		},
		{
			Column: render.Column{Title: "MEMORY", Right: true, Keep: 5},
			cell: func(it itemRow) render.Cell {
				return amountCell(it.Item, it.of.Cost(it.Item).Memory)
			},
			head:   "memory (bytes)",
			number: func(it itemRow) string { return inBytes(it.of.Cost(it.Item).Memory) },
		},
		{
			Column: render.Column{Title: "OWN TIME", Right: true, Keep: 2},
			cell: func(it itemRow) render.Cell {
				own, ok := it.of.OwnTime(it.Item)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Seconds(own.Median))
			},
			head: "own time (s)",
			number: func(it itemRow) string {
				if own, ok := it.of.OwnTime(it.Item); ok {
					return inSeconds(own.Median)
				}
				return ""
			},
		},
		{
			Column: render.Column{Title: "AFTER LOGIN", Right: true, Keep: 4},
			cell: func(it itemRow) render.Cell {
				c := it.of.Cost(it.Item)
				if !c.AfterLogin.Known || !it.State.Launched() {
					return render.Cell{}
				}
				return render.C("+" + render.Seconds(c.AfterLogin.Value))
			},
			head: "after login (s)",
			number: func(it itemRow) string {
				return figureInSeconds(it.of.Cost(it.Item).AfterLogin)
			},
		},
		{
			Column: render.Column{Title: "WORK OF", Keep: 6},
			head:   "work of",
			text: func(it itemRow) string {
				other, _ := it.of.WorkOf(it.Item)
				return other.Native
			},
		},
		{
			Column: render.Column{Title: "CPU NOW", Right: true, Keep: 28},
			cell: func(it itemRow) render.Cell {
				p, ok := it.of.Present(it.Item)
				if !ok {
					return render.Cell{}
				}
				return render.C(fmt.Sprintf("%.1f %%", 100*p.CPU))
			},
			head: "processors now",
			number: func(it itemRow) string {
				if p, ok := it.of.Present(it.Item); ok {
					return fmt.Sprintf("%.3f", p.CPU)
				}
				return ""
			},
		},
		{
			Column: render.Column{Title: "MEMORY NOW", Right: true, Keep: 28},
			cell: func(it itemRow) render.Cell {
				p, ok := it.of.Present(it.Item)
				if !ok {
					return render.Cell{}
				}
				return render.C(render.Bytes(p.Memory))
			},
			head: "memory now (bytes)",
			number: func(it itemRow) string {
				if p, ok := it.of.Present(it.Item); ok {
					return fmt.Sprint(p.Memory)
				}
				return ""
			},
		},
		{
			Column: render.Column{Title: "STATE"},
			cell: func(it itemRow) render.Cell {
				return render.Cell{Text: string(it.State), Tone: StateTone(it.State)}
			},
			head: "state",
			text: func(it itemRow) string { return string(it.State) },
		},
		{
			Column: render.Column{Title: "ADVICE", Keep: 29},
			cell: func(it itemRow) render.Cell {
				return render.Cell{Text: string(it.Advice), Tone: AdviceTone(it.Advice)}
			},
			head: "advice",
			text: func(it itemRow) string { return string(it.Advice) },
		},
		{
			Column: render.Column{Title: "WHEN", Keep: 20},
			joined: true,
			cell: func(it itemRow) render.Cell {
				if it.Unsure {
					return render.C(string(it.When) + "?")
				}
				return render.C(string(it.When))
			},
			head: "when",
			text: func(it itemRow) string { return string(it.When) },
		},
		{
			Column: render.Column{Title: "OWNER", Keep: 27},
			head:   "owner",
			text:   func(it itemRow) string { return it.Owner },
		},
		{
			Column: render.Column{Title: "ROLE", Keep: 3},
			joined: true,
			head:   "role",
			text:   func(it itemRow) string { return it.Role },
		},
		{
			Column: render.Column{Title: "MAKER", Keep: 2, Flex: 12},
			head:   "maker",
			text:   func(it itemRow) string { return it.Maker },
		},
		{
			Column: render.Column{Title: "SWITCHED OFF", Keep: 12},
			cell: func(it itemRow) render.Cell {
				return render.Cell{Text: offSince(it.of, it.Item), Tone: render.Dim}
			},
			head: "switched off",
			text: func(it itemRow) string { return offSince(it.of, it.Item) },
		},
		{
			Column: render.Column{Title: "NOTE", Keep: 11, Flex: 12},
			head:   "note",
			text:   func(it itemRow) string { return it.Note },
		},
		{
			Column: render.Column{Title: "ID", Keep: keepID},
			head:   "id",
			text:   func(it itemRow) string { return it.ID },
		},
		text("fires", func(it item.Item) string { return it.Fires }),
		text("package", func(it item.Item) string { return it.Package }),
		text("version", func(it item.Item) string { return it.Version }),
		text("reason", func(it item.Item) string { return it.Reason }),
		text("command", func(it item.Item) string { return it.Command }),
		text("file", func(it item.Item) string { return it.File }),
		text("system", func(it item.Item) string { return fmt.Sprint(it.System) }),
	}
}

// ItemsCSV returns items as rows of a file of comma-separated values, the heads
// first.
func ItemsCSV(l *visit.Visit, items []item.Item) [][]string {
	var rows []itemRow
	for _, it := range items {
		rows = append(rows, itemRow{Item: it, of: l})
	}
	return separated(itemFields(false, nil), itemOrder, rows)
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
