package machine

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// A Root is a machine's confined file tree: every path is the machine's own,
// and no link in it leads out. Reading may be done by several goroutines at
// once; edits, which the ledger alone makes, by one. What is returned is the
// caller's. A call that fails has changed nothing, but for [Root.Apply] and
// what else edits, whose comments say what they leave. Close it after use.
type Root struct {
	dir    string
	fd     int
	walker bool // openat2(2) is missing: resolve links ourselves

	selfMade bool

	// Home is set once, before the casebook or the ledger is opened.
	Home Home

	stores map[string]Store // by scheme

	// Hook, when set, is shown each operation before it is made; an error from
	// it fails the operation.
	Hook func(Op) error
}

// Open opens the machine whose disk is mounted at dir; "/" is the running one.
// Close it after use.
func Open(dir string) (*Root, error) {
	fd, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	r := &Root{dir: dir, fd: fd}
	probe, err := unix.Openat2(fd, ".", &unix.OpenHow{
		Flags:   unix.O_PATH | unix.O_CLOEXEC,
		Resolve: inRoot,
	})
	if err != nil {
		r.walker = true
	} else {
		unix.Close(probe)
	}
	return r, nil
}

// SelfMade reports whether what we wrote got extended attributes from its file
// system that nobody asked for, so that it differs from what was written.
func (r *Root) SelfMade() bool { return r.selfMade }

// Close releases the machine.
func (r *Root) Close() error { return unix.Close(r.fd) }

// Dir is the folder at which the machine's files stand.
func (r *Root) Dir() string { return r.dir }

// OwnDisk reports whether the machine's root is a file system of its own. Where
// it is a folder of another one, what is true of that is not true of the
// machine.
func (r *Root) OwnDisk() bool {
	if r.Live() {
		return true
	}
	var own, around unix.Stat_t
	if unix.Stat(r.dir, &own) != nil || unix.Stat(r.dir+"/..", &around) != nil {
		return false
	}
	return own.Dev != around.Dev
}

// Live reports whether this is the machine that runs us.
func (r *Root) Live() bool {
	var a, b unix.Stat_t
	return unix.Fstat(r.fd, &a) == nil && unix.Stat("/", &b) == nil && a.Dev == b.Dev &&
		a.Ino == b.Ino
}

func (r *Root) hook(name, path string, n int64) error {
	if r.Hook == nil {
		return nil
	}
	return r.Hook(Op{Name: name, Path: path, Bytes: n})
}

const inRoot = unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS

// nonBlocking keeps a FIFO that was swapped in from stopping us.
const nonBlocking = unix.O_NONBLOCK

// infoFrom is what the standard library found.
func infoFrom(info fs.FileInfo) Info {
	found := plainInfo(info)
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		found.Mode, found.UID, found.GID = st.Mode&0o7777, int(st.Uid), int(st.Gid)
		found.Device = uint64(st.Dev)
		found.Null = st.Mode&unix.S_IFMT == unix.S_IFCHR && st.Rdev == unix.Mkdev(1, 3)
	}
	return found
}

// open resolves p inside the root and opens it. O_CLOEXEC is added.
func (r *Root) open(p string, flags int) (int, error) {
	p = clean(p)
	if err := r.hook("open", p, 0); err != nil {
		return -1, err
	}
	if strings.IndexByte(p, 0) >= 0 {
		return -1, &Refusal{p, "the name holds a NUL byte"}
	}
	if r.walker {
		fd, _, err := r.walk(p, flags)
		return fd, pathErr("open", p, err)
	}
	how := unix.OpenHow{Flags: uint64(flags | unix.O_CLOEXEC), Resolve: inRoot}
	fd, err := -1, error(unix.EAGAIN)
	for try := 0; try < 16 && (err == unix.EAGAIN || err == unix.EINTR); try++ {
		// EAGAIN: something was renamed while ".." was resolved
		fd, err = unix.Openat2(r.fd, p, &how)
	}
	return fd, pathErr("open", p, err)
}

