package say

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// outlook answers how long a boot takes and what of it can go.
func outlook(l *visit.Visit) string {
	fit := boot.Fit(l.Baseline.Boots, visit.RatedBoots)
	if len(fit) == 0 {
		return "Nothing is known of how long its boots take."
	}
	text := bootHeadline(l.Baseline.Boots)
	if len(l.Replays) == 0 {
		return text
	}
	f := l.ByAdvice()
	if n := len(l.Baseline.Off); n > 0 {
		text += fmt.Sprintf(" With %s switched off or delayed since, %s: %s after %s, "+
			"by forecast.", Count(n, "item", "items"), notFelt(l, n), f.Lead().On,
			render.Duration(f.Lead().Now))
	}
	text += lacking(l)
	ask, lead := toAskAbout(l), f.Lead()
	if !lead.Shows {
		return text + " By advice, nothing more can go that would be felt." + ask
	}
	return fmt.Sprintf("%s %s%s of %s can go or wait, by advice and forecast%s.%s", text,
		Capital(atLeast(f)), render.Duration(lead.Saving.Median), render.Clean(lead.Title()),
		ofSystem(l.Dispensable()), ask)
}

// OfSystem says how many of some items are the operating system's own; empty
// where none is.
func ofSystem(items []item.Item) string {
	n := 0
	for _, it := range items {
		if it.System {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d of the %s %s of the operating system)", n,
		Count(len(items), "item", "items"), plural(n, "is a part", "are parts"))
}

// toAskAbout names what costs and is neither to be kept nor to go by advice:
// somebody has to be asked.
func toAskAbout(l *visit.Visit) string {
	items := slices.DeleteFunc(slices.Clone(l.Items), func(it item.Item) bool {
		return it.Advice != item.LookUp || it.Protected != ""
	})
	l.Rate(items)
	items = slices.DeleteFunc(items, func(it item.Item) bool {
		return !l.Cost(it).Wait.Lead().Shows
	})
	l.SortByCost(items)
	return named(l, items, " Look up, since people wait for it: ")
}

// named lists the costliest of some items with their waits.
func named(l *visit.Visit, items []item.Item, lead string) string {
	const most = 3
	if len(items) == 0 {
		return ""
	}
	var parts []string
	for _, it := range items[:min(most, len(items))] {
		parts = append(parts, fmt.Sprintf("%s (%s)", render.Clean(it.Title),
			render.Duration(l.Cost(it).Wait.Lead().Saving.Median)))
	}
	text := lead + strings.Join(parts, ", ")
	if n := len(items) - most; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text + "."
}

// lacking says what was switched on since the boots that figures count from;
// empty where nothing was.
func lacking(l *visit.Visit) string {
	if len(l.Baseline.Lacks) == 0 {
		return ""
	}
	const most = 3
	some, more := l.Baseline.Lacks, ""
	if n := len(some) - most; n > 0 {
		some, more = some[:most], fmt.Sprintf(" and %d more", n)
	}
	return fmt.Sprintf(" What was switched on since is not in the figures, for it was in no boot: "+
		"%s%s.", render.Clean(strings.Join(some, ", ")), more)
}

// setUpNow says from what forecasts count, where that is not the boots as they
// were; empty otherwise.
func setUpNow(l *visit.Visit) string {
	text := ""
	if n := len(l.Baseline.Off); n > 0 {
		text = fmt.Sprintf(" It counts from the machine as it is set up now: without the %s "+
			"switched off or delayed since, %s.", Count(n, "item", "items"), notFelt(l, n))
	}
	return text + lacking(l)
}

// notFelt says, as a clause, why boots do not show yet what was decided on some
// items.
func notFelt(l *visit.Visit, items int) string {
	waiting := map[string]bool{}
	for _, c := range job.Waiting(l.Boots, l.Changes) {
		for _, t := range c.Targets {
			waiting[t.ID] = true
		}
	}
	all := !slices.ContainsFunc(l.Baseline.Off, func(id string) bool { return !waiting[id] })
	switch {
	case all:
		return "which " + plural(items, "waits", "wait") + " for a restart"
	case len(waiting) > 0:
		return "a set-up that no boot has had yet"
	}
	return "which too few boots have felt that can be compared"
}

// OfSimulated labels a forecast behind which no measured boot stands; empty
// otherwise.
func OfSimulated(l *visit.Visit) string {
	if !l.Simulated() {
		return ""
	}
	return " Those boots are simulated."
}

