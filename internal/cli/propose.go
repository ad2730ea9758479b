package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/document"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
)

func (a *app) proposeCommand() *cobra.Command {
	var replace bool
	cmd := &cobra.Command{
		Use:   "propose [FILE]",
		Short: "Write down what could go or wait, as a file to edit and apply",
		Long: `Propose writes a text file with a decision for each item that can go or wait
by advice, those first that bring most by forecast, and after them those that
somebody should look up. Edit it, keep it with the job, and apply it here or
to the next machine of the same kind. Without a name the text is printed.`,
		Example: `  calmdawn propose meridian.toml
  calmdawn apply meridian.toml`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("propose writes one file, and %q is a second", args[1])
			}
			if a.json {
				return usage("propose writes a text to edit; list --json and forecast --json are " +
					"for programs")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.propose(args, replace) },
	}
	cmd.Flags().BoolVar(&replace, "replace", false, "write over a file of that name")
	return cmd
}

func (a *app) propose(args []string, replace bool) error {
	l, err := a.look()
	if err != nil {
		return err
	}
	defer l.Close()
	if err := a.readBoots(l); err != nil {
		return err
	}
	p := l.proposal(a.now())
	text, err := proposal.Write(p)
	if err != nil {
		return err
	}
	if len(args) == 0 {
		_, err := a.Out.Write(text)
		return err
	}
	if _, err := os.Lstat(args[0]); err == nil && !replace {
		return fmt.Errorf("%s is there already; give another name, or --replace to write over it",
			args[0])
	}
	if err := ownfile.Write(args[0], func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	}); err != nil {
		return fmt.Errorf("the proposal cannot be written: %w", err)
	}
	n := map[string]int{}
	for _, d := range p.Decide {
		n[d.Do]++
	}
	s := a.screen()
	s.Say(render.Strong, "%s in %s: %d to switch off, %d to delay, %d to keep unless you decide "+
		"otherwise.", count(len(p.Decide), "decision", "decisions"), render.Clean(args[0]),
		n[proposal.Disable], n[proposal.Delay], n[proposal.Keep])
	s.Line("Next: edit it, then %s", a.call("apply "+shellWord(args[0])))
	return nil
}

// proposal puts the decisions in order: those that bring most together first,
// then what else can go or wait, then what is to be looked up.
func (l *look) proposal(now time.Time) proposal.Proposal {
	p := proposal.Proposal{Machine: l.Host, Made: now}
	candidates := l.dispensable()
	l.byCost(candidates)
	var order []item.Item
	if len(l.replays) > 0 {
		var sets []forecast.Set
		for _, it := range candidates {
			sets = append(sets, l.setOf(it))
		}
		steps, _ := forecast.Best(l.replays, sets)
		for _, st := range steps {
			order = append(order, candidates[st.Index])
		}
	}
	add := func(items []item.Item, fits func(item.Item) bool) {
		for _, it := range items {
			if fits(it) &&
				!slices.ContainsFunc(order, func(o item.Item) bool { return o.ID == it.ID }) {
				order = append(order, it)
			}
		}
	}
	all := slices.Clone(l.Items)
	l.byCost(all)
	fits := func(advice item.Advice) func(item.Item) bool {
		return func(it item.Item) bool {
			return it.Advice == advice && it.State.Launched() && it.Protected == "" &&
				(advice != item.LookUp || !it.System)
		}
	}
	add(all, fits(item.CanGo))
	add(all, fits(item.CanWait))
	add(all, fits(item.LookUp))
	for _, it := range order {
		p.Decide = append(p.Decide, l.decision(it, now))
	}
	return p
}

// decision is what is proposed for an item: what can wait is delayed if it can
// be.
func (l *look) decision(it item.Item, now time.Time) proposal.Decision {
	d := proposal.Decision{
		ID:    it.ID,
		Do:    proposal.Keep,
		Title: render.Clean(it.Title),
		Why:   render.Clean(why(it)),
	}
	switch it.Advice {
	case item.CanGo:
		d.Do = proposal.Disable
	case item.CanWait:
		d.Do = proposal.Delay
		plan := l.Plan(l.root.Draft(now))
		if l.canWait(it, item.Delayed) != nil ||
			plan.Turn(it, item.Delayed, time.Minute) != nil {
			d.Do = proposal.Keep
			d.Why += "; it cannot be delayed, so it goes or stays"
		}
	}
	if c := l.costs[it.ID]; c.Replayed {
		d.Forecast = "forecast: no effect on ready seen"
		if c.Wait.Shows {
			s := c.Wait.Saving
			d.Forecast = fmt.Sprintf("forecast: ready %s sooner without it (between %s)",
				render.Duration(s.Median), span(s))
		}
	}
	return d
}

// applyView is how a proposal is to be carried out.
type applyView struct {
	yes    bool
	next   bool
	insist []string
	trial  string
	guard  string
}

