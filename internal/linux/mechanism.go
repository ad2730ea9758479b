package linux

import (
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// A mechanism is one way in which a Linux machine launches things. To add one,
// write a package below this one and list it in [Survey].
type mechanism interface {
	// Name is what items of the mechanism carry as theirs.
	Name() string
	// Survey returns what the next boot or login launches by it, and what could
	// be launched and is not. It is called once.
	Survey() []item.Item
	// Unread names the places that could not be read, after Survey.
	Unread() []item.Unread
	// Lookup makes an item that Survey does not list of those that it does;
	// false where the id means none.
	Lookup(id string, listed item.Survey) (item.Item, bool)
	// Key is the name by which boots know an item's start; false where they do
	// not.
	Key(it item.Item) (boot.Key, bool)
	// Turner returns what turns items of the mechanism. It changes the draft
	// alone.
	Turner(d *machine.Draft) item.Turner
}
