package cli

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"os/user"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// turnWords is what disable and enable say.
type turnWords struct {
	verb           change.Verb
	to             item.State
	doing, already string
	short, long    string
	example        string
}

var (
	disableWords = turnWords{
		verb: change.Disable, to: item.Off, doing: "Switching off", already: "off",
		short: "Switch items off, in a way that can be taken back",
		long: `Disable keeps the next boot or login from launching the given items. Nothing
is deleted: what is edited is recorded first, and undo restores it exactly.
All of it is done or none of it.

It shows what it will touch and asks; --yes answers for you. What runs now
goes on running, unless --stop is given.

Items are named by id, by a pattern with * in it, or by the same flags as in
list. What the machine or its user depends on (security, login, network,
sound, graphics, input, storage, …) is refused with the reason; --insist
switches it off all the same, and takes its id where several items are given.`,
		example: `  calmdawn disable service:star-index.service
  calmdawn disable 'service:cue-update*' program:cue-update-helper.desktop
  calmdawn disable --maker inkerholm --advice can-go
  calmdawn disable service:palisade.service --insist`,
	}
	enableWords = turnWords{
		verb: change.Enable, to: item.On, doing: "Switching on", already: "on",
		short: "Switch items on",
		long: `Enable makes the next boot or login launch the given items, as the operating
system would set that up. What was switched off by calmdawn is better taken
back exactly, with undo.`,
		example: `  calmdawn enable service:dome-viewer.service`,
	}
)

var delayWords = turnWords{
	verb: change.Delay, to: item.Delayed, doing: "Delaying", already: "delayed",
	short: "Have items start some time after the boot is ready, or after login",
	long: `Delay keeps the given items, but starts them only some time after the boot is
ready; programs of the desktop, after login. The machine needs no calmdawn for
that. What others need, and what a vendor's text pulls in, cannot be delayed.
Of a Windows disk only services can, by the time that Windows holds all such
back. It is taken back with undo like any change.`,
	example: `  calmdawn delay service:star-index.service
  calmdawn delay program:lanternfile.desktop@maria --by 3m
  calmdawn delay --role backup,sync --when boot`,
}

// A wish is what a call to disable, delay or enable asks for.
type wish struct {
	turnWords
	filter
	visit.Wish // of which the filter above is not filled in yet
	trial      string
	guard      string
	stop       bool
	yes        bool
}

// asked is the wish for the machine.
func (w wish) asked() visit.Wish {
	asked := w.Wish
	asked.Verb, asked.To, asked.Filter = w.verb, w.to, w.filter.Filter
	asked.Until, asked.Guard = w.trial, visit.Wanted(w.guard)
	return asked
}

func (a *app) turnCommand(w turnWords) *cobra.Command {
	wish := wish{turnWords: w}
	cmd := &cobra.Command{
		Use: string(w.verb) + " ITEM...", Short: w.short, Long: w.long, Example: w.example,
		Args: func(cmd *cobra.Command, args []string) error {
			switch chosen := len(args) > 0 || wish.filter.Chooses(); {
			case wish.Best && chosen:
				return usage("--best looks for items by itself; give it none")
			case !wish.Best && !chosen:
				return usage("%s takes items, or flags that choose some; calmdawn list shows "+
					"them", w.verb)
			}
			if w.to == item.Delayed && (wish.By < time.Second || wish.By > 24*time.Hour) {
				return usage("--by takes a time from 1s to 24h, not %s", wish.By)
			}
			if w.to != item.On {
				if err := checkGuard(&wish.guard); err != nil {
					return err
				}
			}
			if wish.trial != "" {
				until, err := change.ParseTrial(wish.trial, a.now())
				if err != nil {
					return usage("%w", err)
				}
				wish.trial = until
			}
			return wish.filter.Check()
		},
		ValidArgsFunction: a.completeIDs,
		RunE: func(_ *cobra.Command, args []string) error {
			wish.IDs, a.answered = args, wish.yes
			var err error
			if wish.Insist, err = insistsOn(wish.Insist, args); err != nil {
				return err
			}
			return a.turn(wish)
		},
	}
	wish.filter.flags(a, cmd)
	flags := cmd.Flags()
	flags.BoolVarP(&wish.yes, "yes", "y", false, "do it without asking")
	if w.to != item.On {
		flags.StringVar(&wish.guard, "guard", "", "have the boot guard take the change back if "+
			"the machine does not start: `WHEN` is auto, on or off")
	}
	flags.StringVar(&wish.trial, "trial", "", "put the change on trial until a `DAY`: 14d, 2w, "+
		"2026-12-07")
	if w.to == item.Delayed {
		flags.DurationVar(&wish.By, "by", time.Minute, "for how `LONG`: 90s, 5m")
	}
	if w.to != item.On {
		flags.StringSliceVar(&wish.Insist, "insist", nil, "do it to the protected item with this "+
			"`ID` all the same; alone: to the one given")
	}
	if w.to == item.Off {
		flags.BoolVar(&wish.Starters, "and-starters", false, "also switch off the sockets, paths "+
			"and timers that could start the items on demand")
		flags.BoolVar(&wish.Dependents, "and-dependents", false, "also switch off the items that "+
			"need the given ones")
		flags.BoolVar(&wish.Twins, "and-twins", false, "also switch off what else launches the "+
			"same programs, as far as that can be")
		flags.BoolVar(&wish.Best, "best", false, "the few items that bring most, of those that "+
			"can go or wait by advice")
		flags.BoolVar(&wish.stop, "stop", false, "also stop what of it runs now, on the running "+
			"machine")
	}
	return cmd
}

