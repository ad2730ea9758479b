//go:build linux

package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"calmdawn/internal/document/schematest"
	"calmdawn/internal/testtree"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/windowstest"
)

// windowsMachine is a disk of a Windows machine with a few programs.
func windowsMachine(t *testing.T, change func(*windowstest.Disk)) string {
	t.Helper()
	d := windowstest.New()
	for _, p := range []string{
		"Program Files/Penstock/pump.exe", "Program Files/Marl/sync.exe",
		"Program Files/Marl/update.exe", "Windows/System32/spool.dll",
	} {
		d.Files[p] = ""
	}
	d.Service("Penstock", windowstest.Auto(`"C:\Program Files\Penstock\pump.exe" -run`)...).Set(
		hive.Texted("DisplayName", hive.String, "Penstock pump"))
	d.Service("MarlUpdate", windowstest.Auto(`C:\Program Files\Marl\update.exe`)...)
	d.Service("RpcSs", windowstest.Auto(`%SystemRoot%\System32\spool.dll`)...)
	d.Service("wkdrv", hive.Counted("Type", 1), hive.Counted("Start", 1))
	d.Run("isolde", "Run").Set(hive.Texted("Marl update", hive.String,
		`C:\Program Files\Marl\update.exe /user`))
	if change != nil {
		change(d)
	}
	return d.Make(t)
}

// TestAWindowsDisk reads one by every command, and writes nothing to it but
// what is asked for.
func TestAWindowsDisk(t *testing.T) {
	dir := windowsMachine(t, nil)
	before := testtree.Snapshot(t, dir, nil)
	on := "--root " + dir + " "
	says(t, on, 0, "ORCHARD launches", "Next: see all that it launches")
	says(t, on+"list", 0, "Penstock pump", "Besides 1 driver or the like", "isolde")
	says(t, on+"list --all --maker operating", 0, "service:RpcSs", "keep")
	says(t, on+"show MarlUpdate", 0, "can go", "the same program is launched by program:run/Marl-",
		"It cannot be switched off: calmdawn only reads Windows disks so far")
	says(t, on+"show penstock", 0, "Maker       unknown", "none can be so far")
	says(t, on+"conditions", 0, "free disk space", "memory", "not hibernated")
	says(t, on+"boots", 0, "not read from the disks of such machines yet")
	says(t, on+"propose", 0, "service:MarlUpdate", "do = 'disable'")
	says(t, on+"report "+filepath.Join(t.TempDir(), "r.html"), 0, "The report stands in")
	says(t, on+"disable RpcSs", 1, "is protected: the operating system cannot run without it")
	says(t, on+"disable --yes penstock", 1, "only reads Windows disks so far")
	says(t, on+"recorder on", 1, "cannot be recorded yet")
	says(t, on+"history", 0, "No change was made")
	for words, schema := range map[string]string{
		"list --all --json": "list-1", "show penstock --json": "item-1",
		"conditions --json": "conditions-1", "boots --json": "boots-1",
	} {
		out, errs, code := call(t, on+words)
		if code != 0 {
			t.Errorf("%s: %s", words, errs)
		}
		schematest.Check(t, schema, []byte(out))
	}
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Errorf("the disk is another one:\n%.500s", d)
	}
	says(t, on+"drift --keep", 0, "Kept as survey 1 in /ProgramData/calmdawn/casebook.db")
	says(t, on+"drift", 0, "Nothing is different since survey 1")
}

// TestAHibernatedDiskIsNotWrittenTo tries what keeps something.
func TestAHibernatedDiskIsNotWrittenTo(t *testing.T) {
	dir := windowsMachine(t, func(d *windowstest.Disk) { d.Files["hiberfil.sys"] = "HIBR" })
	before := testtree.Snapshot(t, dir, nil)
	on := "--root " + dir + " "
	says(t, on+"list", 0, "Penstock pump")
	says(t, on+"conditions", 0, "hibernated")
	for _, words := range []string{"list --save", "drift --keep", "disable --yes penstock"} {
		out, errs, code := call(t, on+words)
		if code == 0 || !strings.Contains(strings.Join(strings.Fields(errs), " "),
			"nothing is written to this disk, not even the casebook") &&
			!strings.Contains(errs, "only reads") {
			t.Errorf("%s: %d %s%s", words, code, out, errs)
		}
	}
	says(t, on+"--casebook "+filepath.Join(t.TempDir(), "c.db")+" list --save", 0, "Penstock pump")
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Errorf("the disk is another one:\n%.500s", d)
	}
}

func TestFoldersThatAreNoMachine(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		says  string
	}{
		"empty":    {map[string]string{}, "has to be unlocked before"},
		"firmware": {map[string]string{"EFI/x": ""}, "the partition that firmware starts from"},
		"boot":     {map[string]string{"bootmgr": ""}, "only starts another one"},
		"recovery": {map[string]string{"Recovery/x": ""}, "a recovery partition"},
		"half":     {map[string]string{"windows/x": ""}, "has no registry"},
		"photos":   {map[string]string{"photos/x": ""}, "neither a folder etc nor"},
	} {
		t.Run(name, func(t *testing.T) {
			says(t, "--root "+testtree.Make(t, c.files)+" list", 1, c.says)
		})
	}
	dir := windowsMachine(t, nil)
	must(t, os.WriteFile(dir+"/Windows/System32/config/SYSTEM", []byte("not a hive"), 0o600))
	says(t, "--root "+dir+" list", 0, "Not the whole list", "is no registry that can be read")
}
