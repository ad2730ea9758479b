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
	return cmp.Or(l.Cost(it).Grade, forecast.Unknown)
}

// gradesUp are the grades that are known, the lightest first.
var gradesUp = []forecast.Grade{forecast.Light, forecast.Moderate, forecast.Heavy}

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

// notForecast reports whether people wait for an item after ready alone, and no
// login can be forecast.
func notForecast(it item.Item, c forecast.Cost) bool {
	return it.When == item.AtLogin && c.Wait.Kind == ""
}

// waitCell is how much sooner the boot would be ready without an item.
func waitCell(l *visit.Visit, it item.Item) render.Cell {
	switch c := l.Cost(it); {
	case !it.State.Launched() || !c.Replayed || notForecast(it, c):
		return render.Cell{}
	case !c.Wait.Lead().Shows:
		return render.Cell{Text: noneShown, Tone: render.Dim}
	default:
		return render.C(atLeast(c.Wait) + render.Seconds(c.Wait.Lead().Saving.Median))
	}
}

func waitBar(s *render.Screen, l *visit.Visit, it item.Item, longest time.Duration) render.Cell {
	c := l.Cost(it)
	if !it.State.Launched() || !c.Replayed || !c.Wait.Lead().Shows || !s.Figures() {
		return render.Cell{}
	}
	return render.Cell{
		Text: s.Bar(0, c.Wait.Lead().Saving.Median, longest, 12),
		Tone: gradeTones[gradeOf(l, it)],
	}
}

func cpuCell(l *visit.Visit, it item.Item) render.Cell {
	c := l.Cost(it)
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
		text += fmt.Sprintf(" With %s switched off or delayed since, which %s for a restart: %s "+
			"after %s, by forecast.", count(n, "item", "items"), plural(n, "waits", "wait"),
			f.Lead().On, render.Duration(f.Lead().Now))
	}
	text += lacking(l)
	ask, lead := toAskAbout(l), f.Lead()
	if !lead.Shows {
		return text + " By advice, nothing more can go that would be felt." + ask
	}
	return fmt.Sprintf("%s %s%s of %s can go or wait, by advice and forecast%s.%s", text,
		upper(atLeast(f)), render.Duration(lead.Saving.Median), render.Clean(lead.Title()),
		ofSystem(l.Dispensable()), ask)
}

// ofSystem says how many of some items are the operating system's own; empty
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
		count(len(items), "item", "items"), plural(n, "is a part", "are parts"))
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
		how += "; what items use of the processors is not known, so it is a lower bound (" +
			a.call("recorder on") + " measures it)"
	}
	what := "the machine would be ready"
	if forecast.Of(l.Replays, nil).Kind != "" {
		what = "one could work"
	}
	s.Wrap(0, "Wait: how much sooner "+what+" without the item, %s.%s Waits "+
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
	c := l.Cost(it)
	if own, ok := l.OwnTime(it); ok {
		fit := boot.Fit(l.Baseline.Boots, visit.RatedBoots)
		s.Field("Own time", fmt.Sprintf("%s: how long its start took by itself, the median of %d "+
			"of the last %s%s", render.Duration(own.Median), own.Boots,
			count(own.Of, "boot", "boots"), simulated(fit)))
	}
	if !c.Known() || !it.State.Launched() {
		s.Field("Cost", "unknown: "+a.unmeasured(l, it))
		return
	}
	ran := fmt.Sprintf("it ran in %d of the last %s", c.Seen, count(c.Of, "boot", "boots"))
	if c.Logins > 0 && it.When == item.AtLogin {
		ran = fmt.Sprintf("it ran in %d of %s on record", c.Seen,
			count(c.Logins, "login", "logins"))
	}
	s.Field("Grade", fmt.Sprintf("%s; %s", c.Grade, ran))
	if c.AfterLogin.Known {
		s.Field("Launched", fmt.Sprintf("%s after the login, the median",
			render.Duration(c.AfterLogin.Value)))
	}
	switch {
	case !c.Replayed && len(l.Replays) == 0:
		s.Field("Wait", "unknown, since "+unfitness(l))
	case !c.Replayed && c.Wait.Login && c.Seen > 0:
		s.Field("Wait", "unknown: what it computes alone would save less than boots differ "+
			"anyhow, and of the disk nothing is known")
	case !c.Replayed:
		s.Field("Wait", "unknown: it ran in none of those boots")
	case notForecast(it, c):
		s.Field("Wait", "unknown: it starts at the login, and ready does not wait for it; how "+
			"much sooner one could work without it comparing boots tells")
	case it.When == item.AtLogin:
		s.Field("Wait", usableWait(c.Wait))
	default:
		if c.Wait.Kind != "" {
			s.Field("Wait", usableWait(c.Wait))
			s.Field("Of ready", waitText(c.Wait))
		} else {
			s.Field("Wait", waitText(c.Wait))
		}
		s.Field("", a.evidence(l, it))
	}
	if c.Replayed && c.Wait.Lead().Shows && l.MayTurn(it, item.Delayed) == nil {
		s.Field("Delayed", "past when one could work it would bring as much; its work would then "+
			"fall while somebody works")
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
		of := "at most"
		if it.Kind == item.Program {
			of = "of resident pages, the most of it and of what it launched added up"
		}
		s.Field("Memory", fmt.Sprintf("%s %s, %s", render.Bytes(c.Memory.Bytes), of,
			known(l, c.Memory.From)))
	}
}

