package say

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// NoneShown stands in columns where a saving is none that counts.
const NoneShown = "none shown"

// WithOthers stands there where it counts once others are decided on too.
const WithOthers = "with others"

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

// GradeCell shows the grade of an item that is launched.
func GradeCell(l *visit.Visit, it item.Item) render.Cell {
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

// WaitCell is how much sooner the boot would be ready without an item.
func WaitCell(l *visit.Visit, it item.Item) render.Cell {
	c := l.Cost(it)
	if _, ok := l.Joint(it); ok {
		return render.Cell{Text: WithOthers, Tone: render.Dim}
	}
	switch {
	case !it.State.Launched() || !c.Replayed || notForecast(it, c):
		return render.Cell{}
	case !c.Wait.Lead().Shows:
		return render.Cell{Text: NoneShown, Tone: render.Dim}
	default:
		return render.C(atLeast(c.Wait) + render.Seconds(c.Wait.Lead().Saving.Median))
	}
}

func waitBar(s Page, l *visit.Visit, it item.Item, longest time.Duration) render.Cell {
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

// AtLeast marks a lower bound.
func atLeast(f forecast.Forecast) string {
	if f.AtLeast {
		return "at least "
	}
	return ""
}

// costNotes say how the figures of a list's rows are known.
func costNotes(s Page, l *visit.Visit, rows []visit.Row) {
	if len(l.Boots) == 0 {
		return
	}
	s.Line("")
	if len(l.Replays) == 0 {
		s.Wrap(0, "Wait: unknown, since %s.", Unfitness(l))
		return
	}
	first := l.Replays[len(l.Replays)-1]
	how := "a forecast from " + Count(len(l.Replays), "boot", "boots") +
		simulated(replayed(l.Replays))
	if !first.Inputs.Processor {
		how += "; what items use of the processors is not known, so it is a lower bound (" +
			s.Call("recorder on") + " measures it)"
	}
	what := "the machine would be ready"
	if forecast.Of(l.Replays, nil).Kind != "" {
		what = "one could work"
	}
	s.Wrap(0, "Wait: how much sooner "+what+" without the item, %s.%s Waits "+
		"overlap: what several save together is not their sum; %s tells it.", how, setUpNow(l),
		s.Call("forecast ITEM..."))
	if slices.ContainsFunc(rows, func(row visit.Row) bool {
		_, ok := l.Joint(row.Item)
		return ok
	}) {
		s.Wrap(0, "With others: alone, that item brings nothing that shows; it does once others "+
			"are decided on. All of them: %s", s.Call("forecast --best"))
	}
}

// Unfitness says why nothing can be forecast.
func Unfitness(l *visit.Visit) string {
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
func showCost(s Page, l *visit.Visit, it item.Item) {
	c := l.Cost(it)
	if own, ok := l.OwnTime(it); ok {
		fit := boot.Fit(l.Baseline.Boots, visit.RatedBoots)
		s.Field("Own time", fmt.Sprintf("%s: how long its start took by itself, the median of %d "+
			"of the last %s%s", render.Duration(own.Median), own.Boots,
			Count(own.Of, "boot", "boots"), simulated(fit)))
	}
	if !c.Known() || !it.State.Launched() {
		s.Field("Cost", "unknown: "+s.unmeasured(l, it))
		return
	}
	showWait(s, l, it)
	if c.Replayed && c.Wait.Lead().Shows && l.MayTurn(it, item.Delayed) == nil {
		s.Field("Delayed", "past when one could work it would bring as much; its work would then "+
			"fall while somebody works")
	}
	if c.CPU.Known {
		s.Field("Processor",
			fmt.Sprintf("%s in a boot, %s", render.Duration(c.CPU.Value), howKnown(l, c.CPU.From)))
	}
	if c.DiskRead.Known {
		s.Field("Disk",
			fmt.Sprintf("%s read in a boot, %s", render.Bytes(c.DiskRead.Bytes),
				howKnown(l, c.DiskRead.From)))
	}
	if c.Memory.Known {
		of := "at most"
		if it.Kind == item.Program {
			of = "of resident memory, added up over it and what it launched, at most"
		}
		s.Field("Memory", fmt.Sprintf("%s %s, %s", render.Bytes(c.Memory.Bytes), of,
			howKnown(l, c.Memory.From)))
	}
	ran := fmt.Sprintf("it ran in %d of the last %s", c.Seen, Count(c.Of, "boot", "boots"))
	if c.Logins > 0 && it.When == item.AtLogin {
		ran = fmt.Sprintf("it ran in %d of %s on record", c.Seen,
			Count(c.Logins, "login", "logins"))
	}
	s.Field("Grade", fmt.Sprintf("%s; %s", c.Grade, ran))
	if c.AfterLogin.Known {
		s.Field("Launched", fmt.Sprintf("%s after the login, the median",
			render.Duration(c.AfterLogin.Value)))
	}
}

// showWait says how much sooner one could work, or the machine be ready,
// without an item.
func showWait(s Page, l *visit.Visit, it item.Item) {
	c := l.Cost(it)
	if j, ok := l.Joint(it); ok {
		s.Field("Wait", s.joint(j))
		return
	}
	switch {
	case !c.Replayed && len(l.Replays) == 0:
		s.Field("Wait", "unknown, since "+Unfitness(l))
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
		s.Field("", s.evidence(l, it))
	}
}

// joint says what an item brings that brings nothing alone.
func (calls Calls) joint(j visit.Joint) string {
	how := calls.Call("forecast --best")
	if len(j.With) == 0 {
		return fmt.Sprintf("no effect shown alone; it is one of several that bring something "+
			"together: %s", how)
	}
	with := render.Clean(j.With[0].Title)
	if n := len(j.With) - 1; n > 0 {
		with += fmt.Sprintf(" and %d more", n)
	}
	return fmt.Sprintf("no effect shown alone; with %s decided on too, it brings %s: %s", with,
		render.Duration(j.Gain), how)
}

// unmeasured says why nothing is known of what an item costs.
func (calls Calls) unmeasured(l *visit.Visit, it item.Item) string {
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
		return "no boot was recorded; " + calls.Call("recorder on") + " has the next ones recorded"
	case it.When == item.AtLogin && !logged && it.Owner != "":
		return render.Clean(it.Owner) + " logged in during no recorded boot"
	case it.When == item.AtLogin && !logged:
		return "nobody logged in during a recorded boot"
	case it.When == item.Later:
		return "it ran in no recorded boot, for it starts later"
	}
	return "it was not seen to run in a recorded boot"
}

// howKnown says how a figure of an item is known.
func howKnown(l *visit.Visit, from boot.Source) string {
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
		Count(f.UsableBoots, "boot", "boots"))
}

// waitText says a forecast wait with its range.
func waitText(f forecast.Forecast) string {
	if !f.Shows {
		return fmt.Sprintf("no effect shown: without it ready would come sooner by less than "+
			"boots differ anyhow (%s)", render.Duration(f.Spread))
	}
	return fmt.Sprintf("%s%s sooner without it, between %s and %s: a forecast from %s", atLeast(f),
		render.Duration(f.Saving.Median), signedOr0(f.Saving.Low), render.Duration(f.Saving.High),
		Count(f.Boots, "boot", "boots"))
}

// evidence says, from the last replayed boot, how an item bears on ready: ready
// waited for it, or it slows others down.
func (calls Calls) evidence(l *visit.Visit, it item.Item) string {
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
			fmt.Sprintf("%s for its start", Count(waiting, "unit waited", "units waited")))
	}
	if c := l.Cost(it); !onPath && c.Wait.Shows && c.CPU.Known {
		parts = append(parts, "it slows others down by what it computes")
	}
	return "in the last boot " + strings.Join(parts, "; ")
}