func (a *app) turn(w wish) error {
	return a.alter(w.yes, func(d *visit.Session) (plan, error) { return a.planTurn(d, w) })
}

// planTurn works out what turning the wished items means.
func (a *app) planTurn(d *visit.Session, w wish) (plan, error) {
	t, err := d.PlanTurn(w.asked())
	if err != nil {
		return plan{}, insistable(err)
	}
	s, c := a.screen(), t.Change
	if len(c.Targets) == 0 {
		return plan{nothing: func() error {
			all := "the item is"
			if n := len(t.Picked); n > 1 {
				all = fmt.Sprintf("all %d items are", n)
			}
			s.Line("Nothing to do: %s already %s.", all, w.already)
			if a.json {
				return a.writeJSON(document.NewChange(c))
			}
			return nil
		}}, nil
	}
	show := func() {
		s.Say(render.Strong, "%s %s on %s:", w.doing, count(len(c.Targets), "item", "items"),
			machineName(t.Visit))
		a.showTargets(s, t.Visit, c)
		a.showReasons(s, t.Visit, t.Picked, c)
		a.showEdits(s, t.Root, c)
		for _, it := range t.LeftOut {
			s.Line("  Left out: %s is off already.", render.Clean(it.ID))
		}
		said := map[string]bool{}
		for _, it := range t.Picked {
			warn(s, t.Visit, it, w, c, said)
		}
		if f := c.Forecast; f != nil && f.Usable == nil && f.Kind == "" && !f.Shows() &&
			ofLogin(c) {
			s.Wrap(2, "Ready does not wait for it; how much sooner one can work is not forecast: "+
				"boots after the change will tell.")
		} else if f != nil {
			s.Wrap(2, "%s%s%s", forecastLine(*c.Forecast), ofSimulated(t.Visit),
				setUpNow(t.Visit))
		}
		a.tellBeyond(s, t.Guard)
		if !w.yes { // it is said when it is done
			s.Line("It takes effect %s.", effect(c))
		}
	}
	carry := func(d *visit.Session) error {
		c, err := a.carryOut(d, s, c, &t.Guard)
		if err != nil {
			return err
		}
		a.tellManager(d, s, c.Edits)
		if w.stop {
			stopNow(d, s, c)
		}
		return a.done(s, c)
	}
	return plan{changes: []change.Change{c}, show: show, carry: carry}, nil
}

// ofLogin reports whether a change decides on nothing but what starts at a
// login.
func ofLogin(c change.Change) bool {
	return !slices.ContainsFunc(c.Targets, func(t change.Target) bool {
		return t.When != item.AtLogin
	})
}

// insistItem stands for --insist without a value: on the one item given.
const insistItem = "."

