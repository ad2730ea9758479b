//go:build linux

package ledger_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"testing"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// A toy is a store of values in one file, which is written anew beside itself
// and renamed. It shows the machine's hook each of its steps.
type toy struct {
	file string
	root *machine.Root
}

func (s toy) read() (map[string]change.Node, error) {
	all := map[string]change.Node{}
	text, err := os.ReadFile(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	return all, errors.Join(err, json.Unmarshal(text, &all))
}

func (s toy) step(name, address string, do func() error) error {
	if s.root.Hook != nil {
		if err := s.root.Hook(machine.Op{Name: name, Path: address}); err != nil {
			return err
		}
	}
	return do()
}

func (s toy) Node(address, _ string) (change.Node, error) {
	all, err := s.read()
	if n, ok := all[address]; ok {
		return n, err
	}
	return change.Node{Kind: change.Absent}, err
}

func (s toy) Apply(e change.Edit) error {
	all, err := s.read()
	if err != nil {
		return err
	}
	now, _ := s.Node(e.Path, "")
	if !now.Same(e.Before) {
		return &change.Conflict{Edit: e, Now: now}
	}
	if all[e.Path] = e.After; e.After.Kind == change.Absent {
		delete(all, e.Path)
	}
	text, err := json.Marshal(all)
	return errors.Join(err,
		s.step("write", e.Path, func() error { return os.WriteFile(s.file+".new", text, 0o600) }),
		s.step("rename", e.Path, func() error { return os.Rename(s.file+".new", s.file) }))
}

func (s toy) Force(e change.Edit) error {
	e.Before, _ = s.Node(e.Path, "")
	return s.Apply(e)
}

func (s toy) SweepBeside(change.Edit) error {
	if err := os.Remove(s.file + ".new"); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (s toy) Fixed(change.Edit) bool { return false }
func (s toy) Mind(string) []string   { return nil }

func (s toy) Words(_ string, n change.Node) string { return string(n.Data) }

// Its keys stand as values of a kind of their own.
func (s toy) Folder(address, _ string) (machine.FolderState, error) {
	all, err := s.read()
	state := machine.FolderState{Exists: address == "toy:Key", Empty: true}
	for a, n := range all {
		state.Exists = state.Exists || a == address
		state.Empty = state.Empty && !change.Within(address, a)
		if a == address {
			state.ModTime = n.ModTime
		}
	}
	return state, err
}

func (s toy) set(op, address string, n change.Node) error {
	now, err := s.Node(address, "")
	return errors.Join(err, s.step(op, address, func() error {
		return toy{s.file, &machine.Root{}}.Apply(change.Edit{Path: address, Before: now, After: n})
	}))
}

func (s toy) MakeFolder(address, _ string, _ uint32) error {
	return s.set("mkdir", address, change.Node{Kind: change.Value})
}

func (s toy) RemoveFolder(address, _ string) error {
	return s.set("rmdir", address, change.Node{Kind: change.Absent})
}

func (s toy) SetFolderTime(address, _ string, ns int64) error {
	if address == "toy:Key" {
		return nil
	}
	return s.set("utimes", address, change.Node{Kind: change.Value, ModTime: ns})
}

// withToy attaches a toy store with two values in it.
func withToy(t *testing.T, r *machine.Root) {
	t.Helper()
	s := toy{t.TempDir() + "/toy", r}
	r.Attach("toy", s)
	for address, data := range map[string]string{`toy:Key\\One`: "1", `toy:Key\\Two`: "2"} {
		if err := s.Apply(change.Edit{
			Path:   address,
			Before: change.Node{Kind: change.Absent},
			After:  change.Node{Kind: change.Value, Type: 3, Data: []byte(data)},
		}); err != nil {
			t.Fatal(err)
		}
	}
}

// whole is the state of a machine: its tree, and what its toy store holds.
func whole(t *testing.T, dir string, r *machine.Root) string {
	t.Helper()
	text := testtree.Snapshot(t, dir, skip)
	for _, address := range []string{
		`toy:Key\\One`, `toy:Key\\Two`, `toy:Key\Made\Deep\\New`, `toy:Key\Made`,
		`toy:Key\Made\Deep`,
	} {
		n, err := r.Node(address, "")
		if err != nil {
			t.Fatal(err)
		}
		text += fmt.Sprintf("%s %s %d %q\n", address, n.Kind, n.Type, n.Data)
	}
	return text
}

// TestTheGuideTellsOfValues writes down how values are given back by hand.
func TestTheGuideTellsOfValues(t *testing.T) {
	dir, r := tree(t)
	withToy(t, r)
	for _, draft := range []func(*machine.Draft) error{
		func(d *machine.Draft) error { return d.Set(`toy:Key\\One`, 3, []byte("other")) },
		func(d *machine.Draft) error { return d.Set(`toy:Key\\Three`, 3, []byte("fresh")) },
	} {
		if _, err := do(r, draft, 0); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(dir + "/var/lib/calmdawn/" + casebook.GuideName)
	for _, part := range []string{
		"give Key\\\\One\n    1 again; the change made it other",
		"take away Key\\\\Three\n    which the change made fresh",
	} {
		if err != nil || !strings.Contains(string(text), part) {
			t.Errorf("without %q, %v:\n%s", part, err, text)
		}
	}
}

// TestTheGuideShowsWhatIsNotTooLong shows the lines of texts up to its bound.
func TestTheGuideShowsWhatIsNotTooLong(t *testing.T) {
	long := func(size int) []byte { return []byte(strings.Repeat("x", size-1) + "\n") }
	const most = 256 << 10
	for _, c := range []struct {
		before, after int
		shown         bool
	}{{most, 1, true}, {most + 1, 1, false}, {1, most, true}, {1, most + 1, false}} {
		dir, r := tree(t)
		if err := os.WriteFile(dir+"/etc/long", long(c.before), 0o644); err != nil {
			t.Fatal(err)
		}
		draft := func(d *machine.Draft) error {
			return d.Rewrite("/etc/long", "", func([]byte) ([]byte, error) {
				return long(c.after + 1)[1:], nil
			})
		}
		if _, err := do(r, draft, 0); err != nil {
			t.Fatal(err)
		}
		guide, err := os.ReadFile(dir + "/var/lib/calmdawn/" + casebook.GuideName)
		if err != nil || strings.Contains(string(guide), "put back the lines") != c.shown {
			t.Errorf("%+v, %v: %.300s", c, err, guide)
		}
	}
}

// TestMarksThatCannotBeListedRefuse: whether another casebook's changes stand
// is not known then.
func TestMarksThatCannotBeListedRefuse(t *testing.T) {
	_, r := tree(t)
	r.Hook = func(o machine.Op) error {
		if o.Name == "list" && o.Path == r.Home.Elsewhere {
			return fs.ErrPermission
		}
		return nil
	}
	if err := r.MakeFolder("/etc/calmdawn", "", 0o755); err != nil {
		t.Fatal(err)
	}
	if err := r.MakeFolder(r.Home.Elsewhere, "", 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := do(r, drafts[0], 0); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("%v", err)
	}
}

func TestWhatNoStoreHoldsIsRefused(t *testing.T) {
	_, r := tree(t)
	for _, address := range []string{"other:x", `task:\Acme`} {
		if _, err := r.Node(address, ""); machine.Reason(err) == "" {
			t.Errorf("%s: %v", address, err)
		}
		_, err := do(r, func(d *machine.Draft) error { return d.Set(address, 1, nil) }, 0)
		if err == nil {
			t.Errorf("%s was edited", address)
		}
	}
	for _, text := range []string{"", "x", "toy:", "Toy:x", "toy:\x01", "/", "/a/../b", "a/b:c"} {
		if change.IsAddress(text) {
			t.Errorf("%q is an address", text)
		}
	}
}
