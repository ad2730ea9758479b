package visit

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/guard"
	"calmdawn/internal/ledger"
	"calmdawn/internal/recorder"
)

// A Session is a machine on which something is to be changed: locked and
// settled, or, where that cannot be, only looked at.
type Session struct {
	*Machine
	Ledger *ledger.Ledger
	At     time.Time // for which everything is planned
	Barred error     // why nothing can be changed; nil where it can
	// how long the machine usually takes until it is ready; nil while nobody
	// asked
	usual  *time.Duration
	closed bool
}

// Lock opens the machine for changing it, and settles what an interrupted call
// left. Until the session is closed nobody else can change the machine.
func (s Site) Lock(at time.Time) (*Session, error) {
	m, err := s.Open()
	if err != nil {
		return nil, err
	}
	d := &Session{Machine: m, At: at, Barred: m.Writable()}
	if why := m.kind.Frozen(); why != "" {
		d.Barred = fmt.Errorf("nothing is written to this disk, not even the casebook: %s", why)
	}
	if d.Barred != nil {
		d.Ledger, err = ledger.View(m.Root, s.Casebook)
	} else {
		d.Ledger, err = ledger.Open(m.Root, s.Casebook, at, s.By)
	}
	if err != nil {
		m.Close()
		return nil, err
	}
	d.Barred = cmp.Or(d.Barred, d.Ledger.Barred())
	return d, nil
}

// Close lets go of the machine. It may be called again.
func (s *Session) Close() error {
	if s.closed {
		return nil
	}
	s.closed = true
	return errors.Join(s.Ledger.Close(), s.Machine.Close())
}

// look surveys the machine, as it is now.
func (s *Session) look() (*Visit, error) {
	s.kind.Forget() // the ledger may have changed it since
	return s.Machine.look(s.Ledger.Changes(), nil)
}

// Refuses says why planned changes cannot be carried out here; nil where they
// can.
func (s *Session) Refuses(changes []change.Change) error {
	if s.Barred != nil {
		return s.Barred
	}
	for _, c := range changes {
		for _, e := range c.Edits {
			if s.Root.Fixed(e) {
				return fmt.Errorf("%s is on a disk that is mounted read-only, so nothing was "+
					"changed; mount it writable, then call again", e.Path)
			}
		}
	}
	return nil
}

// Recovering is the change that has to be made before planned ones can be, see
// [ledger.Ledger.Recovering].
func (s *Session) Recovering(planned []change.Change) (change.Change, error) {
	c, err := s.Ledger.Recovering(planned)
	c.MadeAt, c.MadeBy = s.At, s.By
	return c, err
}

// TakeBackRecovery takes back what was recovered for a change that was not made
// after all. Where something else stands on it by now, it stays.
func (s *Session) TakeBackRecovery(c change.Change) error {
	undo, err := s.planUndo(c.ID, Undoing{}, nil)
	if errors.As(err, new(*ledger.Needed)) {
		return nil
	}
	if err == nil {
		_, err = s.CarryOut(undo, nil)
	}
	return err
}

// CarryOut makes one planned change, with the boot guard standing before its
// first edit where one comes with it. It returns the change as it is recorded.
// After an error the machine is as it was before, or the change is left open
// for the next [Site.Lock] to settle. The service managers are not told: see
// [Session.Reload].
func (s *Session) CarryOut(c change.Change, g *Guarding) (change.Change, error) {
	c.MadeAt = s.Now()
	if err := s.Refuses([]change.Change{c}); err != nil {
		return c, err
	}
	if g != nil && g.Comes {
		err := s.putGuard()
		if err != nil && g.must {
			return c, fmt.Errorf("the boot guard cannot come with it: %w", err)
		}
		if err != nil {
			g.Against = err.Error()
		}
		c.Terms.Guarded = err == nil
	}
	return s.Ledger.CarryOut(c)
}

// Reload has the running machine's service manager read changed unit files
// anew, so that its own tools agree. Where none were changed, or the machine
// does not run, there is nothing to do.
func (s *Session) Reload(edits []change.Edit) error {
	if live, ok := s.kind.(family.Live); ok {
		return live.Told(edits)
	}
	return nil
}

// Stop stops the services of a change that run now, on the running machine;
// programs of a login end when their user closes them. It returns why some were
// not stopped, by their names.
func (s *Session) Stop(c change.Change) map[string]error {
	left := map[string]error{}
	live, ok := s.kind.(family.Live)
	for _, t := range c.Targets {
		if !ok {
			break
		}
		if err := live.Stop(t.ID); err != nil {
			left[t.ID] = err
		}
	}
	return left
}

// Wanted says whether the boot guard is to come with a change.
type Wanted string

// The values of --guard.
const (
	GuardAuto Wanted = "auto" // with what bears on the running machine's boot
	GuardOn   Wanted = "on"
	GuardOff  Wanted = "off"
)

// Guarding is whether and how the boot guard comes with a change.
type Guarding struct {
	Comes   bool
	Against string // why it does not come although it usually would
	// Beyond are paths of the change that the guard would take back only when
	// the machine is ready.
	Beyond []string
	must   bool // somebody asked for it: without it the change is not made
}

// planGuard decides whether the guard comes with a planned change. An error
// says why it cannot where it was asked for.
func (s *Session) planGuard(c change.Change, wanted Wanted) (Guarding, error) {
	bears := slices.ContainsFunc(c.Targets, func(t change.Target) bool {
		return t.When == item.AtBoot && t.After != item.On
	})
	live, ok := s.kind.(family.Live)
	usual := wanted == GuardAuto && bears && ok && live.Booted() && s.Casebook.File == ""
	if wanted != GuardOn && !usual {
		return Guarding{}, nil
	}
	g := Guarding{must: wanted == GuardOn}
	kit := s.Guard()
	if kit == nil {
		g.Against = "such machines cannot be guarded yet"
	} else {
		var paths []string
		for _, e := range c.Edits {
			paths = append(paths, e.Path)
		}
		g.Against, g.Beyond = kit.Refused(s.Root, paths)
	}
	if s.Casebook.File != "" {
		g.Against = "it needs the casebook inside the machine, and --casebook names another"
	}
	if g.Against != "" && g.must {
		return g, fmt.Errorf("the boot guard cannot come with it, so nothing was changed: %s\n"+
			"without it: --guard off", g.Against)
	}
	g.Comes = g.Against == ""
	return g, nil
}

func (s *Session) putGuard() error {
	program, err := recorder.OwnProgram()
	if err != nil {
		return err
	}
	if s.usual == nil {
		s.usual = new(time.Duration)
		if fit := boot.Fit(s.Remember(RatedBoots).Boots, 1); len(fit) > 0 {
			*s.usual = fit[0].Ready.Value
		}
	}
	return guard.Put(s.Guard(), s.Ledger, s.Root, program, *s.usual, s.At)
}
