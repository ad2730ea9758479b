package recorder

import (
	"os"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// GiveBack lets go of those pages of this program's own file that are in
// memory. What is needed of them is found again in the file. A program does
// much once, at its begin and its end, and would hold all of that until it is
// over.
func GiveBack() {
	for _, m := range ownFile() {
		_, _, _ = unix.RawSyscall(unix.SYS_MADVISE, m.from, m.to-m.from, unix.MADV_DONTNEED)
	}
}

type extent struct{ from, to uintptr }

// ownFile are those parts of this program's file that are in memory and were
// never written to. So the file has all of them; see proc_pid_maps(5).
var ownFile = sync.OnceValue(func() (parts []extent) {
	own, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return nil
	}
	maps, _ := os.ReadFile("/proc/self/maps")
	for line := range strings.Lines(string(maps)) { // from-to mode offset device inode path
		words := strings.Fields(line)
		if len(words) != 6 || words[5] != own || words[1] != "r--p" && words[1] != "r-xp" {
			continue
		}
		first, last, _ := strings.Cut(words[0], "-")
		from, err1 := strconv.ParseUint(first, 16, 64)
		to, err2 := strconv.ParseUint(last, 16, 64)
		if err1 == nil && err2 == nil {
			parts = append(parts, extent{uintptr(from), uintptr(to)})
		}
	}
	return parts
})
