package machine

import (
	"fmt"
	"os"
	"runtime"
	"strings"

	"golang.org/x/sys/unix"
)

// within is that of the resolver. Root edits in a home with the file-system ids
// of its owner.
func (r *kernel) within(dir, home string, do func(folder) error) error {
	from, rel := r.fd, strings.TrimPrefix(dir, "/")
	inside := func() error {
		fd, err := r.openBeneath(from, rel)
		switch err {
		case nil:
		case unix.ELOOP, unix.EXDEV:
			return swapped(dir)
		case unix.ENOTDIR:
			return &Refusal{dir, "is not a folder any more"}
		default:
			return named("open", dir, err)
		}
		defer unix.Close(fd)
		return do(openFolder(fd))
	}
	if home == "" {
		return inside()
	}
	fd, err := r.open(home, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	from, rel = fd, strings.TrimPrefix(strings.TrimPrefix(dir, home), "/")
	return asOwner(fd, inside)
}

// openBeneath opens the folder rel below fd, following no link.
func (r *kernel) openBeneath(fd int, rel string) (int, error) {
	const flags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC
	if rel == "" {
		rel = "."
	}
	if !r.walker {
		return unix.Openat2(fd, rel, &unix.OpenHow{
			Flags:   flags,
			Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS,
		})
	}
	at, err := unix.Openat(fd, ".", flags, 0)
	for _, name := range strings.Split(rel, "/") {
		if err != nil {
			return -1, err
		}
		up := at
		at, err = unix.Openat(up, name, flags|unix.O_NOFOLLOW, 0)
		unix.Close(up)
	}
	return at, err
}

// asOwner runs do with the file-system ids of the owner of the folder fd;
// without root's rights, with our own.
func asOwner(fd int, do func() error) error {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if unix.Geteuid() != 0 || st.Uid == 0 {
		return do()
	}
	runtime.LockOSThread()
	gid, err := unix.SetfsgidRetGid(int(st.Gid))
	if err != nil {
		return err
	}
	uid, err := unix.SetfsuidRetUid(int(st.Uid))
	if err != nil {
		return err
	}
	defer func() {
		unix.SetfsuidRetUid(uid)
		unix.SetfsgidRetGid(gid)
		if back, _ := unix.SetfsuidRetUid(-1); back == uid {
			runtime.UnlockOSThread() // otherwise the thread ends with its goroutine
		}
	}()
	return do()
}

// An openFolder is a folder by its handle.
type openFolder int

func (d openFolder) stat(name string) (Info, error) {
	var st unix.Stat_t
	err := unix.Fstatat(int(d), name, &st, unix.AT_SYMLINK_NOFOLLOW)
	return infoOf(&st), err
}

func (d openFolder) target(name string) (string, error) {
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(int(d), name, buf)
	return string(buf[:max(0, n)]), err
}

func (d openFolder) open(name string, flag int) (*os.File, error) {
	flag |= unix.O_NONBLOCK | unix.O_NOFOLLOW | unix.O_CLOEXEC
	fd, err := unix.Openat(int(d), name, flag, 0)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), name), nil
}

func (d openFolder) create(name string) (*os.File, error) {
	const flags = unix.O_WRONLY | unix.O_CREAT | unix.O_EXCL | unix.O_NOFOLLOW | unix.O_CLOEXEC
	fd, err := unix.Openat(int(d), name, flags, 0o600)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), name), nil
}

func (d openFolder) symlink(target, name string) error {
	return unix.Symlinkat(target, int(d), name)
}

func (d openFolder) mkdir(name string, mode uint32) error {
	return unix.Mkdirat(int(d), name, mode)
}

func (d openFolder) rename(from, to string, absent bool) error {
	if absent {
		err := unix.Renameat2(int(d), from, int(d), to, unix.RENAME_NOREPLACE)
		// the file system cannot: the path was absent a moment ago
		if err != unix.EINVAL && err != unix.ENOSYS {
			return err
		}
	}
	return unix.Renameat(int(d), from, int(d), to)
}

func (d openFolder) remove(name string, kind Kind) error {
	flag := 0
	if kind == Folder {
		flag = unix.AT_REMOVEDIR
	}
	return unix.Unlinkat(int(d), name, flag)
}

func (d openFolder) chown(name string, kind Kind, uid, gid int) error {
	if kind == Symlink {
		return d.giveLink(name, uid, gid)
	}
	return unix.Fchownat(int(d), name, uid, gid, unix.AT_SYMLINK_NOFOLLOW)
}

// giveLink gives a link that we have just made its owner, with our own rights
// where those of a home's owner do not suffice. It is held open while it is
// looked at, so that nobody can have something else given away in its place.
func (d openFolder) giveLink(name string, uid, gid int) error {
	fd, err := unix.Openat(int(d), name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if st.Mode&unix.S_IFMT != unix.S_IFLNK || st.Nlink != 1 {
		return unix.EPERM
	}
	// in a home, on a thread of its own
	if owner, _ := unix.SetfsuidRetUid(-1); owner != unix.Geteuid() {
		group, _ := unix.SetfsgidRetGid(-1)
		defer func() {
			unix.SetfsuidRetUid(owner)
			unix.SetfsgidRetGid(group)
		}()
		unix.SetfsgidRetGid(unix.Getegid())
		unix.SetfsuidRetUid(unix.Geteuid())
	}
	return unix.Fchownat(fd, "", uid, gid, unix.AT_EMPTY_PATH)
}

func (d openFolder) chmod(name string, mode uint32) error {
	return unix.Fchmodat(int(d), name, mode, 0)
}

func (d openFolder) chtime(name string, _ Kind, ns int64) error {
	return setTime(uintptr(d), name, ns)
}

// path leads to a name in the folder for the calls that take no handle.
func (d openFolder) path(name string) string { return fmt.Sprintf("/proc/self/fd/%d/%s", d, name) }

func (d openFolder) xattrs(name string, _ Kind) (map[string][]byte, error) {
	p := d.path(name)
	get := func(key string, buf []byte) (int, error) { return unix.Lgetxattr(p, key, buf) }
	all, err := allXattrs(func(buf []byte) (int, error) { return unix.Llistxattr(p, buf) }, get)
	if err != nil || !d.driven() {
		return all, err
	}
	for _, key := range []string{"system.ntfs_acl", "system.ntfs_attrib_be"} {
		buf := make([]byte, 64<<10)
		if n, err := get(key, buf); err == nil {
			if all == nil {
				all = map[string][]byte{}
			}
			all[key] = buf[:n]
		}
	}
	return all, nil
}

// driven reports whether the folder's file system is driven by a program, as
// NTFS may be: that tells attributes which it does not list.
func (d openFolder) driven() bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(d), &st) == nil && int64(st.Type) == unix.FUSE_SUPER_MAGIC
}

func (d openFolder) setXattr(name, key string, value []byte) error {
	if value == nil {
		return unix.Lremovexattr(d.path(name), key)
	}
	return unix.Lsetxattr(d.path(name), key, value, 0)
}

func (d openFolder) sync() error { return unix.Fsync(int(d)) }
