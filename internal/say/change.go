package say

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// What says what a change did, in a few words.
func What(c change.Change) string {
	if c.Verb == change.Undo {
		return fmt.Sprintf("undo change %d", c.Undoes)
	}
	if c.Verb == change.Record && len(c.Targets) > 0 {
		return "recorder " + string(c.Targets[0].After)
	}
	if c.Verb == change.Recover {
		return "recover " + strings.Join(recovered(c), ", ")
	}
	var parts []string
	verbs := map[item.State]change.Verb{
		item.Off: change.Disable, item.Delayed: change.Delay, item.On: change.Enable,
	}
	for _, to := range []item.State{item.Off, item.Delayed, item.On} {
		var titles []string
		for _, t := range c.Targets {
			if t.After == to {
				titles = append(titles, render.Clean(t.Title))
			}
		}
		if len(titles) > 0 {
			parts = append(parts, string(verbs[to])+" "+strings.Join(titles, ", "))
		}
	}
	return strings.Join(parts, "; ")
}

// recovered are the files that a change brings to their newest state.
func recovered(c change.Change) (files []string) {
	for _, e := range c.Edits {
		if asFile(e) {
			files = append(files, render.Clean(addressed(e)))
		}
	}
	return files
}

// asFile reports whether an edit is of what a store keeps as a whole file.
func asFile(e change.Edit) bool {
	_, inside := e.Folder()
	return !inside
}

// addressed is an edit's address for people: of a file the path alone.
func addressed(e change.Edit) string {
	if asFile(e) {
		return strings.TrimPrefix(e.Path, change.Scheme(e.Path)+":")
	}
	return e.Path
}

// ShowRecovering says what has to be brought to its newest state before
// anything else, as a change of its own. One without edits says nothing.
func ShowRecovering(s Page, r *machine.Root, c change.Change) {
	if len(c.Edits) == 0 {
		return
	}
	s.Say(render.Strong, "First, as a change of its own:")
	ShowEdits(s, r, c)
	s.Line("")
}

// ShowRecovered says what came before a change, and how that is taken back.
func ShowRecovered(s Page, c change.Change) {
	s.Wrap(2, "Before it, as change %d, %s newest state. To take that back, once nothing else is "+
		"changed there: %s", c.ID, plural(len(recovered(c)), "a file was brought to its",
		"files were brought to their"), s.Call(fmt.Sprintf("undo %d", c.ID)))
}

// foreseen says what was forecast for a change, and how it came out.
func foreseen(c change.Change) string {
	f, came := c.CameOut()
	if !came && c.Judged() != nil {
		f = c.Judged().Lead()
	}
	var parts []string
	if f.Shows() {
		name, _, _ := strings.Cut(f.Title(), " ")
		parts = append(parts, name+" "+signed(-f.Saving)+allTogether(c))
	}
	if came {
		parts = append(parts, "came out "+signed(-c.Outcome.Saved))
	}
	return strings.Join(parts, ", ")
}

// allTogether marks a forecast that is of a whole proposal.
func allTogether(c change.Change) string {
	if c.Terms.Together != nil {
		return ", all together"
	}
	return ""
}

// settledOn says when an interrupted change was settled, and what was left.
func settledOn(c change.Change) string {
	text := c.Settlement.At.Local().Format("2 Jan")
	if n := len(c.Settlement.Left); n > 0 {
		text += " but for " + Count(n, "path", "paths")
	}
	return text
}

// Fate says what became of a change.
func Fate(c change.Change) string {
	switch {
	case c.Status == change.Planned && c.Settlement == nil:
		return "interrupted"
	case c.Status == change.Planned:
		return "interrupted, open at " + Count(len(c.Open()), "path", "paths")
	case c.Settlement != nil && c.Verb == change.Undo:
		return "interrupted, finished on " + settledOn(c)
	case c.Settlement != nil && c.Status == change.Failed:
		return "interrupted, taken back on " + settledOn(c)
	case c.Status == change.Failed:
		return "failed, nothing changed"
	case c.Verb == change.Undo:
		return "done"
	case c.UndoneBy != 0:
		return fmt.Sprintf("undone by %d", c.UndoneBy)
	}
	if c.Terms.Until != "" && c.Terms.Kept == "" {
		return "in force, on trial until " + Date(c.Terms.Until)
	}
	return "in force"
}

