package service

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/registry"
)

// usualDelay is how long after the boot Windows starts delayed services where
// nothing else is set.
const usualDelay = 2 * time.Minute

// anyDelay is what is asked for by who leaves the time open.
const anyDelay = time.Minute

func inWords(d time.Duration) string {
	if d == usualDelay {
		return "two minutes"
	}
	return fmt.Sprintf("%d seconds", int(d.Seconds()))
}

// turn is how a service is switched.
func (l *reader) turn(s *service) launched.Turn {
	return func(d *machine.Draft, it item.Item, to item.State, by time.Duration) error {
		return turner{l, d}.turn(s, it, to, by)
	}
}

// A turner turns services in a draft.
type turner struct {
	*reader
	draft *machine.Draft
}

// turn plans another start type for a service.
func (p turner) turn(s *service, it item.Item, to item.State, by time.Duration) error {
	if err := p.refused(s); err != nil {
		return err
	}
	start, known, err := p.number(s, "Start")
	switch {
	case err != nil:
		return err
	case !known || start > disabled:
		return errors.New(it.Why)
	}
	switch to {
	case item.Off:
		return p.set(s, "Start", disabled)
	case item.Delayed:
		return p.delay(s, start, by)
	}
	return p.start(s, it, start)
}

// refused says why a service is never turned; nil where it may be.
func (p turner) refused(s *service) error {
	switch {
	case s.driver():
		return errors.New("it is a driver: without the wrong one the machine does not start, " +
			"and could not take it back")
	case s.protected:
		return errors.New("the system itself refuses to have it changed, and insisting does not " +
			"help; what brought it can be uninstalled in the running Windows")
	case s.kind&instance != 0:
		return errors.New("it is a copy that a login made of another service, and the next one " +
			"makes anew")
	}
	return nil
}

// number is a value of a service as planned so far; false where there is no
// such number.
func (p turner) number(s *service, name string) (uint32, bool, error) {
	address, err := addressOf(s, name)
	if err != nil {
		return 0, false, err
	}
	n, err := p.draft.Node(address, "")
	if err != nil || len(n.Data) < 4 {
		return 0, false, err
	}
	return binary.LittleEndian.Uint32(n.Data), true, nil
}

func addressOf(s *service, name string) (string, error) {
	address, ok := s.key.Address(name)
	if !ok {
		return "", errors.New("its name is not text")
	}
	return address, nil
}

func (p turner) set(s *service, name string, n uint32) error {
	address, err := addressOf(s, name)
	if err != nil {
		return err
	}
	return p.draft.Set(address, uint32(hive.DWord), registry.Number(n))
}

// delay plans that a service is among those that Windows starts late.
func (p turner) delay(s *service, start uint32, by time.Duration) error {
	switch {
	case s.kind&perUser != 0:
		return errors.New("it starts with a login, and Windows cannot delay that")
	case start != auto:
		return errors.New("it does not start by itself, but when something needs it or triggers it")
	case s.group != "":
		return fmt.Errorf("it is in the load-order group %s, whose services Windows does not delay",
			s.group)
	case by != anyDelay && by != p.late:
		return fmt.Errorf("all delayed services start about %s after the boot, and none at "+
			"another time: leave out how late", inWords(p.late))
	}
	return p.set(s, "DelayedAutostart", 1)
}

// start plans that a service starts by itself. What waits for triggers goes on
// waiting for them.
func (p turner) start(s *service, it item.Item, start uint32) error {
	flags, known, err := p.number(s, "UserServiceFlags")
	if err == nil && known && flags == 0 && s.kind&perUser != 0 {
		return errors.New("no user gets one of it")
	}
	for _, name := range s.needs {
		needed := p.all[hive.Upper(name)]
		if needed == nil {
			return fmt.Errorf("it needs %s, which is not there", name)
		}
		if n, _, err := p.number(needed, "Start"); err == nil && n == disabled {
			return fmt.Errorf("it needs %s, which is off: switch that on before it", needed.name)
		}
	}
	switch {
	case start == disabled && s.trigger != "":
		return p.set(s, "Start", demand)
	case start >= demand:
		return p.set(s, "Start", auto)
	case it.State == item.Delayed:
		return p.set(s, "DelayedAutostart", 0)
	}
	return errors.New(it.Why)
}
