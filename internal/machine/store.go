package machine

import (
	"fmt"
	"maps"
	"path"
	"slices"

	"calmdawn/internal/core/change"
)

// A Store holds what of a machine is edited. It holds its files, or what else
// is edited, such as values of a registry. Their addresses begin with the
// store's scheme. Several goroutines may ask it, as several plans do; one at a
// time edits. A home that is given is that of a person, who may have swapped
// what is there.
type Store interface {
	// Node returns the whole state at an address.
	Node(address, home string) (change.Node, error)
	// Apply makes the edit e and verifies it. Where the address is not as e
	// expects, it is a *change.Conflict, and left alone. At every moment the
	// address is as before or as after, and when Apply returns it is on the
	// disk.
	Apply(e change.Edit) error
	// Force puts the After state of e there, whatever stands there.
	Force(e change.Edit) error
	// SweepBeside removes what an interrupted call left beside an edit.
	SweepBeside(e change.Edit) error
	// Fixed reports whether where an edit is to be made takes none.
	Fixed(e change.Edit) bool
	// Words says in a word or two what is at an address, as people who know the
	// store write it.
	Words(address string, n change.Node) string
	// Mind says, a sentence each, what whoever decides on an edit there has to
	// know.
	Mind(address string) []string
	// What the addresses stand in is to it what folders are to files:
	// [change.Edit.Folder] says which. The mode is of those of files alone.
	Folder(address, home string) (FolderState, error)
	MakeFolder(address, home string, mode uint32) error
	RemoveFolder(address, home string) error
	SetFolderTime(address, home string, ns int64) error
}

// A fileStore is a machine's files, as the store of what has no scheme.
type fileStore struct{ *Root }

func (fileStore) Words(_ string, n change.Node) string { return n.Describe() }
func (fileStore) Mind(string) []string                 { return nil }

func (r fileStore) SweepBeside(e change.Edit) error { return r.Sweep(path.Dir(e.Path), e.Home) }
func (r fileStore) Fixed(e change.Edit) bool        { return r.ReadOnly(path.Dir(e.Path)) }

// An Importer is a store that can take edits back with a file which the running
// machine imports by its own means.
type Importer interface {
	Store
	// Import returns such a file for the states of edits before them, and what
	// it is called. Which machines take it, it says itself.
	Import(edits []change.Edit) (name string, data []byte)
}

// Imports returns the files that take edits back by the machine's own means, by
// their names.
func (r *Root) Imports(edits []change.Edit) map[string][]byte {
	all := map[string][]byte{}
	for scheme, s := range r.stores {
		if i, ok := s.(Importer); ok {
			name, data := i.Import(slices.DeleteFunc(slices.Clone(edits), func(e change.Edit) bool {
				return change.Scheme(e.Path) != scheme
			}))
			all[name] = data
		}
	}
	return all
}

// A Rescuer is a store that can help a machine that does not start any more.
type Rescuer interface {
	Store
	// Rescue returns files, by their names, that take edits back from outside
	// the machine, and one that says how. The edits are those of all schemes;
	// without any there is no file. at is where a file of a name will stand: a
	// path of the machine, or without a slash in front a name elsewhere.
	Rescue(edits []change.Edit, at func(name string) string) map[string][]byte
}

// RescueFile begins the names of files that a [Rescuer] makes. RescueText is
// the one that says how.
const (
	RescueFile = "rescue-"
	RescueText = RescueFile + "how.txt"
)

// Rescue returns the files that the stores have for taking edits back from
// outside the machine; nil where no store makes such files.
func (r *Root) Rescue(edits []change.Edit, at func(name string) string) map[string][]byte {
	var all map[string][]byte
	for _, s := range r.stores {
		if i, ok := s.(Rescuer); ok {
			if all == nil {
				all = map[string][]byte{}
			}
			maps.Copy(all, i.Rescue(edits, at))
		}
	}
	return all
}

// A Keeper keeps what stood in a file of a store before that overwrites it.
type Keeper interface {
	// Kept returns the edit of an address that recovered it and stands, or is
	// under way, with what is kept of its file, by places. Without one the edit
	// has no path.
	Kept(address string) (e change.Edit, parts map[int64][]byte, err error)
	// Keep keeps more of it. What is kept of a place already stays. When it
	// returns, the parts are on the disk.
	Keep(address string, parts map[int64][]byte) error
}

// A Foundation is a store whose addresses stand in files that may have to be
// recovered before anything in them can be edited.
type Foundation interface {
	Store
	// Base is the address of what an address stands in; empty where it is away.
	Base(address string) string
	// Recovering returns the edits that have to be made before others can be.
	Recovering(edits []change.Edit) ([]change.Edit, error)
}

