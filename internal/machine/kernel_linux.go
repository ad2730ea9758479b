package machine

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A kernel has openat2(2) resolve paths inside the root; where that is missing,
// it resolves them itself, one name at a time.
type kernel struct {
	closed atomic.Bool
	dir    string
	fd     int
	walker bool // openat2(2) is missing
	hook   hook
}

// openResolver opens the folder dir of this computer as a machine's root.
func openResolver(dir string, hook hook) (resolver, error) {
	if _, err := os.Stat("/proc/self/fd"); err != nil { // files are read and edited through it
		return nil, errors.New("/proc is not there, through which files are handled; mount it " +
			"(mount -t proc proc /proc), or call this from outside with --root")
	}
	fd, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	k := &kernel{dir: dir, fd: fd, hook: hook}
	probe, err := unix.Openat2(fd, ".", &unix.OpenHow{
		Flags:   unix.O_PATH | unix.O_CLOEXEC,
		Resolve: inRoot,
	})
	if err != nil {
		k.walker = true
	} else {
		unix.Close(probe)
	}
	return k, nil
}

// close lets go of the root, once: by a second call its number may be that of
// another file.
func (r *kernel) close() error {
	if r.closed.Swap(true) {
		return fs.ErrClosed
	}
	return unix.Close(r.fd)
}

func (r *kernel) ownDisk() bool {
	if r.live() {
		return true
	}
	var own, around unix.Stat_t
	if unix.Stat(r.dir, &own) != nil || unix.Stat(r.dir+"/..", &around) != nil {
		return false
	}
	return own.Dev != around.Dev
}

func (r *kernel) live() bool {
	var a, b unix.Stat_t
	return unix.Fstat(r.fd, &a) == nil && unix.Stat("/", &b) == nil && a.Dev == b.Dev &&
		a.Ino == b.Ino
}

const inRoot = unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS

// open resolves p inside the root and opens it. O_CLOEXEC is added.
func (r *kernel) open(p string, flags int) (int, error) {
	p = clean(p)
	if err := r.hook("open", p, 0); err != nil {
		return -1, err
	}
	if strings.IndexByte(p, 0) >= 0 {
		return -1, &Refusal{p, "the name holds a NUL byte"}
	}
	if r.walker {
		fd, _, err := r.walk(p, flags)
		return fd, named("open", p, err)
	}
	how := unix.OpenHow{Flags: uint64(flags | unix.O_CLOEXEC), Resolve: inRoot}
	fd, err := -1, error(unix.EAGAIN)
	for try := 0; try < 16 && (err == unix.EAGAIN || err == unix.EINTR); try++ {
		// EAGAIN: something was renamed while ".." was resolved
		fd, err = unix.Openat2(r.fd, p, &how)
	}
	return fd, named("open", p, err)
}

