//go:build linux

package cli_test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/document"
	"calmdawn/internal/ring"
)

// TestFortyMachines works out by hand what the demo's machines have to answer,
// see [calmdawn/internal/demo.MakeMany].
func TestFortyMachines(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "houses")
	says(t, "demo workshop --keep "+dir, 0, "Next: calmdawn workshop add")
	says(t, "demo workshop --keep "+dir, 1, "is not empty")
	on := " --workshop " + filepath.Join(dir, "w.db")
	says(t, "workshop"+on, 1, "there is no workshop yet; calmdawn workshop add --workshop "+dir)
	says(t, "workshop add "+dir+on, 0, "68 deliveries", "12 nothing new",
		"0 could not be read") // twelve machines launch the same in June
	says(t, "workshop add "+dir+on, 0, "80 nothing new")
	says(t, "workshop"+on, 0, "40 machines", "336 boots", "16 decisions",
		"calmdawn workshop costs"+on) // what is recommended asks the same workshop
	rows := func(question string) []document.WorkshopRow {
		t.Helper()
		var d document.Workshop
		if err := json.Unmarshal([]byte(says(t, "workshop "+question+on+" --json", 0)),
			&d); err != nil {
			t.Fatal(err)
		}
		return append(d.Rows, d.Suspects...)
	}
	// 24 desks of 3 s and 10 ms for each number, nine of them with 14 s more
	if r := rows("costs")[0]; *r.Sum != 24*3+3+9*14 || *r.Median != 3.21 {
		t.Errorf("the costliest item costs %v, each %v", *r.Sum, *r.Median)
	}
	slower := rows("slower --since 2026-05-04")
	if len(slower) != 9+5+2 || *slower[14].Slower != 9 || *slower[14].Others != 0 ||
		slower[15].Version != "7.2" || *slower[15].OfSlower != 5 {
		t.Errorf("slower: %+v", slower)
	}
	effects := rows("effects")
	// 2.5 to 3.2 s, the lower middle 2.8
	if e := effects[0]; *e.Measured != 8 || *e.Back != 2 || *e.Saved != 2.8 {
		t.Errorf("the updater: %+v", e)
	}
	if e := effects[1]; *e.Measured != 2 || *e.Joint != 3 || e.Saved != nil {
		t.Errorf("the updater of tills: %+v", e)
	}
	if back := rows("returned"); len(back) != 1 || back[0].Machine != "desk-12" {
		t.Errorf("came back: %+v", back)
	}
	if who := rows("who HANDRAIL"); len(who) != 6+4 {
		t.Errorf("%d have it", len(who))
	}
	says(t, "workshop visits"+on, 0, "desk-20", "Simulated: figures of 40 machines")
	says(t, "workshop who nothing-of-the-kind"+on, 0, "No machine of the workshop has such")
	says(t, "workshop visits --csv"+on, 0, "machine,model,items,sum,ready,usable,taken")
	says(t, "workshop visits --csv --json"+on, 2, "choose one")
	says(t, "workshop slower"+on, 2, "takes --since with a day")
	says(t, "workshop forget desk-01"+on, 0, "Forgotten: 1 machine.")
	says(t, "workshop forget desk-01"+on, 1, "nothing was taken out")

	says(t, "workshop add --inbox"+on, 0, "0 deliveries taken in, 0 refused")
	says(t, "workshop add --inbox "+dir+on, 2, "takes nothing else")

	// a casebook never becomes a workshop
	book := filepath.Join(dir, "casebooks", "desk-02.db")
	before, err := os.ReadFile(book)
	must(t, err)
	says(t, "workshop add "+dir+" --workshop "+book, 1, "is no workshop")
	says(t, "workshop --workshop "+filepath.Join(dir, "lists", "desk-02.2026-04-27.json"), 1,
		"is no workshop")
	if after, err := os.ReadFile(book); err != nil || !bytes.Equal(before, after) {
		t.Errorf("the casebook was written to: %v", err)
	}
	if left, _ := filepath.Glob(book + "-*"); len(left) > 0 {
		t.Errorf("%q lie beside the casebook", left)
	}

	// what cannot be read stops nothing else
	bad := filepath.Join(dir, "bad")
	if err := os.Mkdir(bad, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"a.json": "{", "b.db": "SQLite format 3\x00 and no more", "c.json": `{"format":"x/1"}`,
	} {
		if err := os.WriteFile(filepath.Join(bad, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	out := says(t, "workshop add "+dir+on, 1, "a.json", "b.db", "c.json", "3 could not be read",
		"2 deliveries added")
	if strings.Contains(out, "panic") {
		t.Error(out)
	}
}

// TestThisMachineJoinsTheWorkshop adds a disk twice, with a change between.
func TestThisMachineJoinsTheWorkshop(t *testing.T) {
	on := "--root " + demoMachine(t) + " workshop "
	file := " --workshop " + filepath.Join(t.TempDir(), "w.db")
	says(t, on+"add"+file, 0, "meridian: added, as meridian")
	says(t, on+"add"+file, 0, "meridian: nothing new")
	says(t, on+"add --anonymous"+file, 1, "workshop forget meridian --workshop")
	says(t, on+"who lanternfile"+file, 0, "Lanternfile sync", "maria")
	// what became of a change is worked out where compare was never asked
	root := strings.TrimSuffix(on, "workshop ")
	says(t, root+"disable "+star+" --yes", 0)
	says(t, "demo reboot --times 3 "+strings.Fields(on)[1], 0)
	says(t, on+"add"+file, 0, "brought up to date")
	var effects document.Workshop
	must(t, json.Unmarshal([]byte(says(t, on+"effects --json"+file, 0)), &effects))
	if len(effects.Rows) != 1 || *effects.Rows[0].Measured != 1 {
		t.Errorf("effects: %+v", effects)
	}
	says(t, root+"undo last --yes", 0)
	says(t, on+"add"+file, 0, "brought up to date")
	must(t, json.Unmarshal([]byte(says(t, on+"effects --json"+file, 0)), &effects))
	if *effects.Rows[0].Back != 1 {
		t.Errorf("after the undo: %+v", effects)
	}

	other := " --workshop " + filepath.Join(t.TempDir(), "anonymous.db")
	says(t, on+"add --anonymous"+other, 0, "meridian: added, as machine ")
	says(t, on+"add"+other, 0, "nothing new") // it stays without names
	out := says(t, on+"who lanternfile"+other, 0, "user 1")
	if strings.Contains(out, "maria") || strings.Contains(out, "meridian") {
		t.Errorf("people are named:\n%s", out)
	}
}

// TestAKilledLoaderLeavesWholeMachines kills workshop add at several moments.
// What is there is whole, and the next call goes on.
func TestAKilledLoaderLeavesWholeMachines(t *testing.T) {
	ring.Needs(t, ring.Middle)
	program, err := ring.Program()
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "houses")
	says(t, "demo workshop --keep "+dir, 0)
	file := filepath.Join(t.TempDir(), "w.db")
	between := 0 // how often it was stopped amid its work
	for n := range 12 {
		cmd := exec.Command(program, "workshop", "add", dir, "--workshop", file)
		must(t, cmd.Start())
		time.Sleep(time.Duration(20+30*n) * time.Millisecond)
		cmd.Process.Kill() // by SIGKILL, unless it is done
		cmd.Wait()
		db, err := sql.Open("sqlite", "file:"+file)
		must(t, err)
		var machines, bare int
		err = db.QueryRow("SELECT count(*), count(CASE WHEN NOT EXISTS (SELECT 1 FROM launched l "+
			"WHERE l.machine = m.machine) THEN 1 END) FROM machine m").Scan(&machines, &bare)
		must(t, db.Close())
		if err != nil { // it was killed before there were tables
			continue
		}
		if bare > 0 {
			t.Fatalf("%d of %d machines are not whole", bare, machines)
		}
		if machines > 0 && machines < 40 {
			between++
		}
	}
	t.Logf("stopped amid its work %d times", between)
	on := " --workshop " + file
	says(t, "workshop add "+dir+on, 0, "0 could not be read")
	says(t, "workshop"+on, 0, "40 machines", "336 boots", "16 decisions")
}
