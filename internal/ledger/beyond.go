package ledger

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// A Beyond error tells that a change is taken back as far as its paths can be
// reached. The others are open in the undo's record, and the next call that
// changes something finishes them once they can be.
type Beyond struct {
	Undo change.Change
	Why  map[string]error // by path
}

func (b *Beyond) Error() string {
	var all []string
	for _, p := range slices.Sorted(maps.Keys(b.Why)) {
		all = append(all, b.Why[p].Error())
	}
	return fmt.Sprintf("change %d is taken back but for %s\nset that right, then call calmdawn "+
		"again: it finishes the change", b.Undo.Undoes, strings.Join(all, "; "))
}

// beyond are those paths of an undo that cannot be reached now, with why.
func (l *Ledger) beyond(c change.Change) map[string]error {
	all := map[string]error{}
	for _, e := range c.Edits {
		away := (*machine.Away)(nil)
		if c.Verb == change.Undo && errors.As(l.root.Reach(e), &away) {
			all[e.Path] = away
		}
	}
	return all
}

// within is a change without the edits of some paths.
func within(c change.Change, beyond map[string]error) change.Change {
	c.Edits = slices.DeleteFunc(slices.Clone(c.Edits), func(e change.Edit) bool {
		return beyond[e.Path] != nil
	})
	return c
}

// recordMounts notes with each edit of a decision what is mounted above its
// path. Our own upkeep may be done where other things are mounted, and goes by
// its paths.
func (l *Ledger) recordMounts(c change.Change, beyond map[string]error) change.Change {
	if c.Verb == change.Watch || c.Verb == change.Leave || c.Undoes < 0 {
		return c
	}
	c.Edits = slices.Clone(c.Edits)
	for i, e := range c.Edits {
		if e.Mounts == nil && beyond[e.Path] == nil && !isMark(e) {
			c.Edits[i].Mounts = l.root.Mounts(e.Path)
		}
	}
	return c
}

// leaveOpen records an undo as done but for the paths beyond reach.
func (l *Ledger) leaveOpen(c change.Change, beyond map[string]error) error {
	s := change.Settlement{At: l.at, By: l.by, Open: map[string]string{}}
	for _, e := range c.Edits {
		if why := beyond[e.Path]; why != nil {
			s.Open[e.Path] = l.reason(why)
		} else {
			s.Done = append(s.Done, e.Path)
		}
	}
	c.Settlement = &s
	forget, err := l.tidy(c, change.Planned)
	if err == nil {
		err = l.book.Settle(c, forget)
	}
	if err == nil {
		err = l.reload()
	}
	return errors.Join(&Beyond{c, beyond}, err)
}

// leftAt is the state in which the ledger left a path that cannot be looked at.
func (l *Ledger) leftAt(e change.Edit) change.Node {
	left := e.After
	for _, s := range l.steps(e.Path) {
		if s.UndoneBy == 0 {
			left = s.Edit.After
		}
	}
	return left
}

// mountsAway are the folders that edits of a change stand below and that are
// not mounted, or covered.
func (l *Ledger) mountsAway(c change.Change) (folders []string) {
	for _, e := range c.Edits {
		if away := (*machine.Away)(nil); errors.As(l.root.Reach(e), &away) {
			folders = append(folders, away.At)
		}
	}
	return folders
}
