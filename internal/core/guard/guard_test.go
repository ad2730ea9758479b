package guard

import (
	"testing"
	"time"
)

// TestState plays rows of boots: f fails, c is cut off, h hangs until somebody loses patience, p is a person's power-off, r a rescue that a person
// asked for, b begins. The last one tells whether it takes back.
func TestState(t *testing.T) {
	for row, want := range map[string]bool{
		"b": false, "fb": false, "ffb": true, "ccb": true, "hhb": true, "fcb": true, "pppb": false, "fpfb": true, "pfpcpb": true, "frfb": true, "ffr": false, "rrb": false,
	} {
		s := State{Format: Format, Changes: []int64{3}, Usual: time.Minute + 30*time.Second}
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
	s := State{Changes: []int64{1}, Acted: true, Boots: []Boot{{ID: "a", Outcome: Failed}, {ID: "b", Outcome: Failed}}}
	if s.Begin("c", 0, false) {
		t.Error("it takes back twice")
	}
}
