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
	// a file system that is mounted there; known is false where the kernel does
	// not say.
	mountRoot(p string) (is, known bool, err error)
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

// An Away error says that a path is on a file system that is not mounted, or
// below one that covers it: what stands there now is not what was edited.
type Away struct {
	Path  string
	Mount string // where it is to be mounted
	Cover bool   // another file system is mounted there
	Gone  bool   // it is a home that is gone, as with its user
}

const (
	notMounted = " is a file system of its own that is not mounted"
	covering   = "another file system covers it, mounted at "
	homeGone   = " is gone, and was somebody's home"
)

func (a *Away) Error() string { return a.Path + ": " + a.Why() }

// Why is the error without the path.
func (a *Away) Why() string {
	switch {
	case a.Cover:
		return covering + a.Mount
	case a.Gone:
		return a.Mount + homeGone
	}
	return a.Mount + notMounted
}

// SaysAway reports whether a reason that is on record is that of an [Away].
func SaysAway(reason string) bool {
	return strings.HasSuffix(reason, notMounted) || strings.HasPrefix(reason, covering) ||
		strings.HasSuffix(reason, homeGone)
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
	if e.Home != "" {
		if _, err := r.Lstat(e.Home); errors.Is(err, fs.ErrNotExist) {
			return &Away{Path: e.Path, Mount: e.Home, Gone: true}
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
				return &Away{Path: e.Path, Mount: folder}
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
			return &Away{Path: e.Path, Mount: point}
		}
	}
	for _, point := range now {
		if !slices.Contains(e.Mounts, point) {
			return &Away{Path: e.Path, Mount: point, Cover: true}
		}
	}
	return nil
}
