// Calmdawn inventories what a machine launches at boot and login, switches unneeded items off in a way that can always be
// taken back, and compares real boots before and after.
package main

import (
	"os"

	"calmdawn/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
