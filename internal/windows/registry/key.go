package registry

import (
	"time"

	"calmdawn/internal/windows/hive"
)

// A Key is one of a registry: of a disk's hive, or of one that a running system
// keeps. Of a damaged one its methods return what they could read, with an
// error; the error of what is not there is [hive.ErrNone].
type Key interface {
	Name() string
	Written() time.Time // when its values or the keys below it were last changed
	// Key returns the key below it at a path of names.
	Key(names ...string) (Key, error)
	Keys() ([]Key, error)
	Value(name string) (hive.Value, error)
	Values() ([]hive.Value, error)
}

// A hiveKey is a key of a hive.
type hiveKey struct{ k hive.Key }

func (h hiveKey) Name() string                          { return h.k.Name }
func (h hiveKey) Written() time.Time                    { return h.k.Written }
func (h hiveKey) Value(name string) (hive.Value, error) { return h.k.Value(name) }
func (h hiveKey) Values() ([]hive.Value, error)         { return h.k.Values() }

func (h hiveKey) Key(names ...string) (Key, error) {
	k, err := h.k.Key(names...)
	return hiveKey{k}, err
}

func (h hiveKey) Keys() ([]Key, error) {
	found, err := h.k.Keys()
	all := make([]Key, len(found))
	for i, k := range found {
		all[i] = hiveKey{k}
	}
	return all, err
}
