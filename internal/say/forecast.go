package say

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// askers says who had an item started by a name of the bus; empty where nobody
// is known to have.
func askers(l *visit.Visit, it item.Item) string {
	by := slices.Sorted(maps.Keys(l.AskedBy(it)))
	if len(by) == 0 {
		return ""
	}
	return " In the last boots it was asked for by " + render.Clean(strings.Join(by, ", ")) + "."
}

// delayed says what it means that items start later.
func delayed(l *visit.Visit, f forecast.Forecast, items []item.Item, by time.Duration) string {
	sum, known := time.Duration(0), true
	for _, it := range items {
		c := l.Cost(it)
		sum, known = sum+c.CPU.Value, known && c.CPU.Known
	}
	work := "What they then do"
	if known {
		work = fmt.Sprintf("What they then do, %s of a processor,", render.Duration(sum))
	}
	if f.Kind == "" {
		return work + " is in none of these figures."
	}
	usable := f.UsableNow - f.Usable.Median
	switch begin := f.Then + by; {
	case begin < usable:
		return work + " begins before one could work: a longer --by would keep it out of the way."
	case begin < usable+boot.Soon:
		return fmt.Sprintf("%s begins within %s after one could work, while somebody does: "+
			"settled seems to come before it.", work, render.Duration(boot.Soon))
	}
	return work + " falls while somebody works, and is in none of these figures."
}

// comes says when a figure would come.
func comes(f forecast.Forecast, of forecast.Lead) string {
	title, now := render.Clean(of.Title()), render.Duration(of.Now)
	then := render.Duration(of.Now - of.Saving.Median)
	switch s := of.Saving; {
	case of.Shows:
		return fmt.Sprintf("%s after %s instead of %s, %s%s sooner (between %s and %s)", title,
			then, now, atLeast(f), render.Duration(s.Median), signedOr0(s.Low),
			render.Duration(s.High))
	case of.Costs:
		return fmt.Sprintf("%s after %s instead of %s, %s later", title, then, now,
			render.Duration(-s.Median))
	}
	return fmt.Sprintf("no effect on %s shown, now %s", title, now)
}

// forecastBasis says what a forecast rests on.
func forecastBasis(l *visit.Visit, f forecast.Forecast) string {
	inputs, login := l.Replays[len(l.Replays)-1].Inputs, l.Replays[len(l.Replays)-1].Login
	off := fmt.Sprintf("at most %.1f %%", 100*f.Error)
	if f.Error < 0.001 {
		off = "less than 0.1 %"
	}
	how := "replayed unchanged they are off by"
	if login {
		how = "each replayed by what the others were like, they are off by"
	}
	text := fmt.Sprintf("A forecast from replays of %s%s; "+how+" %s.",
		Count(f.Boots, "boot", "boots"), simulated(replayed(l.Replays)), off)
	switch {
	case login:
		text += " Only what the login's programs compute is replayed: of the disk, and of " +
			"services, nothing is known, so that it is a lower bound."
	case !inputs.Processor:
		text += " What items use of the processors is not known: it is a lower bound."
	case inputs.Busy >= 0:
		text += fmt.Sprintf(" Until ready, %.0f %% of the processors were in use.", 100*inputs.Busy)
	}
	if inputs.Disk > 0 {
		text += fmt.Sprintf(" The disk held the boot back; it gave %s a second.",
			render.Bytes(int64(inputs.Disk)))
	}
	return text + setUpNow(l)
}

// span shows a range of savings.
func span(s forecast.Saving) string {
	return fmt.Sprintf("%.1f and %s", s.Low.Seconds(), render.Seconds(s.High))
}

