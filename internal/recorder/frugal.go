package recorder

import (
	"runtime"
	"runtime/debug"
)

// Frugal has this program hold little memory and use few processors: it
// watches, and is not to be noticed.
func Frugal() {
	runtime.GOMAXPROCS(2) // one for looking, one for what cannot wait for that
	debug.SetGCPercent(20)
}
