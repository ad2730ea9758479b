package ring

import (
	"os"

	"golang.org/x/sys/unix"
)

// lock waits until no other process holds a file.
func lock(file string) (unlock func(), err error) {
	f, err := os.Create(file)
	if err != nil {
		return nil, err
	}
	return func() { f.Close() }, unix.Flock(int(f.Fd()), unix.LOCK_EX)
}
