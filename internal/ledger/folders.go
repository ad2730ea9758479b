package ledger

import (
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// marks works out which folders a change touches and makes, and what their
// modification times are to become.
func (l *Ledger) marks(c change.Change) ([]change.FolderMark, error) {
	var marks []change.FolderMark
	seen := map[string]bool{}
	for _, e := range c.Edits {
		folder, ok := e.Folder()
		for ; ok && !seen[folder]; folder, ok = change.Above(folder) {
			seen[folder] = true
			m, err := l.mark(folder, e.Home, c.MadeAt)
			if err != nil {
				return nil, err
			}
			marks = append(marks, m)
			if !m.Made {
				break
			}
		}
	}
	slices.SortFunc(marks, func(a, b change.FolderMark) int {
		return strings.Compare(a.Path, b.Path)
	})
	return marks, nil
}

// mark continues what is remembered of a folder while nobody else has touched
// it, and begins anew otherwise.
func (l *Ledger) mark(folder, home string, at time.Time) (change.FolderMark, error) {
	state, err := l.root.Folder(folder, home)
	if err != nil {
		return change.FolderMark{}, err
	}
	old, known, err := l.book.Mark(folder)
	if err != nil {
		return change.FolderMark{}, err
	}
	m := change.FolderMark{
		Path: folder, Home: home, Made: !state.Exists,
		Before: state.ModTime, Left: at.UnixNano(),
	}
	if known && state.Exists {
		m.Made = old.Made
		if change.SameTime(old.Left, state.ModTime) {
			m.Before = old.Before
		}
	}
	return m, nil
}

// end puts the folders of c right and closes its record.
func (l *Ledger) end(c change.Change, status change.Status) error {
	forget, err := l.tidy(c, status)
	if err != nil {
		return err
	}
	return l.book.End(c, status, forget)
}

// tidy gives the folders of c their times, once c has the given status. It
// removes those that the ledger made and nothing of ours needs any more. Where
// that cannot be, it is noted; it holds nothing up. It returns the folders of
// which nothing has to be remembered any more. The error is of the casebook.
func (l *Ledger) tidy(c change.Change, status change.Status) (forget []string, err error) {
	standing := l.standing(c, status)
	inUse := func(folder string) bool {
		return slices.ContainsFunc(standing, func(p string) bool {
			return change.Within(folder, p)
		})
	}
	holdsEdit := func(folder string) bool {
		return slices.ContainsFunc(standing, func(p string) bool {
			in, ok := change.Edit{Path: p}.Folder()
			return ok && in == folder
		})
	}
	away := l.mountsAway(c)
	for _, folder := range foldersOf(c) {
		if slices.ContainsFunc(away, func(at string) bool {
			return folder == at || strings.HasPrefix(folder, at+"/")
		}) {
			continue // it is not there to be looked at
		}
		m, known, err := l.book.Mark(folder)
		if err != nil {
			return nil, err
		}
		if !known {
			continue
		}
		state, err := l.root.Folder(folder, m.Home)
		what := "looked at"
		switch {
		case err != nil:
		case !state.Exists:
			forget = append(forget, folder)
		case m.Made && !inUse(folder):
			forget = append(forget, folder)
			if state.Empty {
				what, err = "removed", l.root.RemoveFolder(folder, m.Home)
			}
		case m.Made || holdsEdit(folder) || inUse(folder) && l.madeBelow(folder, forget):
			if what, err = "given its time", l.root.SetFolderTime(folder, m.Home,
				m.Left); err != nil {
				// else it would count as touched by somebody else from here on
				if now, again := l.root.Folder(folder, m.Home); again == nil && now.Exists {
					state = now // set, and only its sync failed
				}
				if err := l.book.SetLeft(folder, state.ModTime); err != nil {
					return nil, err
				}
			}
		default:
			forget = append(forget, folder)
			what, err = "given its time", l.root.SetFolderTime(folder, m.Home, m.Before)
			if errors.Is(err, fs.ErrPermission) && state.ModTime == m.Before {
				err = nil // nothing was changed in what may not be changed
			}
		}
		if err != nil {
			l.note("The folder %s could not be %s: %s.", folder, what, machine.Reason(err))
		}
	}
	return forget, nil
}

// foldersOf lists the folders of a change's edits and all above them, the
// deepest first.
func foldersOf(c change.Change) []string {
	var folders []string
	for _, e := range c.Edits {
		folder, ok := e.Folder()
		for ok && !slices.Contains(folders, folder) {
			folders = append(folders, folder)
			folder, ok = change.Above(folder)
		}
	}
	slices.SortFunc(folders, func(a, b string) int { return strings.Compare(b, a) })
	return folders
}

// madeBelow reports whether a folder that the ledger made still stands directly
// in the given one.
func (l *Ledger) madeBelow(folder string, gone []string) bool {
	made, err := l.book.Made()
	return err == nil && slices.ContainsFunc(made, func(m change.FolderMark) bool {
		above, _ := change.Above(m.Path)
		if above != folder || slices.Contains(gone, m.Path) {
			return false
		}
		state, err := l.root.Folder(m.Path, m.Home)
		return err == nil && state.Exists
	})
}

// standing returns the paths that records hold, once c has the given status.
func (l *Ledger) standing(c change.Change, status change.Status) []string {
	var paths []string
	add := func(c change.Change) {
		for _, e := range c.Edits {
			paths = append(paths, e.Path)
		}
	}
	for _, other := range l.records() {
		switch {
		case other.ID == c.ID:
		case other.Status == change.Planned:
			paths = append(paths, other.Open()...)
		case other.ID == c.Undoes && status != change.Failed: // c's open paths are all of it
		case other.Stands():
			add(other)
		}
	}
	switch {
	case status == change.Planned:
		paths = append(paths, c.Open()...)
	case status == change.Done && c.Verb != change.Undo && c.Verb != change.Leave:
		add(c)
	}
	return paths
}
