package machine

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"runtime"
	"strings"

	"golang.org/x/sys/unix"

	"calmdawn/internal/core/change"
)

// A place is the folder and the last name of a path that is edited, with the
// folder open and free of links that could be swapped under us.
type place struct {
	r    *Root
	fd   int
	path string
	name string
	born map[string][]byte // attributes that a file made here had by itself
}

// at opens the folder of p and calls do. Inside a home, no link that leads out
// of it is followed, and when we are root the files are touched with the
// file-system ids of the home's owner, so that nothing is done in their name
// that they could not do themselves.
func (r *Root) at(p, home string, do func(place) error) error {
	dir, name := split(p)
	if home == "" {
		fd, err := r.openBeneath(r.fd, strings.TrimPrefix(dir, "/"))
		if err != nil {
			return folderErr(dir, err)
		}
		defer unix.Close(fd)
		return do(place{r, fd, p, name, map[string][]byte{}})
	}
	homeFD, err := r.open(home, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return err
	}
	defer unix.Close(homeFD)
	rel, ok := strings.CutPrefix(dir, path.Clean(home))
	if !ok || rel != "" && rel[0] != '/' {
		return &Refusal{p, "is not inside the home " + home}
	}
	return asOwner(homeFD, func() error {
		fd, err := r.openBeneath(homeFD, strings.TrimPrefix(rel, "/"))
		if err != nil {
			return folderErr(dir, err)
		}
		defer unix.Close(fd)
		return do(place{r, fd, p, name, map[string][]byte{}})
	})
}

// folderErr names why the folder of an edit cannot be opened. The paths of
// edits are free of links, so that one in it was put there since, and would
// lead the edit to another place.
func folderErr(dir string, err error) error {
	switch err {
	case unix.ELOOP, unix.EXDEV:
		return &Refusal{dir, "is not the folder that it was: a link is in its place, or above it"}
	case unix.ENOTDIR:
		return &Refusal{dir, "is no folder any more"}
	}
	return pathErr("open", dir, err)
}

