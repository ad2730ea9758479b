package recorder

import (
	"context"
	"fmt"
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

// A host is the machine that is watched. All moments are on its kernel's clock.
type host interface {
	now() time.Duration
	// sleep waits so long; false where the recorder is to stop first.
	sleep(ctx context.Context, d time.Duration) bool
	// sample looks at what units use; once a second, whole, also at processes,
	// disks and sessions.
	sample(at time.Duration, whole bool) boot.Use
	// foreign is what others on the same computer took of the processors, of
	// which own was the machine's; false where that cannot be told.
	foreign(own time.Duration) (time.Duration, bool)
	// end asks when the service manager began, and how long after that the
	// start-up was finished; 0 while it is not.
	end() (origin, finished time.Duration)
	firstLogin() time.Duration // 0 while nobody has logged in
	// canLogIn reports whether somebody can log in at the machine: at a screen,
	// or a console.
	canLogIn() bool
}

// A watch is what was seen of a boot so far.
type watch struct {
	Options
	host

	began    time.Duration
	course   []boot.Use
	samples  int
	origin   time.Duration
	finished time.Duration // of the start-up; 0 while it is not
	others   []boot.Use    // what others took, by moment
	notes    []string
	// when it went quiet last, and what had been used by that stretch's end
	quietSince, usedWhenQuiet time.Duration
	// waits: nobody had logged in when it was saved, and somebody still may
	waits bool
}

// record watches until the machine is quiet and has it saved; once more if
// work began again soon after; and once more after a login, where somebody can
// log in and nobody has yet.
func (w *watch) record(ctx context.Context, save func(quiet bool) error) error {
	for {
		if !w.untilQuiet(ctx, w.firstLogin()) {
			return save(false)
		}
		logged := w.firstLogin()
		w.waits = logged == 0 && w.canLogIn()
		if err := save(true); err != nil {
			return err
		}
		goesOn := w.idly(ctx, w.quietSince+boot.Soon)
		more := boot.UsedBy(w.course, w.now()) - w.usedWhenQuiet
		if more > time.Second && w.firstLogin() == logged {
			if err := save(true); err != nil {
				return err
			}
		}
		if goesOn && w.waits && w.firstLogin() == 0 {
			goesOn = w.idly(ctx, w.now()+w.LoginWait)
		}
		if !goesOn || !w.waits || w.firstLogin() == 0 {
			return nil
		}
	}
}

// untilQuiet samples until the machine is quiet, since it was ready and since
// somebody logged in; false when that does not come about.
func (w *watch) untilQuiet(ctx context.Context, since time.Duration) bool {
	searched := time.Duration(0)
	for n, beats := 0, 0; ; n += beats {
		if !w.sleep(ctx, time.Duration(beats)*beat) {
			w.note("the recorder was stopped before the machine was quiet")
			return false
		}
		w.look(n)
		if w.finished > 0 && n%perSecond == perSecond-2 {
			from := max(w.origin+w.finished, w.firstLogin(), since)
			searched = max(searched, from)
			var quiet bool
			if searched, quiet = boot.QuietRule.Since(w.course, searched); quiet {
				w.quietSince, w.usedWhenQuiet = searched, w.course[len(w.course)-1].CPU
				return true
			}
			if w.now()-from > w.Longest {
				w.note("the machine was not quiet within %s", w.Longest)
				return false
			}
		} else if n%perSecond == 0 && w.now()-w.began > w.Longest && w.finished == 0 {
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
	w.notes = append(w.notes, fmt.Sprintf(format, values...))
}

// idle reports whether the machine has hardly done anything in the last second:
// then half as many looks suffice.
func (w *watch) idle() bool {
	n := len(w.course)
	if n == 0 || w.course[n-1].At < w.began+time.Second {
		return false
	}
	last := w.course[n-1]
	used := last.CPU - boot.UsedBy(w.course, last.At-time.Second)
	return used < 30*time.Millisecond
}

// idly looks on at little cost until a moment, or until somebody logs in for
// the first time; false where it is to stop first.
func (w *watch) idly(ctx context.Context, until time.Duration) bool {
	logged := w.firstLogin()
	for w.now() < until && w.firstLogin() == logged {
		if !w.sleep(ctx, slowBeat) {
			return false
		}
		w.look(0)
	}
	return true
}

// look looks at everything that is due in the n-th beat.
func (w *watch) look(n int) {
	at := w.now()
	whole := n%perSecond == 0
	use := w.sample(at, whole)
	if len(w.course) < maxCourse {
		w.course = append(w.course, use)
	}
	if whole && w.finished == 0 {
		if foreign, ok := w.foreign(use.CPU); ok {
			w.others = append(w.others, boot.Use{At: at, CPU: foreign})
		}
	}
	if n%perSecond == perSecond/2-1 && w.finished == 0 {
		w.origin, w.finished = w.end()
	}
	w.samples++
}