// bareInsist gives each --insist that has no value the one that means the item
// given, since a flag of pflag takes a value always or never.
func bareInsist(args []string) []string {
	args = slices.Clone(args)
	for i, arg := range args {
		if arg == "--" {
			break
		}
		if arg == "--insist" && (i+1 == len(args) || strings.HasPrefix(args[i+1], "-")) {
			args[i] += "=" + insistItem
		}
	}
	return args
}

// insistsOn are the words of what is insisted on.
func insistsOn(insist, items []string) ([]string, error) {
	if !slices.Contains(insist, insistItem) {
		return insist, nil
	}
	if len(insist) > 1 || len(items) != 1 || strings.Contains(items[0], "*") {
		return nil, usage("--insist alone means the one item given; where there are several, " +
			"repeat the id of what you insist on")
	}
	return items, nil
}

// insistable adds to the refusal of protected items how to insist on them.
func insistable(err error) error {
	p := (*visit.Protected)(nil)
	if !errors.As(err, &p) {
		return err
	}
	var lines []string
	for i, it := range p.Items {
		lines = append(lines, fmt.Sprintf("%s is protected: %s\nif you are sure: --insist %s",
			it.ID, p.Why[i], shellWord(it.ID)))
	}
	return errors.New(strings.Join(append(lines, "nothing was changed"), "\n"))
}

// forecastLine says a change's forecast, the figure that leads first.
func forecastLine(f change.Forecast) string {
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
	return fmt.Sprintf("%s, from %s.", text, count(f.Lead().Boots, "boot", "boots"))
}

// warn tells what else a decision about an item means, as far as it was not
// said.
func warn(
	s *render.Screen,
	l *visit.Visit,
	it item.Item,
	w wish,
	c change.Change,
	said map[string]bool,
) {
	for _, line := range minds(l, it, w, c) {
		again := said[line.text]
		said[line.text] = true
		switch {
		case again:
		case line.mind:

			s.SayWrapped(4, render.Warn, "  %s", line.text)
		default:
			s.Line("    %s", line.text)
		}
	}
}

// A minded line is what else a decision means, or which flag has to do with it.
type minded struct {
	text string
	mind bool
}

// minds is what else switching an item off means, beside what a change does
// anyhow.
func minds(l *visit.Visit, it item.Item, w wish, c change.Change) (lines []minded) {
	mind := func(format string, values ...any) {
		lines = append(lines, minded{"Mind: " + fmt.Sprintf(format, values...), true})
	}
	if it.Hold != "" && w.to != item.On {
		if it.Undone {
			mind("%s.", render.Clean(it.Hold))
		} else {
			lines = append(lines, minded{text: render.Clean(capital(it.Hold)) + "."})
		}
	}
	if w.to != item.Off {
		return lines
	}
	if launches := l.Launches(it); len(launches) > 0 {
		var titles []string
		for _, other := range launches {
			titles = append(titles, render.Clean(other.Title))
		}
		mind("%s with it: %s.",
			plural(len(launches), "1 task stops", fmt.Sprint(len(launches))+" tasks stop"),
			strings.Join(titles, ", "))
	}
	others := slices.DeleteFunc(slices.Clone(it.NeededBy), func(id string) bool {
		return slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id })
	})
	if len(others) > 0 {
		mind("%s is needed by %s.", render.Clean(it.Native),
			render.Clean(strings.Join(others, ", ")))
		lines = append(lines, minded{text: "--and-dependents switches that off as well."})
	}
	var twins []string
	can, cannot := l.Twins(it)
	for _, id := range append(can, cannot...) {
		if !slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id }) {
			twins = append(twins, id)
		}
	}
	if len(twins) > 0 {
		mind("the same program is launched by %s too.", render.Clean(strings.Join(twins, ", ")))
		if len(can) > 0 && slices.Contains(twins, can[0]) {
			lines = append(lines, minded{
				text: "--and-twins switches off as well what of that can be.",
			})
		}
	}
	switchable := visit.SwitchableStarters(it)
	var left []string
	for _, starter := range it.Starters {
		if !w.Starters || !slices.Contains(switchable, starter) {
			left = append(left, starter.String())
		}
	}
	switch {
	case len(left) > 0 && l.Masks(c, it): // TestASocketOfAMaskedService asked a real boot
		mind("%s would start %s on demand, and fails while that is masked.",
			render.Clean(strings.Join(left, ", ")), render.Clean(it.Native))
	case len(left) > 0:
		mind("%s can still start %s on demand.", render.Clean(strings.Join(left, ", ")),
			render.Clean(it.Native))
	}
	if len(left) > 0 && len(switchable) > 0 && !w.Starters {
		lines = append(lines, minded{text: "--and-starters switches them off as well."})
	}
	return lines
}

