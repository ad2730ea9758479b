// Package machine is the machine under work: a confined view of its files, and
// the one place that carries out edits.
//
// The machine is a mounted disk at some folder, or the running one at "/".
// Paths are those of the machine: they begin with "/", and links, absolute ones
// too, resolve inside it. Only regular files are opened, only up to a bound;
// FIFOs, devices and sockets are reported as a *Refusal instead. Nothing here
// knows what the files mean.
package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"calmdawn/internal/core/item"
)

// A Refusal says why a path was not read or written although it is there.
type Refusal struct {
	Path   string
	Reason string // completes "PATH: …"
}

func (r *Refusal) Error() string { return r.Path + ": " + r.Reason }

// noPermission is the [Reason] of what another user may read.
const noPermission = "no permission"

// Reason says in a few words why an operation on a path failed, without the
// path.
func Reason(err error) string {
	var refusal *Refusal
	var away *Away
	var pathErr *fs.PathError
	switch {
	case errors.As(err, &refusal):
		return refusal.Reason
	case errors.As(err, &away):
		return away.Why()
	case errors.Is(err, fs.ErrPermission):
		return noPermission
	case errors.Is(err, fs.ErrNotExist):
		return "is not there"
	case errors.As(err, &pathErr):
		return pathErr.Err.Error()
	}
	return err.Error()
}

// Unread is a place that an error kept from being read.
func Unread(p string, err error) item.Unread {
	u := item.Unread{Path: p, Reason: Reason(err)}
	if u.Reason == noPermission {
		u.Kind = item.Denied
	}
	return u
}

// A Kind says what stands at a path, as far as a survey cares.
type Kind int

// The kinds of node.
const (
	Regular Kind = iota
	Folder
	Symlink
	FIFO
	Socket
	Device
)

func (k Kind) String() string {
	return [...]string{"a file", "a folder", "a link", "a FIFO", "a socket", "a device"}[k]
}

func kindOf(m fs.FileMode) Kind {
	switch {
	case m.IsRegular():
		return Regular
	case m.IsDir():
		return Folder
	case m&fs.ModeSymlink != 0:
		return Symlink
	case m&fs.ModeNamedPipe != 0:
		return FIFO
	case m&fs.ModeSocket != 0:
		return Socket
	}
	return Device
}

// Info describes one path.
type Info struct {
	Kind    Kind
	Size    int64
	Mode    uint32 // permission, set-id and sticky bits (07777)
	UID     int
	GID     int
	ModTime time.Time
	Links   uint64 // how many names it has
	Device  uint64 // of the file system it stands in
	Null    bool   // the null device, with which a unit is masked
}

// An Entry is one name in a folder.
type Entry struct {
	Name   string
	Kind   Kind
	Target string // the text of a link
}

// An Op is one operation on the machine's files, shown to the hook before it is
// made.
type Op struct {
	// open, read, list, create, write, sync, rename, link, unlink, mkdir,
	// rmdir, chmod, chown, utimes, xattr
	Name  string
	Path  string
	Bytes int64 // for reads and writes
}

func (o Op) String() string { return fmt.Sprintf("%s %s", o.Name, o.Path) }

// MaxEntries is the number of names read from one folder; the rest is refused.
const MaxEntries = 200_000

// TempPrefix and TempSuffix frame the names of files that are being written: no
// launch mechanism reads such a name.
const (
	TempPrefix = ".calmdawn-"
	TempSuffix = ".tmp"
)

// MaxEdited is the size in bytes of the largest file that is edited.
const MaxEdited = 64 << 20

// A FolderState is what is kept of a folder in which something is edited.
type FolderState struct {
	Exists  bool
	Empty   bool
	ModTime int64 // nanoseconds since 1970 UTC
	UID     int
	GID     int
}

// named has an error tell what was done at which path of the machine.
func named(op, p string, err error) error {
	var refusal *Refusal
	if err == nil || errors.As(err, &refusal) {
		return err
	}
	if errors.Is(err, syscall.ELOOP) {
		return &Refusal{p, "its links lead in a circle"}
	}
	switch inner := err.(type) {
	case *fs.PathError:
		err = inner.Err
	case *os.LinkError:
		err = inner.Err
	}
	return &fs.PathError{Op: op, Path: p, Err: err}
}

// clean makes a path absolute and free of "." and empty parts. ".." is left to
// the kernel: behind a link it means another folder than it reads.
func clean(p string) string {
	if p == "" || p[0] != '/' {
		p = "/" + p
	}
	return p
}

// split returns the folder and the last name of a path.
func split(p string) (dir, name string) {
	p = path.Clean(clean(p))
	return path.Dir(p), path.Base(p)
}

// leftovers end the names of what package managers and editors leave.
var leftovers = []string{
	"~", ".rpmnew", ".rpmsave", ".rpmorig", ".dpkg-old", ".dpkg-new", ".dpkg-tmp", ".dpkg-dist",
	".dpkg-bak", ".dpkg-backup", ".dpkg-remove", ".ucf-new", ".ucf-old", ".ucf-dist", ".swp",
	".bak", ".old", ".new",
}

// Leftover reports whether a name is hidden, or of what is left by the way:
// folders of snippets are read without such.
func Leftover(name string) bool {
	left := func(end string) bool { return strings.HasSuffix(name, end) }
	return strings.HasPrefix(name, ".") || slices.ContainsFunc(leftovers, left)
}

// maxLinks is how many links one path may lead through.
const maxLinks = 40

// A Home says where things of ours stand in a machine, and how it is told from
// others. Whoever opens a machine knows of what kind it is, and sets it.
type Home struct {
	Casebook string // the folder of the casebook inside the machine
	// Elsewhere is the folder of the marks that changes leave which are
	// recorded outside the machine.
	Elsewhere string
	// Marked texts begin with the mark of UTF-8 and end their lines by CR and
	// LF. So the machine's own programs show them as they are.
	Marked bool
	// Private is what keeps files of ours from others where modes are not held.
	Private Private
	// ID is the machine's own id, of any length; empty where it has none yet.
	ID func(r *Root) string
	// Away lists the folders that are file systems of their own by the
	// machine's tables and are not mounted; nil where no table says so.
	Away func(r *Root) []string
}

// Private is an extended attribute that keeps a file or a folder from all but
// the administrators; without a key there is none.
type Private struct {
	Key          string
	File, Folder []byte
}

// Each calls do for 0 to n-1, on all processors, and returns when all calls
// have.
func Each(n int, do func(i int)) {
	each(n, 32, n, do)
}

// EachLarge does the same for things that take long each.
func EachLarge(n int, do func(i int)) { EachBy(n, n, do) }

// EachBy does the same with so many of them at once at most.
func EachBy(most, n int, do func(i int)) { each(n, 1, most, do) }

// EachWaiting does the same for things that wait for others, with many of them
// at once whatever the processors.
func EachWaiting(n int, do func(i int)) {
	const most = 32
	var calls errgroup.Group
	calls.SetLimit(most)
	for i := range n {
		calls.Go(func() error { do(i); return nil })
	}
	_ = calls.Wait()
}

func each(n, batch, most int, do func(i int)) {
	var calls errgroup.Group
	calls.SetLimit(max(1, min(runtime.GOMAXPROCS(0), most)))
	for from := 0; from < n; from += batch {
		calls.Go(func() error {
			for i := from; i < min(n, from+batch); i++ {
				do(i)
			}
			return nil
		})
	}
	_ = calls.Wait() // none of them fails
}
