//go:build !linux

package machine

import (
	"errors"
	"os"
	"time"

	"calmdawn/internal/core/change"
)

// Root is a machine's confined file tree; on this operating system none can be
// opened yet.
type Root struct {
	Home   Home
	stores map[string]Store
	Hook   func(Op) error
}

var errNotHere = errors.New("calmdawn works on Linux machines, from a Linux machine; this " +
	"operating system comes later")

// Open fails: it says what calmdawn runs on.
func Open(string) (*Root, error) { return nil, errNotHere }

// The rest is what the packages above are written against; without a Root it is
// never reached.

func (r *Root) Close() error                                 { return errNotHere }
func (r *Root) SelfMade() bool                               { return false }
func (r *Root) Dir() string                                  { return "" }
func (r *Root) Live() bool                                   { return false }
func (r *Root) Resolve(string) (string, error)               { return "", errNotHere }
func (r *Root) ReadLink(string) (string, error)              { return "", errNotHere }
func (r *Root) Lstat(string) (Info, error)                   { return Info{}, errNotHere }
func (r *Root) Stat(string) (Info, error)                    { return Info{}, errNotHere }
func (r *Root) OpenFile(string) (*os.File, error)            { return nil, errNotHere }
func (r *Root) ReadFile(string, int64) ([]byte, error)       { return nil, errNotHere }
func (r *Root) ReadListed(string, int64) ([]byte, error)     { return nil, errNotHere }
func (r *Root) ReadDir(string) ([]Entry, error)              { return nil, errNotHere }
func (r *Root) ReadOnly(string) bool                         { return false }
func (r *Root) Space(string) (uint64, uint64, error)         { return 0, 0, errNotHere }
func (r *Root) Handle(string) (string, func() error, error)  { return "", nil, errNotHere }
func (r *Root) fileNode(string, string) (change.Node, error) { return change.Node{}, errNotHere }
func (r *Root) applyFile(change.Edit) error                  { return errNotHere }
func (r *Root) Folder(string, string) (FolderState, error)   { return FolderState{}, errNotHere }
func (r *Root) MakeFolder(string, string, uint32) error      { return errNotHere }
func (r *Root) RemoveFolder(string, string) error            { return errNotHere }
func (r *Root) SetFolderTime(string, string, int64) error    { return errNotHere }
func (r *Root) Sweep(string, string) error                   { return errNotHere }
func (r *Root) forceFile(change.Edit) error                  { return errNotHere }
func (r *Root) Lock(time.Duration) (func() error, error)     { return nil, errNotHere }
func (r *Root) Locked() bool                                 { return false }
func (r *Root) OwnDisk() bool                                { return false }
func (r *Root) MayWrite(string) error                        { return errNotHere }
