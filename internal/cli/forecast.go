package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// noneShown stands in columns where a saving is none that counts.
const noneShown = "none shown"

// gradeOf is the grade of an item that is launched.
func gradeOf(l *visit.Visit, it item.Item) forecast.Grade {
	return cmp.Or(l.Costs[it.ID].Grade, forecast.Unknown)
}

var gradeTones = map[forecast.Grade]render.Tone{
	forecast.Heavy:    render.Bad,
	forecast.Moderate: render.Warn,
	forecast.Unknown:  render.Dim,
}

func gradeCell(l *visit.Visit, it item.Item) render.Cell {
	if !it.State.Launched() {
		return render.Cell{}
	}
	grade := gradeOf(l, it)
	return render.Cell{Text: string(grade), Tone: gradeTones[grade]}
}

// waitCell is how much sooner the boot would be ready without an item.
func waitCell(l *visit.Visit, it item.Item) render.Cell {
	switch c := l.Costs[it.ID]; {
	case !it.State.Launched() || !c.Replayed:
		return render.Cell{}
	case !c.Wait.Shows:
		return render.Cell{Text: noneShown, Tone: render.Dim}
	default:
		return render.C(atLeast(c.Wait) + render.Seconds(c.Wait.Saving.Median))
	}
}

func waitBar(s *render.Screen, l *visit.Visit, it item.Item, longest time.Duration) render.Cell {
	c := l.Costs[it.ID]
	if !it.State.Launched() || !c.Replayed || !c.Wait.Shows || !s.Figures() {
		return render.Cell{}
	}
	return render.Cell{
		Text: s.Bar(0, c.Wait.Saving.Median, longest, 12),
		Tone: gradeTones[gradeOf(l, it)],
	}
}

func cpuCell(l *visit.Visit, it item.Item) render.Cell {
	c := l.Costs[it.ID]
	if !it.State.Launched() || !c.CPU.Known {
		return render.Cell{}
	}
	return render.C(render.Seconds(c.CPU.Value))
}

func amountCell(it item.Item, a boot.Amount) render.Cell {
	if !it.State.Launched() || !a.Known {
		return render.Cell{}
	}
	return render.C(render.Bytes(a.Bytes))
}

// atLeast marks a lower bound.
func atLeast(f forecast.Forecast) string {
	if f.AtLeast {
		return "at least "
	}
	return ""
}

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
	whole := forecast.Set{}
	for _, it := range l.Dispensable() {
		maps.Copy(whole, l.SetOf(it))
	}
	f := forecast.Of(l.Replays, whole)
	if n := len(l.Baseline.Off); n > 0 {
		text += fmt.Sprintf(" With %s switched off or delayed since, which %s for a restart, %s "+
			"by forecast.", count(n, "item", "items"), plural(n, "waits", "wait"),
			render.Duration(f.Now))
	}
	text += lacking(l)
	if !f.Shows {
		return text + " By advice, nothing more can go that would be felt."
	}
	return fmt.Sprintf("%s %s%s of it can go or wait, by advice and forecast.", text,
		upper(atLeast(f)), render.Duration(f.Saving.Median))
}

// lacking says what was switched on since the boots that figures count from;
// empty where nothing was.
func lacking(l *visit.Visit) string {
	if len(l.Baseline.Lacks) == 0 {
		return ""
	}
	return fmt.Sprintf(" What was switched on since is not in the figures, for it was in no boot: "+
		"%s.", render.Clean(strings.Join(l.Baseline.Lacks, ", ")))
}

// setUpNow says from what forecasts count, where that is not the boots as they
// were; empty otherwise.
func setUpNow(l *visit.Visit) string {
	text := ""
	if n := len(l.Baseline.Off); n > 0 {
		text = fmt.Sprintf(" It counts from the machine as it is set up now: without the %s "+
			"switched off or delayed since, which %s for a restart.", count(n, "item", "items"),
			plural(n, "waits", "wait"))
	}
	return text + lacking(l)
}

