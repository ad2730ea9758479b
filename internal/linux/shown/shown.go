// Package shown has what the mechanisms share whose items are shown and never
// switched.
package shown

import (
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// Only is a mechanism without its survey.
type Only struct {
	Mechanism string
	Refusal   func(item.Item) error // why an item is not switched
	unread    []item.Unread
}

// Name is the mechanism that items carry.
func (o *Only) Name() string { return o.Mechanism }

// Key: a boot does not know the starts of such items.
func (o *Only) Key(item.Item) (boot.Key, bool) { return boot.Key{}, false }

// Lookup knows no item that the survey does not list.
func (o *Only) Lookup(string, item.Survey) (item.Item, bool) { return item.Item{}, false }

// Unread names the places that could not be read.
func (o *Only) Unread() []item.Unread { return o.unread }

// Skip notes that a place could not be read; one that is not there is no such.
func (o *Only) Skip(p string, err error) {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		o.unread = append(o.unread, machine.Unread(p, err))
	}
}

// Turner returns what turns items: it refuses.
func (o *Only) Turner(*machine.Draft) item.Turner { return refusal(o.Refusal) }

type refusal func(item.Item) error

func (r refusal) Turn(it item.Item, _ item.State, _ time.Duration) error { return r(it) }

// A Daemon tells whether a unit is there, whether it is launched, and by which
// chain.
type Daemon func(unit string) (chain []string, there, on bool)

// Under has an item be launched by the first of some units that is, in whose
// chain it then stands. Without one it is off; does says what the units do to
// it: "starts".
func (d Daemon) Under(it *item.Item, does string, units ...string) {
	for _, unit := range units {
		if chain, _, on := d(unit); on {
			it.Because = append(slices.Clone(chain), it.Native)
			return
		}
	}
	it.State, it.Because = item.Off, nil
	it.Why = strings.Join(units, " or ") + ", which " + does + " it, is not launched"
}
