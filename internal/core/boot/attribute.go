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