// ShowForecast shows what boots would take without some items, or with them
// delayed.
func ShowForecast(s Page, l *visit.Visit, f visit.Foreseen) {
	if len(f.Items) == 0 && f.All.Login {
		showOutside(s, f)
		s.Line("Boots before and after a change tell: %s", s.Call("compare"))
		return
	}
	how := "Without " + Count(len(f.Items), "item", "items")
	if f.By > 0 {
		how = "With " + Count(len(f.Items), "item", "items") + " delayed by " +
			render.Duration(f.By)
	}
	s.SayWrapped(0, render.Strong, "%s: %s.", how, comes(f.All, f.All.Lead()))
	if f.All.Kind != "" && !f.All.Login {
		s.SayWrapped(0, render.Strong, "%s.", Capital(comes(f.All, f.All.Ready())))
	}
	s.SayWrapped(0, render.Dim, "%s", forecastBasis(l, f.All))
	s.Line("")
	if len(f.Items) > 0 {
		sum := aloneTable(s, f)
		s.Line("")
		if len(f.Items) > 1 {
			s.Wrap(0, "%s", sumOfAlone(sum, f.All.Lead().Saving.Median))
		}
	}
	// what is delayed works later, and it takes longer until all is quiet
	if f.All.Quiet && f.By == 0 && f.All.Kind == "" {
		s.Wrap(0, "Until it has settled, all in all: %s sooner (between %s and %s).",
			render.Duration(f.All.Settled.Median), signedOr0(f.All.Settled.Low),
			render.Duration(f.All.Settled.High))
	}
	forecastMinds(s, l, f)
	showOutside(s, f)
	if len(f.Items) > 0 {
		forecastNext(s, l, f)
	}
}

// showOutside names the items of which no forecast can be made.
func showOutside(s Page, f visit.Foreseen) {
	for _, o := range f.Outside {
		s.Wrap(0, "%s", render.Clean(fmt.Sprintf("No forecast for %s: %s.", o.ID, o.Why)))
	}
}

// aloneTable shows what each item saves alone, and returns the sum of it.
func aloneTable(s Page, f visit.Foreseen) (sum time.Duration) {
	var rows [][]render.Cell
	for i, it := range f.Items {
		alone := NoneShown
		lead := f.Each[i].Lead()
		switch {
		case lead.Shows:
			alone = atLeast(f.Each[i]) + render.Seconds(lead.Saving.Median)
			sum += lead.Saving.Median
		case lead.Costs:
			alone = "a loss of " + render.Seconds(-lead.Saving.Median)
			sum += lead.Saving.Median
		}
		rows = append(rows, []render.Cell{
			render.C(render.Clean(it.Title)),
			render.C(alone),
			render.C(span(lead.Saving)),
			{Text: string(it.Advice), Tone: AdviceTone(it.Advice)},
			render.C(render.Clean(it.ID)),
		})
	}
	s.Table([]render.Column{
		{Title: "ALONE", Flex: 18, Firm: 9},
		{Title: "SAVES", Right: true},
		{Title: "BETWEEN", Right: true, Keep: 9},
		{Title: "ADVICE", Keep: 8},
		idColumn,
	}, rows)
	return sum
}

// sumOfAlone says why what items save together is another figure than the sum
// of what each saves alone.
func sumOfAlone(sum, together time.Duration) string {
	const alike = 100 * time.Millisecond // what a figure shows
	why := ""
	switch {
	case together > sum+alike:
		why = ", since what waits side by side brings little before all of it is gone"
	case together < sum-alike:
		why = ", since starts overlap"
	}
	verb, all := "save", render.Duration(together)
	if sum < 0 {
		verb = "cost"
	}
	if together < 0 && sum >= 0 {
		all = "they cost " + render.Duration(-together)
	}
	return fmt.Sprintf("Alone they %s %s in sum; together %s%s.", verb,
		render.Duration(sum.Abs()), all, why)
}

// forecastMinds says what is not as the forecast has it.
func forecastMinds(s Page, l *visit.Visit, f visit.Foreseen) {
	for _, key := range f.All.Stays {
		s.Say(render.Warn, "Mind: %s is started all the same, by a timer or a path unit that "+
			"stays.", render.Clean(key.Native))
	}
	for _, it := range f.Items {
		if len(it.Starters) > 0 {
			s.SayWrapped(2, render.Warn, "Mind: %s can still start %s on demand; what that would "+
				"cost is not in the forecast.%s", render.Clean(strings.Join(it.Callers(), ", ")),
				render.Clean(it.Native), askers(l, it))
		}
	}
	if len(f.Unasked) > 0 && f.By == 0 {
		var names []string
		for _, key := range f.Unasked {
			names = append(names, key.Native)
		}
		s.Wrap(2, "With %s %s out too: in those boots nothing else asked for %s. What else would "+
			"ask later, boots do not tell.", plural(len(f.Items), "it", "them"),
			render.Clean(strings.Join(names, ", ")), plural(len(names), "it", "them"))
	}
	if f.By > 0 && len(f.Items) > 0 {
		s.Wrap(2, "%s", delayed(l, f.All, f.Items, f.By))
	}
}

