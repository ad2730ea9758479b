// Package recorder watches one boot as it happens. It tells what each unit, and
// each program of a login, uses of the processors and the disks, until the
// machine has gone quiet. A host tells what there is to see, and makes one boot
// of it all.
//
// It is to disturb little: what is idle is looked at less often, and it holds a
// few megabytes. What it used itself stands in the record.
package recorder

import (
	"context"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// How often it looks.
const (
	beat      = 100 * time.Millisecond
	slowBeat  = time.Second // while it waits for somebody to log in
	perSecond = int(time.Second / beat)
	maxCourse = 12000
)

// Version is the form of the record. 2 tells whose logins there were, what
// programs held in memory, and what of a login could be attributed to none.
const Version = 2

// Options say how long to watch.
type Options struct {
	// after ready, or after a login: a machine that is not quiet by then is
	// recorded as it is
	Longest   time.Duration
	LoginWait time.Duration // how long to wait for a login where somebody can log in
	// Save is given the record: when the machine is quiet, and once more when
	// somebody logged in and it is quiet again.
	Save func(boot.Boot) error
}

// A Host is the machine that is watched. All moments are on its kernel's clock.
// It is called from one goroutine.
type Host interface {
	Now() time.Duration
	// Sleep waits so long; false where the recorder is to stop first.
	Sleep(ctx context.Context, d time.Duration) bool
	// Sample looks at what units use; once a second, whole, also at processes,
	// disks and sessions.
	Sample(at time.Duration, whole bool) boot.Use
	// Foreign is what others on the same computer took of the processors, of
	// which own was the machine's; false where that cannot be told.
	Foreign(own time.Duration) (time.Duration, bool)
	// End asks when the service manager began, and how long after that the
	// start-up was finished; 0 while it is not.
	End() (origin, finished time.Duration)
	FirstLogin() time.Duration // 0 while nobody has logged in
	// CanLogIn reports whether somebody can log in at the machine: at a screen,
	// or a console.
	CanLogIn() bool
	// Record makes a boot of what was seen; quiet is whether the machine is.
	Record(seen Seen, quiet bool) (boot.Boot, error)
	// Tell tells whoever started the recorder how it stands.
	Tell(status string)
}

// Seen is what was seen of a boot so far.
type Seen struct {
	Began   time.Duration // of the watching
	Course  []boot.Use
	Samples int
	Others  []boot.Use // what others took, by moment
	Notes   []string
	// Waits: nobody had logged in when it was saved, and somebody still may,
	// for so long.
	Waits     bool
	LoginWait time.Duration
}

// A watch is what was seen of a boot so far, and how it goes on.
type watch struct {
	Options
	Host
	Seen

	origin   time.Duration
	finished time.Duration // of the start-up; 0 while it is not
	// when it went quiet last, and what had been used by that stretch's end
	quietSince, usedWhenQuiet time.Duration
}

// Watch watches the boot that is running until the machine is quiet, or ctx
// ends; what was seen by then is saved.
func Watch(ctx context.Context, h Host, o Options) error {
	w := newWatch(h, o)
	return w.record(ctx, w.save)
}

func newWatch(h Host, o Options) *watch {
	return &watch{Options: o, Host: h, Seen: Seen{Began: h.Now(), LoginWait: o.LoginWait}}
}

// save makes the record and hands it on.
func (w *watch) save(quiet bool) error {
	GiveBack()
	seen := w.Seen
	seen.Notes = slices.Clone(w.Notes)
	b, err := w.Record(seen, quiet)
	if err != nil {
		return err
	}
	GiveBack()
	debug.FreeOSMemory()
	if err := w.Save(b); err != nil {
		return err
	}
	w.Tell("Recorded.")
	if w.Waits {
		w.Tell("Recorded; waiting for somebody to log in.")
	}
	return nil
}

// record watches until the machine is quiet and has it saved. It does so once
// more if work began again soon after. It does so too after a login, where
// somebody can log in and nobody has yet.
func (w *watch) record(ctx context.Context, save func(quiet bool) error) error {
	for {
		if !w.untilQuiet(ctx, w.FirstLogin()) {
			return save(false)
		}
		logged := w.FirstLogin()
		w.Waits = logged == 0 && w.CanLogIn()
		if err := save(true); err != nil {
			return err
		}
		goesOn := w.idly(ctx, w.quietSince+boot.Soon)
		more := boot.UsedBy(w.Course, w.Now()) - w.usedWhenQuiet
		if more > time.Second && w.FirstLogin() == logged {
			if err := save(true); err != nil {
				return err
			}
		}
		if goesOn && w.Waits && w.FirstLogin() == 0 {
			goesOn = w.idly(ctx, w.Now()+w.Options.LoginWait)
		}
		if !goesOn || !w.Waits || w.FirstLogin() == 0 {
			return nil
		}
	}
}

// untilQuiet samples until the machine is quiet, since it was ready and since
// somebody logged in; false when that does not come about.
func (w *watch) untilQuiet(ctx context.Context, since time.Duration) bool {
	searched := time.Duration(0)
	for n, beats := 0, 0; ; n += beats {
		if !w.Sleep(ctx, time.Duration(beats)*beat) {
			w.note("the recorder was stopped before the machine was quiet")
			return false
		}
		w.look(n)
		if w.finished > 0 && n%perSecond == perSecond-2 {
			from := max(w.origin+w.finished, w.FirstLogin(), since)
			searched = max(searched, from)
			var quiet bool
			if searched, quiet = boot.QuietRule.Since(w.Course, searched); quiet {
				w.quietSince, w.usedWhenQuiet = searched, w.Course[len(w.Course)-1].CPU
				return true
			}
			if w.Now()-from > w.Longest {
				w.note("the machine was not quiet within %s", w.Longest)
				return false
			}
		} else if n%perSecond == 0 && w.Now()-w.Began > w.Longest && w.finished == 0 {
			w.note("the start-up was not finished within %s of the recorder's start", w.Longest)
			return false
		}
		beats = 1
		if n%2 == 0 && w.idle() { // waking up costs more than looking
			beats = 2
		}
	}
}

func (w *watch) note(format string, values ...any) {
	w.Notes = append(w.Notes, fmt.Sprintf(format, values...))
}

// idle reports whether the machine has hardly done anything in the last second:
// then half as many looks suffice.
func (w *watch) idle() bool {
	n := len(w.Course)
	if n == 0 || w.Course[n-1].At < w.Began+time.Second {
		return false
	}
	last := w.Course[n-1]
	used := last.CPU - boot.UsedBy(w.Course, last.At-time.Second)
	return used < 30*time.Millisecond
}

// idly looks on at little cost until a moment, or until somebody logs in for
// the first time; false where it is to stop first.
func (w *watch) idly(ctx context.Context, until time.Duration) bool {
	logged := w.FirstLogin()
	for w.Now() < until && w.FirstLogin() == logged {
		if !w.Sleep(ctx, slowBeat) {
			return false
		}
		w.look(0)
	}
	return true
}

// look looks at everything that is due in the n-th beat.
func (w *watch) look(n int) {
	at := w.Now()
	whole := n%perSecond == 0
	use := w.Sample(at, whole)
	if len(w.Course) < maxCourse {
		w.Course = append(w.Course, use)
	}
	if whole && w.finished == 0 {
		if foreign, ok := w.Foreign(use.CPU); ok {
			w.Others = append(w.Others, boot.Use{At: at, CPU: foreign})
		}
	}
	if n%perSecond == perSecond/2-1 && w.finished == 0 {
		w.origin, w.finished = w.End()
	}
	w.Samples++
}
