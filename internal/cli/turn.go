package cli

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"os/user"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/linux/manager"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
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
sound, graphics, input, storage, …) is refused with the reason; --insist with
its id switches it off all the same.`,
		example: `  calmdawn disable service:star-index.service
  calmdawn disable 'service:cue-update*' program:cue-update-helper.desktop
  calmdawn disable program:lanternfile.desktop@teo
  calmdawn disable --maker inkerholm --advice "can go"
  calmdawn disable service:cups.service --and-starters
  calmdawn disable service:palisade.service --insist service:palisade.service`,
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
It is taken back with undo like any change.`,
	example: `  calmdawn delay service:star-index.service
  calmdawn delay program:lanternfile.desktop@maria --by 3m
  calmdawn delay --role backup,sync --when boot`,
}

// A wish is what a call to disable or enable asks for.
type wish struct {
	turnWords
	filter
	ids        []string
	insist     []string
	starters   bool
	dependents bool
	stop       bool
	by         time.Duration
	trial      string
	guard      string
	yes        bool
	// one of several changes: what is said and done once for all of them comes
	// after the last
	amid bool
}

func (a *app) turnCommand(w turnWords) *cobra.Command {
	wish := wish{turnWords: w}
	cmd := &cobra.Command{
		Use: string(w.verb) + " ITEM...", Short: w.short, Long: w.long, Example: w.example,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 && !wish.chooses() {
				return usage("%s takes the ids of items, or flags that choose some; calmdawn "+
					"list shows them", w.verb)
			}
			if w.to == item.Delayed && (wish.by < time.Second || wish.by > 24*time.Hour) {
				return usage("--by takes a time from 1s to 24h, not %s", wish.by)
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
			return wish.check()
		},
		ValidArgsFunction: a.completeIDs,
		RunE: func(_ *cobra.Command, args []string) error {
			wish.ids = args
			return a.turn(wish)
		},
	}
	wish.flags(cmd)
	flags := cmd.Flags()
	flags.BoolVarP(&wish.yes, "yes", "y", false, "do it without asking")
	if w.to != item.On {
		flags.StringVar(&wish.guard, "guard", "", "have the boot guard take the change back if "+
			"the machine does not start: `WHEN` is auto, on or off")
	}
	flags.StringVar(&wish.trial, "trial", "", "put the change on trial until a `DAY`: 14d, 2w, "+
		"2026-12-07")
	if w.to == item.Delayed {
		flags.DurationVar(&wish.by, "by", time.Minute, "for how `LONG`: 90s, 5m")
	}
	if w.to != item.On {
		flags.StringSliceVar(&wish.insist, "insist", nil, "do it to the protected item with this "+
			"`ID` all the same")
		_ = cmd.RegisterFlagCompletionFunc("insist", a.completeIDs)
	}
	if w.to == item.Off {
		flags.BoolVar(&wish.starters, "and-starters", false, "also switch off the sockets, paths "+
			"and timers that could start the items on demand")
		flags.BoolVar(&wish.dependents, "and-dependents", false, "also switch off the items that "+
			"need the given ones")
		flags.BoolVar(&wish.stop, "stop", false, "also stop what of it runs now, on the running "+
			"machine")
	}
	return cmd
}

func (a *app) turn(w wish) error {
	return a.alter(w.yes, func(d *desk) (plan, error) { return a.planTurn(d, w) })
}

// planTurn works out what turning the wished items means.
func (a *app) planTurn(d *desk, w wish) (plan, error) {
	l, err := a.lookAt(d.root, d.led.Changes(), nil)
	if err != nil {
		return plan{}, err
	}
	picked, err := l.choose(w)
	if err != nil {
		return plan{}, err
	}
	if w.to != item.On {
		if err := a.protect(l, picked, w.insist); err != nil {
			return plan{}, err
		}
	}
	c, err := l.turn(w, picked, d.at)
	if err != nil {
		return plan{}, err
	}
	s := a.screen()
	if len(c.Targets) == 0 {
		return plan{nothing: func() error {
			s.Line("Nothing to do: %s already %s.", count(len(picked), "the item is", "the items "+
				"are all"), w.already)
			if a.json {
				return a.writeJSON(document.NewChange(c))
			}
			return nil
		}}, nil
	}
	if w.to != item.On {
		if err := a.readBoots(l); err != nil {
			return plan{}, err
		}
		c.Forecast = l.forecastChange(picked)
	}
	c.Terms.Until = w.trial
	watch, err := a.planWatch(d.root, c, w.guard)
	if err != nil {
		return plan{}, err
	}
	show := func() {
		s.Say(render.Strong, "%s %s on %s:", w.doing, count(len(c.Targets), "item", "items"),
			l.machineName())
		a.showTargets(s, c)
		for _, it := range picked {
			warn(s, it, w, c)
		}
		if c.Forecast != nil {
			s.Wrap(2, "%s", forecastLine(*c.Forecast))
		}
		s.Line("It takes effect %s.", effect(c))
	}
	carry := func(d *desk) error {
		c, err := a.carryOutGuarded(d, s, c, w, watch)
		if err != nil {
			return err
		}
		return a.done(s, c)
	}
	return plan{changes: []change.Change{c}, show: show, carry: carry}, nil
}

