package visit

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/notebook"
)

// listLasts is how long the numbers of a list are taken: nobody has it before
// their eyes any more after that.
const listLasts = 24 * time.Hour

// ListedAs names a machine for its last list: by its id and by where it is.
func (s Site) ListedAs(r *machine.Root) string {
	dir, err := filepath.Abs(s.Dir)
	if err != nil {
		dir = s.Dir
	}
	return casebook.MachineID(r) + " " + dir
}

// rowNumbers reads "3" or "3-7".
func rowNumbers(word string) (first, last int, ok bool) {
	from, to, ranged := strings.Cut(word, "-")
	if !ranged {
		to = from
	}
	first, err1 := strconv.Atoi(from)
	last, err2 := strconv.Atoi(to)
	return first, last, err1 == nil && err2 == nil && !strings.ContainsAny(word, "+ ")
}

// rows returns the items in some rows of the last list, as long as what that
// says of them is true. Those that a change of ours decided on since are
// another matter than those that somebody else switched.
func (v *Visit) rows(first, last int) ([]item.Item, error) {
	const again = "\ncalmdawn list shows the items as they are now"
	if v.Listed == nil {
		return nil, misuse("%s is not an item of %s", rowsNamed(first, last), v.name())
	}
	list, err := v.Listed(v.ListedAs(v.Root))
	switch {
	case errors.Is(err, notebook.ErrNoList):
		return nil, misuse("%w, so there is no row %d\ncalmdawn list shows one", err, first)
	case err != nil:
		return nil, err
	case v.Now().Sub(list.At).Abs() > listLasts:
		return nil, misuse("the last list of this machine was shown on %s, too long ago for its "+
			"numbers%s", list.At.Local().Format("2 Jan 2006"), again)
	case first < 1 || last < first || last > len(list.Rows):
		return nil, misuse("the last list of this machine has %d rows; %s is not among them",
			len(list.Rows), rowsNamed(first, last))
	}
	var items []item.Item
	for n, row := range list.Rows[first-1 : last] {
		for _, one := range append([]notebook.Row{row}, row.With...) {
			it, ok := v.Lookup(one.ID)
			was := fmt.Sprintf("row %d of the last list, %s,", first+n, one.Title)
			switch {
			case !ok:
				return nil, misuse("%s is not on this machine any more%s", was, again)
			case it.State != v.decidedSince(it.ID, item.State(one.State), list.At):
				return nil, misuse("%s was %s, and is %s now%s", was, one.State, it.State, again)
			}
			items = append(items, it)
		}
		if i := first + n - 1; i < len(list.Before) && !sameItems(list.Before[i], row) &&
			v.Now().Sub(list.BeforeAt).Abs() <= listLasts {
			v.Renumbered = append(v.Renumbered, Renumbered{
				Row: i + 1, Now: row.Title, Before: list.Before[i].Title,
			})
		}
	}
	return items, nil
}

// sameItems reports whether two rows mean the same.
func sameItems(a, b notebook.Row) bool {
	return a.ID == b.ID && slices.EqualFunc(a.With, b.With, sameItems)
}

// Renumbered is the number of a row that meant another item in the table before
// the one that was shown last.
type Renumbered struct {
	Row         int
	Now, Before string // titles
}

// decidedSince is the state into which changes of ours have put an item since,
// undoing among them, from the state that it was in.
func (v *Visit) decidedSince(id string, was item.State, since time.Time) item.State {
	for _, c := range v.Changes {
		for _, t := range c.Targets {
			if t.ID == id && c.MadeAt.After(since) && c.Status == change.Done {
				was = t.After
			}
		}
	}
	return was
}

func rowsNamed(first, last int) string {
	if first == last {
		return strconv.Itoa(first)
	}
	return fmt.Sprintf("%d-%d", first, last)
}