func pathErr(op, p string, err error) error {
	if err == nil {
		return nil
	}
	if err == unix.ELOOP {
		return &Refusal{p, "its links lead in a circle"}
	}
	return &fs.PathError{Op: op, Path: p, Err: err}
}

// walk resolves p without openat2(2), one name at a time, and returns besides
// the handle the path free of links.
func (r *Root) walk(p string, flags int) (int, string, error) {
	type folder struct {
		fd   int
		name string
	}
	trail := []folder{}
	pop := func(to int) {
		for len(trail) > to {
			unix.Close(trail[len(trail)-1].fd)
			trail = trail[:len(trail)-1]
		}
	}
	defer func() { pop(0) }()
	top := func() int {
		if len(trail) == 0 {
			return r.fd
		}
		return trail[len(trail)-1].fd
	}
	here := func(last string) string {
		var b strings.Builder
		for _, f := range trail {
			b.WriteString("/" + f.name)
		}
		if last != "" {
			b.WriteString("/" + last)
		}
		if b.Len() == 0 {
			return "/"
		}
		return b.String()
	}

	todo := strings.Split(p, "/")
	for links := 0; len(todo) > 0; {
		name := todo[0]
		todo = todo[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			pop(max(0, len(trail)-1))
			continue
		}
		fd, err := unix.Openat(top(), name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return -1, "", err
		}
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			unix.Close(fd)
			return -1, "", err
		}
		last := strings.Join(todo, "") == ""
		isLink := st.Mode&unix.S_IFMT == unix.S_IFLNK
		switch {
		case isLink && !(last && flags&unix.O_NOFOLLOW != 0):
			target, err := readlink(fd)
			unix.Close(fd)
			if err != nil {
				return -1, "", err
			}
			if links++; links > maxLinks {
				return -1, "", unix.ELOOP
			}
			if strings.HasPrefix(target, "/") {
				pop(0)
			}
			todo = append(strings.Split(target, "/"), todo...)
		case last && flags&unix.O_PATH != 0:
			return fd, here(name), nil
		case last:
			unix.Close(fd)
			fd, err := unix.Openat(top(), name, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
			return fd, here(name), err
		default:
			trail = append(trail, folder{fd, name})
		}
	}
	fd, err := unix.Openat(top(), ".", flags|unix.O_CLOEXEC, 0)
	return fd, here(""), err
}

// Resolve returns p with all links in it followed, the last name's too.
func (r *Root) Resolve(p string) (string, error) {
	p = clean(p)
	if err := r.hook("open", p, 0); err != nil {
		return "", err
	}
	fd, resolved, err := r.walk(p, unix.O_PATH)
	if err != nil {
		return "", pathErr("resolve", p, err)
	}
	unix.Close(fd)
	return resolved, nil
}

func readlink(fd int) (string, error) {
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(fd, "", buf)
	return string(buf[:max(0, n)]), err
}

// ReadLink returns the text of the link at p.
func (r *Root) ReadLink(p string) (string, error) {
	fd, err := r.open(p, unix.O_PATH|unix.O_NOFOLLOW)
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	target, err := readlink(fd)
	return target, pathErr("readlink", p, err)
}

// Lstat describes p itself, Stat what it leads to.
func (r *Root) Lstat(p string) (Info, error) { return r.stat(p, unix.O_NOFOLLOW) }

// Stat describes what p leads to.
func (r *Root) Stat(p string) (Info, error) { return r.stat(p, 0) }

func (r *Root) stat(p string, flag int) (Info, error) {
	fd, err := r.open(p, unix.O_PATH|flag)
	if err != nil {
		return Info{}, err
	}
	defer unix.Close(fd)
	return fstat(fd, p)
}

func fstat(fd int, p string) (Info, error) {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return Info{}, pathErr("stat", p, err)
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
		ModTime: time.Unix(st.Mtim.Unix()),
		Device:  uint64(st.Dev),
		Null:    isChar && st.Rdev == unix.Mkdev(1, 3),
	}
}