// unmeasured says why nothing is known of what an item costs.
func (a *app) unmeasured(l *visit.Visit, it item.Item) string {
	recorded := slices.ContainsFunc(l.Boots, func(b boot.Boot) bool {
		return b.Recording != nil ||
			len(b.Course) > 0
	})
	logged := slices.ContainsFunc(l.Boots, func(b boot.Boot) bool {
		return slices.ContainsFunc(b.Logged(), func(l boot.Login) bool {
			return it.Owner == "" || it.Owner == l.User
		})
	})
	switch {
	case len(l.Boots) == 0 && !l.Recordable():
		return "the machine remembers no boot"
	case !recorded && !l.Recordable():
		return "the machine writes down nothing of it; boots before and after a change tell"
	case !recorded:
		return "no boot was recorded; " + a.call("recorder on") + " has the next ones recorded"
	case it.When == item.AtLogin && !logged && it.Owner != "":
		return render.Clean(it.Owner) + " logged in during no recorded boot"
	case it.When == item.AtLogin && !logged:
		return "nobody logged in during a recorded boot"
	case it.When == item.Later:
		return "it ran in no recorded boot, for it starts later"
	}
	return "it was not seen to run in a recorded boot"
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

// usableWait says how much sooner one could work.
func usableWait(f forecast.Forecast) string {
	if !f.UsableShows {
		return fmt.Sprintf("no effect shown: without it one could work sooner by less than boots "+
			"differ anyhow (%s)", render.Clean(f.Kind))
	}
	const shown = 50 * time.Millisecond
	parts, before := "", f.UsableBefore
	switch after := f.Usable.Median - before; {
	case before.Abs() < shown:
	case after < -shown:
		parts = fmt.Sprintf("; ready %s sooner, and then it would take %s longer",
			render.Duration(before), render.Duration(-after))
	default:
		parts = fmt.Sprintf("; %s of it before ready, %s after", render.Duration(before),
			render.Duration(max(0, after)))
	}
	return fmt.Sprintf("one could work %s sooner without it (%s), between %s and %s%s: a forecast "+
		"from %s", render.Duration(f.Usable.Median), render.Clean(f.Kind),
		signedOr0(f.Usable.Low), render.Duration(f.Usable.High), parts,
		count(f.UsableBoots, "boot", "boots"))
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
	if c := l.Cost(it); !onPath && c.Wait.Shows && c.CPU.Known {
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
		Args: func(cmd *cobra.Command, args []string) error {
			switch {
			case cmd.Flags().Changed("by") && !delay:
				return usage("--by goes with --delay")
			case delay && best:
				return usage("--best tells what switching off brings; give --delay items")
			case delay && (w.By < time.Second || w.By > 24*time.Hour):
				return usage("--by takes a time from 1s to 24h, not %s", w.By)
			case best && (len(args) > 0 || w.filter.Chooses()):
				return usage("--best looks for items by itself; give it none")
			case !best && len(args) == 0 && !w.filter.Chooses():
				return usage("forecast takes items, flags that choose some, or " +
					"--best; calmdawn list shows them")
			}
			return w.filter.Check()
		},
		ValidArgsFunction: a.completeIDs,
		RunE: func(_ *cobra.Command, args []string) error {
			w.IDs = args
			l, err := a.lookAtBoots()
			if err != nil {
				return err
			}
			defer l.Close()
			if len(l.Replays) == 0 && !l.Recordable() && len(l.Boots) > 0 {
				return fmt.Errorf("nothing can be forecast for %s: it writes down how long its "+
					"boots take, and not what waited for what\nboots before and after a change "+
					"tell: %s", machineName(l), a.call("compare"))
			}
			if len(l.Replays) == 0 {
				return fmt.Errorf("nothing can be forecast for %s: %s\n%s shows the boots that "+
					"it remembers", machineName(l), unfitness(l), a.call("boots"))
			}
			if best {
				return a.forecastBest(l)
			}
			by := time.Duration(0)
			if delay {
				by = w.By
			}
			return a.forecast(l, w, by)
		},
	}
	w.filter.flags(a, cmd)
	cmd.Flags().BoolVar(&best, "best", false, "find the few items that bring most")
	cmd.Flags().BoolVar(&delay, "delay", false, "delay the items instead of switching them off")
	cmd.Flags().DurationVar(&w.By, "by", time.Minute, "with --delay, for how `LONG`: 90s, 5m")
	return cmd
}

// forecast tells what a boot would take without what is wished, or with it
// delayed by more than 0.
func (a *app) forecast(l *visit.Visit, w wish, by time.Duration) error {
	picked, err := l.Choose(w.asked())
	if err != nil {
		return err
	}
	whole := forecast.Set{}
	var sets []forecast.Set
	var known []item.Item
	var outside []string // sentences
	for _, it := range picked {
		set, why := l.SetOf(it), "no boot knows a start of its own"
		if !it.State.Launched() {
			set, why = nil, "it is off"
		}
		if set != nil && !forecast.Bears(l.Replays, forecast.Plan{Out: set}) {
			set, why = nil, "of the boots only logins can be replayed, and it is in none"
		}
		if set == nil {
			outside = append(outside, fmt.Sprintf("No forecast for %s: %s.", it.ID, why))
			continue
		}
		sets, known = append(sets, set), append(known, it)
		maps.Copy(whole, set)
	}
	f := forecast.OfDelay(l.Replays, whole, by)
	each := forecast.Each(l.Replays, sets, by)
	unasked := forecast.Unasked(l.Replays, whole)
	if a.json {
		if by > 0 {
			f.Quiet = false
		}
		return a.writeJSON(document.NewForecast(f, known, each, unasked, l.Simulated()))
	}
	s := a.screen()
	if len(known) == 0 && f.Login {
		for _, text := range outside {
			s.Line("%s", render.Clean(text))
		}
		s.Line("Boots before and after a change tell: %s", a.call("compare"))
		return nil
	}
	how := "Without " + count(len(known), "item", "items")
	if by > 0 {
		how = "With " + count(len(known), "item", "items") + " delayed by " + render.Duration(by)
	}
	s.SayWrapped(0, render.Strong, "%s: %s.", how, leadHeadline(f))
	if f.Kind != "" && !f.Login {
		s.SayWrapped(0, render.Strong, "%s.", upper(readyHeadline(f)))
	}
	s.SayWrapped(0, render.Dim, "%s", forecastBasis(l, f))
	s.Line("")
	if len(known) > 0 {
		sum := time.Duration(0)
		var rows [][]render.Cell
		for i, it := range known {
			alone := noneShown
			lead := each[i].Lead()
			switch {
			case lead.Shows:
				alone = atLeast(each[i]) + render.Seconds(lead.Saving.Median)
				sum += lead.Saving.Median
			case lead.Costs:
				alone = "a loss of " + render.Seconds(-lead.Saving.Median)
				sum += lead.Saving.Median
			}
			rows = append(rows, []render.Cell{
				render.C(render.Clean(it.Title)),
				render.C(alone),
				render.C(span(lead.Saving)),
				{Text: string(it.Advice), Tone: adviceTone(it.Advice)},
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
		s.Line("")
		if len(known) > 1 {
			const alike = 100 * time.Millisecond // what a figure shows
			together, why := f.Lead().Saving.Median, ""
			switch {
			case together > sum+alike:
				why = ", since what waits side by side brings little before all of it is gone"
			case together < sum-alike:
				why = ", since starts overlap"
			}
			s.Wrap(0, "Alone they save %s in sum; together %s%s.", render.Duration(sum),
				render.Duration(together), why)
		}
	}
	// what is delayed works later, and it takes longer until all is quiet
	if f.Quiet && by == 0 && f.Kind == "" {
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
				"cost is not in the forecast.%s", render.Clean(strings.Join(it.Callers(), ", ")),
				render.Clean(it.Native), askers(l, it))
		}
	}
	if len(unasked) > 0 && by == 0 {
		var names []string
		for _, key := range unasked {
			names = append(names, key.Native)
		}
		s.Wrap(2, "With %s %s out too: in those boots nothing else asked for %s. What else would "+
			"ask later, boots do not tell.", plural(len(known), "it", "them"),
			render.Clean(strings.Join(names, ", ")), plural(len(names), "it", "them"))
	}
	if by > 0 && len(known) > 0 {
		s.Wrap(2, "%s", delayed(l, f, known, by))
	}
	for _, sentence := range outside {
		s.Wrap(0, "%s", render.Clean(sentence))
	}
	if len(known) > 0 {
		verb := "disable"
		if by > 0 {
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
			late := ""
			if by > 0 && by != time.Minute {
				late = " --by " + by.String()
				if rest, whole := strings.CutSuffix(late, "m0s"); whole {
					late = rest + "m"
				}
			}
			s.Line("Next: %s", a.call(verb+" "+strings.Join(ids, " ")+late))
		} else {
			s.Line("Next: look at what it depends on, with %s",
				a.call("show "+shellWord(known[0].ID)))
		}
	}
	return nil
}

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

// leadHeadline answers the question of a forecast, by the figure that leads.
func leadHeadline(f forecast.Forecast) string { return comes(f, f.Lead()) }

// readyHeadline says the same for ready.
func readyHeadline(f forecast.Forecast) string { return comes(f, f.Ready()) }

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
		count(f.Boots, "boot", "boots"), simulated(replayed(l.Replays)), off)
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
		unasked := forecast.Unasked(l.Replays, whole)
		return a.writeJSON(document.NewForecast(together, items, each, unasked, l.Simulated()))
	}
	s := a.screen()
	if len(chosen) == 0 || !all.Lead().Shows {
		s.Say(render.Strong, "No item that may go or wait by advice shows an effect on %s.",
			all.Lead().On)
		s.Line("Next: look at the others, with %s", a.call("list"))
		return nil
	}
	var best []item.Item
	for _, c := range chosen {
		best = append(best, candidates[c.Index])
	}
	numbered := a.keepList(l, best)
	last := chosen[len(chosen)-1]
	s.SayWrapped(0, render.Strong, "%s of %d %s %s of the %s of %s that all of them would save.",
		count(len(chosen), "item", "items"), len(candidates),
		plural(len(chosen), "brings", "bring"), render.Duration(last.Saving.Median),
		render.Duration(all.Lead().Saving.Median),
		render.Clean(all.Lead().Title()))
	s.SayWrapped(0, render.Dim, "%s", forecastBasis(l, all))
	s.Line("")
	var rows [][]render.Cell
	for n, c := range chosen {
		it, number := best[n], ""
		if numbered {
			number = fmt.Sprint(n + 1)
		}
		rows = append(rows, []render.Cell{
			render.C(number),
			render.C(render.Clean(it.Title)),
			render.C("+" + render.Seconds(c.Gain)),
			render.C(render.Seconds(c.Saving.Median)),
			{Text: string(it.Advice), Tone: adviceTone(it.Advice)},
			render.C(render.Clean(it.ID)),
		})
	}
	s.Table([]render.Column{
		{Title: "NO", Right: true},
		itemColumn,
		{Title: "BRINGS", Right: true},
		{Title: "SO FAR", Right: true},
		{Title: "ADVICE", Keep: 9},
		idColumn,
	}, rows)
	s.Line("")
	if slices.ContainsFunc(chosen, func(c forecast.Choice) bool {
		return c.Gain < last.Saving.Median/50
	}) {
		s.Wrap(0, "An item that brings little by itself is here because a later one brings "+
			"nothing without it.")
	}
	if text := ofSystem(best); text != "" {
		s.Wrap(0, "Mind: %s.", strings.Trim(strings.TrimSpace(text), "()"))
	}
	s.Line("Next: %s", a.call("disable --best"))
	return nil
}
