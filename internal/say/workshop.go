package say

import (
	"fmt"
	"time"

	"calmdawn/internal/core/elsewhere"
	"calmdawn/internal/render"
)

// day is a date as people read it; empty where there is none.
func day(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.Local().Format(time.DateOnly)
}

// counted is a column of a whole number.
func counted[T any](title, head string, of func(T) int) field[T] {
	digits := func(v T) string { return fmt.Sprint(of(v)) }
	return field[T]{
		Column: right(title), head: head, number: digits,
		cell: func(v T) render.Cell { return render.C(digits(v)) },
	}
}

// right is a column of figures.
func right(title string) render.Column {
	c := narrow[title].of(title)
	c.Right = true
	return c
}

// timed is a column of a time that may not be known.
func timed[T any](title, head string, of func(T) *time.Duration) field[T] {
	return field[T]{
		Column: right(title), head: head,
		number: func(v T) string {
			if d := of(v); d != nil {
				return inSeconds(*d)
			}
			return ""
		},
		cell: func(v T) render.Cell {
			if d := of(v); d != nil {
				return render.C(render.Seconds(*d))
			}
			return render.C("-")
		},
	}
}

// texted is a column of a text.
func texted[T any](title, head string, of func(T) string) field[T] {
	return field[T]{Column: narrow[title].of(title), head: head, text: of}
}

// A width is how a column of these tables gives way on a narrow screen, see
// [render.Column].
type width struct{ flex, keep int }

func (w width) of(title string) render.Column {
	return render.Column{Title: title, Flex: w.flex, Keep: w.keep}
}

var narrow = map[string]width{
	"ITEM": {flex: 14}, "CHANGED": {flex: 14}, "MACHINE": {flex: 12},
	"MODEL": {keep: 2}, "ADDED BY": {keep: 3}, "MAKER": {flex: 10, keep: 4},
	"KNOWN OF": {keep: 5}, "BOOTS": {keep: 5}, "BOOTS SINCE": {keep: 5}, "SURVEYED": {keep: 6},
	"USABLE": {keep: 7}, "LIKELY": {keep: 7}, "WITH OTHERS": {keep: 8}, "FAMILY": {keep: 12},
	"ON OTHERS": {keep: 10}, "TAKEN BACK": {keep: 11},
}

var holdingFields = []field[elsewhere.Holding]{
	texted("ITEM", "title", func(h elsewhere.Holding) string { return h.Title }),
	texted("MAKER", "maker", func(h elsewhere.Holding) string { return h.Maker }),
	texted("MACHINE", "machine", func(h elsewhere.Holding) string { return h.Machine }),
	texted("OF", "owner", func(h elsewhere.Holding) string { return h.Owner }),
	texted("STATE", "state", func(h elsewhere.Holding) string { return h.State }),
	texted("VERSION", "version", func(h elsewhere.Holding) string { return h.Version }),
	timed("WAIT", "wait", func(h elsewhere.Holding) *time.Duration { return h.Wait }),
	texted("SURVEYED", "taken", func(h elsewhere.Holding) string { return day(h.Taken) }),
	texted("ADDED BY", "added_by", func(h elsewhere.Holding) string { return h.By }),
}

var expenseFields = []field[elsewhere.Expense]{
	texted("ITEM", "title", func(e elsewhere.Expense) string { return e.Title }),
	texted("MAKER", "maker", func(e elsewhere.Expense) string { return e.Maker }),
	texted("FAMILY", "family", func(e elsewhere.Expense) string { return e.Family }),
	counted("MACHINES", "machines", func(e elsewhere.Expense) int { return e.Machines }),
	counted("KNOWN OF", "measured", func(e elsewhere.Expense) int { return e.Measured }),
	timed("ALL TOGETHER", "sum", func(e elsewhere.Expense) *time.Duration { return &e.Sum }),
	timed("EACH", "median", func(e elsewhere.Expense) *time.Duration { return e.Median }),
}

