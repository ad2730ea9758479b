//go:build linux

package machine_test

import (
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

// TestWhatAFileSystemCannotHold makes a private file on a volume that takes
// modes and owners and holds none. That is no fault, and told where nothing
// keeps others from it.
func TestWhatAFileSystemCannotHold(t *testing.T) {
	dir := t.TempDir()
	windowstest.Mount(t, dir, 8)
	made := change.Node{
		Kind: change.File, Data: []byte("private"), Mode: 0o600, UID: 12, GID: 13,
		ModTime: time.Now().UnixNano(),
	}
	for _, private := range []machine.Private{
		{}, {Key: "system.ntfs_acl", File: registry.Private(false)},
	} {
		r, err := machine.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		r.Home.Private = private
		e := change.Edit{Path: "/a", Before: change.Node{Kind: change.Absent}, After: made}
		if err := r.Apply(e); err != nil {
			t.Fatalf("%q: %v", private.Key, err)
		}
		if r.Exposed() != (private.Key == "") || !r.SelfMade() {
			t.Errorf("%q: exposed %v, made by itself %v", private.Key, r.Exposed(), r.SelfMade())
		}
		now, err := r.Node("/a", "")
		if err != nil || string(now.Data) != "private" || now.Mode == 0o600 {
			t.Errorf("%q: %+v %v", private.Key, now, err)
		}
		if err := r.Apply(change.Edit{Path: "/a", Before: now, After: e.Before}); err != nil {
			t.Error(err)
		}
		if err := r.Apply(change.Edit{Path: "/a", Before: e.Before, After: now}); err != nil {
			t.Errorf("%q: as it was found: %v", private.Key, err)
		}
		if err := r.Apply(change.Edit{Path: "/a", Before: now, After: e.Before}); err != nil {
			t.Error(err)
		}
	}
}