// forecastChange is what is forecast for ready when the picked items are
// switched off or delayed; nil where nothing can be.
func (l *look) forecastChange(picked []item.Item) *change.Forecast {
	set := forecast.Set{}
	for _, it := range picked {
		if it.State.Launched() {
			maps.Copy(set, l.setOf(it))
		}
	}
	if len(l.replays) == 0 || len(set) == 0 {
		return nil
	}
	f := forecast.Of(l.replays, set)
	return &change.Forecast{
		Now:     f.Now,
		Saving:  f.Saving.Median,
		Low:     f.Saving.Low,
		High:    f.Saving.High,
		Boots:   f.Boots,
		AtLeast: f.AtLeast,
	}
}

// forecastLine says a change's forecast.
func forecastLine(f change.Forecast) string {
	if f.Low <= 0 {
		return fmt.Sprintf("Forecast: no effect on ready that could be told from how boots "+
			"differ anyhow, now %s.", render.Duration(f.Now))
	}
	lead := ""
	if f.AtLeast {
		lead = "at least "
	}
	return fmt.Sprintf("Forecast: ready %s%s sooner (between %s and %s), from %s.", lead,
		render.Duration(f.Saving), render.Duration(f.Low), render.Duration(f.High),
		count(f.Boots, "boot", "boots"))
}

// choose returns the items that a wish names: by id, by pattern, or by what the
// flags choose.
func (l *look) choose(w wish) ([]item.Item, error) {
	var ids []string
	for _, id := range w.ids {
		if !strings.Contains(id, "*") {
			ids = append(ids, id)
			continue
		}
		pattern := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(id), `\*`, ".*") +
			"$")
		found := false
		for _, it := range l.Items {
			if pattern.MatchString(it.ID) {
				ids, found = append(ids, it.ID), true
			}
		}
		if !found {
			return nil, usage("%s has no item like %q; calmdawn list --all shows every item with "+
				"its id", l.machineName(), id)
		}
	}
	if w.chooses() {
		found := false
		for _, it := range l.Items {
			if w.accepts(it) && (w.all || !it.System) {
				ids, found = append(ids, it.ID), true
			}
		}
		if !found {
			return nil, usage("none of the items of %s is like that; calmdawn list takes the "+
				"same flags", l.machineName())
		}
	}
	picked, err := l.pick(ids)
	if err != nil || !w.dependents {
		return picked, err
	}
	for i := 0; i < len(picked); i++ { // the list grows with those that need those that need it
		for _, id := range picked[i].NeededBy {
			it, ok := l.Find(id)
			known := slices.ContainsFunc(picked, func(p item.Item) bool { return p.ID == id })
			if ok && !known && it.State.Launched() {
				picked = append(picked, it)
			}
		}
	}
	return picked, nil
}

// protect refuses what the machine or its user depends on, unless somebody
// insists on that very item.
func (a *app) protect(l *look, picked []item.Item, insist []string) error {
	var refused []error
	for _, it := range picked {
		why := it.Protected
		remote := it.Native == "ssh.service" || it.Native == "sshd.service"
		if remote && it.State.Launched() && l.root.Live() && os.Getenv("SSH_CONNECTION") != "" {
			why = "you are connected through it right now"
		}
		if why != "" && it.State.Launched() && !slices.Contains(insist, it.ID) {
			refused = append(refused,
				fmt.Errorf("%s is protected: %s\nif you are sure: --insist %s", it.ID, why,
					shellWord(it.ID)))
		}
	}
	if len(refused) > 0 {
		refused = append(refused, errors.New("nothing was changed"))
	}
	return errors.Join(refused...)
}

// turn works out the change that turns the picked items; those already as
// wished are left out. One that cannot be turned refuses all of them.
func (l *look) turn(w wish, picked []item.Item, at time.Time) (change.Change, error) {
	d := l.root.Draft(at)
	plan := l.Plan(d)
	c := change.Change{Verb: w.verb, MadeAt: at, MadeBy: whoami()}
	var refused []error
	for _, it := range picked {
		if it.State == w.to && w.to != item.Delayed || w.to == item.On && it.State == item.Broken {
			continue
		}
		err := l.canWait(it, w.to)
		if err == nil {
			err = plan.Turn(it, w.to, w.by)
		}
		if err != nil {
			refused = append(refused,
				fmt.Errorf("%s cannot be %s: %w", it.ID, participle(w.to), err))
			continue
		}
		c.Targets = append(c.Targets, change.Target{
			ID:     it.ID,
			Title:  it.Title,
			Before: it.State,
			After:  w.to,
			When:   it.When,
		})
		for _, starter := range startersOf(it, w) {
			if err := plan.TurnStarter(it, starter, w.to); err != nil {
				refused = append(refused, fmt.Errorf("%s, which can start %s, cannot be switched "+
					"%s: %w", starter, it.ID, w.to, err))
			}
			c.Targets = append(c.Targets, change.Target{
				ID:     "starter:" + starter,
				Title:  starter,
				Before: item.On,
				After:  w.to,
				When:   it.When,
			})
		}
	}
	if len(refused) > 0 {
		if len(picked) > 1 {
			refused = append(refused, errors.New("nothing was changed: it is all of them or none"))
		}
		return c, errors.Join(refused...)
	}
	c.Edits = d.Edits()
	if len(c.Targets) > 0 && len(c.Edits) == 0 {
		return c, errors.New("there is nothing to edit that would do it")
	}
	return c, nil
}

