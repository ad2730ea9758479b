// Package failures decides when changes that keep a machine from becoming ready
// are to be taken back: after two failed boots in a row. A boot that a person
// ended before it could be told how it would come out counts neither way.
package failures

import "time"

// Limit is how many boots have to fail, one after the other.
const Limit = 2

// An Outcome is how a boot came out, as far as was seen.
type Outcome string

// The outcomes. A boot of which nothing was seen any more, since the power went
// or it hung until it was cut, has failed.
const (
	Begun  Outcome = ""
	Failed Outcome = "failed"
	Left   Outcome = "left" // a person switched it off before it was due
)

// A Boot is one start of a guarded machine.
type Boot struct {
	ID string `json:"id"` // the operating system's own
	// on the kernel's clock, when the guard saw it begin; nanoseconds
	Clock   time.Duration `json:"clock"`
	Outcome Outcome       `json:"outcome,omitempty"`
}

// A State is what the guard remembers between boots. Which changes it guards
// stands in their terms.
type State struct {
	// how long the machine takes until it is ready, nanoseconds; 0 where not
	// known
	Usual   time.Duration `json:"usual"`
	Boots   []Boot        `json:"boots"`
	Acted   bool          `json:"acted"`             // it has tried to take the changes back
	Trouble string        `json:"trouble,omitempty"` // why it could not
}

// Begin notes that a boot has begun, and reports whether the changes are to be
// taken back in it. asked says that a person asked for a start without the
// usual goal, which tells nothing of the changes.
func (s *State) Begin(id string, clock time.Duration, asked bool) bool {
	if n := len(s.Boots); n > 0 && s.Boots[n-1].ID == id {
		return false // the guard itself was started again
	}
	for i := range s.Boots {
		if s.Boots[i].Outcome == Begun {
			s.Boots[i].Outcome = Failed
		}
	}
	failed := s.failures()
	b := Boot{ID: id, Clock: clock}
	if asked {
		b.Outcome = Left
	}
	s.Boots = append(s.Boots, b)
	return failed >= Limit && !asked
}

// failures is how many of the last boots failed in a row; those that were left
// are passed over.
func (s *State) failures() int {
	n := 0
	for i := len(s.Boots) - 1; i >= 0; i-- {
		switch s.Boots[i].Outcome {
		case Failed:
			n++
		case Left:
		default:
			return n
		}
	}
	return n
}

// Acting notes what came of taking the changes back. The boots are counted anew
// then: what could not be taken back is tried again after as many failures
// more.
func (s *State) Acting(trouble error) {
	s.Acted, s.Boots = true, s.Boots[max(0, len(s.Boots)-1):]
	if s.Trouble = ""; trouble != nil {
		s.Trouble = trouble.Error()
	}
}

// Fail notes that the boot that runs will not become ready.
func (s *State) Fail(id string) { s.set(id, Failed) }

// End notes that the machine is being switched off in order. Before a boot is
// due, a person does that; later, somebody has lost patience.
func (s *State) End(id string, clock time.Duration) {
	n := len(s.Boots)
	if n == 0 || s.Boots[n-1].ID != id || s.Boots[n-1].Outcome != Begun {
		return
	}
	if clock-s.Boots[n-1].Clock < s.due() {
		s.Boots[n-1].Outcome = Left
	} else {
		s.Boots[n-1].Outcome = Failed
	}
}

// due is how long a boot may take before it counts as failed.
func (s *State) due() time.Duration { return max(3*time.Minute, 3*s.Usual) }

func (s *State) set(id string, o Outcome) {
	if n := len(s.Boots); n > 0 && s.Boots[n-1].ID == id {
		s.Boots[n-1].Outcome = o
	}
}