// ofSimulated labels a forecast behind which no measured boot stands; empty
// otherwise.
func ofSimulated(l *visit.Visit) string {
	if !l.Simulated() {
		return ""
	}
	return " Those boots are simulated."
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// costNotes say how the figures of a list are known.
func (a *app) costNotes(s *render.Screen, l *visit.Visit) {
	if len(l.Boots) == 0 {
		return
	}
	s.Line("")
	if len(l.Replays) == 0 {
		s.Wrap(0, "Wait: unknown, since %s.", unfitness(l))
		return
	}
	first := l.Replays[len(l.Replays)-1]
	how := "a forecast from " + count(len(l.Replays), "boot", "boots") +
		simulated(replayed(l.Replays))
	if !first.Inputs.Processor {
		how += "; what items use of the processors is not known, so it is a lower bound " +
			"(calmdawn recorder on measures it)"
	}
	s.Wrap(0, "Wait: how much sooner the machine would be ready without the item, %s.%s Waits "+
		"overlap: what several save together is not their sum; %s tells it.", how, setUpNow(l),
		a.call("forecast ITEM..."))
}

// unfitness says why nothing can be forecast.
func unfitness(l *visit.Visit) string {
	if len(l.Unfit) > 0 {
		return l.Unfit[0].Error()
	}
	return "no boot that is fit for it is remembered"
}

func replayed(replays []*forecast.Replay) []boot.Boot {
	var boots []boot.Boot
	for _, r := range replays {
		boots = append(boots, r.Boot)
	}
	return boots
}

// showCost is the part of an item's page that says what it costs, and how that
// is known.
func (a *app) showCost(s *render.Screen, l *visit.Visit, it item.Item) {
	c := l.Costs[it.ID]
	if own, ok := l.OwnTime(it); ok {
		fit := boot.Fit(l.Baseline.Boots, visit.RatedBoots)
		s.Field("Own time", fmt.Sprintf("%s: how long its start took by itself, the median of %d "+
			"of the last %s%s", render.Duration(own.Median), own.Boots,
			count(own.Of, "boot", "boots"), simulated(fit)))
	}
	if !c.Known() || !it.State.Launched() {
		s.Field("Cost", "unknown: what it uses was not measured")
		return
	}
	s.Field("Grade",
		fmt.Sprintf("%s; it ran in %d of the last %s", c.Grade, c.Seen,
			count(c.Of, "boot", "boots")))
	switch {
	case !c.Replayed && len(l.Replays) == 0:
		s.Field("Wait", "unknown, since "+unfitness(l))
	case !c.Replayed:
		s.Field("Wait", "unknown: it ran in none of those boots")
	default:
		s.Field("Wait", waitText(c.Wait))
		s.Field("", a.evidence(l, it))
		if c.Wait.Shows {
			s.Field("Delayed", "it would do its work after ready, which would come as much sooner")
		}
	}
	if c.CPU.Known {
		s.Field("Processor",
			fmt.Sprintf("%s in a boot, %s", render.Duration(c.CPU.Value), known(l, c.CPU.From)))
	}
	if c.DiskRead.Known {
		s.Field("Disk",
			fmt.Sprintf("%s read in a boot, %s", render.Bytes(c.DiskRead.Bytes),
				known(l, c.DiskRead.From)))
	}
	if c.Memory.Known {
		s.Field("Memory",
			fmt.Sprintf("%s at most, %s", render.Bytes(c.Memory.Bytes), known(l, c.Memory.From)))
	}
}

// known says how a figure of an item is known.
func known(l *visit.Visit, from boot.Source) string {
	if slices.ContainsFunc(boot.Fit(l.Baseline.Boots, visit.RatedBoots), func(b boot.Boot) bool {
		return b.Simulated
	}) {
		return "simulated"
	}
	return fmt.Sprintf("measured (%s)", from)
}

// waitText says a forecast wait with its range.
func waitText(f forecast.Forecast) string {
	if !f.Shows {
		return fmt.Sprintf("no effect shown: without it ready would come sooner by less than "+
			"boots differ anyhow (%s)", render.Duration(f.Spread))
	}
	return fmt.Sprintf("%s%s sooner without it, between %s and %s: a forecast from %s", atLeast(f),
		render.Duration(f.Saving.Median), signedOr0(f.Saving.Low), render.Duration(f.Saving.High),
		count(f.Boots, "boot", "boots"))
}

// signedOr0 shows the lower end of a saving, which may be none, or a loss.
func signedOr0(d time.Duration) string {
	if d < 0 {
		return "a loss of " + render.Duration(d)
	}
	return render.Duration(d)
}

// evidence says, from the last replayed boot, how an item bears on ready: ready
// waited for it, or it slows others down.
func (a *app) evidence(l *visit.Visit, it item.Item) string {
	r := l.Replays[len(l.Replays)-1]
	waiting := 0
	onPath := false
	for key := range l.SetOf(it) {
		g := boot.GraphOf(r.Boot, key.Owner)
		for _, s := range g.Path(r.Boot) {
			onPath = onPath || s.Native == key.Native && key.Owner == ""
		}
		for _, s := range r.Boot.Spans {
			if holder, ok := g.Holder(s); ok && s.Owner == key.Owner &&
				(s.Begin.Known || s.End.Known) && holder.Native == key.Native {
				waiting++
			}
		}
	}
	parts := []string{"ready did not wait for it itself"}
	if onPath {
		parts[0] = "ready waited for it"
	}
	if waiting > 0 {
		parts = append(parts,
			fmt.Sprintf("%s for its start", count(waiting, "unit waited", "units waited")))
	}
	if c := l.Costs[it.ID]; !onPath && c.Wait.Shows && c.CPU.Known {
		parts = append(parts, "it slows others down by what it computes")
	}
	return "in the last boot " + strings.Join(parts, "; ")
}

func (a *app) forecastCommand() *cobra.Command {
	var w wish
	var best, delay bool
	w.turnWords = turnWords{verb: "forecast", to: item.Off}
	cmd := &cobra.Command{
		Use:   "forecast ITEM... | --best",
		Short: "Tell what a boot would take without some items, before anything is touched",
		Long: `Forecast replays the machine's last boots with the given items left out, all
at once and each alone, and says when it would have been ready, with the range
in which a measurement is to be expected. Nothing is changed.

--best looks among the items that may go or wait by advice, and are not
protected, for the few that bring most of what all of them would.`,
		Example: `  calmdawn forecast service:star-index.service
  calmdawn forecast service:star-index.service service:star-cache.service
  calmdawn forecast --maker pellin
  calmdawn forecast --delay service:lanternfile-crawl.service
  calmdawn forecast --best`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case best && (len(args) > 0 || w.filter.Chooses()):
				return usage("--best looks for items by itself; give it none")
			case !best && len(args) == 0 && !w.filter.Chooses():
				return usage("forecast takes the ids of items, flags that choose some, or " +
					"--best; calmdawn list shows them")
			}
			return w.filter.Check()
		},
		ValidArgsFunction: a.completeIDs,
		RunE: func(_ *cobra.Command, args []string) error {
			w.IDs = args
			l, err := a.look()
			if err != nil {
				return err
			}
			defer l.Close()
			if err := l.ReadBoots(); err != nil {
				return err
			}
			if len(l.Replays) == 0 {
				return fmt.Errorf("nothing can be forecast for %s: %s\n%s shows the boots that "+
					"it remembers", machineName(l), unfitness(l), a.call("boots"))
			}
			if best {
				return a.forecastBest(l)
			}
			return a.forecast(l, w, delay)
		},
	}
	w.filter.flags(cmd)
	cmd.Flags().BoolVar(&best, "best", false, "find the few items that bring most")
	cmd.Flags().BoolVar(&delay, "delay", false, "delay the items instead of switching them off")
	return cmd
}

