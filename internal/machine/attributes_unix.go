//go:build linux || darwin

package machine

import (
	"io/fs"
	"os"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// nonBlocking keeps a FIFO that was swapped in from stopping us.
const nonBlocking = unix.O_NONBLOCK

// infoFrom is what the standard library found.
func infoFrom(info fs.FileInfo) Info {
	found := plainInfo(info)
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		found.Mode, found.UID, found.GID = uint32(st.Mode&0o7777), int(st.Uid), int(st.Gid)
		found.Links, found.Device = uint64(st.Nlink), uint64(st.Dev)
		found.Null = st.Mode&unix.S_IFMT == unix.S_IFCHR && isNull(uint64(st.Rdev))
	}
	return found
}

// isNull reports whether a number is that of the null device of Linux, with
// which its service manager masks units.
func isNull(rdev uint64) bool { return unix.Major(rdev) == 1 && unix.Minor(rdev) == 3 }

// setTime gives a name in an open folder its modification time, in nanoseconds
// since 1970 UTC; of a link, its own.
func setTime(dir uintptr, name string, ns int64) error {
	var access unix.Timespec
	access.Nsec = 1<<30 - 2 // UTIME_OMIT of utimensat(2): stays as it is
	if runtime.GOOS == "darwin" {
		access.Nsec = -2
	}
	times := []unix.Timespec{access, unix.NsecToTimespec(ns)}
	return unix.UtimesNanoAt(int(dir), name, times, unix.AT_SYMLINK_NOFOLLOW)
}

// allXattrs asks for the names of extended attributes and for each one's value.
func allXattrs(
	list func([]byte) (int, error), get func(string, []byte) (int, error),
) (map[string][]byte, error) {
	buf := make([]byte, 64<<10) // the kernel's bound for the list and for each value, xattr(7)
	n, err := list(buf)
	if err == unix.ENOTSUP || err == nil && n == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	names := strings.Split(strings.TrimSuffix(string(buf[:n]), "\x00"), "\x00")
	found := make(map[string][]byte, len(names))
	for _, key := range names {
		n, err := get(key, buf)
		if err != nil {
			return nil, err
		}
		found[key] = append([]byte{}, buf[:n]...)
	}
	return found, nil
}

func fileXattrs(f *os.File) (map[string][]byte, error) {
	fd := int(f.Fd())
	return allXattrs(
		func(buf []byte) (int, error) { return unix.Flistxattr(fd, buf) },
		func(key string, buf []byte) (int, error) { return unix.Fgetxattr(fd, key, buf) },
	)
}

func setFileXattr(f *os.File, key string, value []byte) error {
	if value == nil {
		return unix.Fremovexattr(int(f.Fd()), key)
	}
	return unix.Fsetxattr(int(f.Fd()), key, value, 0)
}

// takesNothing reports whether the file system of an open file is mounted
// read-only.
func takesNothing(fd uintptr) bool {
	const readOnly = 1 // ST_RDONLY and MNT_RDONLY of statfs(2) on Linux and macOS
	var st unix.Statfs_t
	return unix.Fstatfs(int(fd), &st) == nil && st.Flags&readOnly != 0
}

// room is how many bytes of the file system of an open file are free for users,
// and how many it has.
func room(fd uintptr) (free, total uint64, err error) {
	var st unix.Statfs_t
	err = unix.Fstatfs(int(fd), &st)
	return uint64(st.Bavail) * uint64(st.Bsize), uint64(st.Blocks) * uint64(st.Bsize), err
}

func syncFolder(f *os.File) error { return f.Sync() }