// gaps says loudly what makes a list look whole that is not.
func gaps(s Page, places []item.Unread) {
	for _, u := range places {
		if u.Kind == item.Gap {
			s.SayWrapped(2, render.Bad, "MIND: %s %s.", render.Clean(u.Path),
				render.Clean(u.Reason))
		}
	}
}

// headline answers what the list is asked for.
func headline(l *visit.Visit, of Listing) string {
	f := of.Filter
	switch {
	case len(l.Items) == 0:
		return fmt.Sprintf("Nothing was found that %s launches by itself.", MachineName(l))
	case len(of.Grades) > 0:
		return fmt.Sprintf("%d of the %d items of %s, graded %s.",
			len(of.Shown)+of.gathered()+len(of.Folded), len(l.Items), MachineName(l),
			strings.Join(of.Grades, " or "))
	case !f.Chooses():
		return fmt.Sprintf("%s launches %s by itself (%s).", MachineName(l),
			Count(launched(l.Items), "thing", "things"), states(l.Items))
	}
	var fits []item.Item
	for _, it := range l.Items {
		if f.Accepts(it) {
			fits = append(fits, it)
		}
	}
	if len(fits) == 0 {
		return fmt.Sprintf("None of the %d items of %s is like that.", len(l.Items),
			MachineName(l))
	}
	return fmt.Sprintf("%d of the %d items of %s (%s).", len(fits), len(l.Items), MachineName(l),
		states(fits))
}

// gathered is how many items stand in the row of another one.
func (of Listing) gathered() (n int) {
	for _, row := range of.Shown {
		n += len(row.With)
	}
	return n
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

// remarks tells what is to be known of places that were read, those of one
// reason in one line.
func remarks(s Page, places []item.Unread) {
	const most = 8
	at := map[string][]string{}
	var reasons []string
	for _, u := range places {
		if at[u.Reason] == nil {
			reasons = append(reasons, u.Reason)
		}
		at[u.Reason] = append(at[u.Reason], render.Clean(u.Path))
	}
	for _, why := range reasons[:min(most, len(reasons))] {
		s.SayWrapped(2, render.Warn, "Mind: %s: %s.", few(at[why]), render.Clean(why))
	}
	if n := len(reasons) - most; n > 0 {
		s.Line("And %d remarks more: list --json has all.", n)
	}
}

// unreadPlaces tells which places the survey could not read.
func unreadPlaces(s Page, places []item.Unread) {
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
		"Not the whole list: "+Count(len(places), "place was not read.", "places were not read."))
	for _, u := range places[:min(most, len(places))] {
		s.Line("  %s: %s", render.Clean(u.Path), render.Clean(u.Reason))
	}
	if slices.ContainsFunc(places, func(u item.Unread) bool {
		return u.Kind == item.Denied
	}) {
		s.Line("  To see what needs permission, call it as root (sudo).")
	}
	if len(places) > most {
		s.Line("  and %d more: %s", len(places)-most, s.Call("list --json"))
	}
}

// ShowFrozen says why nothing can be changed on a disk, and what helps; nothing
// of one that takes changes.
func ShowFrozen(s Page, m *visit.Machine) {
	why, ways := m.Frozen()
	if why == "" {
		return
	}
	s.SayWrapped(2, render.Warn, "Nothing can be changed on this disk now: %s.",
		render.Clean(why))
	for _, way := range ways {
		s.Wrap(4, "  %s", render.Clean(way))
	}
}

// A Listing is what a list shows, and what it only counts.
type Listing struct {
	Shown            []visit.Row
	Folded, AdminToo []item.Item
	Aside            int // drivers and the like
	Filter           visit.Filter
	Group            string // what puts items together, of Groups; empty for nothing
	Now              bool   // with what runs at this moment
	Numbered         bool   // commands take the numbers of the rows
	Grades           []string
}

// ShowList shows the items of a machine.
func ShowList(s Page, l *visit.Visit, of Listing) {
	s.Say(render.Strong, "%s", headline(l, of))
	if !of.Filter.Chooses() && len(of.Grades) == 0 {
		s.Wrap(0, "%s", outlook(l))
	}
	ShowFrozen(s, l.Machine)
	gaps(s, l.Unread)
	if len(of.Shown) > 0 {
		s.Line("")
		itemTable(s, l, of)
	}
	s.Line("")
	showFolded(s, l, of)
	for _, b := range slices.Backward(l.Boots) {
		if len(b.Programs) == 0 || of.Filter.Chooses() {
			continue
		}
		if u := l.LoginUse(b); u.Whole() > u.Items {
			s.Line("%s of the processor time of the last recorded login belongs to no item: %s",
				Capital(share(u.Whole()-u.Items, u.Whole())), s.Call("boots "+b.Short()))
		}
		break
	}
	unreadPlaces(s, l.Unread)
	remarks(s, l.Remarks)
	if !of.Filter.Chooses() {
		s.SayWrapped(2, render.Dim, "Not looked at: %s.", l.Beyond())
	}
	if len(of.Shown) > 0 {
		s.Line("Next: look at one of them, for instance with %s",
			s.Call("show "+ShellWord(of.Shown[0].ID)))
	}
}