func (a *app) forecast(l *visit.Visit, w wish, delay bool) error {
	picked, err := l.Choose(w.asked())
	if err != nil {
		return err
	}
	whole := forecast.Set{}
	var sets []forecast.Set
	var known []item.Item
	var outside []string
	for _, it := range picked {
		set := l.SetOf(it)
		if set == nil || !it.State.Launched() {
			outside = append(outside, it.ID)
			continue
		}
		sets, known = append(sets, set), append(known, it)
		maps.Copy(whole, set)
	}
	f := forecast.Of(l.Replays, whole)
	each := forecast.Each(l.Replays, sets)
	if a.json {
		if delay {
			f.Quiet = false
		}
		return a.writeJSON(document.NewForecast(f, known, each, l.Simulated()))
	}
	s := a.screen()
	s.Say(render.Strong, "%s", forecastHeadline(f, len(known), delay))
	s.SayWrapped(0, render.Dim, "%s", forecastBasis(l, f))
	s.Line("")
	if len(known) > 0 {
		sum := time.Duration(0)
		var rows [][]render.Cell
		for i, it := range known {
			alone := noneShown
			if each[i].Shows {
				alone = atLeast(each[i]) + render.Seconds(each[i].Saving.Median)
				sum += each[i].Saving.Median
			}
			rows = append(rows, []render.Cell{
				render.C(render.Clean(it.Title)),
				render.C(alone),
				render.C(span(each[i].Saving)),
				{Text: string(it.Advice), Tone: adviceTone(it.Advice)},
				render.C(render.Clean(it.ID)),
			})
		}
		s.Table([]render.Column{
			{Title: "ALONE", Flex: 18},
			{Title: "SAVES", Right: true},
			{Title: "BETWEEN", Right: true, Keep: 2},
			{Title: "ADVICE", Keep: 1},
			{Title: "ID"},
		}, rows)
		s.Line("")
		if len(known) > 1 {
			why := "since starts overlap"
			if f.Saving.Median >= sum {
				why = "since of what waits side by side none alone brings anything"
			}
			s.Wrap(0, "Alone they save %s in sum; together %s, %s.", render.Duration(sum),
				render.Duration(f.Saving.Median), why)
		}
	}
	if f.Quiet && !delay { // what is delayed works later, and it takes longer until all is quiet
		s.Wrap(0, "Until it has settled, all in all: %s sooner (between %s and %s).",
			render.Duration(f.Settled.Median), signedOr0(f.Settled.Low),
			render.Duration(f.Settled.High))
	}
	for _, key := range f.Stays {
		s.Say(render.Warn, "Mind: %s is started all the same, by a timer or a path unit that "+
			"stays.", render.Clean(key.Native))
	}
	for _, it := range known {
		if len(it.Starters) > 0 {
			s.SayWrapped(2, render.Warn, "Mind: %s can still start %s on demand; what that would "+
				"cost is not in the forecast.", render.Clean(strings.Join(it.Starters, ", ")),
				render.Clean(it.Native))
		}
	}
	for _, id := range outside {
		s.Line("No forecast for %s: it is off, or has no start of its own in a boot.",
			render.Clean(id))
	}
	if len(known) > 0 {
		verb := "disable"
		if delay {
			verb = "delay"
		}
		to := map[string]item.State{"disable": item.Off, "delay": item.Delayed}[verb]
		var ids []string
		for _, it := range known {
			if it.Protected != "" {
				s.SayWrapped(2, render.Warn, "Mind: %s is protected: %s.", render.Clean(it.ID),
					render.Clean(it.Protected))
			} else if err := l.MayTurn(it, to); err != nil {
				s.SayWrapped(2, render.Warn, "Mind: %s cannot be %s: %s.", render.Clean(it.ID),
					visit.Participle(to), render.Clean(err.Error()))
			} else {
				ids = append(ids, shellWord(it.ID))
			}
		}
		if len(ids) > 0 {
			s.Line("Next: %s", a.call(verb+" "+strings.Join(ids, " ")))
		} else {
			s.Line("Next: look at what it depends on, with %s",
				a.call("show "+shellWord(known[0].ID)))
		}
	}
	return nil
}