// showDecisions says what becomes of each decision here.
func showDecisions(s Page, all []visit.Resolved) {
	var rows [][]render.Cell
	for _, d := range all {
		tone := render.Dim
		switch {
		case d.Now:
			tone = render.Plain
		case !d.Here:
			tone = render.Warn
		}
		rows = append(rows, []render.Cell{
			{Text: render.Clean(d.Item.Title), Tone: tone},
			{Text: d.Fate, Tone: tone},
			{Text: render.Clean(d.ID), Tone: tone},
		})
	}
	s.Table([]render.Column{
		itemColumn,
		{Title: "ON THIS MACHINE"},
		idColumn,
	}, rows)
	s.Line("")
}

// ofLogin reports whether a change decides on nothing but what starts at a
// login.
func ofLogin(c change.Change) bool {
	return !slices.ContainsFunc(c.Targets, func(t change.Target) bool {
		return t.When != item.AtLogin
	})
}

// ForecastLine says a change's forecast, the figure that leads first.
func ForecastLine(f change.Forecast) string {
	say := func(f change.Forecast) string {
		switch {
		case f.Saving < -f.Spread: // something is switched on
			least := render.Duration(f.High)
			if f.High > 0 {
				least = "a gain of " + least
			}
			return fmt.Sprintf("%s %s later (between %s and %s)", render.Clean(f.Title()),
				render.Duration(f.Saving), least, render.Duration(f.Low))
		case !f.Shows():
			return fmt.Sprintf("no effect on %s shown, now %s", render.Clean(f.Title()),
				render.Duration(f.Now))
		}
		bound := ""
		if f.AtLeast {
			bound = "at least "
		}
		return fmt.Sprintf("%s %s%s sooner (between %s and %s)", render.Clean(f.Title()), bound,
			render.Duration(f.Saving), signedOr0(f.Low), render.Duration(f.High))
	}
	text := "Forecast: " + say(f.Lead())
	if f.Usable != nil {
		text += "; " + say(f)
	}
	return fmt.Sprintf("%s, from %s.", text, Count(f.Lead().Boots, "boot", "boots"))
}

// ShowTargets lists what a change decides on, with the advice of those items
// that a visit knows; it may be nil.
func ShowTargets(s Page, l *visit.Visit, c change.Change) {
	if len(c.Targets) == 0 {
		return
	}
	var rows [][]render.Cell
	for _, t := range c.Targets {
		advice := item.Advice("")
		if l != nil {
			it, _ := l.Lookup(t.ID)
			advice = it.Advice
		}
		rows = append(rows, []render.Cell{
			render.C("  " + render.Clean(t.Title)),
			render.C(fmt.Sprintf("%s → %s", t.Before, t.After)),
			{Text: string(advice), Tone: AdviceTone(advice)},
			render.C(render.Clean(t.ID)),
		})
	}
	title := itemColumn
	title.Title = "  " + title.Title
	s.Table([]render.Column{title, {Title: "STATE"}, {Title: "ADVICE", Keep: 9}, idColumn}, rows)
	s.Line("")
}

