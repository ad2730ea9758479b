package activity

import (
	"encoding/binary"
	"errors"
	"path"
	"strings"

	"golang.org/x/sys/unix"
)

// A watch tells of folders that are made in folders, inotify(7). The kernel
// tells it of control groups too.
type watch struct {
	fd      int
	folders map[int32]string
	full    bool // a folder could not be watched
	buf     [8 << 10]byte
}

// newWatch returns nil where the machine has no watches to give.
func newWatch() *watch {
	fd, err := unix.InotifyInit1(unix.IN_NONBLOCK | unix.IN_CLOEXEC)
	if err != nil {
		return nil
	}
	return &watch{fd: fd, folders: map[int32]string{}}
}

func (w *watch) close() {
	if w != nil {
		unix.Close(w.fd)
	}
}

// add watches a folder, which is known as name from then on.
func (w *watch) add(folder, name string) {
	if w == nil || w.full {
		return
	}
	id, err := unix.InotifyAddWatch(w.fd, folder, unix.IN_CREATE|unix.IN_ONLYDIR)
	switch {
	case err == nil:
		w.folders[int32(id)] = name
		w.full = len(w.folders) > maxGroups
	case !errors.Is(err, unix.ENOENT): // that one is gone already
		w.full = true
	}
}

// made tells of the folders that were made since it was last asked; false when
// it may have missed some.
func (w *watch) made(tell func(folder, name string)) bool {
	if w == nil {
		return false
	}
	for !w.full {
		n, err := unix.Read(w.fd, w.buf[:])
		if err != nil || n <= 0 {
			return errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR)
		}
		for b := w.buf[:n]; len(b) >= unix.SizeofInotifyEvent; {
			id, mask := int32(binary.NativeEndian.Uint32(b)), binary.NativeEndian.Uint32(b[4:])
			end := min(unix.SizeofInotifyEvent+int(binary.NativeEndian.Uint32(b[12:])), len(b))
			name := strings.TrimRight(string(b[unix.SizeofInotifyEvent:end]), "\x00")
			b = b[end:]
			folder, known := w.folders[id]
			switch {
			case mask&unix.IN_Q_OVERFLOW != 0:
				return false
			case mask&unix.IN_IGNORED != 0: // the folder is gone
				delete(w.folders, id)
			case known && mask&unix.IN_ISDIR != 0 && name == path.Base(name):
				tell(folder, name)
			}
		}
	}
	return false
}