func (a *app) applyCommand() *cobra.Command {
	var v applyView
	cmd := &cobra.Command{
		Use:   "apply FILE",
		Short: "Carry out the decisions of a proposal",
		Long: `Apply carries out a proposal, each decision as a change of its own, in the
order of the file. What is as decided already is left alone; what does not
exist on this machine is named, and the exit status is then 4. What is
protected is refused before anything is done, unless you insist.

With --next only the first decision that is not carried out yet is: restart in
between, and compare can tell what each of them brought.`,
		Example: `  calmdawn apply meridian.toml
  calmdawn apply meridian.toml --next --yes
  calmdawn apply meridian.toml --trial 14d`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage(
					"apply takes the file of one proposal; calmdawn propose FILE writes one",
				)
			}
			if err := checkGuard(&v.guard); err != nil {
				return err
			}
			if v.trial != "" {
				until, err := change.ParseTrial(v.trial, a.now())
				if err != nil {
					return usage("%w", err)
				}
				v.trial = until
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.apply(args[0], v) },
	}
	cmd.Flags().BoolVarP(&v.yes, "yes", "y", false, "do it without asking")
	cmd.Flags().BoolVar(&v.next, "next", false, "carry out only the first decision that is not "+
		"carried out yet")
	cmd.Flags().StringSliceVar(&v.insist, "insist", nil, "do it to the protected item with this "+
		"`ID` all the same")
	cmd.Flags().StringVar(&v.guard, "guard", "", "have the boot guard take the changes back if "+
		"the machine does not start: `WHEN` is auto, on or off")
	cmd.Flags().StringVar(&v.trial, "trial", "", "put the changes on trial until a `DAY`: 14d, "+
		"2w, 2026-12-07")
	return cmd
}

// A resolved decision is one with what it means on this machine.
type resolved struct {
	proposal.Decision
	here  bool
	it    item.Item
	to    item.State
	fate  string // what becomes of it, in words
	doing bool
}

// resolve looks up the decisions on this machine.
func (l *look) resolve(p proposal.Proposal, next bool) (all []resolved, missing int) {
	doing := 0
	for _, d := range p.Decide {
		one := resolved{
			Decision: d,
			to: map[string]item.State{
				proposal.Disable: item.Off,
				proposal.Delay:   item.Delayed,
			}[d.Do],
		}
		one.it, one.here = l.Lookup(d.ID)
		switch {
		case !one.here:
			one.fate = "does not exist here"
			missing++
		case d.Do == proposal.Keep:
			one.fate = "is kept"
		case one.it.State == one.to:
			one.fate = "is " + string(one.to) + " already"
		case one.to == item.Delayed && !one.it.State.Launched():
			one.fate = "is off already, and stays so"
		case next && doing > 0:
			one.fate = "comes later"
		default:
			one.doing, one.fate = true, "will be "+participle(one.to)
			doing++
		}
		all = append(all, one)
	}
	return all, missing
}

func (a *app) apply(file string, v applyView) error {
	text, err := readProposal(file)
	if err != nil {
		return err
	}
	p, err := proposal.Parse(text)
	if err != nil {
		return fmt.Errorf("the proposal %s cannot be used: %w", file, err)
	}
	return a.alter(v.yes, func(d *desk) (plan, error) { return a.planApply(d, file, p, v) })
}

// planApply works out what a proposal means on this machine.
func (a *app) planApply(d *desk, file string, p proposal.Proposal, v applyView) (plan, error) {
	l, err := a.lookAt(d.root, d.led.Changes(), nil)
	if err != nil {
		return plan{}, err
	}
	all, missing := l.resolve(p, v.next)
	var picked []item.Item
	var planned []change.Change
	var refused []string
	for _, r := range all {
		if !r.doing {
			continue
		}
		picked = append(picked, r.it)
		w := wish{turnWords: wordsOf(r.to)}
		w.by, _ = r.Later()
		c, err := l.turn(w, []item.Item{r.it}, d.at)
		if err != nil {
			refused = append(refused, err.Error())
		}
		planned = append(planned, c)
	}
	if len(refused) > 0 {
		return plan{}, fmt.Errorf("%s\nnothing was changed; decide otherwise in %s",
			strings.Join(refused, "\n"), file)
	}
	if err := a.protect(l, picked, v.insist); err != nil {
		return plan{}, err
	}
	for _, c := range planned {
		if _, err := a.planWatch(d.root, c, v.guard); err != nil {
			return plan{}, err
		}
	}
	s := a.screen()
	applied := document.NewApply()
	for _, r := range all {
		if !r.here {
			applied.Missing = append(applied.Missing, r.ID)
		}
	}
	show := func() {
		s.Say(render.Strong, "%s of %s, made for %s on %s: %s to carry out on %s.",
			count(len(all), "decision", "decisions"), render.Clean(file), render.Clean(p.Machine),
			day(p.Made), count(len(picked), "one", "ones"), l.machineName())
		s.Line("")
		showDecisions(s, all)
	}
	finish := func() error {
		if a.json {
			if err := a.writeJSON(applied); err != nil {
				return err
			}
		}
		if missing > 0 {
			return &status{
				exitPartly,
				fmt.Errorf("%s not exist on this machine", count(missing, "item of the proposal "+
					"does", "items of the proposal do")),
			}
		}
		return nil
	}
	if len(picked) == 0 {
		return plan{
			nothing: func() error { show(); s.Line("Nothing to do."); return finish() },
		}, nil
	}
	carry := func(d *desk) error {
		done, err := a.applyAll(d, s, l, all, picked, change.Terms{
			Until:    v.trial,
			Proposal: fmt.Sprintf("%s %s", p.Machine, p.Made.UTC().Format(time.RFC3339)),
		}, v.guard)
		for _, c := range done {
			applied.Add(c)
		}
		if err != nil {
			return fmt.Errorf("%w\n%s carried out before it, and stand; %s lists them", err,
				count(len(done), "decision was", "decisions were"), a.call("history"))
		}
		if len(done) == 0 {
			s.Line("Nothing was left to do.")
			return finish()
		}
		s.Line("")
		s.Say(render.Good, "Done, as %s: restart the machine when it suits, then %s.",
			change.Names(done), a.call("compare"))
		s.Line("To take back what was done: %s", a.call("undo "+inWords(done)))
		return finish()
	}
	return plan{changes: planned, show: show, carry: carry}, nil
}