// showReasons says why items may go or should stay, and who would miss them:
// those first that nobody advises to touch.
func showReasons(s Page, l *visit.Visit, picked []item.Item, c change.Change) {
	const most = 6
	about := slices.DeleteFunc(slices.Clone(picked), func(it item.Item) bool {
		return !slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == it.ID })
	})
	advised := func(it item.Item) int {
		if it.Advice == item.CanGo || it.Advice == item.CanWait || it.Advice == item.CleanUp {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(about, func(x, y item.Item) int { return advised(x) - advised(y) })
	type told struct {
		titles []string
		advice int
		text   string
	}
	var all []told
	for _, it := range about {
		to := c.Targets[slices.IndexFunc(c.Targets, func(t change.Target) bool {
			return t.ID == it.ID
		})].After
		title, text := render.Clean(it.Title), reasonText(l, it, to)
		if i := slices.IndexFunc(all, func(t told) bool { return t.text == text }); i >= 0 {
			if !slices.Contains(all[i].titles, title) {
				all[i].titles = append(all[i].titles, title)
			}
			continue
		}
		all = append(all, told{[]string{title}, advised(it), text})
	}
	for _, t := range all[:min(most, len(all))] {
		tone := render.Plain
		if t.advice == 0 {
			tone = render.Warn
		}
		s.SayWrapped(4, tone, "  %s: %s", strings.Join(t.titles, ", "), render.Clean(t.text))
	}
	if n := len(all) - most; n > 0 {
		titles := 0
		for _, t := range all[most:] {
			titles += len(t.titles)
		}
		s.Line("  Why %s: the page of each says so, with %s.",
			plural(titles, "the other one", fmt.Sprintf("the other %d", titles)),
			s.Call("show ITEM"))
	}
	if len(about) > 0 {
		s.Line("")
	}
}

// showFixed names what a filter fits and cannot be turned, with the reason.
func showFixed(s Page, t visit.Turning) {
	reasons := map[string][]string{}
	var order []string
	for _, it := range t.Fixed {
		why := "it cannot be " + visit.Participle(t.Wish.To)
		if err := t.MayTurn(it, t.Wish.To); err != nil {
			why += ": " + err.Error()
		}
		if reasons[why] == nil {
			order = append(order, why)
		}
		reasons[why] = append(reasons[why], render.Clean(it.ID))
	}
	for _, why := range order {
		s.Wrap(4, "  Left out: %s, since %s.", few(reasons[why]), render.Clean(why))
	}
}

// reasonText is what there is to know before an item becomes so.
func reasonText(l *visit.Visit, it item.Item, to item.State) string {
	reason, text := why(it), string(it.Advice)
	switch {
	case it.Advice == "" && reason == "":
		text = "no advice"
	case it.Advice == "":
		text = reason
	case reason != "":
		text += ", since " + reason
	}
	if it.Lost != "" && to == item.Off {
		text += "; without it " + it.Lost
	}
	if by := slices.Sorted(maps.Keys(l.AskedBy(it))); len(by) > 0 {
		text += "; in the last boots it was asked for by " + strings.Join(by, ", ")
	}
	if it.Owner != "" {
		text += "; it is " + it.Owner + "'s"
	}
	return text + "."
}

// ShowEdits says which paths of a machine a change touches; of one that is nil
// nothing but files.
func ShowEdits(s Page, r *machine.Root, c change.Change) {
	if slices.ContainsFunc(c.Edits, func(e change.Edit) bool {
		return change.Scheme(e.Path) == "" || asFile(e)
	}) {
		s.Line("This touches %s:", Count(len(c.Edits), "path", "paths"))
	} else {
		s.Line("This touches %s:", Count(len(c.Edits), "value", "values"))
	}
	for _, e := range c.Edits {
		detail := ""
		switch {
		case change.Scheme(e.Path) != "" && r != nil:
			detail = fmt.Sprintf(" (%s → %s)", r.Words(e.Path, e.Before), r.Words(e.Path, e.After))
		case e.After.Kind == change.Link:
			detail = " as a link to " + e.After.Target
		case e.Before.Kind == change.File && e.Before.Links > 1:
			detail = fmt.Sprintf(" (it has %d names; all of them see the new text)", e.Before.Links)
		}
		verb := e.Verb()
		if e.Before.Identical(e.After) {
			verb, detail = "leaves", " as it is: it was put back already"
		}
		s.Wrap(11, "  %-8s %s%s", verb, render.Clean(addressed(e)), render.Clean(detail))
	}
	Minds := map[string]bool{}
	for _, e := range c.Edits {
		if r != nil && change.Scheme(e.Path) != "" {
			for _, text := range r.Mind(e.Path) {
				Minds[text] = true
			}
		}
	}
	for _, text := range slices.Sorted(maps.Keys(Minds)) {
		s.SayWrapped(4, render.Warn, "  %s", render.Clean(text))
	}
}

// Effect says when a change takes effect.
func Effect(c change.Change) string {
	if e := c.TakesEffect(); e != change.Now {
		return "at the " + string(e)
	}
	return "now"
}

// Restart asks for a restart where a change waits for one; else it is empty.
func Restart(c change.Change) string {
	if c.TakesEffect() == change.NextBoot {
		return ": restart the machine when it suits"
	}
	return ""
}

// ShowTurning says what a wish comes to on a machine, before it is carried out;
// doing names it, as "Switching off".
func ShowTurning(s Page, t visit.Turning, doing string) {
	c := t.Change
	for _, r := range t.Renumbered {
		s.SayWrapped(2, render.Warn, "Mind: %d is %s, by the table shown last; in the one before "+
			"it was %s.", r.Row, render.Clean(r.Now), render.Clean(r.Before))
	}
	s.Say(render.Strong, "%s %s on %s:", doing, Count(len(c.Targets), "item", "items"),
		MachineName(t.Visit))
	ShowTargets(s, t.Visit, c)
	showReasons(s, t.Visit, t.Picked, c)
	ShowEdits(s, t.Root, c)
	for _, it := range t.LeftOut {
		s.Line("  Left out: %s is off already.", render.Clean(it.ID))
	}
	showFixed(s, t)
	said := map[string]bool{}
	for _, it := range t.Picked {
		for _, line := range minds(t.Visit, it, t.Wish.To, t.Wish.Starters, c) {
			again := said[line.Text]
			said[line.Text] = true
			switch {
			case again:
			case line.Mind:
				s.SayWrapped(4, render.Warn, "  %s", line.Text)
			default:
				s.Line("    %s", line.Text)
			}
		}
	}
	if f := c.Forecast; f != nil && f.Usable == nil && f.Kind == "" && !f.Shows() && ofLogin(c) {
		s.Wrap(2, "Ready does not wait for it; how much sooner one can work is not forecast: "+
			"boots after the change will tell.")
	} else if f != nil {
		s.Wrap(2, "%s%s%s", ForecastLine(*c.Forecast), OfSimulated(t.Visit), setUpNow(t.Visit))
	}
	TellBeyond(s, t.Guard)
}

// ShowPlan says what carrying out the plan of a review touches. together says
// that it is one change, and trial until which day it is on trial; empty for
// none.
func ShowPlan(s Page, t visit.Applying, together bool, trial string) {
	var whole change.Change
	for _, c := range t.Changes {
		whole.Targets = append(whole.Targets, c.Targets...)
		whole.Edits = append(whole.Edits, c.Edits...)
	}
	how := ""
	if n := len(t.Groups(together)); n > 1 {
		how = fmt.Sprintf(", as %d changes", n)
	}
	s.Say(render.Strong, "Carrying out %s on %s%s:",
		Count(len(t.Picked), "decision", "decisions"), MachineName(t.Visit), how)
	ShowTargets(s, t.Visit, whole)
	for _, p := range t.Undo.Plans {
		s.Line("  Change %d is taken back.", p.Undoes)
	}
	showReasons(s, t.Visit, t.Picked, whole)
	ShowEdits(s, t.Root, whole)
	for _, r := range t.All {
		if !r.Now {
			continue
		}
		for _, line := range minds(t.Visit, r.Item, r.To, false, whole) {
			if line.Mind { // the others name flags, which are none here
				s.SayWrapped(4, render.Warn, "  %s", line.Text)
			}
		}
	}
	foresee(s, t)
	if trial != "" {
		s.Line("It is on trial until %s.", Date(trial))
	}
	s.Line("It takes effect %s.", Effect(whole))
}

// ShowProposal says what becomes of the decisions of a proposal on a machine.
func ShowProposal(s Page, t visit.Applying, p proposal.Proposal, file string) {
	s.Say(render.Strong, "%s of %s, made for %s on %s: %d to carry out on %s.",
		Count(len(t.All), "decision", "decisions"), render.Clean(file), render.Clean(p.Machine),
		Day(p.Made), len(t.Picked), MachineName(t.Visit))
	s.Line("")
	showDecisions(s, t.All)
	foresee(s, t)
}

// foresee says what is forecast for all decisions of a plan together.
func foresee(s Page, t visit.Applying) {
	if f := t.ForecastOfAll(t.All); f != nil {
		s.Wrap(2, "%s%s%s", ForecastLine(*f), OfSimulated(t.Visit), setUpNow(t.Visit))
	}
}

// ShowDone says what one change did that was carried out.
func ShowDone(s Page, c change.Change) {
	s.Line("")
	if c.Verb == change.Undo {
		s.Say(render.Good, "Change %d is taken back (recorded as change %d). It takes effect %s.",
			c.Undoes, c.ID, Effect(c))
		return
	}
	s.Say(render.Good, "Done, as change %d. It takes effect %s%s.", c.ID, Effect(c), Restart(c))
	if c.Terms.Until != "" {
		s.Line("It is on trial until %s.", Date(c.Terms.Until))
	}
	s.Line("To take it back: %s", s.Call(fmt.Sprintf("undo %d", c.ID)))
}
