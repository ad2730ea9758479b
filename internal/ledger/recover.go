package ledger

import (
	"fmt"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
)

// recovery is the change that recovered an address and stands, or is under way.
func (l *Ledger) recovery(address string) (change.Change, change.Edit, bool) {
	for _, c := range slices.Backward(l.all) {
		if c.Verb != change.Recover || !c.Stands() && c.Status != change.Planned {
			continue
		}
		for _, e := range c.Edits {
			if e.Path == address {
				return c, e, true
			}
		}
	}
	return change.Change{}, change.Edit{}, false
}

// A keeper is a ledger as a [machine.Keeper].
type keeper struct{ l *Ledger }

func (k keeper) Kept(address string) (change.Edit, map[int64][]byte, error) {
	c, e, ok := k.l.recovery(address)
	if !ok {
		return e, nil, nil
	}
	parts, err := k.l.book.Parts(c.ID, address)
	return e, parts, err
}

func (k keeper) Keep(address string, parts map[int64][]byte) error {
	c, _, ok := k.l.recovery(address)
	if !ok {
		return fmt.Errorf("%s: no change recovered it", address)
	}
	return k.l.book.KeepParts(c.ID, address, parts)
}

// A Needed error tells why a recovery is not taken back. What was done since
// stands on it, or the machine has gone on from it.
type Needed struct {
	Change int64
	Why    string
}

func (n *Needed) Error() string { return n.Why }

// needed says why a recovery cannot be taken back; nil where it can be. Those
// in before are taken back first.
func (l *Ledger) needed(c change.Change, before []int64) error {
	for _, e := range c.Edits {
		if isMark(e) {
			continue
		}
		file := strings.TrimPrefix(e.Path, change.Scheme(e.Path)+":")
		now, err := l.found(e)
		if err != nil {
			return &Needed{c.ID, err.Error()}
		}
		if !now.Agrees(e.After) && !now.Agrees(e.Before) {
			return &Needed{c.ID, file + " was written since by Windows or somebody else: there " +
				"is nothing to take back any more"}
		}
		for _, d := range l.all {
			if d.ID == c.ID || d.Undoes == c.ID || !l.edits(d, e.Path) {
				continue
			}
			switch {
			case d.Verb == change.Undo && d.ID > c.ID && d.Undoes < c.ID:
				return &Needed{c.ID, fmt.Sprintf("what change %d took back would be in force again",
					d.ID)}
			case d.Stands() && !(d.ID > c.ID && slices.Contains(before, d.ID)):
				return &Needed{c.ID, fmt.Sprintf("change %d stands in %s; take that back first",
					d.ID, file)}
			case d.Status == change.Planned:
				return &Unsettled{d, e.Path}
			}
		}
	}
	return nil
}

// edits reports whether a change edits something that stands in an address.
func (l *Ledger) edits(c change.Change, base string) bool {
	return slices.ContainsFunc(c.Edits, func(e change.Edit) bool {
		return l.root.Base(e.Path) == base
	})
}

// Recovering is the change that has to be made before others can be: it brings
// what they edit to its newest state. It has no edits where nothing has to be.
func (l *Ledger) Recovering(changes []change.Change) (change.Change, error) {
	c := change.Change{Verb: change.Recover, MadeAt: l.at, MadeBy: l.by}
	var edits []change.Edit
	for _, other := range changes {
		for _, e := range other.Edits {
			if !e.Before.Identical(e.After) {
				edits = append(edits, e)
			}
		}
	}
	var err error
	c.Edits, err = l.root.Recovering(edits)
	return c, err
}