// showTargets lists what a change decides on, with the advice of those items
// that a visit knows; it may be nil.
func (a *app) showTargets(s *render.Screen, l *visit.Visit, c change.Change) {
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
			{Text: string(advice), Tone: adviceTone(advice)},
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
func (a *app) showReasons(s *render.Screen, l *visit.Visit, picked []item.Item, c change.Change) {
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
		title, text := render.Clean(it.Title), reasonText(l, it)
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
			a.call("show ITEM"))
	}
	if len(about) > 0 {
		s.Line("")
	}
}

// reasonText is what there is to know before an item is decided on.
func reasonText(l *visit.Visit, it item.Item) string {
	reason, text := why(it), string(it.Advice)
	switch {
	case it.Advice == "" && reason == "":
		text = "no advice"
	case it.Advice == "":
		text = reason
	case reason != "":
		text += ", since " + reason
	}
	if it.Lost != "" {
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

// showEdits says which paths of a machine a change touches; of one that is nil
// nothing but files.
func (a *app) showEdits(s *render.Screen, r *machine.Root, c change.Change) {
	if slices.ContainsFunc(c.Edits, func(e change.Edit) bool {
		return change.Scheme(e.Path) == ""
	}) {
		s.Line("This touches %s:", count(len(c.Edits), "path", "paths"))
	} else {
		s.Line("This touches %s:", count(len(c.Edits), "value", "values"))
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
		s.Wrap(11, "  %-8s %s%s", verb, render.Clean(e.Path), render.Clean(detail))
	}
	minds := map[string]bool{}
	for _, e := range c.Edits {
		if r != nil && change.Scheme(e.Path) != "" {
			for _, text := range r.Mind(e.Path) {
				minds[text] = true
			}
		}
	}
	for _, text := range slices.Sorted(maps.Keys(minds)) {
		s.SayWrapped(4, render.Warn, "  %s", render.Clean(text))
	}
}

// tellManager has the running machine's service manager read changed unit files
// anew, and says where it was not told.
func (a *app) tellManager(d *visit.Session, s *render.Screen, edits []change.Edit) {
	if err := d.Reload(edits); err != nil {
		s.Say(render.Warn, "The service manager was not told to read its files anew: %s. It does "+
			"at the next boot.", render.Clean(err.Error()))
	}
}

// stopNow stops what runs now of a change, and says what was not stopped.
func stopNow(d *visit.Session, s *render.Screen, c change.Change) {
	if !d.Root.Live() {
		s.Say(render.Warn, "Nothing was stopped: that machine is not running.")
		return
	}
	left := d.Stop(c)
	for _, unit := range slices.Sorted(maps.Keys(left)) {
		s.Say(render.Warn, "%s was not stopped: %s", render.Clean(unit),
			render.Clean(left[unit].Error()))
	}
}

func effect(c change.Change) string {
	if e := c.TakesEffect(); e != change.Now {
		return "at the " + string(e)
	}
	return "now"
}

func restart(c change.Change) string {
	if c.TakesEffect() == change.NextBoot {
		return ": restart the machine when it suits"
	}
	return ""
}

// whoami is the person behind the call: the one who became root, if that can be
// told.
func whoami() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// date shows a day that is written as time.DateOnly the way people date things.
func date(written string) string {
	t, err := time.Parse(time.DateOnly, written)
	if err != nil {
		return render.Clean(written)
	}
	return t.Format("2 Jan 2006")
}

// day shows an instant the way people date things, in the local time zone.
func day(t time.Time) string {
	if t.IsZero() {
		return "an unknown day"
	}
	return t.Local().Format("2 Jan 2006, 15:04")
}
