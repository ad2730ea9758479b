package machine

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/change"
)

// A place is the folder and the last name of a path that is edited.
type place struct {
	r    *Root
	dir  folder
	path string
	name string
	born *born
}

// born is what a file that was made here had by itself.
type born struct {
	made   bool
	info   Info
	xattrs map[string][]byte
}

// at opens the folder of p and calls do.
func (r *Root) at(p, home string, do func(place) error) error {
	dir, name := split(p)
	if home != "" {
		home = path.Clean(home)
		if rel, ok := strings.CutPrefix(dir, home); !ok || rel != "" && rel[0] != '/' {
			return &Refusal{p, "is not inside the home " + home}
		}
	}
	return r.files.within(dir, home, func(f folder) error {
		return do(place{r, f, p, name, &born{}})
	})
}

// swapped is the refusal of a folder that is no more what it was. The paths of
// edits are free of links, so that one in it was put there since, and would
// lead the edit to another place.
func swapped(dir string) error {
	return &Refusal{dir, "is not the folder that it was: a link is in its place, or above it"}
}

func (r fileStore) Node(p, home string) (change.Node, error) {
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
	info, err := at.dir.stat(at.name)
	if errors.Is(err, fs.ErrNotExist) {
		return absent, nil
	}
	if err != nil {
		return absent, named("stat", at.path, err)
	}
	n := change.Node{
		Mode:    info.Mode,
		UID:     info.UID,
		GID:     info.GID,
		ModTime: info.ModTime.UnixNano(),
		Links:   info.Links,
	}
	if err := CheckTime(at.path, info.ModTime); err != nil {
		return absent, err
	}
	switch info.Kind {
	case Symlink:
		n.Kind, n.Mode = change.Link, 0
		if n.Target, err = at.dir.target(at.name); err != nil {
			return absent, named("readlink", at.path, err)
		}
	case Regular:
		n.Kind = change.File
		f, err := at.dir.open(at.name, os.O_RDONLY)
		if err != nil {
			return absent, named("open", at.path, err)
		}
		defer f.Close()
		if n.Data, err = readAll(f, at.path, info.Size, MaxEdited, at.r.hook); err != nil {
			return absent, err
		}
	default:
		return absent, notEdited(at.path, info.Kind)
	}
	n.Xattrs, err = at.xattrs(at.name, info.Kind)
	return n, err
}

func notEdited(p string, kind Kind) error {
	return &Refusal{p, "is " + kind.String() + "; it is not edited"}
}

// xattrs are the attributes of a name in the folder that say something.
func (at place) xattrs(name string, kind Kind) (map[string][]byte, error) {
	found, err := at.dir.xattrs(name, kind)
	maps.DeleteFunc(found, saysNothing)
	if len(found) == 0 {
		found = nil
	}
	return found, named("getxattr", at.path, err)
}

// saysNothing reports whether an attribute is what a file system makes up for a
// file of which nothing was said. That is the Finder information that Linux
// lists of every new file on HFS+, and does not remove.
func saysNothing(key string, value []byte) bool {
	if key != "osx.com.apple.FinderInfo" {
		return false
	}
	text := strings.TrimRight(string(value), "\x00")
	return text == "" || text == "????????"
}

