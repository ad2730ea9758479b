package activity

import (
	"strconv"

	"golang.org/x/sys/unix"
)

// A Counter is a file in which the kernel tells figures, kept open. Its zero
// value is none.
type Counter struct{ fd int }

// OpenCounter opens a file; what cannot be opened is none.
func OpenCounter(file string) Counter {
	fd, err := unix.Open(file, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return Counter{}
	}
	return Counter{fd + 1}
}

// Is reports whether it is open.
func (c Counter) Is() bool { return c.fd > 0 }

// Read returns what the file holds now, as far as it fits into the room. It is
// empty where it is none, or what it told of is gone. It asks once: to ask
// again for the end, as readers of files do, has the kernel work it all out a
// second time.
func (c Counter) Read(room []byte) []byte {
	if c.fd == 0 {
		return nil
	}
	n, err := unix.Pread(c.fd-1, room, 0)
	for err == unix.EINTR {
		n, err = unix.Pread(c.fd-1, room, 0)
	}
	return room[:max(0, n)]
}

// Owner is the number of the user whose file it is.
func (c Counter) Owner() (uid string, ok bool) {
	var st unix.Stat_t
	if c.fd == 0 || unix.Fstat(c.fd-1, &st) != nil {
		return "", false
	}
	return strconv.Itoa(int(st.Uid)), true
}

// Close lets go of the file; it is none then.
func (c *Counter) Close() {
	if c.fd > 0 {
		unix.Close(c.fd - 1)
	}
	c.fd = 0
}
