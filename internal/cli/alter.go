package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// sit opens the machine for changing it, and says what of an interrupted call
// was settled.
func (a *app) sit(s *render.Screen, at time.Time) (*visit.Session, error) {
	d, err := a.site().Lock(at)
	if err != nil {
		return nil, err
	}
	if d.Barred != nil {
		a.tellUnsettled(d.Root, d.Ledger.Changes())
	}
	a.tellSettled(s, d)
	return d, nil
}

// A plan is what a changing command is about to do.
type plan struct {
	changes []change.Change
	show    func()                     // says what
	carry   func(*visit.Session) error // does it, and says so; in the session that planned it
	nothing func() error               // in place of all that where there is nothing to do: says so
}

// alter is the way in which every command changes a machine: lock, settle,
// look, plan, show, carry out. Where a person is asked, which may take minutes,
// nothing is held meanwhile; with the answer all of it is done anew, and only
// what was agreed to is carried out.
func (a *app) alter(yes bool, make func(*visit.Session) (plan, error)) error {
	s, at := a.screen(), a.now()
	d, err := a.sit(s, at)
	if err != nil {
		return err
	}
	defer func() { d.Close() }()
	p, err := make(d)
	if err != nil {
		return err
	}
	if p.nothing != nil {
		return p.nothing()
	}
	p.show()
	if err := d.Refuses(p.changes); err != nil {
		return err
	}
	if !yes {
		host := d.Name()
		if err := errors.Join(d.Close(), a.confirm(host)); err != nil {
			return err
		}
		agreed := p.changes
		next, err := a.sit(s, at)
		if err != nil {
			return err
		}
		d = next
		if p, err = make(d); err != nil {
			return fmt.Errorf("the machine is another one than when the question was asked, so "+
				"nothing was changed: %w", err)
		}
		if diff := change.Differences(agreed, p.changes); len(diff) > 0 {
			return fmt.Errorf("the machine is another one than when the question was asked, so "+
				"nothing was changed:\n%s\ncall again to see it as it is now",
				strings.Join(diff, "\n"))
		}
	}
	err = p.carry(d)
	a.tellNotes(s, d.Ledger)
	a.caught = cmp.Or(a.caught, d.Ledger.Caught())
	return err
}

// carryOut makes one change that was agreed to, and says whether the boot guard
// came with it.
func (a *app) carryOut(
	d *visit.Session,
	s *render.Screen,
	c change.Change,
	g *visit.Guarding,
) (change.Change, error) {
	c, err := d.CarryOut(c, g)
	if err != nil {
		return c, a.withWays(err)
	}
	if g != nil {
		a.tellGuard(s, c, *g)
	}
	return c, nil
}

// done says what one change did, or prints it as a document.
func (a *app) done(s *render.Screen, c change.Change) error {
	if a.json {
		return a.writeJSON(document.NewChange(c))
	}
	s.Line("")
	if c.Verb == change.Undo {
		s.Say(render.Good, "Change %d is taken back (recorded as change %d). It takes effect %s.",
			c.Undoes, c.ID, effect(c))
		return nil
	}
	s.Say(render.Good, "Done, as change %d. It takes effect %s%s.", c.ID, effect(c), restart(c))
	if c.Terms.Until != "" {
		s.Line("It is on trial until %s.", date(c.Terms.Until))
	}
	s.Line("To take it back: %s", a.call(fmt.Sprintf("undo %d", c.ID)))
	return nil
}

// confirm asks a person whether to go ahead on the machine of that name;
// without one it refuses.
func (a *app) confirm(host string) error {
	if !a.Ask {
		return usage("nobody is there to be asked, so nothing was changed; call it with --yes to " +
			"do it")
	}
	where := cmp.Or(render.Clean(host), "this machine")
	if a.dir != "/" {
		where += ", whose disk is " + render.Clean(a.dir)
	}
	if a.forgets {
		forget(a.In)
	}
	fmt.Fprintf(a.Err, "Go ahead on %s? [y/N] ", where)
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return nil
	}
	return errDeclined
}

// errDeclined tells that a person was asked and said no.
var errDeclined = errors.New("nothing was changed")

