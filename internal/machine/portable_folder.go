package machine

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
	"time"
)

// within is that of the resolver. There are no file-system ids of an owner to
// edit with: root touches only what is the owner's own in a home.
func (r *portable) within(dir, home string, do func(folder) error) error {
	if err := r.hook("open", path.Clean(dir), 0); err != nil {
		return err
	}
	from, rel := "/", dir
	if home != "" {
		var err error
		if from, err = r.resolve(home); err != nil {
			return err
		}
		rel = strings.TrimPrefix(dir, home)
	}
	at, err := r.root.OpenRoot(relative(from))
	if err != nil {
		return named("open", from, err)
	}
	owner := anybody
	if home != "" && os.Geteuid() == 0 {
		if info, err := at.Stat("."); err == nil && infoFrom(info).UID != 0 {
			owner = infoFrom(info).UID
		}
	}
	for _, name := range strings.Split(rel, "/") {
		if name == "" {
			continue
		}
		up := at
		at, err = enter(up, name)
		up.Close()
		if err != nil {
			return folderErr(dir, err)
		}
	}
	defer at.Close()
	return do(rootedFolder{at, owner})
}

// relative is a path of the machine as [os.Root] wants it.
func relative(p string) string { return path.Join(".", p) }

func folderErr(dir string, err error) error {
	switch {
	case errors.Is(err, errLink):
		return swapped(dir)
	case errors.Is(err, syscall.ENOTDIR):
		return &Refusal{dir, "is not a folder any more"}
	}
	return named("open", dir, err)
}

var errLink = errors.New("a link")

// enter opens a folder in another one; a link there is [errLink].
func enter(up *os.Root, name string) (*os.Root, error) {
	info, err := up.Lstat(name)
	switch {
	case err != nil:
		return nil, err
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, errLink
	case !info.IsDir():
		return nil, syscall.ENOTDIR
	}
	at, err := up.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	opened, err := at.Stat(".")
	if err == nil && !os.SameFile(info, opened) {
		err = errLink // put there in between
	}
	if err != nil {
		at.Close()
		return nil, err
	}
	return at, nil
}

// anybody is the owner where what is edited may be anybody's.
const anybody = -1

// A rootedFolder is a folder as a root of its own.
type rootedFolder struct {
	in    *os.Root
	owner int // whose alone may be touched
}

// own describes a name; one that is somebody else's may not be touched.
func (d rootedFolder) own(name string) (fs.FileInfo, error) {
	info, err := d.in.Lstat(name)
	if err == nil && d.owner != anybody && infoFrom(info).UID != d.owner {
		err = fs.ErrPermission
	}
	return info, err
}

func (d rootedFolder) stat(name string) (Info, error) {
	info, err := d.in.Lstat(name)
	if err != nil {
		return Info{}, err
	}
	return infoFrom(info), nil
}

func (d rootedFolder) target(name string) (string, error) { return d.in.Readlink(name) }

func (d rootedFolder) open(name string, flag int) (*os.File, error) {
	return d.reopen(name, flag, Regular)
}

// reopen opens what stands at a name, if it is of a kind.
func (d rootedFolder) reopen(name string, flag int, kind Kind) (*os.File, error) {
	info, err := d.own(name)
	if err != nil {
		return nil, err
	}
	if kindOf(info.Mode()) != kind {
		return nil, errLink
	}
	f, err := d.in.OpenFile(name, flag|nonBlocking, 0)
	if err != nil {
		return nil, err
	}
	opened, err := f.Stat()
	if err == nil && !os.SameFile(info, opened) {
		err = errLink // put there in between
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// touch does something with what stands at a name, open.
func (d rootedFolder) touch(name string, kind Kind, do func(*os.File) error) error {
	f, err := d.reopen(name, os.O_RDONLY, kind)
	if errors.Is(err, fs.ErrPermission) && kind == Regular {
		f, err = d.reopen(name, os.O_WRONLY, kind)
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return do(f)
}

func (d rootedFolder) create(name string) (*os.File, error) {
	if _, err := d.own("."); err != nil {
		return nil, err
	}
	f, err := d.in.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err == nil && d.owner != anybody {
		if err = f.Chown(d.owner, -1); err != nil {
			f.Close()
		}
	}
	return f, err
}

// symlink makes a link, but not as root in a home. Whether the link still is
// what was made when it is given to its owner, nothing portable can tell.
func (d rootedFolder) symlink(target, name string) error {
	if d.owner != anybody {
		return fs.ErrPermission
	}
	return d.in.Symlink(target, name)
}

func (d rootedFolder) mkdir(name string, mode uint32) error {
	if d.owner != anybody {
		return fs.ErrPermission
	}
	return d.in.Mkdir(name, fs.FileMode(mode).Perm())
}

func (d rootedFolder) rename(from, to string, absent bool) error {
	if _, err := d.own(to); err == nil && absent {
		return fs.ErrExist
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return d.in.Rename(from, to)
}

func (d rootedFolder) remove(name string, kind Kind) error {
	info, err := d.own(name)
	if err != nil {
		return err
	}
	if info.IsDir() != (kind == Folder) {
		return syscall.ENOTDIR
	}
	return d.in.Remove(name)
}

func (d rootedFolder) chown(name string, kind Kind, uid, gid int) error {
	if kind == Symlink {
		return d.in.Lchown(name, uid, gid)
	}
	return d.touch(name, kind, func(f *os.File) error { return f.Chown(uid, gid) })
}

func (d rootedFolder) chmod(name string, mode uint32) error {
	info, err := d.in.Lstat(name)
	if err != nil {
		return err
	}
	full := fs.FileMode(mode).Perm()
	for bit, named := range map[uint32]fs.FileMode{
		0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky,
	} {
		if mode&bit != 0 {
			full |= named
		}
	}
	return d.touch(name, kindOf(info.Mode()), func(f *os.File) error { return f.Chmod(full) })
}

func (d rootedFolder) chtime(name string, kind Kind, ns int64) error {
	if kind != Symlink {
		return d.in.Chtimes(name, time.Time{}, time.Unix(0, ns))
	}
	return d.touch(".", Folder, func(f *os.File) error { return setTime(f.Fd(), name, ns) })
}

// xattrs are those of files: those of links are left as their file system makes
// them.
func (d rootedFolder) xattrs(name string, kind Kind) (found map[string][]byte, err error) {
	if kind != Regular {
		return nil, nil
	}
	err = d.touch(name, kind, func(f *os.File) (err error) {
		found, err = fileXattrs(f)
		return err
	})
	return found, err
}

func (d rootedFolder) setXattr(name, key string, value []byte) error {
	return d.touch(name, Regular, func(f *os.File) error { return setFileXattr(f, key, value) })
}

func (d rootedFolder) sync() error { return d.touch(".", Folder, syncFolder) }
