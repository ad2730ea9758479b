//go:build !linux

package machine

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"calmdawn/internal/core/change"
)

// A Root is a machine's confined file tree, see the Linux one. On this
// operating system a disk that is mounted somewhere can be read; nothing is
// edited yet.
type Root struct {
	dir    string
	files  *portable
	Home   Home
	stores map[string]Store
	Hook   func(Op) error
}

const nonBlocking = 0

func infoFrom(info fs.FileInfo) Info { return plainInfo(info) }

var errNotHere = errors.New("calmdawn changes machines from a Linux computer; on this operating " +
	"system it reads their disks")

// Open opens the machine whose disk is mounted at dir. Close it after use.
func Open(dir string) (r *Root, err error) {
	r = &Root{dir: dir}
	r.files, err = openPortable(dir, r.hook)
	return r, err
}

func (r *Root) hook(name, path string, n int64) error {
	if r.Hook == nil {
		return nil
	}
	return r.Hook(Op{Name: name, Path: path, Bytes: n})
}

func (r *Root) Close() error                        { return r.files.root.Close() }
func (r *Root) Dir() string                         { return r.dir }
func (r *Root) Resolve(p string) (string, error)    { return r.files.resolve(p) }
func (r *Root) ReadLink(p string) (string, error)   { return r.files.readLink(p) }
func (r *Root) Lstat(p string) (Info, error)        { return r.files.stat(p, false) }
func (r *Root) Stat(p string) (Info, error)         { return r.files.stat(p, true) }
func (r *Root) OpenFile(p string) (*os.File, error) { return r.files.openFile(p) }
func (r *Root) ReadDir(p string) ([]Entry, error)   { return r.files.readDir(p) }
func (r *Root) ReadOnly(string) bool                { return true }
func (r *Root) SelfMade() bool                      { return false }
func (r *Root) Live() bool                          { return false }
func (r *Root) Locked() bool                        { return false }
func (r *Root) OwnDisk() bool                       { return false }

func (r *Root) ReadFile(p string, limit int64) ([]byte, error) { return r.files.readFile(p, limit) }

func (r *Root) ReadListed(p string, limit int64) ([]byte, error) {
	return r.files.readFile(p, limit)
}

// Handle returns where the folder at p stands on this computer.
func (r *Root) Handle(p string) (string, func() error, error) {
	rel, _, err := r.files.walk(p, true)
	return filepath.Join(r.dir, filepath.FromSlash(rel)), func() error { return nil }, err
}

func (r *Root) Space(string) (uint64, uint64, error) { return 0, 0, errNotHere }

// What edits fails, and says on what calmdawn changes machines.

func (r *Root) fileNode(string, string) (change.Node, error) {
	return change.Node{Kind: change.Absent}, errNotHere
}
func (r *Root) applyFile(change.Edit) error                { return errNotHere }
func (r *Root) forceFile(change.Edit) error                { return errNotHere }
func (r *Root) Folder(string, string) (FolderState, error) { return FolderState{}, errNotHere }
func (r *Root) MakeFolder(string, string, uint32) error    { return errNotHere }
func (r *Root) RemoveFolder(string, string) error          { return errNotHere }
func (r *Root) SetFolderTime(string, string, int64) error  { return errNotHere }
func (r *Root) Sweep(string, string) error                 { return errNotHere }
func (r *Root) Lock(time.Duration) (func() error, error)   { return nil, errNotHere }
func (r *Root) MayWrite(string) error                      { return errNotHere }
