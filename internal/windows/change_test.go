package windows_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/family"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/windows"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

// opened opens a disk for changes.
func opened(t *testing.T, dir string) *machine.Root {
	t.Helper()
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	windows.Family{}.Open(r)
	return r
}

// same fails unless a registry is as it was, times of keys included.
func same(t *testing.T, dir string, before map[string]string, story string) {
	t.Helper()
	values, times := windowstest.Differing(before, windowstest.Registry(t, dir))
	if len(values)+len(times) > 0 {
		t.Fatalf("%s: differs in %q %q", story, values, times)
	}
}

func ledgerOf(t *testing.T, r *machine.Root, at time.Time) *ledger.Ledger {
	t.Helper()
	led, err := ledger.Open(r, casebook.Inside, at, "test")
	if err != nil {
		t.Fatal(err)
	}
	return led
}

// turned plans items in a state, as edits.
func turned(r *machine.Root, v family.Inventory, to item.State, at time.Time,
	items ...item.Item) ([]change.Edit, error) {
	d := r.Draft(at)
	p := v.Turner(d)
	for _, it := range items {
		if err := p.Turn(it, to, time.Minute); err != nil {
			return nil, err
		}
	}
	return d.Edits(), nil
}

// TestEachItemOfTheDemo switches each item of the demo machine off, or on, or
// delays it, and takes that back. Exactly the one value differs that Windows
// goes by, and the survey says so. After all the registry is as it was, times
// included.
func TestEachItemOfTheDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "gnomon")
	if err := demo.MakeWindows(dir, time.Now()); err != nil {
		t.Fatal(err)
	}
	done, refused := eachItem(t, dir)
	for _, way := range []string{
		"service off", "service on", "service delayed", "run off", "run on", "startup off",
		"app off",
	} {
		if done[way] == 0 {
			t.Errorf("no item was turned as %q: %v", way, done)
		}
	}
	if done["task off"] > 0 || refused["task"] == 0 {
		t.Errorf("tasks: %v, refused: %v", done, refused)
	}
	t.Log(done, refused)
}

// TestEachItemOfStrangeDisks does the same with names, notes and lists as no
// tidy program makes them.
func TestEachItemOfStrangeDisks(t *testing.T) {
	t.Parallel()
	names := []string{
		"Plain", "", `with \ in it`, `C:\\double`, `"quoted"`, "100 % sure", "%41", "a=b;c",
		"two\nlines", "tab\t\x1b[31m", strings.Repeat("long ", 50), "Größe", "日本語", "𝄞 clef",
		"ÿ", "ı", "UPPER", "trailing ",
	}
	notes := [][]byte{
		nil, {0}, {3}, {2, 0, 0}, {3, 0, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8}, make([]byte, 12),
		{6, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, {7, 0, 0, 0, 9, 9, 9, 9, 9, 9, 9, 1},
		append([]byte{9}, make([]byte, 19)...),
	}
	for seed := range uint64(3) {
		rng := rand.New(rand.NewPCG(seed, 77))
		d := windowstest.New()
		d.Files["Program Files/Marl/a.exe"] = ""
		const line = `"C:\Program Files\Marl\a.exe"`
		for _, user := range []string{"", "isolde"} {
			run, approved := d.Run(user, "Run"), d.Run(user, `Explorer\StartupApproved\Run`)
			for _, name := range names {
				kind := []hive.Type{hive.String, hive.Expand}[rng.IntN(2)]
				run.Set(write.Texted(name, kind, line))
				note := notes[rng.IntN(len(notes))]
				if note == nil {
					continue
				}
				if rng.IntN(2) == 0 {
					name = hive.Upper(name)
				}
				approved.Set(write.Raw(name, hive.Binary, note))
			}
			run.List = []string{"", "li", "lf"}[rng.IntN(3)]
		}
		services := []string{"Plain", "with blank", "Größe", "a%b", strings.Repeat("s", 90)}
		for n, name := range services {
			d.Service(name, windowstest.Auto(line)...).Set(
				write.Counted("Start", uint32(2+n%3)),
				write.Counted("DelayedAutostart", uint32(n%2)))
		}
		done, refused := eachItem(t, d.Make(t))
		least := ring.Pick(2, 8, 8)
		if done["run off"] < least || done["run on"] < least || done["service off"] == 0 {
			t.Errorf("%v, refused %v", done, refused)
		}
	}
}

// eachItem turns each item of a disk and takes that back; it counts what was
// done, and refused, by mechanism.
func eachItem(t *testing.T, dir string) (done, refused map[string]int) {
	t.Helper()
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	r := opened(t, dir)
	before := windowstest.Registry(t, dir)
	look := func() family.Inventory {
		return windows.Family{}.Open(r).Survey(family.Options{Now: now})
	}
	inventory := look()
	done, refused = map[string]int{}, map[string]int{}
	for _, it := range inventory.Found().Items {
		states := []item.State{item.Off, item.Delayed}
		if it.State == item.Off {
			states = []item.State{item.On}
		}
		for _, to := range states {
			if done[it.Mechanism+" "+string(to)] >= ring.Pick(2, 8, 1000) {
				continue
			}
			edits, err := turned(r, inventory, to, now, it)
			if err != nil || len(edits) == 0 {
				if to != item.Delayed {
					refused[it.Mechanism]++
				}
				continue
			}
			led := ledgerOf(t, r, now)
			c, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: now, Edits: edits})
			if err != nil {
				t.Fatalf("%s to %s: %v", it.ID, to, err)
			}
			values, _ := windowstest.Differing(before, windowstest.Registry(t, dir))
			values = slices.DeleteFunc(values, func(at string) bool {
				return !strings.Contains(at, `\\`) // a key that was missing
			})
			if len(values) != 1 {
				t.Errorf("%s to %s: differs in %q", it.ID, to, values)
			}
			found, there := look().Lookup(it.ID)
			launched := to != item.Off && found.State.Launched() // if its program is there
			if found.State != to && !launched && there {
				t.Errorf("%s to %s: it is %s (%s)", it.ID, to, found.State, found.Why)
			}
			undo, err := led.PlanUndo(c.ID, ledger.Undoing{At: now, By: "test"})
			if err == nil {
				_, err = led.CarryOut(undo)
			}
			if err != nil {
				t.Fatalf("%s back from %s: %v", it.ID, to, err)
			}
			led.Close()
			same(t, dir, before, fmt.Sprintf("%s back from %s", it.ID, to))
			done[it.Mechanism+" "+string(to)]++
		}
	}
	return done, refused
}

