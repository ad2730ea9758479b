// Package families lists the kinds of operating system that calmdawn knows.
package families

import (
	"errors"
	"fmt"
	"strings"

	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows"
)

var all = []family.Family{linux.Family{}, windows.Family{}}

// Scopes tells of each kind what a list holds, under the kind's name.
func Scopes() string {
	var parts []string
	for _, f := range all {
		parts = append(parts, "On "+f.Name()+":\n\n"+f.Scope())
	}
	return strings.Join(parts, "\n\n")
}

// Within says how to reach a machine that stands in a part of the disk at a
// folder, as a clause with commands below it. It is empty where none does.
func Within(r *machine.Root, dir string) string { return linux.Within(r, dir) }

// ErrNone is the error of a disk that is of no family.
var ErrNone = errors.New("it is of no kind that is known")

// Of returns the family that a disk is of. All are asked: one that looks like
// two kinds is of none, and the error says by what it looks like each.
func Of(r *machine.Root) (family.Family, error) {
	var found family.Family
	var signs []string
	for _, f := range all {
		if evidence := f.Fits(r); evidence != "" {
			found = f
			signs = append(signs, f.Name()+", by "+evidence)
		}
	}
	switch len(signs) {
	case 0:
		return nil, ErrNone
	case 1:
		return found, nil
	}
	return nil, fmt.Errorf("it looks like more than one machine: %s; give the folder of one of "+
		"them", strings.Join(signs, "; "))
}
