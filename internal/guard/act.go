package guard

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/guard"
	"calmdawn/internal/ledger"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

// An Event is what one of the units reports.
type Event string

// The events, one a call of a unit.
const (
	Begin  Event = "begin"  // the machine starts
	Good   Event = "good"   // it has reached its goal
	Failed Event = "failed" // it will not, or is in an emergency
	End    Event = "end"    // it is switched off in order
)

// Note does what an event asks for, on the running machine. What it does is told to log.
func Note(r *machine.Root, e Event, now time.Time, log io.Writer) error {
	if e == Good { // whatever was before: with these changes, or without them again, the machine becomes ready
		fmt.Fprintln(log, "The machine is ready; the boot guard goes.")
		return Remove(r, now)
	}
	s, there, err := Read(r)
	if err != nil || !there {
		return err
	}
	id, clock := journal.Present(r), uptime()
	switch e {
	case Failed:
		s.Fail(id)
	case End:
		s.End(id, clock)
	case Begin:
		if s.Begin(id, clock, asked()) {
			return act(r, s, now, log)
		}
	}
	return save(r, s, now)
}

// act takes the guarded changes back and has the goal started again: what the start that is under way does not know of would stay off in it.
func act(r *machine.Root, s guard.State, now time.Time, log io.Writer) error {
	s.Acted = true
	if err := save(r, s, now); err != nil { // first: what cannot be done is not tried at every start
		return err
	}
	var wrong []error
	led, err := ledger.Open(r, "")
	if err != nil {
		wrong = append(wrong, err)
	} else {
		for _, id := range slices.Backward(s.Changes) {
			plan, err := led.PlanUndo(id, now, By, false)
			if err == nil {
				_, err = led.CarryOut(plan)
			}
			if err != nil {
				wrong = append(wrong, fmt.Errorf("change %d: %w", id, err))
				continue
			}
			fmt.Fprintf(log, "Change %d is taken back: the machine did not become ready twice in a row.\n", id)
		}
		wrong = append(wrong, led.Close())
	}
	if err := errors.Join(wrong...); err != nil {
		s.Trouble = err.Error()
		return errors.Join(err, save(r, s, now))
	}
	return startAgain()
}

// asked reports whether a person asked for another start than the usual one, on the kernel's command line (kernel-command-line(7)).
func asked() bool {
	text, err := os.ReadFile("/proc/cmdline")
	if err != nil || inContainer() { // a container sees the words of the computer around it
		return false
	}
	for word := range strings.FieldsSeq(string(text)) {
		switch word {
		case "single", "s", "S", "1", "rescue", "emergency", "-b":
			return true
		}
		if strings.HasPrefix(word, "systemd.unit=") || strings.HasPrefix(word, "init=") {
			return true
		}
	}
	return false
}

func inContainer() bool {
	environ, _ := os.ReadFile("/proc/1/environ")
	return strings.HasPrefix(string(environ), "container=") || strings.Contains(string(environ), "\x00container=")
}