// TestAValueComesBackToItsPlace takes an entry away, as versions without notes
// of what is off need it, and has it back among its neighbours.
func TestAValueComesBackToItsPlace(t *testing.T) {
	d := windowstest.New()
	run := d.Run("", "Run")
	for _, name := range []string{"c", "a", "b", "d"} {
		run.Set(write.Texted(name, hive.String, name+".exe"))
	}
	r := opened(t, d.Make(t))
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	order := func() (names []string) {
		reg, err := registry.Open(r)
		if err != nil {
			t.Fatal(err)
		}
		defer reg.Close()
		key := reg.Machine(`SOFTWARE\` + registry.CurrentVersion + `\Run`)
		for _, v := range reg.Values(key) {
			names = append(names, v.Name)
		}
		return names
	}
	before := order()
	draft := r.Draft(now)
	const address = `registry:HKLM\SOFTWARE\` + registry.CurrentVersion + `\Run\\A`
	if err := draft.Remove(address, ""); err != nil {
		t.Fatal(err)
	}
	led := ledgerOf(t, r, now)
	defer led.Close()
	c, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: now, Edits: draft.Edits()})
	if err != nil || len(order()) != 3 {
		t.Fatal(err, order())
	}
	undo, err := led.PlanUndo(c.ID, ledger.Undoing{At: now, By: "test"})
	if err == nil {
		_, err = led.CarryOut(undo)
	}
	if err != nil {
		t.Fatal(err)
	}
	if after := order(); !slices.EqualFunc(after, before, hive.Same) {
		t.Errorf("%q, and was %q", after, before)
	}
}

var errStop = errors.New("stopped")

// machineToTurn is a small disk, with what of every kind is switched, and keys
// that are missing.
func machineToTurn() *windowstest.Disk {
	d := windowstest.New()
	d.Files["Program Files/Marl/a.exe"] = ""
	const line = `"C:\Program Files\Marl\a.exe"`
	d.Service("Marl", windowstest.Auto(line)...)
	d.Run("", "Run").Set(write.Texted("Marl", hive.String, line))
	d.Run("isolde", "Run").Set(write.Texted("Marl tray", hive.String, line))
	d.Users["isolde"].At(`Software\Microsoft\Windows NT\CurrentVersion\Windows`).Set(
		write.Texted("load", hive.String, line))
	d.Users["isolde"].At("Environment").Set(
		write.Texted("UserInitMprLogonScript", hive.Expand, line))
	return d
}

// TestEveryInterruption fails, and then stops, each operation of a change of
// values in three hives, and of its undo.
func TestEveryInterruption(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	for _, crash := range []bool{false, true} {
		for _, undo := range []bool{false, true} {
			interrupted := 0
			for n := 0; ; n += ring.Pick(16, 4, 1) {
				dir := machineToTurn().Make(t)
				r := opened(t, dir)
				before := windowstest.Registry(t, dir)
				id := int64(0)
				if undo {
					id = turnAll(t, r, now, 0)
				}
				left, hit := n, false
				r.Hook = func(op machine.Op) error {
					if op.Name != "write" && op.Name != "sync" ||
						!strings.HasPrefix(filepath.Base(op.Path), "S") &&
							filepath.Base(op.Path) != "NTUSER.DAT" {
						return nil
					}
					return stopAt(&left, &hit, crash)
				}
				untilStopped(func() {
					turnAll(nil, r, now, id)
				})
				r.Hook = nil
				r.Close()
				if !hit {
					break
				}
				interrupted++
				r = opened(t, dir)
				led := ledgerOf(t, r, now)
				standing := int64(0)
				for _, c := range led.Changes() {
					if c.Status == change.Planned {
						t.Errorf("crash %v undo %v at %d: change %d is open: %v", crash, undo, n,
							c.ID, c.Settlement)
					}
					if c.Stands() {
						standing = c.ID
					}
				}
				led.Close()
				if standing != 0 {
					turnAll(t, r, now, standing)
				}
				values, _ := windowstest.Differing(before, windowstest.Registry(t, dir))
				if !crash { // a key that cannot go is told, and holds nothing up
					values = slices.DeleteFunc(values, func(at string) bool {
						return !strings.Contains(at, `\\`)
					})
				}
				if len(values) > 0 {
					t.Fatalf("crash %v undo %v at %d: differs in %q", crash, undo, n, values)
				}
			}
			if interrupted < ring.Pick(1, 7, 30) {
				t.Errorf("only %d operations were interrupted", interrupted)
			}
		}
	}
}

// stopAt counts an operation down. The last one fails, and all after it where
// the call crashes: then it panics.
func stopAt(left *int, hit *bool, crash bool) error {
	if *left--; *left >= 0 || *hit && !crash {
		return nil
	}
	if *hit = true; crash {
		panic(errStop)
	}
	return errStop
}

// untilStopped does something that may be stopped by a panic of [stopAt].
func untilStopped(do func()) {
	defer func() {
		if p := recover(); p != nil && p != any(errStop) {
			panic(p)
		}
	}()
	do()
}

// turnAll switches all of [machineToTurn] off, or takes that change back. With
// t nil it may fail.
func turnAll(t *testing.T, r *machine.Root, at time.Time, undo int64) int64 {
	led, err := ledger.Open(r, casebook.Inside, at, "test")
	if err != nil {
		if t != nil {
			t.Fatal(err)
		}
		return 0
	}
	defer led.Close()
	var c change.Change
	if undo != 0 {
		c, err = led.PlanUndo(undo, ledger.Undoing{At: at, By: "test"})
	} else {
		v := windows.Family{}.Open(r).Survey(family.Options{Now: at})
		var items []item.Item
		for _, it := range v.Found().Items {
			if it.State == item.On && !it.Aside {
				items = append(items, it)
			}
		}
		c = change.Change{Verb: change.Disable, MadeAt: at}
		c.Edits, err = turned(r, v, item.Off, at, items...)
		if t != nil && len(c.Edits) != 5 {
			t.Fatalf("%d edits", len(c.Edits))
		}
	}
	var first change.Change
	if err == nil {
		first, err = led.Recovering([]change.Change{c})
	}
	if err == nil && len(first.Edits) > 0 {
		_, err = led.CarryOut(first)
	}
	if err == nil {
		c, err = led.CarryOut(c)
	}
	if err != nil && t != nil {
		t.Fatal(err)
	}
	return c.ID
}

// TestEveryInterruptionOfARecovery fails, and then stops, each operation on the
// hives of a machine that died. They are recovered and changed, and all of that
// is taken back. The hives hold the same at every moment, and have their bytes
// back in the end.
func TestEveryInterruptionOfARecovery(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	killed := map[string][]byte{}
	interrupted := 0
	for _, crash := range []bool{false, true} {
		for _, undo := range []bool{false, true} {
			for n, hit := 0, true; hit; n += ring.Pick(23, 7, 1) {
				rng := rand.New(rand.NewPCG(uint64(n), 44))
				dir := machineToTurn().Make(t)
				for p, key := range map[string]string{
					"/Windows/System32/config/SYSTEM": `ControlSet001\Services\Marl`,
					"/Users/isolde/NTUSER.DAT":        "Environment",
				} {
					killed[p] = windowstest.Kill(t, rng, dir+p, key, "Last", hive.Binary,
						make([]byte, rng.IntN(6000)))
				}
				before := windowstest.Registry(t, dir)
				r := opened(t, dir)
				if undo {
					turnAll(t, r, now, 0)
				}
				left := n
				hit = false
				r.Hook = func(op machine.Op) error {
					if op.Name != "write" && op.Name != "sync" || killed[op.Path] == nil {
						return nil
					}
					return stopAt(&left, &hit, crash)
				}
				untilStopped(func() {
					if undo {
						takeAllBack(nil, r, now)
					} else {
						turnAll(nil, r, now, 0)
					}
				})
				r.Hook = nil
				r.Close()
				story := fmt.Sprintf("crash %v undo %v at %d", crash, undo, n)
				windowstest.Registry(t, dir) // it is whole, or behind what its logs hold
				r = opened(t, dir)
				takeAllBack(t, r, now)
				same(t, dir, before, story)
				for p, data := range killed {
					if now, err := os.ReadFile(dir + p); err != nil || !bytes.Equal(now, data) {
						t.Fatalf("%s: %s does not have its bytes back (%v)", story, p, err)
					}
				}
				interrupted++
			}
		}
	}
	if interrupted < ring.Pick(8, 40, 200) {
		t.Errorf("only %d operations were interrupted", interrupted)
	}
}

// takeAllBack settles what was interrupted and takes back all that stands, the
// newest first. With t nil it may fail.
func takeAllBack(t *testing.T, r *machine.Root, at time.Time) {
	led, err := ledger.Open(r, casebook.Inside, at, "test")
	if err == nil {
		defer led.Close()
		for _, c := range slices.Backward(slices.Clone(led.Changes())) {
			if t != nil && c.Status == change.Planned {
				t.Errorf("change %d is open: %+v", c.ID, c.Settlement)
			}
			if !c.Stands() || err != nil {
				continue
			}
			var undo change.Change
			if undo, err = led.PlanUndo(c.ID, ledger.Undoing{At: at, By: "test"}); err == nil {
				_, err = led.CarryOut(undo)
			}
		}
	}
	if err != nil && t != nil {
		t.Fatal(err)
	}
}

// TestRandomDecisions makes and takes back random decisions on the demo's
// machine in any order.
func TestRandomDecisions(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	for seed := range ring.Pick[uint64](1, 1, 3) {
		rng := rand.New(rand.NewPCG(seed, 5))
		dir := filepath.Join(t.TempDir(), "gnomon")
		if err := demo.MakeWindows(dir, now); err != nil {
			t.Fatal(err)
		}
		r := opened(t, dir)
		before := windowstest.Registry(t, dir)
		var standing []int64
		decided := 0
		back := func(i int) {
			now = now.Add(time.Second)
			turnAll(t, r, now, standing[i])
			standing = slices.Delete(standing, i, i+1)
		}
		for range ring.Pick(40, 100, 150) {
			if len(standing) > 0 && rng.IntN(3) == 0 {
				back(rng.IntN(len(standing)))
				continue
			}
			now = now.Add(time.Second)
			v := windows.Family{}.Open(r).Survey(family.Options{Now: now})
			all := v.Found().Items
			to := []item.State{item.Off, item.On, item.Delayed}[rng.IntN(3)]
			picked := []item.Item{all[rng.IntN(len(all))], all[rng.IntN(len(all))]}
			edits, err := turned(r, v, to, now, picked[:1+rng.IntN(2)]...)
			if err != nil || len(edits) == 0 {
				continue
			}
			led := ledgerOf(t, r, now)
			c, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: now, Edits: edits})
			led.Close()
			if err != nil {
				t.Fatal(err)
			}
			standing, decided = append(standing, c.ID), decided+1
		}
		if decided < ring.Pick(5, 20, 20) {
			t.Errorf("seed %d: only %d decisions were made", seed, decided)
		}
		for len(standing) > 0 {
			back(rng.IntN(len(standing)))
		}
		same(t, dir, before, fmt.Sprintf("seed %d", seed))
	}
}

// TestAnUninstalledServiceIsNoService: a value of a service whose key is gone
// is not given back alone.
func TestAnUninstalledServiceIsNoService(t *testing.T) {
	start := change.Edit{
		Path:   registry.Scheme + `:HKLM\SYSTEM\ControlSet001\Services\Mill\\Start`,
		Before: change.Node{Kind: change.Value, Type: 4, Data: []byte{2, 0, 0, 0}},
		After:  change.Node{Kind: change.Value, Type: 4, Data: []byte{4, 0, 0, 0}},
	}
	list := start
	list.Path = registry.Scheme + `:HKLM\SOFTWARE\Gone\\a`
	for _, installed := range []bool{true, false} {
		d := windowstest.New()
		if installed {
			d.Service("Mill", windowstest.Auto(`C:\mill.exe`)...)
		}
		r, err := machine.Open(d.Make(t))
		if err != nil {
			t.Fatal(err)
		}
		windows.Family{}.Open(r)
		if err := r.Reach(start); (err == nil) != installed ||
			err != nil && !strings.Contains(err.Error(), "half a service") {
			t.Errorf("installed %v: %v", installed, err)
		}
		if err := r.Reach(list); err != nil {
			t.Errorf("a list may begin anew: %v", err)
		}
		r.Close()
	}
}
