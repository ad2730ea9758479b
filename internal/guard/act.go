package guard

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/failures"
	"calmdawn/internal/ledger"
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

// A Host is the start that is under way.
type Host interface {
	ID() string            // the operating system's own
	Uptime() time.Duration // on the kernel's clock
	Asked() bool           // a person asked for another start than the usual one
	StartAgain() error     // has the goal started again, by files read anew
}

// Note does what an event asks for, on the running machine. What it does is
// told to log.
//
// The begin of a start and its good end open the ledger, and so settle first
// what an interrupted call has left. The other two write the casebook alone.
func Note(k Kit, r *machine.Root, e Event, now time.Time, log io.Writer) error {
	h := k.Start(r)
	id, clock := h.ID(), h.Uptime()
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
		return Remove(k, led, r, now)
	}
	guarded := change.Guarded(led.Changes())
	if len(guarded) == 0 {
		// what this start was begun with is not what stands on the disk now
		if len(led.Edited()) > 0 {
			return h.StartAgain()
		}
		return nil
	}
	due := false
	err = keep(led, func(s *failures.State) { due = s.Begin(id, clock, h.Asked()) })
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

// act takes the guarded changes back and has the goal started again. What the
// start that is under way does not know of would stay off in it.
func act(
	led *ledger.Ledger,
	h Host,
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
		if part := (*ledger.Beyond)(nil); errors.As(err, &part) {
			// the machine may start with it; the guard's next call finishes it
			fmt.Fprintf(log, "The machine did not become ready twice in a row: %v.\n", part)
			continue
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
	err := errors.Join(trouble, keep(led, func(s *failures.State) { s.Acting(trouble) }))
	if len(wrong) == len(guarded) {
		return err
	}
	return errors.Join(err, h.StartAgain())
}