var effectFields = []field[elsewhere.Effect]{
	texted("ITEM", "title", func(e elsewhere.Effect) string { return e.Title }),
	texted("MAKER", "maker", func(e elsewhere.Effect) string { return e.Maker }),
	texted("FAMILY", "family", func(e elsewhere.Effect) string { return e.Family }),
	texted("DECISION", "verb", func(e elsewhere.Effect) string { return e.Verb }),
	counted("MACHINES", "machines", func(e elsewhere.Effect) int { return e.Machines }),
	counted("ALONE", "measured", func(e elsewhere.Effect) int { return e.Measured }),
	timed("SAVED", "saved", func(e elsewhere.Effect) *time.Duration { return e.Saved }),
	timed("LIKELY", "likely", func(e elsewhere.Effect) *time.Duration { return e.Likely }),
	counted("WITH OTHERS", "joint", func(e elsewhere.Effect) int { return e.Joint }),
	counted("TAKEN BACK", "back", func(e elsewhere.Effect) int { return e.Back }),
}

var returnFields = []field[elsewhere.Return]{
	texted("MACHINE", "machine", func(r elsewhere.Return) string { return r.Machine }),
	texted("ITEM", "title", func(r elsewhere.Return) string { return r.Title }),
	texted("MAKER", "maker", func(r elsewhere.Return) string { return r.Maker }),
	texted("SWITCHED OFF", "off", func(r elsewhere.Return) string { return day(r.Off) }),
	texted("ON AGAIN BY", "taken", func(r elsewhere.Return) string { return day(r.Taken) }),
}

var callFields = []field[elsewhere.Call]{
	texted("MACHINE", "machine", func(c elsewhere.Call) string { return c.Machine }),
	texted("MODEL", "model", func(c elsewhere.Call) string { return c.Model }),
	counted("CAN GO", "items", func(c elsewhere.Call) int { return c.Items }),
	timed("IN SUM", "sum", func(c elsewhere.Call) *time.Duration { return c.Sum }),
	timed("READY", "ready", func(c elsewhere.Call) *time.Duration { return c.Ready }),
	timed("USABLE", "usable", func(c elsewhere.Call) *time.Duration { return c.Usable }),
	texted("SURVEYED", "taken", func(c elsewhere.Call) string { return day(c.Taken) }),
}

var slowedFields = []field[elsewhere.Slowed]{
	texted("MACHINE", "machine", func(s elsewhere.Slowed) string { return s.Machine }),
	timed("BEFORE", "before", func(s elsewhere.Slowed) *time.Duration { return &s.Before }),
	timed("SINCE", "after", func(s elsewhere.Slowed) *time.Duration { return &s.After }),
	counted("BOOTS", "boots_before", func(s elsewhere.Slowed) int { return s.Boots }),
	counted("BOOTS SINCE", "boots_after", func(s elsewhere.Slowed) int { return s.Since }),
}

var suspectFields = []field[elsewhere.Suspect]{
	texted("CHANGED", "", func(s elsewhere.Suspect) string { return s.Title }),
	texted("MAKER", "", func(s elsewhere.Suspect) string { return s.Maker }),
	texted("FAMILY", "", func(s elsewhere.Suspect) string { return s.Family }),
	texted("VERSION", "", func(s elsewhere.Suspect) string { return s.Version }),
	texted("ON SLOWER", "", func(s elsewhere.Suspect) string {
		return fmt.Sprintf("%d of %d", s.Have, s.Of)
	}),
	texted("ON OTHERS", "", func(s elsewhere.Suspect) string {
		return fmt.Sprintf("%d of %d", s.OthersHave, s.Others)
	}),
	texted("BY CHANCE", "", func(s elsewhere.Suspect) string {
		if p := s.Chance() * 100; p >= 0.1 {
			return fmt.Sprintf("%.1f %%", p)
		}
		return "under 0.1 %"
	}),
}

// An Answer is the answer to a question about many machines.
type Answer struct {
	head []render.Column
	rows [][]render.Cell
	csv  [][]string
	none string  // what is said where there is no row
	tell string  // what is to be known of the figures
	more *Answer // is shown below it; nil where nothing is
}

func answer[T any](fields []field[T], rows []T, none, tell string) Answer {
	shown := onScreen(fields)
	a := Answer{
		head: columnsOf(shown), csv: separated(fields, nil, rows), none: none, tell: tell,
	}
	for _, r := range rows {
		a.rows = append(a.rows, rowOf(shown, r))
	}
	return a
}

// CSV is the answer as rows of a file of comma-separated values.
func (a Answer) CSV() [][]string { return a.csv }

