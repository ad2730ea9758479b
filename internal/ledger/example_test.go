//go:build linux

package ledger_test

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/ledger"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
)

// A change is planned in a draft, carried out, and taken back.
func Example() {
	dir, err := os.MkdirTemp("", "")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	os.MkdirAll(filepath.Join(dir, "etc"), 0o755)
	os.MkdirAll(filepath.Join(dir, "var/lib"), 0o755)
	os.WriteFile(filepath.Join(dir, "etc/motd"), []byte("hello\n"), 0o644)
	show := func() {
		text, err := os.ReadFile(filepath.Join(dir, "etc/motd"))
		fmt.Printf("%q %v\n", text, err == nil)
	}

	root, err := machine.Open(dir)
	if err != nil {
		panic(err)
	}
	root.Home = linux.Family{}.Home()
	defer root.Close()
	now := time.Now()
	led, err := ledger.Open(root, casebook.Inside, now, "maria")
	if err != nil {
		panic(err)
	}
	defer led.Close()

	draft := root.Draft(now)
	if err := draft.Remove("/etc/motd", ""); err != nil {
		panic(err)
	}
	done, err := led.CarryOut(change.Change{
		Verb:   change.Disable,
		MadeAt: now,
		MadeBy: "maria",
		Edits:  draft.Edits(),
	})
	fmt.Println("change", done.ID, err)
	show()

	undo, err := led.PlanUndo(done.ID, ledger.Undoing{At: now, By: "maria"})
	if err == nil {
		undo, err = led.CarryOut(undo)
	}
	fmt.Println("change", undo.ID, "takes back", undo.Undoes, err)
	show()
	// Output:
	// change 1 <nil>
	// "" false
	// change 2 takes back 1 <nil>
	// "hello\n" true
}