// Base is the address of what an address stands in, see [Foundation]; else it
// is empty.
func (r *Root) Base(address string) string {
	if f, ok := r.stores[change.Scheme(address)].(Foundation); ok {
		return f.Base(address)
	}
	return ""
}

// Recovering returns the edits that have to be made before others can be.
func (r *Root) Recovering(edits []change.Edit) (all []change.Edit, err error) {
	for scheme, s := range r.stores {
		f, ok := s.(Foundation)
		if !ok {
			continue
		}
		first, err := f.Recovering(slices.DeleteFunc(slices.Clone(edits),
			func(e change.Edit) bool { return change.Scheme(e.Path) != scheme }))
		if err != nil {
			return nil, err
		}
		all = append(all, first...)
	}
	return all, nil
}

// Attach has a store hold the addresses of a scheme. It is called before the
// machine is used.
func (r *Root) Attach(scheme string, s Store) {
	if r.stores == nil {
		r.stores = map[string]Store{}
	}
	r.stores[scheme] = s
}

// store returns who holds an address.
func (r *Root) store(address string) (Store, error) {
	scheme := change.Scheme(address)
	if scheme == "" {
		return fileStore{r}, nil
	}
	if s := r.stores[scheme]; s != nil {
		return s, nil
	}
	return nil, &Refusal{address, fmt.Sprintf("is of a kind (%s) that this machine does not have",
		scheme)}
}

// Node returns the whole state at an address: of the path p, in a home or with
// none, or of what a store holds. A folder, a special file or a file over
// [MaxEdited] is a *Refusal.
func (r *Root) Node(p, home string) (change.Node, error) {
	s, err := r.store(p)
	if err != nil {
		return change.Node{Kind: change.Absent}, err
	}
	return s.Node(p, home)
}

// Words says in a word or two what is at an address.
func (r *Root) Words(address string, n change.Node) string {
	s, err := r.store(address)
	if err != nil || n.Kind != change.Value {
		return n.Describe()
	}
	return s.Words(address, n)
}

// Mind says, a sentence each, what is to be known of an edit at an address.
func (r *Root) Mind(address string) []string {
	s, err := r.store(address)
	if err != nil {
		return nil
	}
	return s.Mind(address)
}

// Apply makes the edit e and verifies it. An address that is not as e expects
// is a *change.Conflict, and is left alone. At every moment it is either the
// one or the other. A file with several names (hard links) is written in place,
// so that they stay together. When Apply returns, the edit is on the disk.
func (r *Root) Apply(e change.Edit) error {
	s, err := r.store(e.Path)
	if err != nil {
		return err
	}
	return s.Apply(e)
}

// Force puts the After state of e at its address, whatever stands there,
// readable or not; it is for a person who has decided so. A folder or a special
// file is a *Refusal. Names that share a file stay together where the file can
// be opened.
func (r *Root) Force(e change.Edit) error {
	s, err := r.store(e.Path)
	if err != nil {
		return err
	}
	return s.Force(e)
}

// Folder describes what edits stand in: the folder at p, or what a store has as
// one.
func (r *Root) Folder(p, home string) (FolderState, error) {
	s, err := r.store(p)
	if err != nil {
		return FolderState{}, err
	}
	return s.Folder(p, home)
}

// MakeFolder makes the folder p with the given mode and the owner of the folder
// around it; one that is there is left alone. What a store has as one gets the
// rights of that around it.
func (r *Root) MakeFolder(p, home string, mode uint32) error {
	s, err := r.store(p)
	if err != nil {
		return err
	}
	return s.MakeFolder(p, home, mode)
}

// RemoveFolder removes the folder p, which must be empty.
func (r *Root) RemoveFolder(p, home string) error {
	s, err := r.store(p)
	if err != nil {
		return err
	}
	return s.RemoveFolder(p, home)
}

// SetFolderTime gives the folder p the modification time ns, in nanoseconds
// since 1970 UTC.
func (r *Root) SetFolderTime(p, home string, ns int64) error {
	s, err := r.store(p)
	if err != nil {
		return err
	}
	return s.SetFolderTime(p, home, ns)
}

// SweepBeside removes what an interrupted write left beside an edit.
func (r *Root) SweepBeside(e change.Edit) error {
	s, err := r.store(e.Path)
	if err != nil {
		return err
	}
	return s.SweepBeside(e)
}

// Fixed reports whether where an edit is to be made takes none.
func (r *Root) Fixed(e change.Edit) bool {
	s, err := r.store(e.Path)
	return err == nil && s.Fixed(e)
}
