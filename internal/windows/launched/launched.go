// Package launched is what the launch mechanisms of Windows find: items, each
// with its switch.
package launched

import (
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// An Item is one that a mechanism found.
type Item struct {
	item.Item
	Turn Turn
}

// A Turn plans in a draft that an item, as it was found, is on, off or delayed
// by a time. Its error says why that cannot be.
type Turn func(d *machine.Draft, it item.Item, to item.State, by time.Duration) error

// Refuse is the turn of what is not switched, and says why.
func Refuse(why error) Turn {
	return func(*machine.Draft, item.Item, item.State, time.Duration) error { return why }
}