// openBeneath opens the folder rel below fd, following no link.
func (r *Root) openBeneath(fd int, rel string) (int, error) {
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

func (r *Root) fileNode(p, home string) (change.Node, error) {
	node := change.Node{Kind: change.Absent}
	err := r.at(p, home, func(at place) (err error) {
		node, err = at.node()
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return change.Node{Kind: change.Absent}, nil
	}
	return node, err
}

func (at place) node() (change.Node, error) {
	absent := change.Node{Kind: change.Absent}
	var st unix.Stat_t
	switch err := unix.Fstatat(at.fd, at.name, &st, unix.AT_SYMLINK_NOFOLLOW); err {
	case nil:
	case unix.ENOENT:
		return absent, nil
	default:
		return absent, pathErr("stat", at.path, err)
	}
	info := infoOf(&st)
	n := change.Node{
		Mode:    info.Mode,
		UID:     info.UID,
		GID:     info.GID,
		ModTime: info.ModTime.UnixNano(),
		Links:   uint64(st.Nlink),
	}
	var err error
	switch info.Kind {
	case Symlink:
		buf := make([]byte, unix.PathMax)
		size, err := unix.Readlinkat(at.fd, at.name, buf)
		if err != nil {
			return absent, pathErr("readlink", at.path, err)
		}
		n.Kind, n.Target, n.Mode = change.Link, string(buf[:size]), 0
	case Regular:
		fd, err := unix.Openat(at.fd, at.name,
			unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return absent, pathErr("open", at.path, err)
		}
		defer unix.Close(fd)
		n.Kind = change.File
		if n.Data, err = at.r.readAll(fd, at.path, info.Size, MaxEdited); err != nil {
			return absent, err
		}
	default:
		return absent, &Refusal{at.path, "is " + info.Kind.String() + "; it is not edited"}
	}
	n.Xattrs, err = at.xattrs(at.name)
	return n, err
}

// procPath leads to a name in the folder for the calls that take no handle.
func (at place) procPath(name string) string {
	return fmt.Sprintf("/proc/self/fd/%d/%s", at.fd,
		name)
}

func (at place) xattrs(name string) (map[string][]byte, error) {
	p := at.procPath(name)
	buf := make([]byte, 64<<10) // the kernel's bound for the list and for each value, xattr(7)
	n, err := unix.Llistxattr(p, buf)
	if err == unix.ENOTSUP || err == nil && n == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, pathErr("listxattr", at.path, err)
	}
	names := strings.Split(strings.TrimSuffix(string(buf[:n]), "\x00"), "\x00")
	found := make(map[string][]byte, len(names))
	for _, key := range names {
		n, err := unix.Lgetxattr(p, key, buf)
		if err != nil {
			return nil, pathErr("getxattr", at.path, err)
		}
		if !saysNothing(key, buf[:n]) {
			found[key] = append([]byte{}, buf[:n]...)
		}
	}
	return found, nil
}

// saysNothing reports whether an attribute is what a file system makes up for a
// file of which nothing was said: the Finder information that Linux lists of
// every new file on HFS+, and does not remove.
func saysNothing(key string, value []byte) bool {
	if key != "osx.com.apple.FinderInfo" {
		return false
	}
	text := strings.TrimRight(string(value), "\x00")
	return text == "" || text == "????????"
}

// applyFile is [Root.Apply] for a path. Files and links are written under
// another name and renamed.
func (r *Root) applyFile(e change.Edit) error {
	return r.at(e.Path, e.Home, func(at place) error {
		now, err := at.node()
		if err != nil {
			return err
		}
		if !now.Same(e.Before) {
			return &change.Conflict{Edit: e, Now: now}
		}
		switch {
		case e.After.Sum != nil:
			return &Refusal{e.Path, "cannot be written again: only the sum of its bytes was kept"}
		case e.After.Kind != change.Absent && e.After.Kind != change.File &&
			e.After.Kind != change.Link:
			return &Refusal{e.Path, "cannot become what the edit says"}
		case e.After.Kind == change.Absent:
			err = at.remove(now)
		case now.Kind == change.File && e.After.Kind == change.File && now.Links > 1:
			if err = at.overwrite(e.After); err != nil {
				// what could be written is taken back; the error tells of the
				// rest
				_ = at.overwrite(now)
			}
		default:
			err = at.replace(now, e.After)
		}
		if err != nil {
			return err
		}
		if err = at.verify(e.After); err != nil && at.verify(now) != nil {
			at.restore(now)
		}
		return err
	})
}

// restore puts back what an edit found, as well as can be, when what it made is
// not what it was to make.
func (at place) restore(found change.Node) {
	switch {
	case found.Kind == change.Absent:
		_ = at.remove(change.Node{Kind: change.File})
	case found.Kind == change.File && found.Links > 1:
		_ = at.overwrite(found)
	default:
		_ = at.replace(change.Node{Kind: change.File}, found)
	}
}

func (r *Root) forceFile(e change.Edit) error {
	return r.at(e.Path, e.Home, func(at place) error {
		if e.After.Sum != nil {
			return &Refusal{e.Path, "cannot be written again: only the sum of its bytes was kept"}
		}
		found := change.Node{Kind: change.Absent}
		var st unix.Stat_t
		switch err := unix.Fstatat(at.fd, at.name, &st, unix.AT_SYMLINK_NOFOLLOW); err {
		case nil:
			kind := infoOf(&st).Kind
			if kind != Regular && kind != Symlink {
				return &Refusal{e.Path, "is " + kind.String() + "; it is not edited"}
			}
			found.Kind = change.File // or a link: it is there, and is replaced as a whole
		case unix.ENOENT:
		default:
			return pathErr("stat", e.Path, err)
		}
		shared := st.Mode&unix.S_IFMT == unix.S_IFREG && st.Nlink > 1 && e.After.Kind == change.File
		if shared && at.overwrite(e.After) == nil {
			return at.verify(e.After)
		}
		var err error
		if e.After.Kind == change.Absent {
			err = at.remove(found)
		} else {
			err = at.replace(found, e.After)
		}
		if err != nil {
			return err
		}
		return at.verify(e.After)
	})
}

func (at place) verify(want change.Node) error {
	made, err := at.node()
	for key, value := range at.born {
		if _, wanted := want.Xattrs[key]; !wanted && bytes.Equal(made.Xattrs[key], value) {
			delete(made.Xattrs, key)
			at.r.selfMade = true
		}
	}
	if err == nil && !made.Same(want) {
		err = &Refusal{at.path, "does not hold what was just written to it"}
	}
	return err
}

// step shows an operation to the hook, makes it, and names it in its error.
func (at place) step(op string, n int, do func() error) error {
	if err := at.r.hook(op, at.path, int64(n)); err != nil {
		return err
	}
	return pathErr(op, at.path, do())
}

func (at place) syncFolder() error {
	return at.step("sync", 0, func() error { return unix.Fsync(at.fd) })
}

func (at place) remove(now change.Node) error {
	if now.Kind == change.Absent {
		return nil
	}
	if err := at.step("unlink", 0, func() error {
		return unix.Unlinkat(at.fd, at.name, 0)
	}); err != nil {
		return err
	}
	return at.syncFolder()
}

// replace writes the node under a name that means nothing, finishes it, and
// renames it over the path.
func (at place) replace(now, to change.Node) error {
	temp := TempPrefix + rand.Text()[:12] + TempSuffix
	fail := func(err error) error {
		unix.Unlinkat(at.fd, temp, 0)
		return err
	}
	var err error
	if to.Kind == change.Link {
		err = at.step("link", 0, func() error { return unix.Symlinkat(to.Target, at.fd, temp) })
	} else {
		err = at.create(temp, to)
	}
	if err != nil {
		return fail(err)
	}
	if to.Kind == change.Link {
		if err := at.dress(temp, to); err != nil {
			return fail(err)
		}
	}
	err = at.step("rename", 0, func() error {
		if now.Kind != change.Absent {
			return unix.Renameat(at.fd, temp, at.fd, at.name)
		}
		err := unix.Renameat2(at.fd, temp, at.fd, at.name, unix.RENAME_NOREPLACE)
		// the file system cannot: the path was absent a moment ago
		if err == unix.EINVAL || err == unix.ENOSYS {
			err = unix.Renameat(at.fd, temp, at.fd, at.name)
		}
		return err
	})
	if err != nil {
		return fail(err)
	}
	return at.syncFolder()
}

func (at place) create(name string, to change.Node) error {
	var fd int
	err := at.step("create", 0, func() (err error) {
		fd, err = unix.Openat(at.fd, name,
			unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
		return err
	})
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return at.fill(fd, name, to)
}

func (at place) overwrite(to change.Node) error {
	fd, err := unix.Openat(at.fd, at.name,
		unix.O_WRONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return pathErr("open", at.path, err)
	}
	defer unix.Close(fd)
	return at.fill(fd, at.name, to)
}

func (at place) fill(fd int, name string, to change.Node) error {
	err := at.step("write", len(to.Data), func() error {
		for off := 0; off < len(to.Data); {
			n, err := unix.Pwrite(fd, to.Data[off:], int64(off))
			if err != nil && err != unix.EINTR {
				return err
			}
			off += max(0, n)
		}
		return unix.Ftruncate(fd, int64(len(to.Data)))
	})
	if err != nil {
		return err
	}
	if name != at.name { // it is new: what it has is none of ours to take
		born, err := at.xattrs(name)
		if err != nil {
			return err
		}
		maps.Copy(at.born, born)
	}
	if err := at.dress(name, to); err != nil {
		return err
	}
	return at.step("sync", 0, func() error { return unix.Fsync(fd) })
}

// dress gives a name in the folder its owner, mode, extended attributes and
// modification time, in the order in which none of them undoes another.
func (at place) dress(name string, to change.Node) error {
	var st unix.Stat_t
	if err := unix.Fstatat(at.fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return pathErr("stat", at.path, err)
	}
	foreign := int(st.Uid) != to.UID || int(st.Gid) != to.GID
	if foreign && to.Kind == change.File {
		err := at.step("chown", 0, func() error {
			return unix.Fchownat(at.fd, name, to.UID, to.GID, unix.AT_SYMLINK_NOFOLLOW)
		})
		if err != nil {
			return err
		}
	}
	if to.Kind == change.File {
		if err := at.step("chmod", 0, func() error {
			return unix.Fchmodat(at.fd, name, to.Mode, 0)
		}); err != nil {
			return err
		}
	}
	if err := at.setXattrs(name, to); err != nil {
		return err
	}
	times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, unix.NsecToTimespec(to.ModTime)}
	err := at.step("utimes", 0, func() error {
		return unix.UtimesNanoAt(at.fd, name, times, unix.AT_SYMLINK_NOFOLLOW)
	})
	if err == nil && foreign && to.Kind == change.Link { // last: afterwards it is not ours to touch
		err = at.step("chown", 0, func() error { return giveLink(at.fd, name, to.UID, to.GID) })
	}
	return err
}

// giveLink gives a link that we have just made its owner, with our own rights
// where those of a home's owner do not suffice. It is held open while it is
// looked at, so that nobody can have something else given away in its place.
func giveLink(dir int, name string, uid, gid int) error {
	fd, err := unix.Openat(dir, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
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

func (at place) setXattrs(name string, to change.Node) error {
	have, err := at.xattrs(name)
	if err != nil {
		return err
	}
	p := at.procPath(name)
	for key := range have {
		_, wanted := to.Xattrs[key]
		_, born := at.born[key]
		if !wanted && !born && !change.IsLabel(key) {
			if err := at.step("xattr", 0, func() error {
				return unix.Lremovexattr(p, key)
			}); err != nil {
				return err
			}
		}
	}
	for key, value := range to.Xattrs {
		if string(have[key]) == string(value) && have[key] != nil {
			continue
		}
		if err := at.step("xattr", len(value), func() error {
			return unix.Lsetxattr(p, key, value, 0)
		}); err != nil {
			return err
		}
	}
	return nil
}

// Folder describes the folder at p.
func (r *Root) Folder(p, home string) (FolderState, error) {
	var s FolderState
	err := r.at(path.Join(p, "x"), home, func(at place) error {
		info, err := fstat(at.fd, p)
		if err != nil {
			return err
		}
		entries, err := r.ReadDir(p)
		s = FolderState{
			Exists:  true,
			Empty:   err == nil && len(entries) == 0,
			ModTime: info.ModTime.UnixNano(),
			UID:     info.UID,
			GID:     info.GID,
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return FolderState{}, nil
	}
	return s, err
}

// MakeFolder makes the folder p with the given mode and the owner of the folder
// around it; one that is there is left alone.
func (r *Root) MakeFolder(p, home string, mode uint32) error {
	return r.at(p, home, func(at place) error {
		var up unix.Stat_t
		if err := unix.Fstat(at.fd, &up); err != nil {
			return pathErr("stat", p, err)
		}
		err := at.step("mkdir", 0, func() error { return unix.Mkdirat(at.fd, at.name, mode) })
		if err != nil {
			if info, statErr := r.Stat(p); statErr == nil && info.Kind == Folder {
				return nil
			}
			return err
		}
		if unix.Geteuid() == 0 && home == "" && (up.Uid != 0 || up.Gid != 0) {
			if err := at.step("chown", 0, func() error {
				return unix.Fchownat(at.fd, at.name, int(up.Uid), int(up.Gid),
					unix.AT_SYMLINK_NOFOLLOW)
			}); err != nil {
				return err
			}
		}
		if err := at.step("chmod", 0, func() error {
			return unix.Fchmodat(at.fd, at.name, mode, 0)
		}); err != nil {
			return err
		}
		return at.syncFolder()
	})
}

// RemoveFolder removes the folder p, which must be empty.
func (r *Root) RemoveFolder(p, home string) error {
	return r.at(p, home, func(at place) error {
		if err := at.step("rmdir", 0, func() error {
			return unix.Unlinkat(at.fd, at.name, unix.AT_REMOVEDIR)
		}); err != nil {
			return err
		}
		return at.syncFolder()
	})
}

// SetFolderTime gives the folder p the modification time ns, in nanoseconds
// since 1970 UTC.
func (r *Root) SetFolderTime(p, home string, ns int64) error {
	return r.at(path.Join(p, "x"), home, func(at place) error {
		at.path = p
		times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, unix.NsecToTimespec(ns)}
		err := at.step("utimes", 0, func() error { return unix.UtimesNanoAt(at.fd, ".", times, 0) })
		if err != nil {
			return err
		}
		return at.syncFolder()
	})
}

// Sweep removes what an interrupted write left in the folder p: files with our
// temporary names.
func (r *Root) Sweep(p, home string) error {
	entries, err := r.ReadDir(p)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name, TempPrefix) || !strings.HasSuffix(e.Name, TempSuffix) ||
			e.Kind == Folder {
			continue
		}
		err := r.at(path.Join(p, e.Name), home, func(at place) error {
			return at.step("unlink", 0, func() error { return unix.Unlinkat(at.fd, at.name, 0) })
		})
		if err != nil {
			return err
		}
	}
	return nil
}
