package recorder

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// GiveBack lets go of those pages of this program's own file that are in memory; what is needed of them is found again in the file. A program does
// much once, at its begin and its end, and would hold all of that until it is over.
func GiveBack() {
	own, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return
	}
	maps, _ := os.ReadFile("/proc/self/maps")
	for line := range strings.Lines(string(maps)) {
		var from, to uintptr
		var mode string
		if n, _ := fmt.Sscanf(line, "%x-%x %s", &from, &to, &mode); n != 3 || !strings.HasSuffix(strings.TrimSpace(line), own) {
			continue
		}
		if mode == "r--p" || mode == "r-xp" { // never written to, so the file has all of it
			_, _, _ = unix.RawSyscall(unix.SYS_MADVISE, from, to-from, unix.MADV_DONTNEED)
		}
	}
}