// Show shows at most so many rows of the answer (0: all).
func (a Answer) Show(s Page, most int) {
	if len(a.rows) == 0 {
		s.Wrap(0, "%s", a.none)
		return
	}
	rows := a.rows
	if most > 0 && len(rows) > most {
		rows = rows[:most]
	}
	s.Table(a.head, rows)
	if n := len(a.rows) - len(rows); n > 0 {
		s.Wrap(0, "%d more; --all shows them, --csv writes them for a spreadsheet.", n)
	}
	if a.tell != "" {
		s.Line("")
		s.Wrap(0, "%s", a.tell)
	}
	if a.more != nil {
		s.Line("")
		a.more.Show(s, most)
	}
}

// Holdings are which machines launch something.
func Holdings(all []elsewhere.Holding) Answer {
	return answer(holdingFields, all, "No machine of the workshop has such an item.", "")
}

// Expenses are what costs most over all machines.
func Expenses(all []elsewhere.Expense) Answer {
	return answer(expenseFields, all, "No cost is known of any item of the workshop.",
		"All together is how long people wait for it, one start of each machine, in sum. It is a "+
			"forecast for each item alone. Each is the median of machines, from three on.")
}

// Effects are what decisions brought.
func Effects(all []elsewhere.Effect) Answer {
	return answer(effectFields, all, "No decision on such an item is on record.",
		"Saved is the median of what was measured where a change turned that item alone, from "+
			"three machines on. Likely is the same as if three more machines had saved what all "+
			"items do. What was measured with others is never divided between them.")
}

// Returned are the items that came back on.
func Returned(all []elsewhere.Return) Answer {
	return answer(returnFields, all, "Nothing that was switched off is on again.", "")
}

// Visits are which machines have most that could go.
func Visits(all []elsewhere.Call) Answer {
	return answer(callFields, all, "No machine of the workshop launches what could go.",
		"In sum is what each item would save alone. Waits overlap, so together they save less; "+
			"forecast tells how much, on the machine.")
}

// Slowed are which machines became slower, and what changed on them.
func Slowed(all []elsewhere.Slowed, suspects []elsewhere.Suspect, others int) Answer {
	none := "No machine has three comparable boots before that day and since."
	if others > 0 {
		none = fmt.Sprintf("None of %s with three comparable boots on both "+
			"sides became slower by two seconds and a tenth.",
			Count(others, "machine", "machines"))
	}
	a := answer(slowedFields, all, none, fmt.Sprintf("Slower by two seconds and a tenth, or "+
		"more, of the median until ready. %s did not become slower.",
		Count(others, "other machine", "other machines")))
	if len(all) > 0 {
		a.more = changed(suspects)
	}
	return a
}

// changed are what changed on slower machines, and less on others.
func changed(all []elsewhere.Suspect) *Answer {
	a := answer(suspectFields, all, "Nothing changed on three or more of them.",
		"By chance is how likely so many of the slower machines have it if it had nothing to do "+
			"with that. Of many items one has a small chance by luck: a suspicion, no proof.")
	return &a
}

// ShowSimulated says of how many machines a simulator made figures.
func ShowSimulated(s Page, st elsewhere.Standing) {
	if st.Simulated > 0 {
		s.Wrap(0, "Simulated: figures of %s are a simulator's work, and no measurement.",
			Count(st.Simulated, "machine", "machines"))
	}
}

// ShowWorkshop says how much a workshop holds, how many deliveries wait, and
// what can be asked.
func ShowWorkshop(s Page, where string, st elsewhere.Standing, waiting int) {
	s.Say(render.Strong, "The workshop %s holds %s, %s, %s and %s.", render.Clean(where),
		Count(st.Machines, "machine", "machines"), Count(st.Items, "item", "items"),
		Count(st.Boots, "boot", "boots"), Count(st.Decisions, "decision", "decisions"))
	if waiting > 0 {
		s.Line("In the inbox: %s; %s takes them in.",
			Count(waiting, "delivery", "deliveries"), s.Call("workshop add --inbox"))
	}
	ShowSimulated(s, st)
	s.Line("")
	var rows [][]render.Cell
	for _, ask := range [][2]string{
		{"workshop who TEXT", "which machines launch it"},
		{"workshop costs", "what costs most over all"},
		{"workshop effects", "what switching off brought"},
		{"workshop slower --since DAY", "which became slower, and what they share"},
		{"workshop returned", "what came back on"},
		{"workshop visits", "which have most that could go"},
	} {
		rows = append(rows, []render.Cell{
			render.C("  " + render.Parted(s.Call(ask[0]))), render.C(ask[1]),
		})
	}
	s.Table([]render.Column{{Title: "ASK"}, {Title: "TO LEARN"}}, rows)
}
