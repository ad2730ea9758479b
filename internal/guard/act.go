package guard

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/failures"
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

// A host is the start that is under way.
type host interface {
	id() string            // the operating system's own
	uptime() time.Duration // on the kernel's clock
	asked() bool           // a person asked for another start than the usual one
	startAgain() error     // has the goal started again, by files read anew
}

// running is the start of the machine that runs us.
type running struct{ root *machine.Root }

func (h running) id() string { return journal.Present(h.root) }

// Note does what an event asks for, on the running machine. What it does is
// told to log.
//
// The begin of a start and its good end open the ledger, and so settle first
// what an interrupted call has left; the other two write the casebook alone.
func Note(r *machine.Root, e Event, now time.Time, log io.Writer) error {
	return note(r, running{r}, e, now, log)
}

func note(r *machine.Root, h host, e Event, now time.Time, log io.Writer) error {
	id, clock := h.id(), h.uptime()
	switch e {
	case Failed:
		return remember(r, func(s *failures.State) { s.Fail(id) })
	case End:
		return remember(r, func(s *failures.State) { s.End(id, clock) })
	}
	led, err := ledger.Open(r, casebook.Inside, now, By)
	if err != nil {
		return err
	}
	defer led.Close()
	for _, c := range led.Recovered() {
		fmt.Fprintf(log, "Change %d had been interrupted; it is settled.\n", c.ID)
	}
	// whatever was before: with these changes, or without them again, the
	// machine becomes ready
	if e == Good {
		fmt.Fprintln(log, "The machine is ready; the boot guard goes.")
		return Remove(led, r, now)
	}
	guarded := led.Guarded()
	if len(guarded) == 0 {
		// what this start was begun with is not what stands on the disk now
		if len(led.Edited()) > 0 {
			return h.startAgain()
		}
		return nil
	}
	due := false
	err = led.UpdateGuard(func(s *failures.State) { due = s.Begin(id, clock, h.asked()) })
	if err != nil || !due {
		return err
	}
	return act(led, h, guarded, now, log)
}

// remember changes what the guard remembers, where the machine has a casebook.
func remember(r *machine.Root, update func(*failures.State)) error {
	if !casebook.Exists(r, casebook.Inside) {
		return nil
	}
	book, err := casebook.Write(r, casebook.Inside)
	if err != nil {
		return err
	}
	return errors.Join(book.UpdateGuard(update), book.Close())
}

// act takes the guarded changes back and has the goal started again: what the
// start that is under way does not know of would stay off in it.
func act(
	led *ledger.Ledger,
	h host,
	guarded []int64,
	now time.Time,
	log io.Writer,
) error {
	var wrong []error
	for _, id := range slices.Backward(guarded) {
		plan, err := led.PlanUndo(id, ledger.Undoing{At: now, By: By})
		if err == nil {
			_, err = led.CarryOut(plan)
		}
		if err != nil {
			wrong = append(wrong, fmt.Errorf("change %d: %w", id, err))
			continue
		}
		fmt.Fprintf(log, "Change %d is taken back: the machine did not become ready twice in a "+
			"row.\n", id)
	}
	for _, note := range led.Notes() {
		fmt.Fprintln(log, note)
	}
	trouble := errors.Join(wrong...)
	err := errors.Join(trouble, led.UpdateGuard(func(s *failures.State) { s.Acting(trouble) }))
	if len(wrong) == len(guarded) {
		return err
	}
	return errors.Join(err, h.startAgain())
}

// asked looks at the kernel's command line (kernel-command-line(7)).
func (running) asked() bool {
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
	return strings.HasPrefix(string(environ), "container=") ||
		strings.Contains(string(environ), "\x00container=")
}
