package machine

import (
	"os"

	"golang.org/x/sys/unix"
)

// reserve makes room for n bytes of a file from an offset on.
func reserve(f *os.File, from, n int64) error {
	return unix.Fallocate(int(f.Fd()), 0, from, n)
}