// Apply is [Root.Apply] for a path. Files and links are written under
// another name and renamed.
func (r fileStore) Apply(e change.Edit) error {
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
			return onlySum(e.Path)
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

func onlySum(p string) error {
	return &Refusal{p, "cannot be written again: only the sum of its bytes was kept"}
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

func (r fileStore) Force(e change.Edit) error {
	return r.at(e.Path, e.Home, func(at place) error {
		if e.After.Sum != nil {
			return onlySum(e.Path)
		}
		found := change.Node{Kind: change.Absent}
		info, err := at.dir.stat(at.name)
		switch {
		case err == nil && info.Kind != Regular && info.Kind != Symlink:
			return notEdited(e.Path, info.Kind)
		case err == nil:
			found.Kind = change.File // or a link: it is there, and is replaced as a whole
		case !errors.Is(err, fs.ErrNotExist):
			return named("stat", e.Path, err)
		}
		shared := err == nil && info.Kind == Regular && info.Links > 1
		if shared && e.After.Kind == change.File && at.overwrite(e.After) == nil {
			return at.verify(e.After)
		}
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
	private := at.r.Home.Private
	for key, value := range at.born.xattrs {
		_, wanted := want.Xattrs[key]
		ours := key == private.Key && bytes.Equal(made.Xattrs[key], private.File)
		if !wanted && (ours || bytes.Equal(made.Xattrs[key], value)) {
			delete(made.Xattrs, key)
			at.r.selfMade = true
		}
	}
	if at.unheld(made, want) {
		want.Mode, want.UID, want.GID = made.Mode, made.UID, made.GID
		at.r.selfMade = true
	}
	if err == nil && !made.Same(want) {
		err = &Refusal{at.path, "does not hold what was just written to it"}
	}
	return err
}

// unheld reports whether a file that was made here kept its own mode and owner
// after it was given others. Its file system says that it takes them, and holds
// none.
func (at place) unheld(made, want change.Node) bool {
	had, kept := at.born.info, made.Mode == want.Mode && made.UID == want.UID &&
		made.GID == want.GID
	return at.born.made && !kept && made.Mode == had.Mode && made.UID == had.UID &&
		made.GID == had.GID
}

// hide keeps what only its owner may read from others, where a file system
// holds no modes, by the attribute that it has for that. Where there is none,
// [Root.Exposed] tells.
func (at place) hide(name string, mode uint32, value []byte) error {
	info, err := at.dir.stat(name)
	if err != nil || mode&0o077 != 0 || info.Mode == mode {
		return err
	}
	err = errors.ErrUnsupported
	if key := at.r.Home.Private.Key; key != "" {
		err = at.step("xattr", len(value), func() error {
			return at.dir.setXattr(name, key, value)
		})
	}
	if err != nil {
		at.r.exposed = true
	}
	return nil
}

// Hide keeps the file at p from all but the administrators where its folder
// cannot do that, since the file system holds no modes. It is for the casebook,
// which a library makes.
func (r *Root) Hide(p string) error {
	if r.Home.Private.Key == "" {
		return nil
	}
	return r.at(p, "", func(at place) error {
		folder, err := at.dir.stat(".")
		if err != nil || folder.Mode&0o077 == 0 {
			return err
		}
		old, err := at.dir.xattrs(at.name, Regular)
		if err != nil || bytes.Equal(old[r.Home.Private.Key], r.Home.Private.File) {
			return err
		}
		return at.hide(at.name, 0o600, r.Home.Private.File)
	})
}

// step shows an operation to the hook, makes it, and names it in its error.
func (at place) step(op string, n int, do func() error) error {
	if err := at.r.hook(op, at.path, int64(n)); err != nil {
		return err
	}
	return named(op, at.path, do())
}

func (at place) syncFolder() error { return at.step("sync", 0, at.dir.sync) }

func (at place) remove(now change.Node) error {
	if now.Kind == change.Absent {
		return nil
	}
	if err := at.step("unlink", 0, func() error {
		return at.dir.remove(at.name, Regular)
	}); err != nil {
		return err
	}
	return at.syncFolder()
}

// replace writes the node under a name that means nothing, finishes it, and
// renames it over the path.
func (at place) replace(now, to change.Node) error {
	temp := TempPrefix + rand.Text()[:12] + TempSuffix
	var err error
	if to.Kind == change.Link {
		err = at.step("link", 0, func() error { return at.dir.symlink(to.Target, temp) })
		if err == nil {
			err = at.dress(temp, to)
		}
	} else {
		err = at.create(temp, to)
	}
	if err == nil {
		err = at.step("rename", 0, func() error {
			return at.dir.rename(temp, at.name, now.Kind == change.Absent)
		})
	}
	if err != nil {
		_ = at.dir.remove(temp, Regular)
		return err
	}
	return at.syncFolder()
}

func (at place) create(name string, to change.Node) error {
	var f *os.File
	err := at.step("create", 0, func() (err error) {
		f, err = at.dir.create(name)
		return err
	})
	if err != nil {
		return err
	}
	defer f.Close()
	return at.fill(f, name, to)
}

func (at place) overwrite(to change.Node) error {
	f, err := at.dir.open(at.name, os.O_WRONLY)
	if err != nil {
		return named("open", at.path, err)
	}
	defer f.Close()
	return at.fill(f, at.name, to)
}

func (at place) fill(f *os.File, name string, to change.Node) error {
	err := at.step("write", len(to.Data), func() error {
		if _, err := f.WriteAt(to.Data, 0); err != nil {
			return err
		}
		return f.Truncate(int64(len(to.Data)))
	})
	if err != nil {
		return err
	}
	if name != at.name { // it is new: what it has is none of ours to take
		info, err := at.dir.stat(name)
		if err != nil {
			return named("stat", at.path, err)
		}
		born := born{made: true, info: info}
		if born.xattrs, err = at.xattrs(name, Regular); err != nil {
			return err
		}
		*at.born = born
	}
	if err := at.dress(name, to); err != nil {
		return err
	}
	if err := at.hide(name, to.Mode, at.r.Home.Private.File); err != nil {
		return err
	}
	return at.step("sync", 0, f.Sync)
}

// dress gives a name in the folder its owner, mode, extended attributes and
// modification time, in the order in which none of them undoes another.
func (at place) dress(name string, to change.Node) error {
	info, err := at.dir.stat(name)
	if err != nil {
		return named("stat", at.path, err)
	}
	give := func() error {
		if info.UID == to.UID && info.GID == to.GID {
			return nil
		}
		return at.step("chown", 0, func() error {
			return at.dir.chown(name, info.Kind, to.UID, to.GID)
		})
	}
	if to.Kind == change.File {
		if err := give(); err != nil {
			return err
		}
		if err := at.step("chmod", 0, func() error {
			return at.dir.chmod(name, to.Mode)
		}); err != nil {
			return err
		}
	}
	if err := at.setXattrs(name, info.Kind, to); err != nil {
		return err
	}
	err = at.step("utimes", 0, func() error {
		return at.dir.chtime(name, info.Kind, to.ModTime)
	})
	if err == nil && to.Kind == change.Link { // last: afterwards it is not ours to touch
		err = give()
	}
	return err
}

func (at place) setXattrs(name string, kind Kind, to change.Node) error {
	have, err := at.xattrs(name, kind)
	if err != nil {
		return err
	}
	set := func(key string, value []byte) error {
		return at.step("xattr", len(value), func() error {
			return at.dir.setXattr(name, key, value)
		})
	}
	for key := range have {
		_, wanted := to.Xattrs[key]
		_, born := at.born.xattrs[key]
		if wanted || born && !inherited(key) || change.IsLabel(key) {
			continue
		}
		if err := set(key, nil); err != nil {
			return err
		}
	}
	for key, value := range to.Xattrs {
		if old, ok := have[key]; ok && bytes.Equal(old, value) {
			continue
		}
		if err := set(key, append([]byte{}, value...)); err != nil {
			return err
		}
	}
	return nil
}

// inherited reports whether an attribute is an access list that a new file has
// from its folder's default, acl(5). It lets in whom nobody let in.
func inherited(key string) bool { return strings.HasPrefix(key, "system.posix_acl_") }

// CheckTime refuses a time that records cannot hold, in nanoseconds since 1970:
// from 1678 to 2262.
func CheckTime(p string, at time.Time) error {
	if at.Equal(time.Unix(0, at.UnixNano())) {
		return nil
	}
	return &Refusal{p, fmt.Sprintf("has a time of the year %d, which could not be given back; "+
		"give it another one first", at.Year())}
}

func (r fileStore) Folder(p, home string) (FolderState, error) {
	var s FolderState
	err := r.at(path.Join(p, "x"), home, func(at place) error {
		info, err := at.dir.stat(".")
		if err != nil {
			return named("stat", p, err)
		}
		if err := CheckTime(p, info.ModTime); err != nil {
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

func (r fileStore) MakeFolder(p, home string, mode uint32) error {
	return r.at(p, home, func(at place) error {
		up, err := at.dir.stat(".")
		if err != nil {
			return named("stat", p, err)
		}
		err = at.step("mkdir", 0, func() error { return at.dir.mkdir(at.name, mode) })
		if err != nil {
			if info, statErr := r.Stat(p); statErr == nil && info.Kind == Folder {
				return nil
			}
			return err
		}
		if os.Geteuid() == 0 && home == "" && (up.UID != 0 || up.GID != 0) {
			if err := at.step("chown", 0, func() error {
				return at.dir.chown(at.name, Folder, up.UID, up.GID)
			}); err != nil {
				return err
			}
		}
		if err := at.disinherit(); err != nil {
			return err
		}
		if err := at.step("chmod", 0, func() error {
			return at.dir.chmod(at.name, mode)
		}); err != nil {
			return err
		}
		if err := at.hide(at.name, mode, r.Home.Private.Folder); err != nil {
			return err
		}
		return at.syncFolder()
	})
}

// disinherit takes the access lists away that a new folder has from the one
// above it. Modes count what a list lets in for the group: they are set after.
func (at place) disinherit() error {
	have, err := at.xattrs(at.name, Folder)
	if err != nil {
		return err
	}
	for key := range have {
		if !inherited(key) {
			continue
		}
		if err := at.step("xattr", 0, func() error {
			return at.dir.setXattr(at.name, key, nil)
		}); err != nil {
			return err
		}
	}
	return nil
}

func (r fileStore) RemoveFolder(p, home string) error {
	return r.at(p, home, func(at place) error {
		if err := at.step("rmdir", 0, func() error {
			return at.dir.remove(at.name, Folder)
		}); err != nil {
			return err
		}
		return at.syncFolder()
	})
}

func (r fileStore) SetFolderTime(p, home string, ns int64) error {
	return r.at(path.Join(p, "x"), home, func(at place) error {
		at.path = p
		err := at.step("utimes", 0, func() error { return at.dir.chtime(".", Folder, ns) })
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
			return at.step("unlink", 0, func() error { return at.dir.remove(at.name, Regular) })
		})
		if err != nil {
			return err
		}
	}
	return nil
}
