package say

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// AdviceTone is in which tone an advice stands.
func AdviceTone(a item.Advice) render.Tone {
	switch a {
	case item.CanGo, item.CanWait:
		return render.Good
	case item.CleanUp:
		return render.Warn
	}
	return render.Plain
}

// offSince says by which change and on which day an item was switched off;
// empty when no change did.
func offSince(l *visit.Visit, it item.Item) string {
	if c, again := l.OnAgain(it); again {
		return fmt.Sprintf("on again, change %d", c.ID)
	}
	if c, ok := l.LastChange(it.ID); ok && it.State == item.Off {
		return fmt.Sprintf("%s, change %d", c.MadeAt.Local().Format("2 Jan"), c.ID)
	}
	return ""
}

// StateTone is in which tone a state stands.
func StateTone(s item.State) render.Tone {
	switch s {
	case item.Off:
		return render.Dim
	case item.Broken:
		return render.Warn
	}
	return render.Plain
}

// why is the reason for an advice, for people who do not ask which rule it is
// from.
func why(it item.Item) string {
	reason, _, _ := strings.Cut(cmp.Or(it.Protected, it.Reason), " (role ")
	return reason
}

// ShowMeantToo names the items that the number of a row means besides the one
// whose page was shown; nothing where there are none.
func ShowMeantToo(s Page, others []item.Item) {
	if len(others) == 0 {
		return
	}
	var rows [][]render.Cell
	for _, it := range others {
		rows = append(rows, []render.Cell{
			render.C(render.Clean(it.Title)), render.C(string(it.State)), render.C(it.ID),
		})
	}
	s.Line("")
	s.Line("%s by that number:", Count(len(others), "item more is meant", "items more are meant"))
	s.Line("")
	s.Table([]render.Column{itemColumn, {Title: "STATE"}, idColumn}, rows)
}

// ShowItem writes the page about an item.
func ShowItem(s Page, l *visit.Visit, it item.Item) {
	s.Say(render.Strong, "%s", render.Clean(it.Title))
	s.Line("%s", render.Clean(it.ID))
	s.Line("")
	s.Wrap(0, "%s", verdictOn(l, it))
	s.Line("")
	showAdvice(s, l, it)
	showOrigin(s, it)
	showLaunch(s, l, it)
	showAround(s, l, it)
	showCost(s, l, it)
	if n, of, by := l.NotedSlow(it); n > 0 {
		s.Field("Noted slow", render.Clean(fmt.Sprintf("by the machine itself in %d of the last "+
			"%s: %s longer than usual, the median", n, Count(of, "boot", "boots"),
			render.Duration(by))))
	}
	if other, ok := l.WorkOf(it); ok {
		s.Field("Work of", render.Clean(fmt.Sprintf("%s, which is started only because this is, "+
			"and took %s in the last boot: the wait is for its work", other.Native,
			render.Duration(other.Took))))
	}
	if it.Advice == item.LookUp {
		s.Field("Look up", render.Clean(advice.Phrase(it)))
	}
	s.Line("")
	recommendSwitch(s, l, it)
	if c, ok := l.LastChange(it.ID); ok {
		s.Line("To take change %d back: %s", c.ID, s.Call(fmt.Sprintf("undo %d", c.ID)))
	}
}

// told writes a field of a page with a text from a machine, where there is one.
func told(s Page, label, text string) {
	if text != "" {
		s.Field(label, render.Clean(text))
	}
}

// showAdvice says what to think of an item, and who would miss it.
func showAdvice(s Page, l *visit.Visit, it item.Item) {
	here, everywhere := l.NotesOn(it.ID)
	if here != "" {
		s.Field("Your note", render.Clean(here)+" (of this machine)")
	}
	if everywhere != "" {
		s.Field("Your note", render.Clean(everywhere)+" (of every machine)")
	}
	if it.Advice != "" {
		told(s, "Advice", fmt.Sprintf("%s: %s", it.Advice, it.Reason))
	} else if it.Role != "" {
		told(s, "Role", fmt.Sprintf("%s (%s)", it.Role, it.Reason))
	}
	told(s, "Without it", it.Lost)
	told(s, "If wanted", it.Demand)
	if it.Protected != "" {
		s.Field("Protected", render.Clean(it.Protected)+"; switching it off takes --insist")
	}
}

// showOrigin says who made an item, and how that is known.
func showOrigin(s Page, it item.Item) {
	s.Field("Maker", render.Clean(makerText(it)))
	if it.Came+it.Archive+it.Section != "" {
		told(s, "Package", it.Summary)
	} else {
		told(s, "Says", it.Summary)
	}
	told(s, "Signature", it.Signature)
	told(s, "Not known", it.Opaque)
}

// makerText says who made an item, and in which package it came.
func makerText(it item.Item) string {
	from := strings.TrimSpace(it.Package + " " + it.Version)
	if !it.Installed.IsZero() {
		from += ", installed " + it.Installed.Local().Format("2 Jan 2006")
	}
	if it.Archive != "" && it.Archive != it.Maker {
		from += ", from the archive of " + it.Archive
	}
	came := ""
	if it.Came != "" {
		came = " (" + it.Came + ")"
	}
	switch {
	case it.System && it.Package == "":
		return it.Maker + ", as its place and its file tell"
	case it.System:
		return fmt.Sprintf("%s; a part of the operating system%s, package %s", it.Maker, came, from)
	case it.Package != "" && it.Maker == "":
		return "unknown; package " + from + came
	case it.Package != "":
		return fmt.Sprintf("%s, package %s%s", it.Maker, from, came)
	case it.Maker != "":
		return it.Maker
	case strings.HasPrefix(it.File, "/"):
		return "unknown: no package of this machine owns it"
	}
	return "unknown"
}

