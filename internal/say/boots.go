package say

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/family"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// bootHeadline says how long boots take.
func bootHeadline(boots []boot.Boot) string {
	fit := boot.Fit(boots, visit.RatedBoots)
	written := func(b boot.Boot) bool { return !b.Unwritten }
	switch {
	case len(boots) > 0 && !slices.ContainsFunc(boots, written):
		return fmt.Sprintf("%s took is not known.%s", Count(len(boots),
			"boot is remembered. How long it", "boots are remembered. How long they"),
			toDesktop(boots))
	case len(fit) == 0:
		return fmt.Sprintf("%s remembered, none that became ready and can be compared.",
			Count(len(boots), "boot is", "boots are"))
	}
	var ready []time.Duration
	for _, b := range fit {
		ready = append(ready, b.Ready.Value)
	}
	last := Count(len(fit), "boot", "boots")
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

// toDesktop says how long it takes from a login to its desktop's start, where
// nothing else is known of how long boots take. It is of the one who logged in
// first most often.
func toDesktop(boots []boot.Boot) string {
	of := map[string][]time.Duration{}
	for _, b := range boots {
		if len(b.Logins) > 0 && b.Logins[0].Desktop.Known {
			l := b.Logins[0]
			of[l.User] = append(of[l.User], l.Desktop.Value)
		}
	}
	most, user := 0, ""
	for _, name := range slices.Sorted(maps.Keys(of)) {
		if len(of[name]) > most {
			most, user = len(of[name]), name
		}
	}
	if most == 0 {
		return ""
	}
	return fmt.Sprintf(" From the login of %s to the start of the desktop it takes %s, the median "+
		"of %s.", render.Clean(cmp.Or(user, "somebody")), render.Duration(boot.Median(of[user])),
		Count(most, "login", "logins"))
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

// A bootRow is one row of a list of boots.
type bootRow struct {
	boot.Boot
	number int    // among those that are remembered
	labels string // the technician's words for it
	side   string // on which it stands, of a comparison
}

// bootFields are the columns of a list of boots.
func bootFields() []field[bootRow] {
	fields := []field[bootRow]{
		{
			Column: render.Column{Title: "NO", Right: true},
			cell:   func(b bootRow) render.Cell { return render.C(fmt.Sprint(b.number)) },
		},
		{
			Column: render.Column{Title: "BOOT", Keep: 8},
			cell:   func(b bootRow) render.Cell { return render.C(b.Short()) },
			head:   "id",
			text:   func(b bootRow) string { return b.ID },
		},
		{
			Column: render.Column{Title: "BEGAN"},
			cell:   func(b bootRow) render.Cell { return render.C(Day(b.Began)) },
			head:   "began",
			text:   func(b bootRow) string { return b.Began.UTC().Format(time.RFC3339) },
		},
		{
			Column: render.Column{Title: "USABLE", Right: true},
			cell: func(b bootRow) render.Cell {
				u := b.Usable()
				if u.Unsure != "" {
					return render.C(figure(u.Figure) + "?")
				}
				return render.C(figure(u.Figure))
			},
			head:   "usable (s)",
			number: func(b bootRow) string { return figureInSeconds(b.Usable().Figure) },
		},
		{head: "kind", text: func(b bootRow) string { return b.Usable().Kind }},
		{
			Column: render.Column{Title: "LOGIN", Keep: 9},
			cell:   func(b bootRow) render.Cell { return render.C(loginText(b.Boot)) },
			head:   "login after ready (s)",
			number: func(b bootRow) string { return figureInSeconds(b.Usable().Waited) },
		},
		{
			Column: render.Column{Title: "READY", Right: true},
			cell:   func(b bootRow) render.Cell { return render.C(figure(b.Ready)) },
			head:   "ready (s)",
			number: func(b bootRow) string { return figureInSeconds(b.Ready) },
		},
		{
			Column: render.Column{Title: "SETTLED", Right: true, Keep: 6},
			cell: func(b bootRow) render.Cell {
				if !b.Settled.FromReady.Known {
					return render.Cell{}
				}
				return render.C("+" + render.Seconds(b.Settled.FromReady.Value))
			},
			head:   "settled from ready (s)",
			number: func(b bootRow) string { return figureInSeconds(b.Settled.FromReady) },
		},
		{
			head:   "settled from login (s)",
			number: func(b bootRow) string { return figureInSeconds(b.Settled.FromLogin) },
		},
	}
	for i, name := range boot.PhaseNames {
		fields = append(fields, field[bootRow]{
			Column: render.Column{Title: strings.ToUpper(name), Right: true, Keep: 1 + i},
			cell:   func(b bootRow) render.Cell { return render.C(figure(b.Phase(name))) },
			head:   name + " (s)",
			number: func(b bootRow) string { return figureInSeconds(b.Phase(name)) },
		})
	}
	return append(fields,
		field[bootRow]{
			Column: render.Column{Title: "NOTE", Keep: 10, Flex: 16},
			cell: func(b bootRow) render.Cell {
				text, tone := notesOn(b.Boot)
				return render.Cell{
					Text: render.Clean(strings.Trim(b.labels+"; "+text, "; ")), Tone: tone,
				}
			},
		},
		field[bootRow]{
			head: "odd",
			text: func(b bootRow) string { return strings.Join(b.Odd, "; ") },
		},
		field[bootRow]{
			head: "simulated",
			text: func(b bootRow) string { return fmt.Sprint(b.Simulated) },
		})
}

// BootsCSV returns boots as rows of a file of comma-separated values, the heads
// first.
func BootsCSV(boots []boot.Boot) [][]string {
	var rows []bootRow
	for _, b := range boots {
		rows = append(rows, bootRow{Boot: b})
	}
	return separated(bootFields(), nil, rows)
}

// spanFields are the columns of the starts within a boot.
var spanFields = []field[boot.Span]{
	{head: "native", text: func(s boot.Span) string { return s.Native }},
	{head: "owner", text: func(s boot.Span) string { return s.Owner }},
	{head: "begin (s)", number: func(s boot.Span) string { return figureInSeconds(s.Begin) }},
	{head: "end (s)", number: func(s boot.Span) string { return figureInSeconds(s.End) }},
	{
		head:   "processor time (s)",
		number: func(s boot.Span) string { return figureInSeconds(s.CPU) },
	},
	{head: "disk read (bytes)", number: func(s boot.Span) string {
		if !s.DiskRead.Known {
			return ""
		}
		return fmt.Sprint(s.DiskRead.Bytes)
	}},
	{head: "failed", text: func(s boot.Span) string { return fmt.Sprint(s.Failed) }},
}

// SpansCSV returns the starts within a boot as rows of a file of
// comma-separated values, the heads first.
func SpansCSV(spans []boot.Span) [][]string { return separated(spanFields, nil, spans) }

// Boots are the boots that a machine remembers, as a list shows them.
type Boots struct {
	Found      family.Boots
	Last       int // how many of them are shown
	Changes    []change.Change
	Labels     map[string][]string // boots by the technician's words for them
	Recordable bool                // a recorder could watch the next boots
	Now        time.Time
}

// ShowNoBoots says that a machine remembers no boot, and where one would stand.
func ShowNoBoots(s Page, log string, found family.Boots, recordable bool) {
	s.Say(render.Strong, "The machine remembers no boot: there is no log in %s that could be "+
		"read.", log)
	unreadLog(s, found)
	if recordable {
		s.Line("Where the log is kept in memory only, the operating system keeps it on the " +
			"disk once that folder exists.")
	}
}

// ShowBoots shows the last boots of all that are remembered, and the changes
// between them.
func ShowBoots(s Page, of Boots) {
	s.SayWrapped(0, render.Strong, "%s",
		bootHeadline(job.BaselineOf(of.Found.Boots, of.Changes, of.Now).Boots))
	s.Line("")
	shown := of.Found.Boots[len(of.Found.Boots)-of.Last:]
	titles := bootTable(s, shown, of)
	s.Line("")
	bootLegend(s, shown, titles, of.Recordable)
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
	unreadLog(s, of.Found)
	if last := shown[len(shown)-1]; !last.Unwritten {
		s.Line("Next: what one boot waited for, with %s", s.Call("boots last"))
	}
}

// bootTable is the table of boots, with the changes between them; it returns
// the titles of the columns that there was room for.
func bootTable(s Page, shown []boot.Boot, of Boots) render.Titles {
	fields := onScreen(bootFields())
	columns := columnsOf(fields)
	began := slices.IndexFunc(columns, func(c render.Column) bool { return c.Title == "BEGAN" })
	all := len(of.Found.Boots)
	made := job.CarriedOut(of.Changes)
	slices.SortStableFunc(made, func(x, y change.Change) int { return x.MadeAt.Compare(y.MadeAt) })
	if of.Last < all { // of what was before them nothing is shown
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
		for _, text := range foldedChanges(made[:n]) {
			row := make([]render.Cell, len(columns))
			row[began] = render.Cell{Text: text[0], Tone: render.Good}
			row[len(row)-1] = render.Cell{Text: text[1], Tone: render.Good}
			rows = append(rows, row)
		}
		made = made[n:]
	}
	for i, b := range shown {
		until(func(c change.Change) bool { return c.MadeAt.Before(b.Began) })
		row := bootRow{Boot: b, number: all - of.Last + i + 1}
		for _, label := range slices.Backward(slices.Sorted(maps.Keys(of.Labels))) {
			if slices.Contains(of.Labels[label], b.ID) {
				row.labels = strings.Trim(row.labels+"; "+label, "; ")
			}
		}
		rows = append(rows, rowOf(fields, row))
	}
	until(func(change.Change) bool { return true })
	return s.Table(columns, rows)
}

// bootLegend says what the columns mean that are not what they seem.
func bootLegend(s Page, shown []boot.Boot, titles render.Titles, recordable bool) {
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
		s.SayWrapped(0, render.Dim, "Nobody recorded when it was usable; %s has that recorded.",
			s.Call("recorder on"))
	} else {
		s.SayWrapped(0, render.Dim, "Nobody wrote down when it was usable.")
	}
}

// foldedChanges tells of the changes between two boots, each with its day;
// where there are more than a few, in one line.
func foldedChanges(changes []change.Change) (lines [][2]string) {
	const few = 3
	if len(changes) <= few {
		for _, c := range changes {
			lines = append(lines, [2]string{
				Day(c.MadeAt), fmt.Sprintf("change %d: %s", c.ID, What(c)),
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
		Day(changes[len(changes)-1].MadeAt),
		fmt.Sprintf("changes %s: %s", InWords(changes), strings.Join(verbs, ", ")),
	}}
}

// onlyUnwritten reports whether nothing is odd of a boot but that its times
// were not written down: so are most of some machines.
func onlyUnwritten(b boot.Boot) bool { return b.Unwritten && len(b.Odd) == 1 }

// notesOn says in a few words what is to be known of a boot.
func notesOn(b boot.Boot) (string, render.Tone) {
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

// unreadLog tells what of the log could not be read, and whom else could not be
// asked.
func unreadLog(s Page, found family.Boots) {
	if slices.ContainsFunc(found.Unread, func(u item.Unread) bool {
		return u.Kind == item.Denied
	}) {
		s.Say(render.Warn, "This is a part: what needs permission was not read, and boots or "+
			"starts may be missing. Call it as root (sudo) for all of it.")
	}
	for _, u := range found.Unread {
		s.Say(render.Warn, "Not read: %s: %s", render.Clean(u.Path), render.Clean(u.Reason))
	}
	for _, remark := range found.Remarks {
		s.SayWrapped(2, render.Dim, "%s", render.Clean(remark))
	}
	for _, note := range found.Notes {
		s.SayWrapped(2, render.Dim, "%s", "Not asked: "+render.Clean(note))
	}
}
