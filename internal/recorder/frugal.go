package recorder

import (
	"runtime"
	"runtime/debug"
)

// Frugal has this program hold little memory and use one processor: it
// watches, and is not to be noticed.
func Frugal() {
	runtime.GOMAXPROCS(1)
	debug.SetGCPercent(50)
}