// tellSettled says what became of interrupted calls, and has the running
// machine's service manager know.
func (a *app) tellSettled(s *render.Screen, d *visit.Session) {
	for _, c := range d.Ledger.Recovered() {
		switch {
		case len(c.Open()) > 0:
			s.SayWrapped(2, render.Warn, "Change %d had been interrupted. It is settled but for "+
				"%s.", c.ID, count(len(c.Open()), "path", "paths"))
		case c.Verb == change.Undo:
			s.SayWrapped(2, render.Warn, "Change %d, which takes change %d back, had been "+
				"interrupted; it was finished.", c.ID, c.Undoes)
		default:
			s.SayWrapped(2, render.Warn, "Change %d had been interrupted; it was taken back, and "+
				"the machine is as it was before it.", c.ID)
		}
	}
	a.tellManager(d, s, d.Ledger.Edited())
	for _, c := range d.Ledger.Changes() {
		if d.Barred == nil && !a.closing && len(c.Open()) > 0 {
			for _, line := range a.waysOn(c) {
				s.SayWrapped(2, render.Warn, "%s", line)
			}
		}
	}
	a.tellNotes(s, d.Ledger)
}

func (a *app) tellNotes(s *render.Screen, led *ledger.Ledger) {
	for _, note := range led.Notes() {
		s.SayWrapped(2, render.Warn, "%s", render.Clean(note))
	}
}

// waysOn says why an interrupted change is still open, and what closes it.
func (a *app) waysOn(c change.Change) []string {
	var lines []string
	for _, p := range c.Open() {
		lines = append(lines,
			fmt.Sprintf("Change %d is open at %s: %s.", c.ID, render.Clean(p),
				render.Clean(c.WhyOpen(p))))
	}
	open := c.Open()
	leave := fmt.Sprintf("  To leave it as it is: %s",
		a.call(fmt.Sprintf("undo %d --leave %s", c.ID, shellWord(open[0]))))
	if !slices.ContainsFunc(open, func(p string) bool { return !machine.SaysAway(c.WhyOpen(p)) }) {
		return append(lines,
			"  Set that right, then call calmdawn again: it finishes the change.", leave)
	}
	back := "put there what was before it"
	if c.Verb == change.Undo {
		back = "put there what was before the change"
	}
	return append(lines,
		fmt.Sprintf("  To %s, whatever is there now: %s", back, a.call(fmt.Sprintf("undo %d "+
			"--overwrite", c.ID))),
		leave)
}

// withWays adds to the refusal of a path that an interrupted change holds what
// can be done about it.
func (a *app) withWays(err error) error {
	if held := (*ledger.Unsettled)(nil); errors.As(err, &held) {
		return fmt.Errorf("%w\n%s", err, strings.Join(a.waysOn(held.Change), "\n"))
	}
	if held := (*ledger.HeldElsewhere)(nil); errors.As(err, &held) {
		with := *a
		with.casebook = held.Casebook
		return fmt.Errorf("%w\ntake that back first, on that computer: %s\nif that casebook is "+
			"lost, remove %s from the machine by hand", err,
			with.call(fmt.Sprintf("undo %d", held.Change)), held.Mark)
	}
	return err
}

// tellUnsettled says, where nothing is settled, what is shown of a machine that
// an interrupted call has left in between. It stands beside the answer, not in
// it: a table or a document stays one.
func (a *app) tellUnsettled(r *machine.Root, changes []change.Change) {
	var lines []string
	for _, c := range changes {
		switch {
		case len(c.Open()) == 0:
		case r.Locked():
			lines = append(lines, fmt.Sprintf("Change %d is being made at this moment; what is "+
				"shown may be half of it.", c.ID))
		case c.Settlement != nil:
			lines = append(lines, a.waysOn(c)...)
		default:
			lines = append(lines, fmt.Sprintf("Change %d was interrupted: what is shown is the "+
				"machine as it is, changed in part. To have it settled: %s", c.ID,
				a.call(fmt.Sprintf("undo %d", c.ID))))
		}
	}
	s := render.NewScreen(a.Err, a.Width, a.colour(), a.UTF8)
	for _, line := range lines {
		s.SayWrapped(2, render.Warn, "%s", line)
	}
}