// showLaunch says what of an item is launched, for whom, when and why.
func showLaunch(s Page, l *visit.Visit, it item.Item) {
	if it.Owner != "" {
		s.Field("Owner", render.Clean(it.Owner)+", at whose login it starts")
	}
	if of := l.ByUser(it); len(of) > 0 {
		var parts []string
		for _, state := range []item.State{item.On, item.Delayed, item.Broken, item.Off} {
			if n := len(of[state]); n > 0 {
				parts = append(parts, fmt.Sprintf("%s for %s (%s)", state,
					Count(n, "user", "users"), strings.Join(of[state], ", ")))
			}
		}
		told(s, "Users", strings.Join(parts, "; "))
	}
	told(s, "Chain", strings.Join(it.Because, " → "))
	told(s, "Runs", it.Command)
	if len(it.Twins) > 0 {
		told(s, "Besides", "the same program is launched by "+strings.Join(it.Twins, ", "))
	}
	if it.Kind == item.Service {
		told(s, "Starts", it.Fires)
	} else {
		told(s, "Goes off", it.Fires)
	}
	told(s, "Set up in", it.File)
	if !it.RanLast.IsZero() {
		s.Field("Ran last", "on "+Day(it.RanLast)+", as the machine noted")
	}
	for _, c := range it.Conditions {
		s.Field("Only if", render.Clean(c)+" (only the running machine can tell)")
	}
}

// showAround says what else has to do with an item: what needs it, and what
// starts it on demand.
func showAround(s Page, l *visit.Visit, it item.Item) {
	if it.Returns != "" {
		told(s, "Comes back", it.Returns+" may switch it on again after it was switched off")
	}
	told(s, "Needed by", strings.Join(it.NeededBy, ", "))
	if all := l.Launches(it); len(all) > 0 {
		const most = 8
		var titles []string
		for _, other := range all[:min(most, len(all))] {
			titles = append(titles, other.Title)
		}
		text := strings.Join(titles, ", ")
		if more := len(all) - most; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
		told(s, "Launches", text)
	}
	if len(it.Starters) > 0 {
		says := " can start it even when it is off"
		if it.Masked {
			says = " would start it, and fails while it is masked"
		}
		told(s, "On demand", strings.Join(it.Callers(), ", ")+says)
	}
	if by := l.AskedBy(it); len(by) > 0 {
		var parts []string
		for _, program := range slices.Sorted(maps.Keys(by)) {
			parts = append(parts, fmt.Sprintf("%s (in %s)", program,
				Count(by[program], "boot", "boots")))
		}
		told(s, "Asked for", "by "+strings.Join(parts, ", ")+": it was started on demand")
	}
}

// verdictOn says in a sentence what the next boot or login does with an item,
// and since when.
func verdictOn(l *visit.Visit, it item.Item) string {
	moment := map[item.When]string{
		item.AtBoot:  "The next boot",
		item.AtLogin: "The next login",
		item.Later:   "A timer or table that the next boot arms",
	}[it.When]
	if it.When == item.AtLogin && it.Owner != "" {
		moment += " of " + render.Clean(it.Owner)
	}
	why := ""
	if it.Why != "" {
		why = ": " + render.Clean(it.Why)
	}
	var text string
	switch it.State {
	case item.Off:
		text = fmt.Sprintf("It is off%s. %s does not launch it.", why, moment)
	case item.Broken:
		text = fmt.Sprintf("It is broken%s. %s tries to launch it all the same.", why, moment)
	default:
		text = fmt.Sprintf("It is %s%s. %s launches it.", it.State, why, moment)
		if it.State == item.On && it.Kind == item.Service && it.Fires != "" {
			text = fmt.Sprintf("It is on. It starts %s.", render.Clean(it.Fires))
		}
		if it.Unsure {
			depends := "which depends on what the script does"
			if it.Why != "" {
				depends = "for " + render.Clean(it.Why)
			}
			text = fmt.Sprintf("It may be on: %s may launch it, %s.",
				strings.ToLower(moment[:1])+moment[1:], depends)
		}
	}
	if it.Generated {
		text += " It was set up as this boot began: only the running machine shows it."
	}
	if c, ok := l.LastChange(it.ID); ok {
		at := slices.IndexFunc(c.Targets, func(t change.Target) bool { return t.ID == it.ID })
		text += fmt.Sprintf(" It was %s on %s by %s, change %d.",
			visit.Participle(c.Targets[at].After), Day(c.MadeAt), render.Clean(c.MadeBy), c.ID)
	}
	if _, again := l.OnAgain(it); again {
		text += " Somebody else has switched it on again since."
	}
	return text
}

// recommendSwitch says how an item is switched, or why it cannot be.
func recommendSwitch(s Page, l *visit.Visit, it item.Item) {
	if it.Advice == item.LookUp {
		s.Line("Once you know, keep what you decide: %s",
			s.Call("note --advice keep "+ShellWord(it.ID)+" WHY"))
	}
	verb, to, says := "disable", item.Off, "off"
	if !it.State.Launched() {
		verb, to, says = "enable", item.On, "on"
	}
	insist := ""
	if it.Protected != "" && to == item.Off {
		insist = " --insist " + ShellWord(it.ID)
	}
	if err := l.MayTurn(it, to); err != nil {
		s.Wrap(2, "It cannot be switched %s: %s.", says, s.Named(render.Clean(err.Error())))
		return
	}
	s.Line("To switch it %s: %s", says, s.Call(verb+" "+ShellWord(it.ID)+insist))
}
