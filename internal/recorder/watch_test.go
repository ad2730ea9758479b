package recorder

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

const sec = time.Second

// A madeUp host plays a boot on a clock of its own.
type madeUp struct {
	clock     time.Duration
	busy      [][2]time.Duration // when its processor works
	finished  time.Duration      // of the start-up
	login     time.Duration      // when somebody logs in; 0 for never
	screen    bool
	stop      time.Duration // when the recorder is stopped; 0 for never
	sleeps    []time.Duration
	whole     int // looks that saw everything
	askedOnce bool
}

func (m *madeUp) Now() time.Duration { return m.clock }

func (m *madeUp) Sleep(_ context.Context, d time.Duration) bool {
	m.sleeps = append(m.sleeps, d)
	m.clock += d
	return m.stop == 0 || m.clock < m.stop
}

func (m *madeUp) Sample(at time.Duration, whole bool) boot.Use {
	if whole {
		m.whole++
	}
	used := time.Duration(0)
	for _, b := range m.busy {
		used += max(0, min(at, b[1])-b[0])
	}
	return boot.Use{At: at, CPU: used}
}

func (m *madeUp) Foreign(own time.Duration) (time.Duration, bool) { return m.clock - own, true }

func (m *madeUp) End() (origin, finished time.Duration) {
	m.askedOnce = true
	if m.clock < m.finished {
		return 0, 0
	}
	return 0, m.finished
}

func (m *madeUp) FirstLogin() time.Duration {
	if m.login == 0 || m.clock < m.login {
		return 0
	}
	return m.login
}

func (m *madeUp) CanLogIn() bool { return m.screen }

func (m *madeUp) Record(Seen, bool) (boot.Boot, error) { return boot.Boot{}, nil }

func (m *madeUp) Tell(string) {}

func TestTheLoopOfTheRecorder(t *testing.T) {
	const end = 20 * sec
	work := [][2]time.Duration{{0, end}}
	for _, c := range []struct {
		name  string
		host  madeUp
		saved []bool // whether each record is of a quiet machine
		until [2]time.Duration
		note  string
	}{
		{
			name:  "a machine that goes quiet",
			host:  madeUp{busy: work, finished: 10 * sec},
			saved: []bool{true},
			until: [2]time.Duration{end + 30*sec, end + 40*sec},
		},
		{
			name: "work that begins by itself soon after",
			host: madeUp{
				busy:     [][2]time.Duration{{0, end}, {end + 15*sec, end + 18*sec}},
				finished: 10 * sec,
			},
			saved: []bool{true, true},
			until: [2]time.Duration{end + 30*sec, end + 40*sec},
		},
		{
			name:  "one that never does",
			host:  madeUp{busy: [][2]time.Duration{{0, 1000 * sec}}, finished: 10 * sec},
			saved: []bool{false},
			until: [2]time.Duration{70 * sec, 72 * sec},
			note:  "was not quiet within 1m0s",
		},
		{
			name:  "a start-up that never ends",
			host:  madeUp{busy: work, finished: 1000 * sec},
			saved: []bool{false},
			until: [2]time.Duration{60 * sec, 62 * sec},
			note:  "was not finished within 1m0s",
		},
		{
			name:  "one that is stopped",
			host:  madeUp{busy: work, finished: 10 * sec, stop: 15 * sec},
			saved: []bool{false},
			until: [2]time.Duration{15 * sec, 15 * sec},
			note:  "was stopped before",
		},
		{
			name: "a login at its screen, later",
			host: madeUp{
				busy:     [][2]time.Duration{{0, end}, {200 * sec, 205 * sec}},
				finished: 10 * sec,
				screen:   true,
				login:    200 * sec,
			},
			saved: []bool{true, true},
			until: [2]time.Duration{235 * sec, 250 * sec},
		},
		{
			name: "a login soon after it was quiet",
			host: madeUp{
				busy:     [][2]time.Duration{{0, end}, {end + 12*sec, end + 16*sec}},
				finished: 10 * sec,
				screen:   true,
				login:    end + 12*sec,
			},
			saved: []bool{true, true},
			until: [2]time.Duration{end + 46*sec, end + 60*sec},
		},
		{
			name:  "a screen at which nobody logs in",
			host:  madeUp{busy: work, finished: 10 * sec, screen: true},
			saved: []bool{true},
			until: [2]time.Duration{330 * sec, 380 * sec},
		},
		{
			name:  "a login before it was quiet",
			host:  madeUp{busy: work, finished: 10 * sec, screen: true, login: 15 * sec},
			saved: []bool{true},
			until: [2]time.Duration{end + 30*sec, end + 40*sec},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWatch(&c.host, Options{Longest: 60 * sec, LoginWait: 300 * sec})
			var saved []bool
			err := w.record(t.Context(), func(quiet bool) error {
				saved = append(saved, quiet)
				return nil
			})
			if err != nil || !slices.Equal(saved, c.saved) || c.host.clock < c.until[0] ||
				c.host.clock > c.until[1] {
				t.Errorf("saved %v until %v; want %v from %v to %v (%v)", saved, c.host.clock,
					c.saved, c.until[0], c.until[1], err)
			}
			if got := strings.Join(w.Notes, "; "); !strings.Contains(got, c.note) ||
				(got == "") != (c.note == "") {
				t.Errorf("noted %q; want %q", got, c.note)
			}
			if len(w.Course) != w.Samples || !c.host.askedOnce {
				t.Errorf("%d moments of %d samples", len(w.Course), w.Samples)
			}
		})
	}
}

// TestItLooksLessOftenWhileNothingHappens counts the looks of an idle minute
// and of a busy one.
func TestItLooksLessOftenWhileNothingHappens(t *testing.T) {
	looks := map[bool]int{}
	for _, busy := range []bool{false, true} {
		m := &madeUp{finished: 1000 * sec}
		if busy {
			m.busy = [][2]time.Duration{{0, 1000 * sec}}
		}
		w := newWatch(m, Options{Longest: 60 * sec})
		w.untilQuiet(t.Context(), 0)
		looks[busy] = w.Samples
		if m.whole < 59 || m.whole > 62 {
			t.Errorf("busy %v: it looked at everything %d times", busy, m.whole)
		}
	}
	if looks[true] < 600 || looks[false] > looks[true]*2/3 {
		t.Errorf("%d looks in an idle minute, %d in a busy one", looks[false], looks[true])
	}
}