// walk resolves p without openat2(2), one name at a time, and returns besides
// the handle the path free of links.
func (r *kernel) walk(p string, flags int) (int, string, error) {
	at := &handles{root: r.fd, flags: flags}
	defer at.top()
	if err := walk(p, at); err != nil {
		return -1, "", err
	}
	fd, name := at.root, "."
	for i, f := range at.trail {
		if at.final && i == len(at.trail)-1 {
			name = f.name
		} else {
			fd = f.fd
		}
	}
	fd, err := unix.Openat(fd, name, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	return fd, at.path(), err
}

// handles are the open folders on the way of a walk.
type handles struct {
	root, flags int
	trail       []handle
	final       bool // the last of them is the last name of the path
}

type handle struct {
	fd   int
	name string
}

func (h *handles) enter(name string, last bool) (target string, isLink bool, err error) {
	from := h.root
	if n := len(h.trail); n > 0 {
		from = h.trail[n-1].fd
	}
	fd, err := unix.Openat(from, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", false, err
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		unix.Close(fd)
		return "", false, err
	}
	isLink = st.Mode&unix.S_IFMT == unix.S_IFLNK && !(last && h.flags&unix.O_NOFOLLOW != 0)
	if isLink {
		defer unix.Close(fd)
		target, err = readlink(fd)
		return target, true, err
	}
	h.trail, h.final = append(h.trail, handle{fd, name}), last
	return "", false, nil
}

func (h *handles) up() { h.shorten(len(h.trail) - 1) }

func (h *handles) top() { h.shorten(0) }

func (h *handles) shorten(to int) {
	for len(h.trail) > max(0, to) {
		unix.Close(h.trail[len(h.trail)-1].fd)
		h.trail = h.trail[:len(h.trail)-1]
	}
}

func (h *handles) path() string {
	var b strings.Builder
	for _, f := range h.trail {
		b.WriteString("/" + f.name)
	}
	return cmp.Or(b.String(), "/")
}

func (r *kernel) resolve(p string) (string, error) {
	p = clean(p)
	if err := r.hook("open", p, 0); err != nil {
		return "", err
	}
	fd, resolved, err := r.walk(p, unix.O_PATH)
	if err != nil {
		return "", named("resolve", p, err)
	}
	unix.Close(fd)
	return resolved, nil
}

func readlink(fd int) (string, error) {
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(fd, "", buf)
	return string(buf[:max(0, n)]), err
}

func (r *kernel) readLink(p string) (string, error) {
	fd, err := r.open(p, unix.O_PATH|unix.O_NOFOLLOW)
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	target, err := readlink(fd)
	return target, named("readlink", p, err)
}

func (r *kernel) stat(p string, follow bool) (Info, error) {
	flag := unix.O_NOFOLLOW
	if follow {
		flag = 0
	}
	fd, err := r.open(p, unix.O_PATH|flag)
	if err != nil {
		return Info{}, err
	}
	defer unix.Close(fd)
	return fstat(fd, p)
}

// mountRoot asks statx(2), which tells since Linux 5.8.
func (r *kernel) mountRoot(p string) (is, known bool, err error) {
	fd, err := r.open(p, unix.O_PATH|unix.O_NOFOLLOW)
	if err != nil {
		return false, false, err
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	const root = unix.STATX_ATTR_MOUNT_ROOT
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, unix.STATX_TYPE, &st); err != nil {
		return false, false, named("statx", p, err)
	}
	return st.Attributes&root != 0, st.Attributes_mask&root != 0, nil
}

// sealed asks statx(2) whether a folder is encrypted, and the kernel whether it
// has the key, as its documentation of fscrypt says.
func (r *kernel) sealed(p string) (bool, error) {
	fd, err := r.open(p, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW)
	if err != nil {
		return false, err
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, unix.STATX_TYPE, &st); err != nil {
		return false, named("statx", p, err)
	}
	if st.Attributes&unix.STATX_ATTR_ENCRYPTED == 0 {
		return false, nil
	}
	policy := struct {
		size uint64
		text [24]byte // the version first; of the second, the key's identifier ends it
	}{size: 24}
	if err := ioctl(fd, unix.FS_IOC_GET_ENCRYPTION_POLICY_EX, unsafe.Pointer(&policy)); err != nil {
		return true, nil
	}
	var key struct {
		kind, _ uint32
		name    [32]byte
		_       [6]uint32
		status  uint32
		_       [15]uint32
	}
	const ofVersion2, byDescriptor, byIdentifier, present = 2, 1, 2, 2
	if policy.text[0] == ofVersion2 {
		key.kind = byIdentifier
		copy(key.name[:], policy.text[8:24])
	} else {
		key.kind = byDescriptor
		copy(key.name[:], policy.text[4:12])
	}
	err = ioctl(fd, unix.FS_IOC_GET_ENCRYPTION_KEY_STATUS, unsafe.Pointer(&key))
	return err != nil || key.status != present, nil
}

func ioctl(fd int, request uintptr, arg unsafe.Pointer) error {
	if _, _, no := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), request, uintptr(arg)); no != 0 {
		return no
	}
	return nil
}

func fstat(fd int, p string) (Info, error) {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return Info{}, named("stat", p, err)
	}
	return infoOf(&st), nil
}

func infoOf(st *unix.Stat_t) Info {
	kinds := map[uint32]Kind{
		unix.S_IFREG:  Regular,
		unix.S_IFDIR:  Folder,
		unix.S_IFLNK:  Symlink,
		unix.S_IFIFO:  FIFO,
		unix.S_IFSOCK: Socket,
	}
	kind, ok := kinds[st.Mode&unix.S_IFMT]
	if !ok {
		kind = Device
	}
	isChar := st.Mode&unix.S_IFMT == unix.S_IFCHR
	return Info{
		Kind:    kind,
		Size:    st.Size,
		Mode:    st.Mode & 0o7777,
		UID:     int(st.Uid),
		GID:     int(st.Gid),
		Links:   uint64(st.Nlink),
		ModTime: time.Unix(st.Mtim.Unix()),
		Device:  uint64(st.Dev),
		Null:    isChar && st.Rdev == unix.Mkdev(1, 3),
	}
}

func (r *kernel) openFile(p string) (*os.File, error) {
	fd, err := r.openRegular(p)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), p), nil
}

