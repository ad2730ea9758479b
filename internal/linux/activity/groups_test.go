package activity

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// TestGroups goes through the life of groups, with the kernel telling of new
// ones and without it.
func TestGroups(t *testing.T) {
	for name, watched := range map[string]bool{"watched": true, "listed": false} {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			use := func(p string, usec int) {
				t.Helper()
				p = filepath.Join(root, p)
				if err := os.MkdirAll(p, 0o755); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(filepath.Join(p, "cpu.stat"),
					fmt.Appendf(nil, "usage_usec %d\nuser_usec 0\n", usec), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			use("", 0)
			if _, err := Follow(root); err == nil {
				t.Error("a folder that holds no control groups was followed")
			}
			if err := os.WriteFile(filepath.Join(root, "cgroup.controllers"), nil,
				0o644); err != nil {
				t.Fatal(err)
			}
			use("system.slice", 1000)
			use("system.slice/a.service", 1000)
			g, err := Follow(root)
			if err != nil {
				t.Fatal(err)
			}
			defer g.Close()
			if !watched {
				g.watch.close()
				g.watch = nil
			}
			at := time.Duration(0)
			look := func() {
				at += 100 * time.Millisecond
				g.Discover()
				g.Sample(at)
			}
			agree := func(want ...string) {
				t.Helper()
				var have []string
				for _, group := range g.All() {
					have = append(have,
						fmt.Sprint(group.Native, " ", group.UID, " ", group.CPU(), " ", group.Gone))
				}
				if slices.Sort(have); !slices.Equal(have, want) {
					t.Errorf("have %q; want %q", have, want)
				}
			}
			look()
			agree("a.service  1ms false")
			use("user.slice", 0)
			use("user.slice/user-1000.slice/user@1000.service/app.slice/b.service", 2000)
			use("system.slice/c.service", 3000)
			look()
			agree("a.service  1ms false", "b.service 1000 2ms false", "c.service  3ms false")
			g.SampleDisks(at)
			if use("system.slice/c.service",
				4000); !g.Still("/system.slice/a.service/x") ||
				!g.Still("/system.slice/c.service") || g.Still("/else") {
				t.Error("what did nothing is not known to be still")
			}
			for range 10 {
				look()
			}
			if g.Still("/system.slice/c.service") {
				t.Error("what did something counts as still")
			}
			// What was stopped is gone, and goes on from where it was when it
			// is started again.
			if err := os.RemoveAll(filepath.Join(root, "system.slice/c.service")); err != nil {
				t.Fatal(err)
			}
			group, _ := g.UnitOf("/system.slice/c.service")
			group.leave() // files that are kept open outlive a folder, a control group's do not
			look()
			agree("a.service  1ms false", "b.service 1000 2ms false", "c.service  4ms true")
			use("system.slice/c.service", 500)
			look()
			agree("a.service  1ms false", "b.service 1000 2ms false", "c.service  4.5ms false")
			if n := len(group.Course); group.Course[n-1].CPU != group.CPU() ||
				group.Course[n-1].At != at {
				t.Errorf("the course ends with %+v", group.Course[n-1])
			}
			// What rested for long is seen to work by the next whole look.
			for range 30 {
				look()
			}
			g.SampleDisks(at)
			use("system.slice/c.service", 2500)
			at += 900 * time.Millisecond
			if look(); g.Still("/system.slice/c.service") {
				t.Error("what began to work counts as still a second later")
			}
			use("system.slice", 9000)
			if total := g.Total(); total != 9*time.Millisecond {
				t.Errorf("all together used %v", total)
			}
		})
	}
}

// TestNobodyFillsAnothersGroups is TestNobodyFillsAnothersRoom for groups.
func TestNobodyFillsAnothersGroups(t *testing.T) {
	root := t.TempDir()
	make := func(group string) {
		t.Helper()
		if err := os.MkdirAll(root+group, 0o755); err != nil {
			t.Fatal(err)
		}
		use := []byte("usage_usec 5\n")
		if err := os.WriteFile(root+group+"/cpu.stat", use, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(root+"/cgroup.controllers", nil, 0o644); err != nil {
		t.Fatal(err)
	}
	manager := "/user.slice/user-1000.slice/user@1000.service/app.slice/"
	for i := range maxOfUser + 20 {
		make(fmt.Sprintf("%sa%d.service", manager, i))
	}
	g, err := Follow(root)
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	g.Discover()
	make("/system.slice/late.service")
	make("/user.slice/user-1001.slice/session-2.scope")
	g.listed = false
	g.Discover()
	of := map[string]int{}
	for _, group := range g.All() {
		of[whose(group.Path)]++
	}
	if of["1000"] != maxOfUser || of["1001"] != 1 || of[""] != 1 || !g.Missed() {
		t.Errorf("%v; missed: %v", of, g.Missed())
	}
}