// showFolded says how many items a list does not show, and which of them
// people wait for.
func showFolded(s Page, l *visit.Visit, of Listing) {
	if n := of.gathered(); n > 0 {
		s.Line("%s in the row of another one of the same package: %s",
			Count(n, "item stands", "items stand"), s.Call("list --each"))
	}
	if len(of.Folded) > 0 {
		s.Line("%s of the operating system itself (%s): %s",
			Count(len(of.Folded), "more is a part", "more are parts"), states(of.Folded),
			s.Call("list --all"))
	}
	if of.Aside > 0 {
		s.Line("Besides %s, which are not switched: %s",
			Count(of.Aside, "driver or the like", "drivers and the like"),
			s.Call("list --all"))
	}
	mayWait := slices.DeleteFunc(slices.Clone(of.Folded), func(it item.Item) bool {
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
	if l.Guessed && len(of.Folded) > 0 {
		s.Wrap(2, "  Nothing is on record of which packages somebody chose: what is a part is "+
			"told from their priority, their section and the sets of installers.")
	}
	if len(of.AdminToo) > 0 {
		s.Line("%s only when root logs in: %s",
			Count(len(of.AdminToo), "more starts", "more start"), s.Call("list --owner root"))
	}
}

// sharedTitles are the titles that things of several makers have.
func sharedTitles(items []visit.Row) map[string]bool {
	makers, shared := map[string]string{}, map[string]bool{}
	for _, it := range items {
		maker, known := makers[it.Title]
		if known && maker != it.Maker {
			shared[it.Title] = true
		}
		makers[it.Title] = it.Maker
	}
	return shared
}

// itemTable shows items, in groups where that is wanted.
func itemTable(s Page, l *visit.Visit, of Listing) {
	longest := time.Duration(0)
	for _, it := range of.Shown {
		longest = max(longest, l.Cost(it.Item).Wait.Lead().Saving.Median)
	}
	fields := onScreen(itemFields(of.Numbered, func(it itemRow) render.Cell {
		return waitBar(s, l, it.Item, longest)
	}))
	title := slices.IndexFunc(fields, func(f field[itemRow]) bool { return f.Title == "TITLE" })
	shared := sharedTitles(of.Shown)
	var rows [][]render.Cell
	for n, it := range of.Shown {
		order, grouped := Orders[of.Group]
		if grouped && (n == 0 || order(l, of.Shown[n-1].Item) != order(l, it.Item)) {
			if n > 0 {
				rows = append(rows, make([]render.Cell, len(fields)))
			}
			heading := make([]render.Cell, len(fields))
			heading[title] = render.Cell{
				Text: cmp.Or(render.Clean(groupOf(l, it.Item, of.Group)),
					"("+of.Group+" not known)"),
				Tone: render.Strong,
			}
			rows = append(rows, heading)
		}
		row := itemRow{Item: it.Item, of: l}
		if of.Numbered {
			row.number = n + 1
		}
		cells := rowOf(fields, row)
		if shared[it.Title] && it.Maker != "" {
			cells[title].Text += " (" + render.Clean(it.Maker) + ")"
		}
		if n := len(it.With); n > 0 {
			cells[title].Tail = fmt.Sprintf(", and %d more", n)
		}
		for _, other := range it.With {
			for i, cell := range rowOf(fields, itemRow{Item: other, of: l}) {
				switch {
				case !fields[i].joined || strings.Contains(cells[i].Text, cell.Text):
				case cells[i].Text == "":
					cells[i].Text = cell.Text
				default:
					cells[i].Text += ", " + cell.Text
				}
			}
		}
		rows = append(rows, cells)
	}
	titles := s.Table(columnsOf(fields), rows)
	if of.Now && !slices.ContainsFunc(of.Shown, func(row visit.Row) bool {
		_, runs := l.Present(row.Item)
		return runs
	}) {
		s.Line("")
		s.Line("None of these is seen to run at this moment.")
	}
	if titles["WAIT"] || len(l.Replays) == 0 {
		costNotes(s, l, of.Shown)
	}
}
