package machine

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// A portable resolves paths on every operating system, over [os.Root], which
// lets no link lead out. Links of the machine's own, absolute ones too, are
// followed here, so that they stay inside.
type portable struct {
	dir  string
	root *os.Root
	hook hook
}

func openPortable(dir string, hook hook) (resolver, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &portable{dir, root, hook}, nil
}

// walk resolves p, one name at a time, and returns the path free of links,
// without the leading "/", with what stands there. The last name's link is
// followed only if that is wished.
func (r *portable) walk(p string, follow bool) (string, fs.FileInfo, error) {
	p = clean(p)
	if err := r.hook("open", p, 0); err != nil {
		return "", nil, err
	}
	if strings.IndexByte(p, 0) >= 0 {
		return "", nil, &Refusal{p, "the name holds a NUL byte"}
	}
	at := &names{root: r.root, follow: follow}
	if err := walk(p, at); err != nil {
		return "", nil, named("open", p, err)
	}
	info, err := r.root.Lstat(at.path())
	return at.path(), info, named("open", p, err)
}

// names are those on the way of a walk.
type names struct {
	root   *os.Root
	follow bool // the last name's link too
	trail  []string
}

func (n *names) enter(name string, last bool) (target string, isLink bool, err error) {
	here := path.Join(n.path(), name)
	info, err := n.root.Lstat(here)
	switch {
	case err != nil:
		return "", false, err
	case info.Mode()&fs.ModeSymlink != 0 && (!last || n.follow):
		target, err = n.root.Readlink(here)
		return target, true, err
	case !last && !info.IsDir():
		return "", false, syscall.ENOTDIR
	}
	n.trail = append(n.trail, name)
	return "", false, nil
}

func (n *names) up()          { n.trail = n.trail[:max(0, len(n.trail)-1)] }
func (n *names) top()         { n.trail = nil }
func (n *names) path() string { return cmp.Or(strings.Join(n.trail, "/"), ".") }

func (r *portable) xattr(p, _ string, _ bool) ([]byte, error) {
	return nil, named("getxattr", p, errors.ErrUnsupported)
}

func (r *portable) close() error { return r.root.Close() }

func (r *portable) handle(p string) (string, func() error, error) {
	rel, _, err := r.walk(p, true)
	return filepath.Join(r.dir, filepath.FromSlash(rel)), func() error { return nil }, err
}

// ask hands what stands at p to a question about its file system.
func (r *portable) ask(p string, question func(fd uintptr)) error {
	rel, _, err := r.walk(p, true)
	if err != nil {
		return err
	}
	f, err := r.root.OpenFile(rel, os.O_RDONLY|nonBlocking, 0)
	if err != nil {
		return named("open", p, err)
	}
	defer f.Close()
	question(f.Fd())
	return nil
}

func (r *portable) readOnly(p string) (yes bool) {
	err := r.ask(p, func(fd uintptr) { yes = takesNothing(fd) })
	return err == nil && yes
}

func (r *portable) space(p string) (free, total uint64, err error) {
	if asked := r.ask(p, func(fd uintptr) { free, total, err = room(fd) }); asked != nil {
		err = asked
	}
	return free, total, named("statfs", p, err)
}

// No family runs on this operating system so far: what is opened is a disk.
func (r *portable) live() bool    { return false }
func (r *portable) ownDisk() bool { return false }
func (r *portable) locked() bool  { return false }

var errNotHere = errors.New("calmdawn changes machines from a Linux computer; on this operating " +
	"system it reads their disks")

// lock is where edits are refused on other operating systems: what is below has
// been tried under Linux alone.
func (r *portable) lock(time.Duration) (func() error, error) { return nil, errNotHere }
func (r *portable) mayWrite(string) error                    { return errNotHere }

func (r *portable) stat(p string, follow bool) (Info, error) {
	_, info, err := r.walk(p, follow)
	if err != nil {
		return Info{}, err
	}
	return infoFrom(info), nil
}

func (r *portable) resolve(p string) (string, error) {
	rel, _, err := r.walk(p, true)
	if err != nil {
		return "", err
	}
	return path.Join("/", rel), nil
}

func (r *portable) readLink(p string) (string, error) {
	rel, _, err := r.walk(p, false)
	if err != nil {
		return "", err
	}
	target, err := r.root.Readlink(rel)
	return target, named("readlink", p, err)
}

// openFile opens the regular file at p; anything else is a *Refusal, and was
// not opened.
func (r *portable) openFile(p string) (*os.File, error) {
	rel, info, err := r.walk(p, true)
	if err != nil {
		return nil, err
	}
	if kind := kindOf(info.Mode()); kind != Regular {
		return nil, notExpected(p, kind, "a file")
	}
	f, err := r.root.OpenFile(rel, os.O_RDONLY|nonBlocking, 0)
	if err != nil {
		return nil, named("open", p, err)
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, &Refusal{p, "was swapped while it was opened"}
	}
	return f, nil
}

func (r *portable) readFile(p string, limit int64) ([]byte, error) {
	f, err := r.openFile(p)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, named("read", p, err)
	}
	return readAll(f, p, info.Size(), limit, r.hook)
}

func (r *portable) readListed(p string, limit int64) ([]byte, error) { return r.readFile(p, limit) }

// readAll returns what an open file of a size holds.
func readAll(f *os.File, p string, size, limit int64, hook hook) ([]byte, error) {
	if size > limit {
		return nil, tooLong(p, limit)
	}
	if err := hook("read", p, size); err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, tooLong(p, limit)
	}
	return data, named("read", p, err)
}

func tooLong(p string, limit int64) error {
	return &Refusal{
		p,
		fmt.Sprintf("is larger than the %d bytes that are read of such a file", limit),
	}
}

func (r *portable) readDir(p string) ([]Entry, error) {
	rel, info, err := r.walk(p, true)
	if err != nil {
		return nil, err
	}
	if kind := kindOf(info.Mode()); kind != Folder {
		return nil, notExpected(p, kind, "a folder")
	}
	if err := r.hook("list", p, 0); err != nil {
		return nil, err
	}
	f, err := r.root.Open(rel)
	if err != nil {
		return nil, named("list", p, err)
	}
	defer f.Close()
	entries, err := entriesOf(p, f)
	for i, e := range entries {
		if e.Kind == Symlink { // empty where it cannot be read
			entries[i].Target, _ = r.root.Readlink(path.Join(rel, e.Name))
		}
	}
	return entries, err
}