// forecastNext recommends the call that does what was forecast, as far as it
// can be done.
func forecastNext(s Page, l *visit.Visit, f visit.Foreseen) {
	verb, to, late := "disable", item.Off, ""
	if f.By > 0 {
		verb, to = "delay", item.Delayed
	}
	if f.By > 0 && f.By != time.Minute {
		late = " --by " + visit.ByText(f.By)
	}
	if f.All.Lead().Costs {
		if longer := l.PastUsable(); f.By > 0 && longer > f.By {
			var ids []string
			for _, it := range f.Items {
				ids = append(ids, ShellWord(it.ID))
			}
			s.Line("Next: %s", s.Call("forecast --delay --by "+visit.ByText(longer)+" "+
				strings.Join(ids, " ")))
			return
		}
		s.Line("Next: leave %s as %s; look for others, with %s",
			plural(len(f.Items), "it", "them"), plural(len(f.Items), "it is", "they are"),
			s.Call("list"))
		return
	}
	var ids []string
	for _, it := range f.Items {
		if it.Protected != "" {
			s.SayWrapped(2, render.Warn, "Mind: %s is protected: %s.", render.Clean(it.ID),
				render.Clean(it.Protected))
		} else if err := l.MayTurn(it, to); err != nil {
			s.SayWrapped(2, render.Warn, "Mind: %s cannot be %s: %s.", render.Clean(it.ID),
				visit.Participle(to), render.Clean(err.Error()))
		} else {
			ids = append(ids, ShellWord(it.ID))
		}
	}
	if len(ids) > 0 {
		s.Line("Next: %s", s.Call(verb+" "+strings.Join(ids, " ")+late))
	} else {
		s.Line("Next: look at what it depends on, with %s",
			s.Call("show "+ShellWord(f.Items[0].ID)))
	}
}

// ShowBest shows the few items that bring most. numbered says that commands
// take the numbers of the rows.
func ShowBest(s Page, l *visit.Visit, b visit.Best, numbered bool) {
	if !b.Felt() {
		s.Say(render.Strong, "No item that may go or wait by advice shows an effect on %s.",
			b.All.Lead().On)
		s.Line("Next: look at the others, with %s", s.Call("list"))
		return
	}
	last := b.Steps[len(b.Steps)-1]
	s.SayWrapped(0, render.Strong, "%s of %d %s %s of the %s of %s that all of them would save.",
		Count(len(b.Items), "item", "items"), b.Candidates,
		plural(len(b.Items), "brings", "bring"), render.Duration(last.Saving.Median),
		render.Duration(b.All.Lead().Saving.Median),
		render.Clean(b.All.Lead().Title()))
	s.SayWrapped(0, render.Dim, "%s", forecastBasis(l, b.All))
	s.Line("")
	var rows [][]render.Cell
	for n, c := range b.Steps {
		it, number := b.Items[n], ""
		if numbered {
			number = fmt.Sprint(n + 1)
		}
		does := "off"
		if d := b.Do[n]; d.Do == proposal.Delay {
			does = "later, by " + d.By
		}
		rows = append(rows, []render.Cell{
			render.C(number),
			render.C(render.Clean(it.Title)),
			render.C(does),
			render.C("+" + render.Seconds(c.Gain)),
			render.C(render.Seconds(c.Saving.Median)),
			{Text: string(it.Advice), Tone: AdviceTone(it.Advice)},
			render.C(render.Clean(it.ID)),
		})
	}
	s.Table([]render.Column{
		{Title: "NO", Right: true},
		itemColumn,
		{Title: "BECOMES"},
		{Title: "BRINGS", Right: true},
		{Title: "SO FAR", Right: true},
		{Title: "ADVICE", Keep: 9},
		idColumn,
	}, rows)
	s.Line("")
	if slices.ContainsFunc(b.Steps, func(c forecast.Choice) bool {
		return c.Gain < last.Saving.Median/50
	}) {
		s.Wrap(0, "An item that brings little by itself is here because a later one brings "+
			"nothing without it.")
	}
	if text := ofSystem(b.Items); text != "" {
		s.Wrap(0, "Mind: %s.", strings.Trim(strings.TrimSpace(text), "()"))
	}
	if b.All.Kind != "" && slices.ContainsFunc(b.Do, func(d proposal.Decision) bool {
		return d.Do == proposal.Delay
	}) {
		s.Wrap(0, "What waits begins only when one has been able to work for a while.")
	}
	s.Line("Next: %s", s.Call("apply --best"))
}