// showDecisions says what becomes of each decision here.
func showDecisions(s *render.Screen, all []resolved) {
	var rows [][]render.Cell
	for _, d := range all {
		tone := render.Dim
		switch {
		case d.doing:
			tone = render.Plain
		case !d.here:
			tone = render.Warn
		}
		rows = append(rows, []render.Cell{
			{Text: render.Clean(d.it.Title), Tone: tone},
			{Text: d.fate, Tone: tone},
			{Text: render.Clean(d.ID), Tone: tone},
		})
	}
	s.Table([]render.Column{
		{Title: "ITEM", Flex: 18},
		{Title: "ON THIS MACHINE"},
		{Title: "ID"},
	}, rows)
	s.Line("")
}

// applyAll makes a change of each decision. Each is planned anew, on what the
// one before it left.
func (a *app) applyAll(
	d *desk,
	s *render.Screen,
	l *look,
	all []resolved,
	picked []item.Item,
	terms change.Terms,
	guard string,
) (done []change.Change, err error) {
	if err := a.readBoots(l); err != nil {
		return nil, err
	}
	if len(picked) > 1 {
		terms.Together = l.forecastChange(picked)
	}
	var made []change.Edit
	defer func() { reloadManager(d.root, s, made) }()
	for _, r := range all {
		if !r.doing {
			continue
		}
		if caught := d.led.Caught(); caught != nil {
			return done, fmt.Errorf("%s: %s came in between", r.ID, caught)
		}
		c, err := a.applyOne(d, s, r, terms, guard)
		if err != nil {
			return done, fmt.Errorf("%s: %w", r.ID, err)
		}
		if c.ID != 0 {
			done, made = append(done, c), append(made, c.Edits...)
			terms.Together = nil // it stands with the first of them
		}
	}
	return done, nil
}

func (a *app) applyOne(
	d *desk,
	s *render.Screen,
	r resolved,
	terms change.Terms,
	guard string,
) (change.Change, error) {
	l, err := a.lookAt(d.root, d.led.Changes(), nil)
	if err != nil {
		return change.Change{}, err
	}
	it, ok := l.Lookup(r.ID)
	if !ok {
		return change.Change{}, errors.New(
			"it is not there any more, after the decisions before it",
		)
	}
	w := wish{turnWords: wordsOf(r.to), guard: guard, amid: true}
	w.by, _ = r.Later()
	c, err := l.turn(w, []item.Item{it}, a.now())
	if err != nil || len(c.Targets) == 0 {
		return change.Change{}, err
	}
	if err := a.readBoots(l); err != nil {
		return change.Change{}, err
	}
	c.Terms, c.Forecast = terms, l.forecastChange([]item.Item{it})
	watch, err := a.planWatch(d.root, c, guard)
	if err != nil {
		return c, err
	}
	return a.carryOutGuarded(d, s, c, w, watch)
}

func wordsOf(to item.State) turnWords {
	if to == item.Delayed {
		return delayWords
	}
	return disableWords
}

// readProposal reads a file that may be anything.
func readProposal(file string) ([]byte, error) {
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() {
		// a FIFO would keep us waiting
		return nil, fmt.Errorf("the proposal cannot be read: %s is no file", file)
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("the proposal %s cannot be read; calmdawn propose FILE writes "+
			"one: %w", file, err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, proposal.MaxSize+1))
}
