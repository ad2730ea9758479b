// Calmdawn inventories what a machine launches at boot and login. It switches
// unneeded items off in a way that can always be taken back, and it compares
// real boots before and after.
package main

import (
	"os"
	"runtime/debug"

	"calmdawn/internal/cli"
)

func main() {
	// a call is short: collecting less often costs little memory and saves a
	// fifth of its time
	debug.SetGCPercent(500)
	debug.SetMemoryLimit(60 << 20) // more often from there on, however large the log
	os.Exit(cli.Main(os.Args[1:]))
}
