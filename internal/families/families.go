// Package families lists the kinds of operating system that calmdawn knows.
package families

import (
	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows"
)

// all are asked in their order.
var all = []family.Family{linux.Family{}, windows.Family{}}

// Within says how to reach a machine that stands in a part of the disk at a
// folder, as a clause with commands below it; empty where none does.
func Within(r *machine.Root, dir string) string { return linux.Within(r, dir) }

// Of returns the family that a disk is of; false where it is of none.
func Of(r *machine.Root) (family.Family, bool) {
	for _, f := range all {
		if f.Fits(r) {
			return f, true
		}
	}
	return nil, false
}
