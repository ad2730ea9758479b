package say

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/waits"
	"calmdawn/internal/render"
)

// mostBeside is how many things are named beside a stretch; --json and --csv
// have all.
const mostBeside = 3

// OneBoot is one boot as its page shows it.
type OneBoot struct {
	boot.Boot
	// Guessed: nobody wrote down what waited for what, and the order is that of
	// the unit files.
	Guessed bool
	Use     boot.LoginUse
}

// ShowBoot shows what usable, or ready, waited for, one stretch after the
// other, and what worked beside each.
func ShowBoot(s Page, b OneBoot) {
	s.SayWrapped(0, render.Strong, "%s",
		fmt.Sprintf("The boot of %s: %s", Day(b.Began), Outcome(b.Boot))+".")
	s.Say(render.Dim, "%s", SourcesOf(b.Boot))
	for _, w := range b.Waits {
		s.Line("At %s it waited %s for %s; that is taken out.", render.Seconds(w.At),
			render.Duration(w.Took), render.Clean(w.What))
	}
	for _, why := range b.Odd {
		s.Say(render.Warn, "%s", "Odd: "+render.Clean(why)+".")
	}
	s.Line("")
	if !b.Unwritten {
		r := waits.Of(b.Boot, mostBeside)
		if r.Name != "" {
			s.Line("What %s waited for, one stretch after the other:", r.Name)
		}
		stretches(s, r)
		s.Line("")
	}
	for _, p := range b.Phases {
		if p.Beside {
			s.Line("Beside the others: %s, %s.", p.Name, render.Duration(p.Took))
		}
	}
	for _, l := range b.Logins {
		showLogin(s, b.Short(), l)
	}
	for _, note := range b.Notes {
		s.Wrap(2, "Of its record: %s.", render.Clean(note))
	}
	switch {
	case b.Unwritten:
	case b.Guessed && b.Ordered():
		s.Wrap(0, "%s", "The order is that of the unit files as they are now; the log does not "+
			"tell what waited for what.")
	case b.Guessed:
		s.Wrap(0, "%s", "Nobody wrote down what waited for what within these.")
	}
	if len(b.Programs) > 0 {
		s.Wrap(0, "%s", loginUse(b.Use))
	}
	if !b.Unwritten {
		s.SayWrapped(0, render.Dim, "Beside it: what worked meanwhile, with what it used of the "+
			"processors. What is shorter than a 250th of all counts for the next.")
	}
	if len(b.Spans) > 0 {
		s.Line("All starts with their times: %s", s.Call("boots "+b.Short()+" --csv"))
	}
}

// showLogin says what the machine wrote down of one login.
func showLogin(s Page, short string, l boot.Login) {
	who := render.Clean(cmp.Or(l.User, "somebody"))
	if l.Desktop.Known {
		s.Line("%s after the login of %s its desktop began to start.",
			render.Duration(l.Desktop.Value), who)
	}
	if len(l.Parts) > 0 {
		longest := slices.Clone(l.Parts)
		slices.SortStableFunc(longest, func(a, b boot.Phase) int {
			return cmp.Compare(b.Took, a.Took)
		})
		var parts []string
		for _, p := range longest[:min(mostParts, len(longest))] {
			parts = append(parts, render.Clean(p.Name)+" "+render.Duration(p.Took))
		}
		text := strings.Join(parts, ", ")
		if more := len(longest) - mostParts; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
		s.Wrap(2, "Parts of that login, which may overlap: %s.", text)
	}
	if len(l.Launched) == 0 {
		return
	}
	s.Line("")
	s.Line("What that login launched of its lists, as the desktop noted it:")
	var rows [][]render.Cell
	for _, r := range l.Launched[:min(mostRuns, len(l.Launched))] {
		rows = append(rows, []render.Cell{
			render.C(render.Seconds(r.Began)), render.C(render.Clean(r.Line)),
		})
	}
	s.Table([]render.Column{{Title: "AFTER", Right: true}, {Title: "LINE", Flex: 30}}, rows)
	if more := len(l.Launched) - mostRuns; more > 0 {
		s.Line("And %d more: %s", more, s.Call("boots "+short+" --json"))
	}
	s.Line("")
}

// What the page of a boot shows of a login at most.
const (
	mostParts = 6
	mostRuns  = 12
)

