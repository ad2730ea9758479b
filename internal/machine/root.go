package machine

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strings"
	"time"
)

// A Root is a machine's confined file tree: every path is the machine's own,
// and no link in it leads out. Reading may be done by several goroutines at
// once; edits, which the ledger alone makes, by one. What is returned is the
// caller's. Except for [Root.Apply] and the other editing calls, whose
// comments say what they leave, a call that fails has changed nothing. Close it
// after use.
type Root struct {
	dir   string
	files resolver

	selfMade, exposed bool

	// Home is set once, before the casebook or the ledger is opened.
	Home Home

	stores map[string]Store // by scheme
	// Keeper is the ledger's, which sets it; nil before it is opened.
	Keeper Keeper

	// Hook, when set, is shown each operation before it is made; an error from
	// it fails the operation.
	Hook func(Op) error
}

// A hook is shown an operation, the path that it is made at and how many bytes
// it reads or writes. Its error fails the operation.
type hook func(name, path string, n int64) error

// A resolver is one way to a machine's files. Its methods are those of [Root]
// of the same names, and take the same paths.
type resolver interface {
	resolve(p string) (string, error)
	readLink(p string) (string, error)
	stat(p string, follow bool) (Info, error)
	openFile(p string) (*os.File, error)
	readFile(p string, limit int64) ([]byte, error)
	readListed(p string, limit int64) ([]byte, error)
	readDir(p string) ([]Entry, error)
	xattr(p, name string, follow bool) ([]byte, error)
	handle(p string) (dir string, release func() error, err error)
	space(p string) (free, total uint64, err error)
	readOnly(p string) bool
	ownDisk() bool
	live() bool
	// within opens the folder p, following no link, and calls do. Inside a home
	// no link that leads out of that is followed either. Root touches files so
	// that nothing is done in the name of the home's owner that they could not
	// do themselves.
	within(p, home string, do func(folder) error) error
	mayWrite(p string) error
	lock(patience time.Duration) (release func() error, err error)
	locked() bool
	close() error
}

// A folder is open for edits, so that it cannot be swapped. Its methods take
// names in it, and follow no link that stands at one; "." is the folder itself.
type folder interface {
	stat(name string) (Info, error)
	target(name string) (string, error)
	// open opens a regular file, for reading or for writing it in place.
	open(name string, flag int) (*os.File, error)
	// create makes a file, with mode 0600, where nothing is.
	create(name string) (*os.File, error)
	symlink(target, name string) error
	mkdir(name string, mode uint32) error
	// rename puts from in the place of to. Where that is to be absent, it fails
	// if something is there, as far as the file system can tell.
	rename(from, to string, absent bool) error
	remove(name string, kind Kind) error
	chown(name string, kind Kind, uid, gid int) error
	chmod(name string, mode uint32) error
	chtime(name string, kind Kind, ns int64) error
	xattrs(name string, kind Kind) (map[string][]byte, error)
	// setXattr takes an attribute away if value is nil.
	setXattr(name, key string, value []byte) error
	sync() error
}

