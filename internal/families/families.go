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

// Of returns the family that a disk is of; false where it is of none.
func Of(r *machine.Root) (family.Family, bool) {
	for _, f := range all {
		if f.Fits(r) {
			return f, true
		}
	}
	return nil, false
}
