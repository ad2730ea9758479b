package machine

import (
	"fmt"
	"path"

	"calmdawn/internal/core/change"
)

// A Store holds things of a machine that are edited and are no files, such as
// values of a registry. Their addresses begin with its scheme. It is called by
// one goroutine.
type Store interface {
	// Node returns the whole state at an address.
	Node(address string) (change.Node, error)
	// Apply makes the edit e and verifies it. Where the address is not as e
	// expects, it is a *change.Conflict, and left alone. At every moment the
	// address is as before or as after, and when Apply returns it is on the
	// disk.
	Apply(e change.Edit) error
	// Sweep removes what an interrupted call of Apply left beside.
	Sweep() error
	// ReadOnly reports whether it takes no edits.
	ReadOnly() bool
}

// Attach has a store hold the addresses of a scheme. It is called before the
// machine is used.
func (r *Root) Attach(scheme string, s Store) {
	if r.stores == nil {
		r.stores = map[string]Store{}
	}
	r.stores[scheme] = s
}

// store returns who holds an address that is no path; nil for a path.
func (r *Root) store(address string) (Store, error) {
	scheme := change.Scheme(address)
	if scheme == "" {
		return nil, nil
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
	if s == nil && err == nil {
		return r.fileNode(p, home)
	}
	if err != nil {
		return change.Node{Kind: change.Absent}, err
	}
	return s.Node(p)
}

// Apply makes the edit e and verifies it. An address that is not as e expects
// is a *change.Conflict, and is left alone. At every moment it is either the
// one or the other; a file with several names (hard links) is written in place,
// so that they stay together. When Apply returns, the edit is on the disk.
func (r *Root) Apply(e change.Edit) error {
	s, err := r.store(e.Path)
	if s == nil && err == nil {
		return r.applyFile(e)
	}
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
	if s == nil && err == nil {
		return r.forceFile(e)
	}
	if err != nil {
		return err
	}
	if e.Before, err = s.Node(e.Path); err != nil {
		return err
	}
	return s.Apply(e)
}

// SweepBeside removes what an interrupted write left beside an edit.
func (r *Root) SweepBeside(e change.Edit) error {
	s, err := r.store(e.Path)
	if s == nil && err == nil {
		return r.Sweep(path.Dir(e.Path), e.Home)
	}
	if err != nil {
		return err
	}
	return s.Sweep()
}

// Fixed reports whether where an edit is to be made takes none.
func (r *Root) Fixed(e change.Edit) bool {
	s, err := r.store(e.Path)
	if s == nil && err == nil {
		return r.ReadOnly(path.Dir(e.Path))
	}
	return err == nil && s.ReadOnly()
}