// canWait refuses to delay what is not launched, or what others need.
func (l *look) canWait(it item.Item, to item.State) error {
	if to != item.Delayed {
		return nil
	}
	if !it.State.Launched() {
		return errors.New("it is off; switch it on first")
	}
	for _, id := range it.NeededBy {
		if other, ok := l.Find(id); ok && other.State.Launched() {
			return fmt.Errorf("%s needs it and would start it all the same", id)
		}
	}
	return nil
}

func participle(to item.State) string {
	if to == item.Delayed {
		return "delayed"
	}
	return "switched " + string(to)
}

// startersOf lists the units that can start an item on demand and are to be
// switched with it.
func startersOf(it item.Item, w wish) []string {
	if !w.starters {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(it.Starters), func(s string) bool {
		return strings.Contains(s, " ")
	})
}

// warn tells what else a decision about an item means.
func warn(s *render.Screen, it item.Item, w wish, c change.Change) {
	if w.to != item.Off {
		return
	}
	others := slices.DeleteFunc(slices.Clone(it.NeededBy), func(id string) bool {
		return slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id })
	})
	if len(others) > 0 {
		s.Say(render.Warn, "  Mind: %s needed by %s.", render.Clean(it.Native)+" is",
			render.Clean(strings.Join(others, ", ")))
		s.Line("    --and-dependents switches that off as well.")
	}
	left := slices.DeleteFunc(slices.Clone(it.Starters), func(starter string) bool {
		return slices.Contains(startersOf(it, w), starter)
	})
	if len(left) > 0 {
		s.SayWrapped(4, render.Warn, "  Mind: %s can still start %s on demand.",
			render.Clean(strings.Join(left, ", ")), render.Clean(it.Native))
		if len(startersOf(it, wish{starters: true})) > 0 && !w.starters {
			s.Line("    --and-starters switches them off as well.")
		}
	}
}

func (a *app) showTargets(s *render.Screen, c change.Change) {
	var rows [][]render.Cell
	for _, t := range c.Targets {
		rows = append(rows, []render.Cell{
			render.C("  " + render.Clean(t.Title)),
			render.C(fmt.Sprintf("%s → %s", t.Before, t.After)),
			render.C(render.Clean(t.ID)),
		})
	}
	s.Table([]render.Column{{Title: "  ITEM", Flex: 18}, {Title: "STATE"}, {Title: "ID"}}, rows)
	s.Line("")
	s.Line("This touches %s:", count(len(c.Edits), "path", "paths"))
	for _, e := range c.Edits {
		detail := ""
		switch {
		case e.After.Kind == change.Link:
			detail = " as a link to " + e.After.Target
		case e.Before.Kind == change.File && e.Before.Links > 1:
			detail = fmt.Sprintf(" (it has %d names; all of them see the new text)", e.Before.Links)
		}
		s.Wrap(11, "  %-8s %s%s", e.Verb(), render.Clean(e.Path), render.Clean(detail))
	}
}

// reloadManager has the running machine's service manager read changed unit
// files anew, so that its own tools agree.
func reloadManager(r *machine.Root, s *render.Screen, edits []change.Edit) {
	units := slices.ContainsFunc(edits, func(e change.Edit) bool {
		return strings.Contains(e.Path, "/systemd/") || strings.HasPrefix(e.Path, "/etc/rc") ||
			strings.HasPrefix(e.Path, "/etc/init.d/")
	})
	if !units || !r.Live() {
		return
	}
	if err := manager.Reload(); err != nil {
		s.Say(render.Warn, "The service manager was not told to read its files anew: %s. It does "+
			"at the next boot.", render.Clean(err.Error()))
	}
}

// stopNow stops the services of a change that run now; programs of a login end
// when their user closes them.
func stopNow(r *machine.Root, s *render.Screen, c change.Change) {
	if !r.Live() {
		s.Say(render.Warn, "Nothing was stopped: that machine is not running.")
		return
	}
	for _, t := range c.Targets {
		unit, ok := strings.CutPrefix(t.ID, "service:")
		if !ok || strings.Contains(unit, ".service@") {
			continue
		}
		if err := manager.Stop(unit); err != nil {
			s.Say(render.Warn, "%s was not stopped: %s", render.Clean(unit),
				render.Clean(err.Error()))
		}
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

// day shows an instant the way people date things, in the local time zone.
func day(t time.Time) string { return t.Local().Format("2 Jan 2006, 15:04") }