// Open opens the machine whose disk is mounted at dir; "/" is the running one.
// Close it after use.
func Open(dir string) (r *Root, err error) {
	r = &Root{dir: dir}
	r.files, err = openResolver(dir, r.hook)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Close releases the machine.
func (r *Root) Close() error { return r.files.close() }

// Dir is the folder at which the machine's files stand.
func (r *Root) Dir() string { return r.dir }

// SelfMade reports whether what we wrote got extended attributes from its file
// system that nobody asked for. It reports too whether it got a mode or an
// owner that it cannot hold. Then it differs from what was written.
func (r *Root) SelfMade() bool { return r.selfMade }

// Exposed reports whether others can read what was written for its owner alone,
// since its file system holds no modes, and nothing in their place.
func (r *Root) Exposed() bool { return r.exposed }

// OwnDisk reports whether the machine's root is a file system of its own. Where
// it is a folder of another one, what is true of that is not true of the
// machine.
func (r *Root) OwnDisk() bool { return r.files.ownDisk() }

// Live reports whether this is the machine that runs us.
func (r *Root) Live() bool { return r.files.live() }

func (r *Root) hook(name, path string, n int64) error {
	if slog.Default().Enabled(context.Background(), slog.LevelDebug) {
		slog.Debug("disk", "does", name, "path", path, "bytes", n)
	}
	if r.Hook == nil {
		return nil
	}
	return r.Hook(Op{Name: name, Path: path, Bytes: n})
}

// Resolve returns p with all links in it followed, the last name's too.
func (r *Root) Resolve(p string) (string, error) { return r.files.resolve(p) }

// ReadLink returns the text of the link at p.
func (r *Root) ReadLink(p string) (string, error) { return r.files.readLink(p) }

// Lstat describes p itself, Stat what it leads to.
func (r *Root) Lstat(p string) (Info, error) { return r.files.stat(p, false) }

// Stat describes what p leads to.
func (r *Root) Stat(p string) (Info, error) { return r.files.stat(p, true) }

// IsFile reports whether p leads to a regular file.
func (r *Root) IsFile(p string) bool {
	info, err := r.Stat(p)
	return err == nil && info.Kind == Regular
}

// OpenFile opens the regular file at p for reading; anything else is a
// *Refusal, and was not opened.
func (r *Root) OpenFile(p string) (*os.File, error) { return r.files.openFile(p) }

// ReadFile returns the bytes of the regular file at p. A file of more than
// limit bytes is a *Refusal.
func (r *Root) ReadFile(p string, limit int64) ([]byte, error) { return r.files.readFile(p, limit) }

// ReadListed is [Root.ReadFile] for a path that [Root.ReadDir] has just told to
// be a regular file itself: it looks only once.
func (r *Root) ReadListed(p string, limit int64) ([]byte, error) {
	return r.files.readListed(p, limit)
}

// ReadDir lists the folder at p in the order of its names.
func (r *Root) ReadDir(p string) ([]Entry, error) { return r.files.readDir(p) }

// Xattr returns an extended attribute of what p leads to. Where the file system
// has none of the name, or the operating system no attributes, it fails.
func (r *Root) Xattr(p, name string) ([]byte, error) { return r.files.xattr(p, name, true) }

// OwnXattr is [Root.Xattr] of a link itself, where p is one.
func (r *Root) OwnXattr(p, name string) ([]byte, error) { return r.files.xattr(p, name, false) }

// ReadOnly reports whether the file system at p takes no writes.
func (r *Root) ReadOnly(p string) bool { return r.files.readOnly(p) }

// Space returns how many bytes of the file system at p are free for users, and
// how many it has.
func (r *Root) Space(p string) (free, total uint64, err error) { return r.files.space(p) }

// Handle opens the folder at p and returns a path outside the machine that
// leads to it for as long as the handle is open. That is for libraries that
// open files by themselves. On Linux it needs /proc of the running system.
func (r *Root) Handle(p string) (dir string, release func() error, err error) {
	return r.files.handle(p)
}

// Lock takes the machine's lock for changes, waiting for it no longer than
// patience, and returns how to release it. Who holds it may make edits.
func (r *Root) Lock(patience time.Duration) (release func() error, err error) {
	return r.files.lock(patience)
}

// Locked reports whether somebody is changing the machine at this moment, as
// far as we may know.
func (r *Root) Locked() bool { return r.files.locked() }

// MayWrite reports why nothing can be written in the folder p, or in the
// nearest one above it that is there; nil where something can.
func (r *Root) MayWrite(p string) error { return r.files.mayWrite(p) }

// entriesOf lists the open folder at p in the order of its names, links without
// their targets.
func entriesOf(p string, dir *os.File) ([]Entry, error) {
	found, err := dir.ReadDir(MaxEntries + 1)
	if len(found) > MaxEntries {
		return nil, &Refusal{p, fmt.Sprintf("holds more than %d names", MaxEntries)}
	}
	if err != nil && err != io.EOF {
		return nil, named("list", p, err)
	}
	entries := make([]Entry, 0, len(found))
	for _, e := range found {
		entries = append(entries, Entry{Name: e.Name(), Kind: kindOf(e.Type())})
	}
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, nil
}

// notExpected is the refusal of what is of another kind than expected.
func notExpected(p string, kind Kind, expected string) error {
	return &Refusal{p, "is " + kind.String() + " where " + expected + " is expected; not opened"}
}

// plainInfo is what every operating system tells of a path.
func plainInfo(info fs.FileInfo) Info {
	return Info{
		Kind:    kindOf(info.Mode()),
		Size:    info.Size(),
		Mode:    uint32(info.Mode().Perm()),
		Links:   1,
		ModTime: info.ModTime(),
	}
}
