//go:build linux

package windows_test

import (
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/windows"
)

// judged surveys a disk, and has all items judged, by their ids.
func judged(t *testing.T, r *machine.Root) map[string]item.Item {
	t.Helper()
	m := windows.Family{}.Open(r)
	rules, err := advice.Load(nil, family.Rules(m))
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]item.Item{}
	for _, it := range m.Survey(family.Options{}).Found().Items {
		rules.Judge(&it, nil)
		all[it.ID] = it
	}
	return all
}

// TestWhatCannotBeReadNeverLowersProtection hides files and folders of a disk,
// single ones, kinds of them and at random. What is protected when all is read
// stays so, or is not launched any more that we know, and nothing is called
// broken for it.
func TestWhatCannotBeReadNeverLowersProtection(t *testing.T) {
	dir := t.TempDir() + "/disk"
	if err := demo.MakeWindows(dir, time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)); err != nil {
		t.Fatal(err)
	}
	r := opened(t, dir)
	paths, mu := map[string]bool{}, sync.Mutex{}
	r.Hook = func(op machine.Op) error {
		mu.Lock()
		defer mu.Unlock()
		paths[op.Path] = true
		return nil
	}
	whole := judged(t, r)
	protected := 0
	for _, it := range whole {
		if it.Protected != "" {
			protected++
		}
	}
	if protected < 40 || len(paths) < 100 {
		t.Fatalf("%d protected items, %d paths", protected, len(paths))
	}
	delete(paths, "/")
	names := slices.DeleteFunc(slices.Sorted(maps.Keys(paths)), func(p string) bool {
		return strings.Contains("/windows/system32/config/system/", strings.ToLower(p)+"/")
	})
	hide := func(what string, hidden func(p string) bool) {
		t.Helper()
		for _, fault := range []error{syscall.EIO, fs.ErrPermission} {
			r.Hook = func(op machine.Op) error {
				if hidden(op.Path) {
					return &fs.PathError{Op: op.Name, Path: op.Path, Err: fault}
				}
				return nil
			}
			now := judged(t, r)
			r.Hook = nil
			for id, was := range whole {
				is, there := now[id]
				switch {
				case !there || !was.State.Launched():
				case was.State != item.Broken && is.State == item.Broken:
					t.Errorf("without %s (%v) %s is broken: %s", what, fault, id, is.Why)
				case was.Protected != "" && is.State.Launched() && is.Protected == "":
					t.Errorf("without %s (%v) %s is not protected: it was for %s", what, fault, id,
						was.Protected)
				}
			}
		}
	}
	for _, end := range []string{".exe", ".dll", ".sys", ".inf"} {
		hide("all "+end, func(p string) bool { return strings.HasSuffix(strings.ToLower(p), end) })
	}
	hide("SOFTWARE", func(p string) bool { return strings.HasSuffix(p, "/config/SOFTWARE") })
	hide("the folders of programs", func(p string) bool {
		return strings.HasPrefix(strings.ToLower(p), "/program files")
	})
	rng := rand.New(rand.NewPCG(40, 1))
	rng.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	for _, p := range names[:min(len(names), ring.Pick(10, 50, 150))] {
		hide(p, func(other string) bool { return other == p })
	}
	for n := range ring.Pick(4, 20, 60) {
		some := map[string]bool{}
		for _, p := range names {
			some[p] = rng.IntN(1+n%6) == 0
		}
		hide(fmt.Sprint("some, seed ", n), func(p string) bool { return some[p] })
		if t.Failed() {
			break
		}
	}
}