// forecastHeadline answers the question of a forecast.
func forecastHeadline(f forecast.Forecast, n int, delay bool) string {
	how := "Without " + count(n, "item", "items")
	if delay {
		how = "With " + count(n, "item", "items") + " delayed"
	}
	if !f.Shows {
		return fmt.Sprintf("%s: no effect on ready shown, now %s.", how,
			render.Duration(f.Now))
	}
	return fmt.Sprintf("%s: ready after %s instead of %s, %s%s sooner (between %s and %s).", how,
		render.Duration(f.Then), render.Duration(f.Now), atLeast(f),
		render.Duration(f.Saving.Median), signedOr0(f.Saving.Low), render.Duration(f.Saving.High))
}

// forecastBasis says what a forecast rests on.
func forecastBasis(l *visit.Visit, f forecast.Forecast) string {
	inputs := l.Replays[len(l.Replays)-1].Inputs
	off := fmt.Sprintf("at most %.1f %%", 100*f.Error)
	if f.Error < 0.001 {
		off = "less than 0.1 %"
	}
	text := fmt.Sprintf("A forecast from replays of %s%s; replayed unchanged they are off by %s.",
		count(f.Boots, "boot", "boots"), simulated(replayed(l.Replays)), off)
	switch {
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

// forecastBest shows the few items that bring most.
func (a *app) forecastBest(l *visit.Visit) error {
	candidates := l.Dispensable()
	var sets []forecast.Set
	for _, it := range candidates {
		sets = append(sets, l.SetOf(it))
	}
	done := a.progress("replaying boots")
	chosen, all := forecast.Best(l.Replays, sets)
	done()
	if a.json {
		var items []item.Item
		var each []forecast.Forecast
		whole := forecast.Set{}
		for _, c := range chosen {
			items = append(items, candidates[c.Index])
			each = append(each, forecast.Of(l.Replays, sets[c.Index]))
			maps.Copy(whole, sets[c.Index])
		}
		together := forecast.Of(l.Replays, whole)
		return a.writeJSON(document.NewForecast(together, items, each, l.Simulated()))
	}
	s := a.screen()
	if len(chosen) == 0 || !all.Shows {
		s.Say(render.Strong, "Of no item that may go or wait by advice an effect on ready is "+
			"shown.")
		s.Line("Next: look at the others, with %s", a.call("list"))
		return nil
	}
	last := chosen[len(chosen)-1]
	s.Say(render.Strong, "%s of %d bring %s of the %s that all of them would save.",
		count(len(chosen), "item", "items"), len(candidates), render.Duration(last.Saving.Median),
		render.Duration(all.Saving.Median))
	s.SayWrapped(0, render.Dim, "%s", forecastBasis(l, all))
	s.Line("")
	var rows [][]render.Cell
	var ids []string
	for n, c := range chosen {
		it := candidates[c.Index]
		rows = append(rows, []render.Cell{
			render.C(fmt.Sprint(n + 1)),
			render.C(render.Clean(it.Title)),
			render.C("+" + render.Seconds(c.Gain)),
			render.C(render.Seconds(c.Saving.Median)),
			{Text: string(it.Advice), Tone: adviceTone(it.Advice)},
			render.C(render.Clean(it.ID)),
		})
		ids = append(ids, shellWord(it.ID))
	}
	s.Table([]render.Column{
		{Title: ""},
		{Title: "ITEM", Flex: 18},
		{Title: "BRINGS", Right: true},
		{Title: "SO FAR", Right: true},
		{Title: "ADVICE", Keep: 1},
		{Title: "ID"},
	}, rows)
	s.Line("")
	if slices.ContainsFunc(chosen, func(c forecast.Choice) bool {
		return c.Gain < last.Saving.Median/50
	}) {
		s.Wrap(0, "An item that brings little by itself is here because a later one brings "+
			"nothing without it.")
	}
	s.Line("Next: %s", a.call("disable "+strings.Join(ids, " ")))
	return nil
}
