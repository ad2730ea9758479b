package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// lockFile is the file by which all who change this machine from this computer
// keep out of each other's way. It is one of this computer's run folder, named
// after the machine's root folder. Root's own cannot be held by anybody else;
// an ordinary user's stands in the user's runtime folder, and holds nobody up
// but that user. A container that changes itself and its host that changes the
// container's disk do not see each other's.
func (r *kernel) lockFile() (string, error) {
	var st unix.Stat_t
	if err := unix.Fstat(r.fd, &st); err != nil {
		return "", named("stat", "/", err)
	}
	dir := "/run/calmdawn"
	if uid := unix.Geteuid(); uid != 0 {
		dir = filepath.Join(os.TempDir(), fmt.Sprintf("calmdawn-%d", uid))
		if own := os.Getenv("XDG_RUNTIME_DIR"); own != "" {
			dir = filepath.Join(own, "calmdawn")
		}
	}
	return filepath.Join(dir, fmt.Sprintf("%x-%x.lock", st.Dev, st.Ino)), nil
}

func (r *kernel) lock(patience time.Duration) (release func() error, err error) {
	file, err := r.lockFile()
	if err != nil {
		return nil, err
	}
	fd, err := openLock(file)
	if err != nil {
		return nil, fmt.Errorf("no lock for changing this machine can be taken: %w", err)
	}
	for end := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		err = unix.Flock(fd, unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			return sync.OnceValue(func() error { return unix.Close(fd) }), nil
		}
		if err != unix.EINTR && time.Now().After(end) {
			unix.Close(fd)
			return nil, errors.New("another calmdawn is changing this machine; wait until it is " +
				"done")
		}
	}
}

// openLock opens the lock's file, and makes it and its folder where they are
// missing. Both have to be our own: a temporary folder may hold anything.
func openLock(file string) (int, error) {
	dir := filepath.Dir(file)
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return -1, err
	}
	at, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	defer unix.Close(at)
	var st unix.Stat_t
	if err := unix.Fstat(at, &st); err != nil || int(st.Uid) != unix.Geteuid() {
		return -1, fmt.Errorf("%s belongs to somebody else; remove it", dir)
	}
	const flags = unix.O_RDWR | unix.O_CREAT | unix.O_NOFOLLOW | unix.O_CLOEXEC | unix.O_NONBLOCK
	fd, err := unix.Openat(at, filepath.Base(file), flags, 0o600)
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: file, Err: err}
	}
	return fd, nil
}

func (r *kernel) locked() bool {
	file, err := r.lockFile()
	if err != nil {
		return false
	}
	fd, err := unix.Open(file, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return errors.Is(err, fs.ErrPermission)
	}
	defer unix.Close(fd)
	return unix.Flock(fd, unix.LOCK_SH|unix.LOCK_NB) == unix.EWOULDBLOCK
}

func (r *kernel) mayWrite(p string) error {
	for {
		fd, err := r.open(p, unix.O_PATH|unix.O_DIRECTORY)
		if errors.Is(err, fs.ErrNotExist) && p != "/" {
			p = filepath.Dir(p)
			continue
		}
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		if r.readOnly(p) {
			return &Refusal{p, "the disk is mounted read-only"}
		}
		err = unix.Faccessat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), unix.W_OK,
			unix.AT_EACCESS)
		return named("write to", p, err)
	}
}
