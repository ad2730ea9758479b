package failures

import (
	"testing"
	"time"
)

// TestState plays rows of boots: f fails, c is cut off, h hangs until somebody
// loses patience, p is a person's power-off. r is a rescue that a person asked
// for, b begins. The last one tells whether it takes back.
func TestState(t *testing.T) {
	for row, want := range map[string]bool{
		"b":      false,
		"fb":     false,
		"ffb":    true,
		"ccb":    true,
		"hhb":    true,
		"fcb":    true,
		"pppb":   false,
		"fpfb":   true,
		"pfpcpb": true,
		"frfb":   true,
		"ffr":    false,
		"rrb":    false,
	} {
		s := State{Usual: time.Minute + 30*time.Second}
		got := false
		for i, what := range row {
			id := string(rune('a' + i))
			clock := time.Duration(i) * time.Hour
			got = s.Begin(id, clock, what == 'r')
			if s.Begin(id, clock, false) {
				t.Errorf("%s: started again, it takes back", row)
			}
			switch what {
			case 'f':
				s.Fail(id)
				s.End(id, clock+time.Second)
			case 'h':
				s.End(id, clock+5*time.Minute)
			case 'p':
				s.End(id, clock+4*time.Minute)
			}
		}
		if got != want {
			t.Errorf("%s: %v; want %v; %+v", row, got, want, s.Boots)
		}
	}
	s := State{}
	// what could not be taken back is tried again, two failures later
	for n, want := range []bool{false, false, true, false, true} {
		id := string(rune('a' + n))
		if got := s.Begin(id, 0, false); got != want {
			t.Errorf("boot %d: %v", n, got)
		}
		s.Fail(id)
		if want {
			s.Acting(nil)
		}
	}
}
