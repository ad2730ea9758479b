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

// ProgramUse is what a program of a login used, with its descendants; false
// where it did not run.
func (b Boot) ProgramUse(program, owner string) (cpu time.Duration, read int64, ran bool) {
	for _, i := range b.Launched(program, owner) {
		cpu += b.Programs[i].CPU
		read += b.Programs[i].Read
		ran = true
	}
	return cpu, read, ran
}
