package machine

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
)

// A mounts resolver knows where file systems are mounted.
type mounts interface {
	// mountRoot reports whether a folder, reached over no link, is the root of
	// a file system that is mounted there. known is false where the kernel does
	// not say.
	mountRoot(p string) (is, known bool, err error)
	// sealed reports whether a folder, reached over no link, is encrypted by
	// its file system and the key is not there. No name in it can be found.
	sealed(p string) (bool, error)
}

// Mounts lists the folders above an address at which file systems are mounted,
// the machine's own root aside, from the top. It is nil where that cannot be
// told, and for what is no path. Device numbers would not do: they change with
// each mount, and a bind mount has those of its source.
func (r *Root) Mounts(address string) []string {
	m, ok := r.files.(mounts)
	if !ok || change.Scheme(address) != "" {
		return nil
	}
	var above []string
	for dir := path.Dir(address); dir != "/" && dir != "."; dir = path.Dir(dir) {
		above = append(above, dir)
	}
	points := []string{}
	for _, dir := range slices.Backward(above) {
		is, known, err := m.mountRoot(dir)
		if errors.Is(err, fs.ErrNotExist) {
			break
		}
		if err != nil || !known {
			return nil
		}
		if is {
			points = append(points, dir)
		}
	}
	return points
}

// An Away error says that a path cannot be reached now. That says nothing of
// what stands there. Its file system is not mounted, or another one covers it.
type Away struct {
	Path string
	At   string // the folder, or file, that keeps it away
	Kind AwayKind
}

// An AwayKind is why a path is away.
type AwayKind int

// The kinds.
const (
	NotMounted AwayKind = iota
	Covered             // another file system is mounted there
	HomeGone            // it was somebody's home, as that of a user who was deleted
	Sealed              // it is encrypted, and its key is not there
	HiveGone            // it is a part of the registry without a file
)

// whys say what is so of the folder, by kind.
var whys = [...]string{
	NotMounted: " is a file system of its own that is not mounted",
	Covered:    " is covered by another file system",
	HomeGone:   " is gone, and was somebody's home",
	Sealed:     " is encrypted, and its key is not there",
	HiveGone:   " has no hive on this disk",
}

func (a *Away) Error() string { return a.Path + ": " + a.Why() }

// Why is the error without the path.
func (a *Away) Why() string { return a.At + whys[a.Kind] }

// SaysAway reports whether a reason that is on record is that of an [Away].
func SaysAway(reason string) bool {
	return slices.ContainsFunc(whys[:], func(why string) bool {
		return strings.HasSuffix(reason, why)
	})
}

// Sealed returns the folder on the way to a path that is encrypted and whose
// key is not there; empty where there is none.
func (r *Root) Sealed(p string) string {
	m, ok := r.files.(mounts)
	if !ok {
		return ""
	}
	for dir := p; ; dir = path.Dir(dir) {
		sealed, err := m.sealed(dir)
		switch {
		case sealed:
			return dir
		case err == nil || dir == "/" || dir == ".":
			return "" // what is above an open one is open
		}
	}
}

// Reach returns an *Away error for an edit whose path is not what it was when
// the edit was made. Records of earlier versions do not say what was mounted
// then: they go by what the machine mounts by its own tables.
//
// Of what a store keeps, the store may refuse edits whose object is gone.
func (r *Root) Reach(e change.Edit) error {
	if scheme := change.Scheme(e.Path); scheme != "" {
		store, ok := r.stores[scheme].(interface{ Reach(change.Edit) error })
		if !ok {
			return nil
		}
		return store.Reach(e)
	}
	if away := r.away(e); away != nil {
		return away
	}
	if sealed := r.Sealed(path.Dir(e.Path)); sealed != "" {
		return &Away{e.Path, sealed, Sealed}
	}
	if e.Home != "" {
		if _, err := r.Lstat(e.Home); errors.Is(err, fs.ErrNotExist) {
			return &Away{e.Path, e.Home, HomeGone}
		}
	}
	return nil
}

// away compares what is mounted above a path with what was.
func (r *Root) away(e change.Edit) *Away {
	if e.Mounts == nil {
		if r.Home.Away == nil {
			return nil
		}
		for _, folder := range r.Home.Away(r) {
			if strings.HasPrefix(e.Path, folder+"/") {
				return &Away{e.Path, folder, NotMounted}
			}
		}
		return nil
	}
	now := r.Mounts(e.Path)
	if now == nil {
		return nil
	}
	for _, point := range e.Mounts {
		if !slices.Contains(now, point) {
			return &Away{e.Path, point, NotMounted}
		}
	}
	for _, point := range now {
		if !slices.Contains(e.Mounts, point) {
			return &Away{e.Path, point, Covered}
		}
	}
	return nil
}