func (r *kernel) openRegular(p string) (int, error) {
	info, err := r.stat(p, true)
	if err != nil {
		return -1, err
	}
	if info.Kind != Regular {
		return -1, notExpected(p, info.Kind, "a file")
	}
	fd, _, err := r.openKnown(p, 0)
	return fd, err
}

// openKnown opens a path that was a regular file a moment ago. A live machine's
// path may have been swapped since: O_NONBLOCK keeps a FIFO from stopping us.
func (r *kernel) openKnown(p string, flag int) (int, Info, error) {
	fd, err := r.open(p, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY|flag)
	if err != nil {
		return -1, Info{}, err
	}
	info, err := fstat(fd, p)
	if err != nil || info.Kind != Regular {
		unix.Close(fd)
		return -1, Info{}, &Refusal{p, "was swapped while it was opened"}
	}
	return fd, info, nil
}

func (r *kernel) readFile(p string, limit int64) ([]byte, error) {
	fd, err := r.openRegular(p)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	info, err := fstat(fd, p)
	if err != nil {
		return nil, err
	}
	return r.readAll(fd, p, info.Size, limit)
}

// readListed is readFile for a path that readDir has just told to
// be a regular file itself: it looks only once.
func (r *kernel) readListed(p string, limit int64) ([]byte, error) {
	fd, info, err := r.openKnown(p, unix.O_NOFOLLOW)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return r.readAll(fd, p, info.Size, limit)
}

func (r *kernel) readAll(fd int, p string, size, limit int64) ([]byte, error) {
	if size > limit {
		return nil, tooLong(p, limit)
	}
	if err := r.hook("read", p, size); err != nil {
		return nil, err
	}
	data := make([]byte, 0, size+1) // one more, so that the end is seen with the first read
	for {
		room := cap(data) - len(data)
		n, err := unix.Read(fd, data[len(data):cap(data)])
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, named("read", p, err)
		}
		data = data[:len(data)+max(0, n)]
		switch {
		case int64(len(data)) > limit:
			return nil, tooLong(p, limit)
		case n < room: // a regular file gives less only at its end
			return data, nil
		}
		data = append(data, 0)[:len(data)]
	}
}

func (r *kernel) readDir(p string) ([]Entry, error) {
	info, err := r.stat(p, true)
	if err != nil {
		return nil, err
	}
	if info.Kind != Folder {
		return nil, notExpected(p, info.Kind, "a folder")
	}
	fd, err := r.open(p, unix.O_RDONLY|unix.O_DIRECTORY)
	if err != nil {
		return nil, err
	}
	if err := r.hook("list", p, 0); err != nil {
		unix.Close(fd)
		return nil, err
	}
	// Where the file system gives no types, the standard library looks entries
	// up under the name it is given here.
	dir := os.NewFile(uintptr(fd), fmt.Sprintf("/proc/self/fd/%d", fd))
	defer dir.Close()
	entries, err := entriesOf(p, dir)
	Each(len(entries), func(i int) {
		if entries[i].Kind == Symlink {
			entries[i].Target = linkText(fd, entries[i].Name)
		}
	})
	return entries, err
}

// linkText is the text of a link in an open folder; empty where it cannot be
// read.
func linkText(fd int, name string) string {
	var short [128]byte
	n, err := unix.Readlinkat(fd, name, short[:])
	if err == nil && n < len(short) {
		return string(short[:n])
	}
	long := make([]byte, unix.PathMax)
	if n, err = unix.Readlinkat(fd, name, long); err != nil {
		return ""
	}
	return string(long[:n])
}

func (r *kernel) xattr(p, name string, follow bool) ([]byte, error) {
	flags := unix.O_PATH
	if !follow {
		flags |= unix.O_NOFOLLOW
	}
	fd, err := r.open(p, flags)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	buf := make([]byte, 64<<10) // the kernel's bound, xattr(7)
	n, err := unix.Getxattr(fmt.Sprintf("/proc/self/fd/%d", fd), name, buf)
	return buf[:max(0, n)], named("getxattr", p, err)
}

func (r *kernel) readOnly(p string) bool {
	fd, err := r.open(p, unix.O_PATH)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	return takesNothing(uintptr(fd))
}

func (r *kernel) space(p string) (free, total uint64, err error) {
	fd, err := r.open(p, unix.O_PATH)
	if err != nil {
		return 0, 0, err
	}
	defer unix.Close(fd)
	free, total, err = room(uintptr(fd))
	return free, total, named("statfs", p, err)
}

func (r *kernel) handle(p string) (dir string, release func() error, err error) {
	fd, err := r.open(p, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d", fd), func() error { return unix.Close(fd) }, nil
}
