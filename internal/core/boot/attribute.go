package boot

import (
	"slices"
	"time"
)

// Launched returns the processes that a program started with, by their indices
// in the boot's list: those that run it, as their program or as the script that
// they were given, and all their descendants. owner is whose login it is; empty
// for any.
func (b Boot) Launched(program, owner string) []int {
	if program == "" {
		return nil
	}
	in := make([]bool, len(b.Programs))
	var all []int
	for i, p := range b.Programs { // parents stand before their children
		own := slices.Contains(p.Words, program) && (owner == "" || p.Owner == owner)
		if own || p.Parent >= 0 && p.Parent < i && in[p.Parent] {
			in[i] = true
			all = append(all, i)
		}
	}
	return all
}

// Asker returns the item, or the program of a login by its index in the boot's
// list, that asked for something to be started; false where nobody recorded to
// what its process belongs. The index is -1 for an item.
func (b Boot) Asker(a Ask) (item Key, program int, ok bool) {
	if a.PID == 0 {
		return Key{}, -1, false
	}
	for i, p := range b.Programs {
		if p.PID == a.PID && p.Began <= a.At {
			return Key{}, i, true
		}
	}
	for _, s := range b.Spans {
		if slices.Contains(s.PIDs, a.PID) && !s.Is(Manager) {
			return s.Key(), -1, true
		}
	}
	return Key{}, -1, false
}

// A ProgramUse is what a program of a login used, with its descendants.
type ProgramUse struct {
	CPU   time.Duration
	Read  int64 // bytes
	Began time.Duration
	// Memory is the sum of the most that each of them held, bytes: more than
	// they held at once. 0 in older records.
	Memory int64
	Ran    bool
}

// ProgramUse is what a program of a login used; of everybody's where owner is
// empty.
func (b Boot) ProgramUse(program, owner string) (use ProgramUse) {
	for _, i := range b.Launched(program, owner) {
		p := b.Programs[i]
		if !use.Ran {
			use.Began = p.Began
		}
		use.CPU += p.CPU
		use.Read += p.Read
		use.Memory += p.Memory
		use.Ran = true
	}
	return use
}