// stretches is the table of what a boot waited for, with its marks.
func stretches(s Page, r waits.Waits) {
	longest := time.Duration(1)
	for _, st := range r.Stretches {
		longest = max(longest, st.Took())
	}
	columns := []render.Column{
		{Title: "FROM", Right: true, Keep: 5},
		{Title: "TOOK", Right: true},
		{Title: "OF ALL", Right: true, Keep: 2},
		{Keep: 1},
		{Title: "WAITED FOR", Flex: 26},
		{Title: "BESIDE IT", Keep: 4, Flex: 24},
	}
	var rows [][]render.Cell
	marked := 0
	mark := func(until time.Duration) {
		for ; marked < len(r.Marks) && r.Marks[marked].At <= until; marked++ {
			m := r.Marks[marked]
			row := make([]render.Cell, len(columns))
			row[0] = render.Cell{Text: render.Seconds(m.At), Tone: render.Strong}
			row[4] = render.Cell{Text: "▲ " + m.Name, Tone: render.Strong}
			if m.Name == "login" && r.LeftOut > 0 {
				row[5] = render.C(render.Duration(r.LeftOut) + " later, which are left out")
			}
			rows = append(rows, row)
		}
	}
	for _, st := range r.Stretches {
		mark(st.From)
		tone := render.Plain
		if st.Failed {
			tone = render.Warn
		}
		bar := ""
		if s.Figures() {
			bar = s.Bar(0, st.Took(), longest, 12)
		}
		rows = append(rows, []render.Cell{
			render.C(render.Seconds(st.From)),
			render.C(render.Seconds(st.Took())),
			render.C(fmt.Sprintf("%.0f %%", 100*float64(st.Took())/float64(max(1, r.End)))),
			{Text: bar, Tone: render.Good},
			{Text: render.Clean(st.Label), Tone: tone},
			{Text: besideText(st), Tone: render.Dim},
		})
	}
	mark(r.End)
	s.Table(columns, rows)
}

func besideText(st waits.Stretch) string {
	var parts []string
	for _, b := range st.Beside {
		text := render.Clean(b.Label)
		if b.CPU.Known {
			text += " " + render.Seconds(b.CPU.Value)
		}
		parts = append(parts, text)
	}
	if st.More > 0 {
		parts = append(parts, fmt.Sprintf("and %d more", st.More))
	}
	return strings.Join(parts, ", ")
}

// briefly says in a few words how a boot came out.
func briefly(b boot.Boot) string {
	if u := b.Usable(); u.Known {
		return fmt.Sprintf("usable after %s (%s)", render.Duration(u.Value), render.Clean(u.Kind))
	}
	return Outcome(b)
}

// untold is what is to be said of a boot of which nobody wrote down the times.
const untold = "how long it took is not known"

// Outcome says how a boot came out.
func Outcome(b boot.Boot) string {
	switch {
	case b.Unwritten:
		return untold
	case !b.Ready.Known:
		return "it never became ready"
	}
	text := "ready after " + render.Duration(b.Ready.Value)
	if u := b.Usable(); u.Known {
		return usableText(u) + ", " + text
	}
	if b.Settled.FromReady.Known {
		text += ", settled " + render.Duration(b.Settled.FromReady.Value) + " later"
	}
	return text
}

// SourcesOf says how the figures of a boot are known.
func SourcesOf(b boot.Boot) string {
	if b.Simulated {
		return "Simulated; no machine was measured."
	}
	names := map[boot.Source]string{
		boot.Log:      "the log",
		boot.Bus:      "the service managers' clocks",
		boot.Recorder: "the recorder's samples",
	}
	var all []string
	for _, source := range b.Sources {
		all = append(all, names[source])
	}
	return "Measured, from " + strings.Join(all, ", ") + "."
}

// loginUse says how much of what logins used of the processors is known to be
// whose.
func loginUse(u boot.LoginUse) string {
	const named = 3
	all := u.Whole()
	if all == 0 {
		return "The programs of logins used no processor time that was measured."
	}
	own := ""
	for i, p := range u.Most {
		if i < named && p.CPU > 0 {
			own += fmt.Sprintf(", %s %s", render.Clean(p.Name), render.Seconds(p.CPU))
		}
	}
	if own != "" {
		own = " (" + own[2:] + ")"
	}
	unknown := "what else its sessions used was not recorded"
	if u.Unknown.Known {
		unknown = share(u.Unknown.Value, all) + " not attributed"
	}
	return fmt.Sprintf("Logins used %s of processor time: %s by items, %s by the session's own "+
		"programs%s, %s.", render.Seconds(all), share(u.Items, all), share(u.Session, all), own,
		unknown)
}
