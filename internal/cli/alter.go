package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/ledger"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/render"
)

// A desk is a machine on which something is to be changed: locked and settled,
// or, where that cannot be, only looked at.
type desk struct {
	root   *machine.Root
	led    *ledger.Ledger
	at     time.Time // for which everything is planned
	barred error     // why nothing can be changed
}

// sit opens the machine for changing it, and says what of an interrupted call
// was settled.
func (a *app) sit(s *render.Screen, at time.Time) (*desk, error) {
	r, err := a.open()
	if err != nil {
		return nil, err
	}
	d := &desk{root: r, at: at, barred: a.casebookHasPlace(r)}
	if d.barred != nil {
		d.led, err = ledger.View(r, a.book())
	} else {
		d.led, err = ledger.Open(r, a.book(), at, whoami())
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	d.barred = cmp.Or(d.barred, d.led.Barred())
	if d.barred != nil {
		a.tellUnsettled(r, d.led.Changes())
	}
	a.tellSettled(s, d)
	return d, nil
}

func (d *desk) Close() error {
	if d.root == nil {
		return nil
	}
	err := errors.Join(d.led.Close(), d.root.Close())
	d.root = nil
	return err
}

// refuses says why planned changes cannot be carried out here; nil where they
// can.
func (d *desk) refuses(changes []change.Change) error {
	if d.barred != nil {
		return d.barred
	}
	for _, c := range changes {
		if err := writable(d.root, c); err != nil {
			return err
		}
	}
	return nil
}

// A plan is what a changing command is about to do.
type plan struct {
	changes []change.Change
	show    func()            // says what
	carry   func(*desk) error // does it, and says so; on the desk that it was planned on
	nothing func() error      // in place of all that where there is nothing to do: says so
}

// alter is the way in which every command changes a machine: lock, settle,
// look, plan, show, carry out. Where a person is asked, which may take minutes,
// nothing is held meanwhile; with the answer all of it is done anew, and only
// what was agreed to is carried out.
func (a *app) alter(yes bool, make func(*desk) (plan, error)) error {
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
	if err := d.refuses(p.changes); err != nil {
		return err
	}
	if !yes {
		if err := errors.Join(d.Close(), a.confirm()); err != nil {
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
	a.tellNotes(s, d.led)
	a.caught = cmp.Or(a.caught, d.led.Caught())
	return err
}

// carryOut makes one change that was agreed to, and what comes with it.
func (a *app) carryOut(d *desk, s *render.Screen, c change.Change, w wish) (change.Change, error) {
	c.MadeAt = a.now()
	if err := d.refuses([]change.Change{c}); err != nil {
		return c, err
	}
	c, err := d.led.CarryOut(c)
	if err != nil {
		return c, a.withWays(err)
	}
	if !w.amid {
		reloadManager(d.root, s, c.Edits)
	}
	if w.stop {
		stopNow(d.root, s, c)
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
		s.Line("It is on trial until %s.", c.Terms.Until)
	}
	s.Line("To take it back: %s", a.call(fmt.Sprintf("undo %d", c.ID)))
	return nil
}

// writable refuses a change of what is on a disk mounted read-only.
func writable(r *machine.Root, c change.Change) error {
	for _, e := range c.Edits {
		if r.ReadOnly(path.Dir(e.Path)) {
			return fmt.Errorf("%s is on a disk that is mounted read-only, so nothing was "+
				"changed; mount it writable, then call again", e.Path)
		}
	}
	return nil
}

// casebookHasPlace refuses a machine whose /var is a disk of its own that is
// missing: the casebook would be hidden later.
func (a *app) casebookHasPlace(r *machine.Root) error {
	for _, p := range linux.Unmounted(r) {
		if a.casebook == "" && (p == "/var" || p == "/var/lib") {
			return fmt.Errorf("%s of this machine is a file system of its own that is not "+
				"mounted, so the casebook would land in the wrong place and nothing was changed; "+
				"mount it, or name another place with --casebook FILE", p)
		}
	}
	return nil
}

// confirm asks a person; without one it refuses.
func (a *app) confirm() error {
	if !a.Ask {
		return usage("nobody is there to be asked, so nothing was changed; call it with --yes to " +
			"do it")
	}
	fmt.Fprint(a.Err, "Go ahead? [y/N] ")
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return nil
	}
	return errors.New("nothing was changed")
}

// tellSettled says what became of interrupted calls, and has the running
// machine's service manager know.
func (a *app) tellSettled(s *render.Screen, d *desk) {
	for _, c := range d.led.Recovered() {
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
	if len(d.led.Edited()) > 0 {
		reloadManager(d.root, s, d.led.Edited())
	}
	for _, c := range d.led.Changes() {
		if d.barred == nil && !a.closing && len(c.Open()) > 0 {
			for _, line := range a.waysOn(c) {
				s.SayWrapped(2, render.Warn, "%s", line)
			}
		}
	}
	a.tellNotes(s, d.led)
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
	back := "put there what was before it"
	if c.Verb == change.Undo {
		back = "put there what was before the change"
	}
	return append(lines,
		fmt.Sprintf("  To %s, whatever is there now: %s", back, a.call(fmt.Sprintf("undo %d "+
			"--overwrite", c.ID))),
		fmt.Sprintf("  To leave it as it is: %s",
			a.call(fmt.Sprintf("undo %d --leave %s", c.ID, shellWord(open[0])))))
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