// OpenFile opens the regular file at p for reading; anything else is a
// *Refusal, and was not opened.
func (r *Root) OpenFile(p string) (*os.File, error) {
	fd, err := r.openRegular(p)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), p), nil
}

func (r *Root) openRegular(p string) (int, error) {
	info, err := r.Stat(p)
	if err != nil {
		return -1, err
	}
	if info.Kind != Regular {
		return -1, &Refusal{p, "is " + info.Kind.String() + " where a file is expected; not opened"}
	}
	fd, _, err := r.openKnown(p, 0)
	return fd, err
}

// openKnown opens a path that was a regular file a moment ago. A live machine's
// path may have been swapped since: O_NONBLOCK keeps a FIFO from stopping us.
func (r *Root) openKnown(p string, flag int) (int, Info, error) {
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

// ReadFile returns the bytes of the regular file at p. A file of more than
// limit bytes is a *Refusal.
func (r *Root) ReadFile(p string, limit int64) ([]byte, error) {
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

// ReadListed is [Root.ReadFile] for a path that [Root.ReadDir] has just told to
// be a regular file itself: it looks only once.
func (r *Root) ReadListed(p string, limit int64) ([]byte, error) {
	fd, info, err := r.openKnown(p, unix.O_NOFOLLOW)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return r.readAll(fd, p, info.Size, limit)
}

func (r *Root) readAll(fd int, p string, size, limit int64) ([]byte, error) {
	tooLong := &Refusal{
		p,
		fmt.Sprintf("is larger than the %d bytes that are read of such a file", limit),
	}
	if size > limit {
		return nil, tooLong
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
			return nil, pathErr("read", p, err)
		}
		data = data[:len(data)+max(0, n)]
		switch {
		case int64(len(data)) > limit:
			return nil, tooLong
		case n < room: // a regular file gives less only at its end
			return data, nil
		}
		data = append(data, 0)[:len(data)]
	}
}

// ReadDir lists the folder at p in the order of its names.
func (r *Root) ReadDir(p string) ([]Entry, error) {
	info, err := r.Stat(p)
	if err != nil {
		return nil, err
	}
	if info.Kind != Folder {
		return nil, &Refusal{p, "is " + info.Kind.String() + " where a folder is expected; not " +
			"opened"}
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
	found, err := dir.ReadDir(MaxEntries + 1)
	if len(found) > MaxEntries {
		return nil, &Refusal{p, fmt.Sprintf("holds more than %d names", MaxEntries)}
	}
	if err != nil && err != io.EOF {
		return nil, pathErr("list", p, err)
	}
	entries := make([]Entry, 0, len(found))
	for _, e := range found {
		entries = append(entries, Entry{Name: e.Name(), Kind: kindOf(e.Type())})
	}
	Each(len(entries), func(i int) {
		if entries[i].Kind == Symlink {
			entries[i].Target = linkText(fd, entries[i].Name)
		}
	})
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, nil
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

// ReadOnly reports whether the file system at p takes no writes.
func (r *Root) ReadOnly(p string) bool {
	fd, err := r.open(p, unix.O_PATH)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var st unix.Statfs_t
	return unix.Fstatfs(fd, &st) == nil && st.Flags&unix.ST_RDONLY != 0
}

// Space returns how many bytes of the file system at p are free for users, and
// how many it has.
func (r *Root) Space(p string) (free, total uint64, err error) {
	fd, err := r.open(p, unix.O_PATH)
	if err != nil {
		return 0, 0, err
	}
	defer unix.Close(fd)
	var st unix.Statfs_t
	if err := unix.Fstatfs(fd, &st); err != nil {
		return 0, 0, pathErr("statfs", p, err)
	}
	return st.Bavail * uint64(st.Bsize), st.Blocks * uint64(st.Bsize), nil
}

// Handle opens the folder at p and returns a path outside the machine that
// leads to it for as long as the handle is open, for libraries that open files
// by themselves. It needs /proc of the running system.
func (r *Root) Handle(p string) (dir string, release func() error, err error) {
	fd, err := r.open(p, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d", fd), func() error { return unix.Close(fd) }, nil
}
