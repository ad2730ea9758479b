// Package quiet keeps the library of the full-screen view from asking the
// terminal for its colours when the program begins. A terminal that does not
// answer would hold up every command by seconds. One that does would get an
// answer typed into it.
//
// The library asks in its own initialisation. Packages are initialised in the
// order of their import paths as soon as what they import is (The Go
// Programming Language Specification, "Program initialization"). This one
// imports less and comes before the other by name. So it has given the answer
// by then. It has to be imported wherever that library is.
package quiet

import "github.com/charmbracelet/lipgloss"

func init() { lipgloss.SetHasDarkBackground(true) }
