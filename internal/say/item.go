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

// ShowItem writes the page about an item.
func ShowItem(s Page, l *visit.Visit, it item.Item) {
	clean := render.Clean
	s.Say(render.Strong, "%s", clean(it.Title))
	s.Line("%s", clean(it.ID))
	s.Line("")
	s.Wrap(0, "%s", verdictOn(l, it))
	s.Line("")
	here, everywhere := l.NotesOn(it.ID)
	if here != "" {
		s.Field("Your note", clean(here)+" (of this machine)")
	}
	if everywhere != "" {
		s.Field("Your note", clean(everywhere)+" (of every machine)")
	}
	if it.Advice != "" {
		s.Field("Advice", clean(fmt.Sprintf("%s: %s", it.Advice, it.Reason)))
	} else if it.Role != "" {
		s.Field("Role", clean(fmt.Sprintf("%s (%s)", it.Role, it.Reason)))
	}
	if it.Lost != "" {
		s.Field("Without it", clean(it.Lost))
	}
	if it.Demand != "" {
		s.Field("If wanted", clean(it.Demand))
	}
	if it.Protected != "" {
		s.Field("Protected", clean(it.Protected)+"; switching it off takes --insist")
	}
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
		s.Field("Maker", clean(it.Maker)+", as its place and its file tell")
	case it.System:
		s.Field("Maker", clean(fmt.Sprintf("%s; a part of the operating system%s, package %s",
			it.Maker, came, from)))
	case it.Package != "" && it.Maker == "":
		s.Field("Maker", clean("unknown; package "+from+came))
	case it.Package != "":
		s.Field("Maker", clean(fmt.Sprintf("%s, package %s%s", it.Maker, from, came)))
	case it.Maker != "":
		s.Field("Maker", clean(it.Maker))
	case strings.HasPrefix(it.File, "/"):
		s.Field("Maker", "unknown: no package of this machine owns it")
	default:
		s.Field("Maker", "unknown")
	}
	switch ofPackage := it.Came + it.Archive + it.Section; {
	case it.Summary == "":
	case ofPackage != "":
		s.Field("Package", clean(it.Summary))
	default:
		s.Field("Says", clean(it.Summary))
	}
	if it.Signature != "" {
		s.Field("Signature", clean(it.Signature))
	}
	if it.Opaque != "" {
		s.Field("Not known", clean(it.Opaque))
	}
	if it.Owner != "" {
		s.Field("Owner", clean(it.Owner)+", at whose login it starts")
	}
	if of := l.ByUser(it); len(of) > 0 {
		var parts []string
		for _, state := range []item.State{item.On, item.Delayed, item.Broken, item.Off} {
			if n := len(of[state]); n > 0 {
				parts = append(parts, fmt.Sprintf("%s for %s (%s)", state,
					Count(n, "user", "users"), strings.Join(of[state], ", ")))
			}
		}
		s.Field("Users", clean(strings.Join(parts, "; ")))
	}
	if len(it.Because) > 0 {
		s.Field("Chain", clean(strings.Join(it.Because, " → ")))
	}
	if it.Command != "" {
		s.Field("Runs", clean(it.Command))
	}
	if len(it.Twins) > 0 {
		s.Field("Besides", clean("the same program is launched by "+strings.Join(it.Twins, ", ")))
	}
	if it.Fires != "" && it.Kind == item.Service {
		s.Field("Starts", clean(it.Fires))
	} else if it.Fires != "" {
		s.Field("Goes off", clean(it.Fires))
	}
	if it.File != "" {
		s.Field("Set up in", clean(it.File))
	}
	for _, c := range it.Conditions {
		s.Field("Only if", clean(c)+" (only the running machine can tell)")
	}
	if len(it.NeededBy) > 0 {
		s.Field("Needed by", clean(strings.Join(it.NeededBy, ", ")))
	}
	if len(it.Starters) > 0 {
		says := " can start it even when it is off"
		if it.Masked {
			says = " would start it, and fails while it is masked"
		}
		s.Field("On demand", clean(strings.Join(it.Callers(), ", "))+says)
	}
	if by := l.AskedBy(it); len(by) > 0 {
		var parts []string
		for _, program := range slices.Sorted(maps.Keys(by)) {
			parts = append(parts, fmt.Sprintf("%s (in %s)", program,
				Count(by[program], "boot", "boots")))
		}
		s.Field("Asked for", clean("by "+strings.Join(parts, ", ")+": it was started on demand"))
	}
	showCost(s, l, it)
	if n, of, by := l.NotedSlow(it); n > 0 {
		s.Field("Noted slow", clean(fmt.Sprintf("by the machine itself in %d of the last %s: %s "+
			"longer than usual, the median", n, Count(of, "boot", "boots"), render.Duration(by))))
	}
	if other, ok := l.WorkOf(it); ok {
		s.Field("Work of", clean(fmt.Sprintf("%s, which is started only because this is, and took "+
			"%s in the last boot: the wait is for its work", other.Native,
			render.Duration(other.Took))))
	}
	if it.Advice == item.LookUp {
		s.Field("Look up", clean(advice.Phrase(it)))
	}
	s.Line("")
	recommendSwitch(s, l, it)
	if c, ok := l.LastChange(it.ID); ok {
		s.Line("To take change %d back: %s", c.ID, s.Call(fmt.Sprintf("undo %d", c.ID)))
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
