package hive

import (
	"errors"
	"fmt"
	"strings"
)

// Faults are what is wrong with a key, its lists and values: the first of them,
// and how many more there are. A hive of some hundred kilobytes can hold very
// many.
type Faults struct {
	First []error
	More  int
}

func (f *Faults) Error() string {
	var lines []string
	for _, err := range f.First {
		lines = append(lines, err.Error())
	}
	if f.More > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", f.More))
	}
	return strings.Join(lines, "\n")
}

func (f *Faults) Unwrap() []error { return f.First }

// add takes note of a fault, or of those that somebody else collected; nil is
// none.
func (f *Faults) add(err error) {
	others := (*Faults)(nil)
	switch {
	case err == nil:
	case errors.As(err, &others):
		for _, one := range others.First {
			f.add(one)
		}
		f.More += others.More
	case len(f.First) < mostFaults:
		f.First = append(f.First, err)
	default:
		f.More++
	}
}

// err is the faults as an error; nil where there are none.
func (f *Faults) err() error {
	if len(f.First) == 0 {
		return nil
	}
	return f
}
