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
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// sit opens the machine for changing it, and says what of an interrupted call
// was settled.
func (a *app) sit(s say.Page, at time.Time) (*visit.Session, error) {
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

// An action is what a changing command is about to do.
type action struct {
	changes []change.Change
	show    func()                     // says what
	carry   func(*visit.Session) error // does it, and says so; in the session that planned it
	nothing func() error               // in place of all that where there is nothing to do: says so
}

// alter is the way in which every command changes a machine: lock, settle,
// look, plan, show, carry out. Where a person is asked, which may take minutes,
// nothing is held meanwhile. With the answer all of it is done anew, and only
// what was agreed to is carried out.
func (a *app) alter(yes bool, make func(*visit.Session) (action, error)) error {
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
	if d.Barred != nil { // before the plan, which could not be carried out
		say.ShowFrozen(s, d.Machine)
	}
	first := change.Change{}
	if d.Barred == nil {
		if first, err = d.Recovering(p.changes); err != nil {
			return err
		}
	}
	say.ShowRecovering(s, d.Root, first)
	p.show()
	if err := d.Refuses(append(p.changes, first)); err != nil {
		return err
	}
	if !yes {
		host := d.Name()
		if err := errors.Join(d.Close(), a.confirm(host)); err != nil {
			return err
		}
		agreed := append(p.changes, first)
		next, err := a.sit(s, at)
		if err != nil {
			return err
		}
		d = next
		if p, err = make(d); err != nil {
			return fmt.Errorf("the machine changed while the question was open; nothing was "+
				"changed: %w", err)
		}
		if first, err = d.Recovering(p.changes); err != nil {
			return err
		}
		if diff := change.Differences(agreed, append(p.changes, first)); len(diff) > 0 {
			return fmt.Errorf("the machine changed while the question was open; nothing was "+
				"changed:\n%s\ncall again to see it as it is now",
				strings.Join(diff, "\n"))
		}
	}
	had := len(d.Ledger.Changes())
	err = a.onNewest(d, s, first, p.carry)
	if made := d.Ledger.Changes()[had:]; d.Ledger.Caught() == nil {
		a.keepWith(d, s, made)
	}
	a.tellNotes(s, d.Ledger)
	a.caught = cmp.Or(a.caught, d.Ledger.Caught())
	return err
}

// keepWith keeps a survey of what changes left that were made, which the next
// visit compares with. That it could not be kept is told; the changes stand.
func (a *app) keepWith(d *visit.Session, s say.Page, made []change.Change) {
	if !slices.ContainsFunc(made, func(c change.Change) bool {
		return c.Status == change.Done && (c.Decides() || c.Verb == change.Undo)
	}) {
		return
	}
	if err := d.KeepWith(func(v *visit.Visit) any {
		return document.NewList(v.Survey, v.Items, 0, v.Changes, factsOf(v))
	}); err != nil {
		s.SayWrapped(2, render.Warn, "The survey for drift could not be kept: %s.",
			render.Clean(err.Error()))
	}
}

// onNewest has a plan carried out on the newest state of what it edits. Where
// nothing comes of it, that is taken back too.
func (a *app) onNewest(
	d *visit.Session,
	s say.Page,
	first change.Change,
	carry func(*visit.Session) error,
) error {
	if len(first.Edits) == 0 {
		return carry(d)
	}
	first, err := d.CarryOut(first, nil)
	if err != nil {
		return a.calls().WithWays(err)
	}
	if err := carry(d); err != nil {
		if back := d.TakeBackRecovery(first); back != nil {
			err = fmt.Errorf("%w\nchange %d, which came before it, could not be taken back: %w",
				err, first.ID, back)
		}
		return err
	}
	if !a.json {
		say.ShowRecovered(s, first)
	}
	return nil
}

// carryOut makes one change that was agreed to, and says whether the boot guard
// came with it.
func (a *app) carryOut(
	d *visit.Session,
	s say.Page,
	c change.Change,
	g *visit.Guarding,
) (change.Change, error) {
	c, err := d.CarryOut(c, g)
	if err != nil {
		return c, a.calls().WithWays(err)
	}
	if g != nil {
		a.tellGuard(s, c, *g)
	}
	return c, nil
}

// done says what one change did, or prints it as a document.
func (a *app) done(s say.Page, c change.Change) error {
	if a.json {
		return a.writeJSON(document.NewChange(c))
	}
	say.ShowDone(s, c)
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
	if !a.yes(fmt.Sprintf("Go ahead on %s? [y/N] ", where)) {
		return errDeclined
	}
	return nil
}

// yes asks a person.
func (a *app) yes(question string) bool {
	fmt.Fprint(a.Err, question)
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}

// errDeclined tells that a person was asked and said no.
var errDeclined = errors.New("nothing was changed")

// tellSettled says what became of interrupted calls, and has the running
// machine's service manager know.
func (a *app) tellSettled(s say.Page, d *visit.Session) {
	for _, c := range d.Ledger.Recovered() {
		s.SayWrapped(2, render.Warn, "%s", say.Settled(c))
	}
	a.tellManager(d, s, d.Ledger.Edited())
	for _, c := range d.Ledger.Changes() {
		if d.Barred == nil && !a.closing && len(c.Open()) > 0 {
			for _, line := range a.calls().WaysOn(c) {
				s.SayWrapped(2, render.Warn, "%s", line)
			}
		}
	}
	a.tellNotes(s, d.Ledger)
}

func (a *app) tellNotes(s say.Page, led *ledger.Ledger) {
	for _, note := range led.Notes() {
		s.SayWrapped(2, render.Warn, "%s", render.Clean(note))
	}
}

// tellUnsettled says, where nothing is settled, what is shown of a machine that
// an interrupted call has left in between. It stands beside the answer, not in
// it: a table or a document stays one.
func (a *app) tellUnsettled(r *machine.Root, changes []change.Change) {
	var lines []string
	for _, c := range changes {
		lines = append(lines, a.calls().Unsettled(c, r.Locked())...)
	}
	s := render.NewScreen(a.Err, a.Width, a.colour(), a.UTF8)
	for _, line := range lines {
		s.SayWrapped(2, render.Warn, "%s", line)
	}
}
