//go:build linux

package cli_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"golang.org/x/sys/unix"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/document/schematest"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/registry"
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
		write.Texted("DisplayName", hive.String, "Penstock pump"))
	d.Service("MarlUpdate", windowstest.Auto(`C:\Program Files\Marl\update.exe`)...)
	d.Service("RpcSs", windowstest.Auto(`%SystemRoot%\System32\spool.dll`)...)
	d.Service("wkdrv", write.Counted("Type", 1), write.Counted("Start", 1))
	d.Run("isolde", "Run").Set(write.Texted("Marl update", hive.String,
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
		"To switch it off:")
	says(t, on+"show wkdrv", 0, "It cannot be switched off: it is a driver")
	says(t, on+"show penstock", 0, "Maker       unknown", "the machine remembers no boot")
	says(t, on+"conditions", 0, "free disk space", "memory", "not hibernated")
	says(t, on+"boots", 0, "The machine remembers no boot")
	says(t, on+"propose", 0, "service:MarlUpdate")
	says(t, on+"report "+filepath.Join(t.TempDir(), "r.html"), 0, "The report stands in")
	says(t, on+"disable RpcSs", 1, "is protected: the operating system cannot run without it")
	says(t, on+"delay --yes --by 5m penstock", 1, "none at another time")
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
	for _, words := range []string{"", "list"} { // before anything is planned, with the way out
		out := says(t, on+words, 0, "Nothing can be changed on this disk now: it is hibernated",
			"hold Shift and choose Shut down", "shutdown /s /t 0", "Or choose Restart",
			"calmdawn does not do that")
		if strings.Index(out, "hold Shift") > strings.Index(out, "Next:") {
			t.Errorf("it is told too late:\n%s", out)
		}
	}
	says(t, on+"conditions", 0, "hibernated")
	plan := says(t, on+"disable --yes penstock", 1)
	if at := strings.Index(plan, "hold Shift"); at < 0 || at > strings.Index(plan, "Switching") {
		t.Errorf("it is not told before the plan:\n%s", plan)
	}
	for _, words := range []string{"list --save", "drift --keep", "disable --yes penstock"} {
		out, errs, code := call(t, on+words)
		if code == 0 || !strings.Contains(strings.Join(strings.Fields(errs), " "),
			"nothing is written to this disk, not even the casebook") {
			t.Errorf("%s: %d %s%s", words, code, out, errs)
		}
	}
	elsewhere := "--casebook " + filepath.Join(t.TempDir(), "c.db") + " "
	says(t, on+elsewhere+"list --save", 0, "Penstock pump")
	says(t, on+elsewhere+"disable --yes penstock", 1, "nothing is written to this disk")
	if d := testtree.Diff(before, testtree.Snapshot(t, dir, nil)); d != "" {
		t.Errorf("the disk is another one:\n%.500s", d)
	}
}

// TestDecisionsOnAWindowsDisk makes decisions of every kind, with somebody else
// at work in between, and takes them back.
func TestDecisionsOnAWindowsDisk(t *testing.T) {
	dir := windowsMachine(t, func(d *windowstest.Disk) {
		d.Service("Ferry", windowstest.Auto(`C:\Program Files\Marl\sync.exe`)...).Set(
			write.Listed("DependOnService", "Penstock"))
		d.Service("Held", windowstest.Auto(`C:\Program Files\Marl\sync.exe`)...).Set(
			write.Counted("LaunchProtected", 1))
		d.Service("Sleeper", write.Counted("Type", 0x10), write.Counted("Start", 4),
			write.Texted("ImagePath", hive.Expand, `C:\Program Files\Marl\sync.exe`))
	})
	before := windowstest.Registry(t, dir)
	on := "--root " + dir + " "
	const start = `ControlSet001\Services\Penstock\\Start`
	const tray = `Explorer\StartupApproved\Run\\Marl update`
	foreign := func(file, key, name string, kind hive.Type, data ...byte) {
		t.Helper()
		windowstest.Write(t, dir+"/"+file, key, name, kind, data)
	}
	says(t, on+"disable --yes Held", 1, "insisting does not help")
	says(t, on+"disable --yes Held --insist", 1, "insisting does not help")
	says(t, on+"delay --yes Penstock", 1, "service:Ferry needs it")
	says(t, on+"disable --yes Penstock", 0, "Mind: Penstock is needed by service:Ferry",
		start+" (dword:00000002 → dword:00000004)")
	says(t, on+"show Ferry", 0, "it needs Penstock, which is off")
	says(t, on+"disable --yes MarlUpdate", 0, "the same program is launched by program:run/Marl-",
		"--and-twins")
	says(t, on+"enable --yes Sleeper", 0, "dword:00000004 → dword:00000002")
	says(t, on+"undo 1-3 --yes", 0)
	says(t, on+"disable --yes MarlUpdate --and-twins", 0, "Switching off 2 items", tray)
	says(t, on+"show program:run/Marl-update@isolde#86ad", 0, "isolde switched it off on")
	// Windows itself switches the entry on again: no conflict, and it stays
	const software = `Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run`
	foreign("Users/isolde/NTUSER.DAT", software, "Marl update", hive.Binary, 2, 0, 0, 0, 0, 0, 0, 0,
		0, 0, 0, 0)
	says(t, on+"undo last --yes", 0, "leaves", "it was put back already", "is taken back")
	values, _ := windowstest.Differing(before, windowstest.Registry(t, dir))
	if len(values) == 0 || !strings.HasSuffix(values[len(values)-1], tray) {
		t.Errorf("what Windows wrote is gone: %q", values)
	}
	// what somebody else set is a conflict
	says(t, on+"disable --yes Penstock", 0)
	foreign("Windows/System32/config/SYSTEM", `ControlSet001\Services\Penstock`, "Start",
		hive.DWord, 3, 0, 0, 0)
	says(t, on+"undo last --yes", 1, "expected dword:00000004, found dword:00000003")
	// another control set is the next boot's
	foreign("Windows/System32/config/SYSTEM", "Select", "Default", hive.DWord, 2, 0, 0, 0)
	says(t, on+"undo last --yes --overwrite", 0, start, "The next boot uses ControlSet002")
}

// TestWhatKeepsAWindowsDiskFromChanges are states of one in which nothing is
// written to it, or not to the hive.
func TestWhatKeepsAWindowsDiskFromChanges(t *testing.T) {
	const system = "/Windows/System32/config/SYSTEM"
	for want, spoil := range map[string]func(data []byte){
		"was not written to its end": func(data []byte) { data[4]++ },
		"a transaction is open":      func(data []byte) { data[144] |= 1 },
		"is damaged":                 func(data []byte) { data[4096+32] = 1 },
	} {
		dir := windowsMachine(t, nil)
		data, err := os.ReadFile(dir + system)
		must(t, err)
		spoil(data)
		windowstest.Seal(data)
		must(t, os.WriteFile(dir+system, data, 0o600))
		says(t, "--root "+dir+" disable --yes Penstock", 1, want)
		says(t, "--root "+dir+" disable --yes program:run/Marl*", 0, "Done, as change 1")
		now, err := os.ReadFile(dir + system)
		if err != nil || string(now) != string(data) {
			t.Errorf("%s: the hive was written to", want)
		}
	}
	// what could not be read when a survey was kept is not simply new later
	dir := windowsMachine(t, nil)
	whole, err := os.ReadFile(dir + system)
	must(t, err)
	must(t, os.WriteFile(dir+system, []byte("no hive"), 0o600))
	says(t, "--root "+dir+" drift --keep", 0)
	must(t, os.WriteFile(dir+system, whole, 0o600))
	says(t, "--root "+dir+" drift", 3, "may have stood in what was not read then")
	dir = windowsMachine(t, func(d *windowstest.Disk) {
		d.System.At("Setup").Set(write.Counted("SetupType", 2))
	})
	says(t, "--root "+dir+" disable --yes Penstock", 1, "an upgrade, or the first set-up")
	dir = windowsMachine(t, func(d *windowstest.Disk) {
		d.Files["Windows/WinSxS/pending.xml"] = ""
		d.Software.At(`Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-3-1001`).Set(
			write.Texted("CentralProfile", hive.String, `\\vault\profiles\isolde`))
	})
	says(t, "--root "+dir+" list", 0, "updates wait to be put in", `\\vault\profiles\isolde`)
	says(t, "--root "+dir+" disable --yes program:run/Marl* Penstock", 0, "Updates wait",
		"A server keeps the profile isolde too")
	// before Windows 8 nothing notes what is off: the entry goes and comes back
	dir = windowsMachine(t, func(d *windowstest.Disk) {
		d.Software.At(`Microsoft\Windows NT\CurrentVersion`).Set(
			write.Texted("CurrentVersion", hive.String, "6.1"))
		d.Files["ProgramData/Microsoft/Windows/Start Menu/Programs/Startup/tide.cmd"] = "echo\r\n"
	})
	before := windowstest.Registry(t, dir)
	snapshot := func() string {
		return testtree.Snapshot(t, dir+"/ProgramData/Microsoft", nil)
	}
	files := snapshot()
	says(t, "--root "+dir+" disable --yes program:run/Marl* program:startup/tide*", 0,
		"CurrentVersion\\Run\\\\Marl update", "→ absent", "removes")
	says(t, "--root "+dir+" list", 0, "MarlUpdate")
	says(t, "--root "+dir+" undo last --yes", 0)
	values, times := windowstest.Differing(before, windowstest.Registry(t, dir))
	if d := testtree.Diff(files, snapshot()); len(values)+len(times) > 0 || d != "" {
		t.Errorf("differs in %q %q\n%s", values, times, d)
	}
}

// TestTheDiskOfAMachineThatDied has hives that a power cut left behind their
// logs. They are recovered with the first change, and get their bytes back.
func TestTheDiskOfAMachineThatDied(t *testing.T) {
	const config = "/Windows/System32/config/"
	const penstock = `ControlSet001\Services\Penstock`
	dir := windowsMachine(t, nil)
	on, system := "--root "+dir+" ", dir+config+"SYSTEM"
	rng := rand.New(rand.NewPCG(44, 1))
	died := func() []byte {
		return windowstest.Kill(t, rng, system, penstock, "Description", hive.String,
			[]byte("p\x00u\x00m\x00p\x00\x00\x00"))
	}
	read := func(end string) string {
		data, err := os.ReadFile(system + end)
		must(t, err)
		return string(data)
	}
	logs := func() string { return read(".LOG1") + read(".LOG2") }
	killed := string(died())
	logged := logs()
	says(t, on+"list", 0, "newer changes")
	says(t, on+"disable --yes Penstock", 0, "First, as a change of its own:",
		"/Windows/System32/config/SYSTEM (not written to its end → whole)", "Where it still starts",
		"Done, as change 2.", "Before it, as change 1, a file was brought to its newest state.")
	says(t, on+"list --all", 0, "Penstock")
	says(t, on+"history", 0, "recover /Windows/System32/config/SYSTEM")
	says(t, on+"undo 1 --yes", 1, "change 2 stands in /Windows/System32/config/SYSTEM; take that "+
		"back first")
	says(t, on+"disable --yes MarlUpdate program:run/Marl*", 0, "Done, as change 3.")
	says(t, on+"undo 2 --yes", 0)
	says(t, on+"undo --all --yes", 0, "newest state of /Windows/System32/config/SYSTEM",
		"2 changes are taken back")
	if read("") != killed || logs() != logged {
		t.Error("the file does not have its bytes back")
	}
	// what Windows wrote since stays, and holds nothing up
	says(t, on+"disable --yes Penstock", 0, "Before it, as change 7")
	windowstest.Write(t, system, "Select", "LastKnownGood", hive.DWord, []byte{3, 0, 0, 0})
	says(t, on+"undo 7 --yes", 1, "was written since by Windows or somebody else")
	says(t, on+"undo 7 --yes --overwrite", 1, "was written since by Windows or somebody else")
	says(t, on+"undo --all --yes", 0, "Change 7, a file brought to its newest state, stays",
		"Change 8 is taken back")
	says(t, on+"undo --all --yes", 0, "stays", "Nothing to do.")
	// it died once more: the undo of a change needs the newest state
	says(t, on+"disable --yes Penstock", 0, "Done, as change 10")
	died()
	says(t, on+"undo 10 --yes", 0, "First, as a change of its own", "Before it, as change 11")
	says(t, on+"undo 11 --yes", 1, "what change 12 took back would be in force again")
	says(t, on+"undo --all --yes", 0, "Change 11, a file", "Nothing to do.")
	if found := says(t, on+"list --json", 0); !strings.Contains(found, `"service:Penstock"`) {
		t.Errorf("the list has no Penstock: %s", found)
	}
	// a change that cannot be made leaves the file as it was
	dir = windowsMachine(t, nil)
	on, system = "--root "+dir+" ", dir+config+"SYSTEM"
	killed = string(died())
	torn := []byte(read(".LOG2") + read(".LOG1"))
	torn[len(torn)-1] ^= 1
	must(t, os.WriteFile(system+".LOG1", torn[:512], 0o600))
	must(t, os.WriteFile(system+".LOG2", torn, 0o600))
	says(t, on+"disable --yes Penstock", 1, "was not written to its end, and ",
		"Windows has to be started once")
	if read("") != killed {
		t.Error("a file whose logs are torn was written to")
	}
}

// TestTheWindowsDemo reads the shop's till, which has every kind of item.
func TestTheWindowsDemo(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := filepath.Join(t.TempDir(), "gnomon")
	says(t, "demo --keep "+dir+" --family windows", 0, "The demo machine stands in")
	says(t, "demo --keep "+dir+" --family windows", 1, "is not empty")
	says(t, "demo --family windows", 0, "Change 1 is taken back", "6 boots, on trial until")
	says(t, "demo --family other", 2, "--family takes linux or windows")
	on := "--root " + dir + " "
	out := says(t, on+"list --all", 0, "Palisade virus protection", "operating system")
	lines := strings.Count(out, "\n")
	if lines < 128 || strings.Contains(out, "Not the whole list") {
		t.Errorf("%d lines:\n%s", lines, out)
	}
	for id, want := range map[string][]string{
		"CueUpdate":            {"delayed", "can go", "task:Pellin/Cue-update-check"},
		"PalisadeGuard":        {"Protected", "it protects the machine", "Palisade Watch"},
		"WinDefend":            {"the running system itself refuses", "operating system"},
		"HallowayRing":         {"broken", "clean up"},
		"CardGate":             {"Brightwell Cards"},
		"Lanternfile@ivo":      {"ivo switched it off on 14 Sep 2026"},
		"task:Mastwerk/Report": {"It is off: it is disabled"},
	} {
		says(t, on+"show "+id, 0, want...)
	}
	says(t, on+"conditions", 0, "balanced", "fast start-up")
	// its boots, before and after
	says(t, on+"boots", 0, "Usable after", "login of nora", "without", "simulated")
	says(t, on+"boots --spans", 0, "services", "▲ ready", "the login of nora", "Nobody wrote down")
	says(t, on+"show program:run/Lanternfile@nora", 0, "moderate", "Noted slow",
		"in 4 of 4 logins")
	says(t, on+"show LoanDesk", 0, "writes down nothing of it", "Noted slow")
	says(t, on+"forecast LoanDesk", 0, "No forecast for service:LoanDesk")
	says(t, on+"forecast program:run/Lanternfile@nora program:run/Pellin-Till@nora#d0cd", 0,
		"usable (login of nora) after", "at least", "lower bound")
	says(t, on+"disable --yes program:run/Lanternfile@nora program:run/Pellin-Till@nora#d0cd", 0,
		"Forecast: usable (login of nora)")
	says(t, "demo reboot "+dir+" --times 6", 0, "simulated: usable after")
	says(t, on+"compare", 0, "Usable (login of nora) is faster by", "services", "simulated",
		"As it came out")
	says(t, on+"report "+filepath.Join(t.TempDir(), "r.html"), 0, "The report stands in")
	says(t, on+"undo --all --yes", 0)
	for words, schema := range map[string]string{
		"boots --json --spans": "boots-1", "compare --json": "compare-1",
		"history --json": "history-1", "disable --yes --json program:run/Humdrift@ivo": "change-1",
		"show program:run/Lanternfile@nora --json": "item-1",
	} {
		out, errs, _ := call(t, on+words)
		if out == "" {
			t.Errorf("%s: %s", words, errs)
		}
		schematest.Check(t, schema, []byte(out))
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
		"etc":      {map[string]string{"etc/x": ""}, "nothing else of a Linux machine"},
		"a Mac": {map[string]string{
			"System/Library/CoreServices/x": "", "Library/x": "", "private/etc/fstab": "",
			"etc": "-> private/etc",
		}, "the disk of a Mac, which is not read yet"},
		"two at once": {map[string]string{
			"etc/fstab": "", "Windows/System32/config/SYSTEM": "regf",
		}, "more than one machine: Linux, by /etc/fstab; Windows, by /Windows/System32/config"},
		"a subvolume": {map[string]string{"@/etc/os-release": ""}, "mount -o subvol=@ DEVICE"},
	} {
		t.Run(name, func(t *testing.T) {
			says(t, "--root "+testtree.Make(t, c.files)+" list", 1, c.says)
		})
	}
	dir := windowsMachine(t, nil)
	on := "--root " + dir + " "
	says(t, on+"drift --keep", 0)
	must(t, os.WriteFile(dir+"/Windows/System32/config/SYSTEM", []byte("not a hive"), 0o600))
	says(t, on+"drift", 3, "What is called gone may stand in what was not read.")
	says(t, on+"list", 0, "Not the whole list", "is not a readable registry",
		"program:run/")
	says(t, on+"conditions", 0, "updates waiting  not known")
	must(t, os.WriteFile(dir+"/Windows/System32/config/SOFTWARE", nil, 0o600))
	must(t, os.RemoveAll(dir+"/Users"))
	says(t, on+"list", 0, "Nothing was found that", "Not the whole list", "SOFTWARE")
	out := says(t, strings.TrimSpace(on), 0, "0 things")
	if strings.Contains(out, "nothing was added") {
		t.Errorf("it could not read, and says: %s", out)
	}
}

// TestARealNTFSVolume has the demo's Windows machine on one, mounted by FUSE.
// The survey is that of the plain folder, junctions and names in other case
// among it. Mounted read-only, or hibernated, it is only read.
func TestARealNTFSVolume(t *testing.T) {
	tmp := t.TempDir()
	plain, volume := tmp+"/plain", tmp+"/volume"
	says(t, "demo --keep "+plain+" --family windows", 0)
	must(t, os.Rename(plain+"/Windows/System32", plain+"/Windows/system32"))
	do := func(words ...string) {
		t.Helper()
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%q: %v %s", words, err, out)
		}
	}
	must(t, os.Mkdir(volume, 0o755))
	image := windowstest.Mount(t, volume, 40)
	do("cp", "-r", plain+"/.", volume)
	survey := func(dir string) string {
		t.Helper()
		out := says(t, "--root "+dir+" list --all --csv", 0, "CueUpdate")
		return strings.ReplaceAll(out, "/People/", "/Users/")
	}
	want := survey(plain)
	if got := survey(volume); got != want {
		t.Errorf("on the volume another list:\n%s", testtree.Diff(want, got))
	}
	// a profile moved away, with a junction in its place
	must(t, os.Rename(volume+"/Users", volume+"/People"))
	must(t, os.Mkdir(volume+"/Users", 0o755))
	junction(t, volume+"/Users", `C:\People`)
	if got := survey(volume); got != want {
		t.Errorf("through a junction another list:\n%s", testtree.Diff(want, got))
	}
	// a driver that names nobody is the system's if its installer owns it
	driver := volume + "/Windows/system32/drivers/basicdisplay.sys"
	built, err := os.ReadFile(driver)
	must(t, err)
	must(t, os.Truncate(driver, 0))
	for _, last := range []uint32{0, 2271478464, 0} {
		owned(t, driver, 80, 956008885, 3418522649, 1831038044, 1853292631, last)
		_, line, found := strings.Cut(survey(volume), "\nservice:BasicDisplay,")
		line, _, _ = strings.Cut(line, "\n")
		if !found || strings.Contains(line, ",operating system,") != (last != 0) {
			t.Errorf("owner that ends in %d: %s", last, line)
		}
	}
	must(t, os.WriteFile(driver, built, 0o600))
	do("umount", volume)
	do("ntfs-3g", "-o", "ro", image, volume)
	if got := survey(volume); got != want {
		t.Errorf("read-only another list:\n%s", testtree.Diff(want, got))
	}
	out, errs, code := call(t, "--root "+volume+" drift --keep")
	if code != 1 || !strings.Contains(errs, "read-only") {
		t.Errorf("%d %s%s", code, out, errs)
	}
}

// TestRescueFromOutside has a machine that no longer starts get its values back
// as its recovery console would. A foreign reader imports the files into its
// hives. Nothing of them is left once the changes are taken back.
func TestRescueFromOutside(t *testing.T) {
	ring.Needs(t, ring.Middle)
	if _, err := exec.LookPath("hivexregedit"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("hivexregedit (libwin-hivex-perl) is missing")
		}
		t.Skip("hivexregedit (libwin-hivex-perl) is not installed")
	}
	dir := t.TempDir() + "/x"
	says(t, "demo --keep "+dir+" --family windows", 0)
	before := windowstest.Registry(t, dir)
	on := "--root " + dir + " "
	says(t, on+"disable --yes Handrail program:run/Lanternfile@nora", 0, "Done, as change 1")
	says(t, on+"delay --yes LoanDesk", 0, "Done, as change 2")
	home := dir + "/ProgramData/calmdawn/"
	how, err := os.ReadFile(home + machine.RescueText)
	must(t, err)
	lines := strings.Split(strings.TrimPrefix(string(how), "\uFEFF"), "\r\n")
	for i, line := range lines {
		if line == "calmdawn --root FOLDER undo --all" && i > 6 ||
			!strings.Contains(line, `D:\`) && len(line) > 60 {
			t.Errorf("line %d is no telephone's: %q", i, line)
		}
	}
	imports := 0
	for i, line := range lines {
		hive, ok := strings.CutPrefix(line, `reg load HKLM\OFF "D:`)
		if !ok {
			continue
		}
		imports++
		file, ok := strings.CutPrefix(lines[i+1], `reg import "D:`)
		if !ok || lines[i+2] != `reg unload HKLM\OFF` {
			t.Fatalf("after %s: %q", line, lines[i+1:i+3])
		}
		here := func(p string) string {
			return dir + strings.ReplaceAll(strings.TrimSuffix(p, `"`), `\`, "/")
		}
		raw, err := os.ReadFile(here(file))
		must(t, err)
		units := make([]uint16, len(raw)/2-1)
		must(t, binary.Read(bytes.NewReader(raw[2:]), binary.LittleEndian, units))
		plain := t.TempDir() + "/plain.reg" // this reader takes no UTF-16
		must(t, os.WriteFile(plain, []byte(string(utf16.Decode(units))), 0o600))
		out, err := exec.Command("hivexregedit", "--merge", "--prefix", `HKEY_LOCAL_MACHINE\OFF`,
			here(hive), plain).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v %s", file, err, out)
		}
	}
	if values, _ := windowstest.Differing(before, windowstest.Registry(t, dir)); imports < 2 ||
		len(values) > 0 {
		t.Errorf("%d imports, and these differ: %q", imports, values)
	}
	says(t, on+"undo --all --yes", 0)
	if left, _ := filepath.Glob(home + machine.RescueFile + "*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	book := t.TempDir() + "/book.db"
	says(t, on+"--casebook "+book+" disable --yes Handrail", 0)
	how, err = os.ReadFile(book + "." + machine.RescueText)
	must(t, err)
	for _, want := range []string{"--casebook FILE undo --all", `reg import "E:\book.db.rescue-`,
		"E: below is the stick"} {
		if !strings.Contains(string(how), want) {
			t.Errorf("without %q:\n%s", want, how)
		}
	}
	says(t, on+"--casebook "+book+" undo --all --yes", 0)
	if left, _ := filepath.Glob(book + "." + machine.RescueFile + "*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestARoundOnNTFS decides on a real volume, and takes all back. Hives keep
// their identity and descriptor, files of ours get one of their own. On a full
// volume a change is made whole or not at all.
func TestARoundOnNTFS(t *testing.T) {
	volume := t.TempDir()
	windowstest.Mount(t, volume, 24)
	says(t, "demo --keep "+volume+"/x --family windows", 0)
	move := exec.Command("sh", "-c", "mv "+volume+"/x/* "+volume)
	if out, err := move.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	software := volume + "/Windows/System32/config/SOFTWARE"
	owned(t, software, 18)
	attribute := func(file string) string {
		t.Helper()
		raw := make([]byte, 1000)
		n, err := unix.Getxattr(file, registry.Descriptor, raw)
		must(t, err)
		return string(raw[:n])
	}
	identity := func() string {
		t.Helper()
		var st unix.Stat_t
		must(t, unix.Stat(software, &st))
		return fmt.Sprint(st.Ino, st.Nlink, attribute(software))
	}
	before, was := windowstest.Registry(t, volume), identity()
	on := "--root " + volume + " "
	const some = "Handrail program:run/Handrail-Panel#4ab3 program:run/Lanternfile@nora"
	says(t, on+"disable --yes "+some, 0, "Done, as change 1", `dword:00000002 → dword:00000004`)
	says(t, on+"history 1", 0, "ControlSet001", "in force")
	says(t, on+"list --state off", 0, "change 1")
	home := volume + "/ProgramData/calmdawn"
	guide, err := os.ReadFile(home + "/how-to-take-back.txt")
	must(t, err)
	if text := string(guide); !strings.HasPrefix(text, "\uFEFFHow to") ||
		strings.Count(text, "\n") != strings.Count(text, "\r\n") ||
		!strings.Contains(text, "dword:00000002 again; the change made it dword:00000004") {
		t.Errorf("the guide: %q", text)
	}
	for _, name := range []string{
		"", "/casebook.db", "/how-to-take-back.txt", "/take-back.reg", "/" + machine.RescueText,
	} {
		if attribute(home+name) != string(registry.Private(name == "")) {
			t.Errorf("others may have %s", home+name)
		}
	}
	says(t, on+"delay --yes LoanDesk --trial 14d", 0, "Done, as change 2")
	says(t, on+"trial", 0, "on trial, 14 days left")
	says(t, on+"undo --all --yes", 0)
	if values, times := windowstest.Differing(before, windowstest.Registry(t, volume)); len(
		values)+len(times) > 0 || identity() != was {
		t.Errorf("differs in %q %q, %q was %q", values, times, identity(), was)
	}
	fill(t, volume)
	for _, book := range []string{"", "--casebook " + t.TempDir() + "/book.db "} {
		const all = "disable --yes --insist program:run/Palisade program:run*"
		out, errs, code := call(t, on+book+all)
		if values, _ := windowstest.Differing(before, windowstest.Registry(t, volume)); code != 1 ||
			len(values) > 0 || !strings.Contains(errs, "space") && !strings.Contains(errs, "full") {
			t.Errorf("%s on a full volume: %d %s%s, differs in %q", book, code, out, errs, values)
		}
	}
	must(t, os.Remove(volume+"/filler"))
	says(t, on+"disable --yes "+some, 0, "Done")
	says(t, on+"undo last --yes", 0)
	if values, times := windowstest.Differing(before, windowstest.Registry(t, volume)); len(
		values)+len(times) > 0 {
		t.Errorf("at the end differs in %q %q", values, times)
	}
}

// fill leaves no room on a volume.
func fill(t *testing.T, volume string) {
	t.Helper()
	f, err := os.Create(volume + "/filler")
	must(t, err)
	defer f.Close()
	for _, size := range []int{1 << 20, 64 << 10, 4096, 512} {
		for err = nil; err == nil; {
			_, err = f.Write(make([]byte, size))
		}
	}
	must(t, f.Sync())
}

// owned gives a file the owner S-1-5-…, as the file system keeps one.
func owned(t *testing.T, file string, parts ...uint32) {
	t.Helper()
	sid := []byte{1, byte(len(parts)), 0, 0, 0, 0, 0, 5}
	for _, part := range parts {
		sid = binary.LittleEndian.AppendUint32(sid, part)
	}
	raw := binary.LittleEndian.AppendUint32(nil, 1|0x80040000) // DACL, self-relative
	for _, at := range []int{20, 20 + len(sid), 0, 20 + 2*len(sid)} {
		raw = binary.LittleEndian.AppendUint32(raw, uint32(at))
	}
	everyone := []byte{1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0}
	rule := append([]byte{0, 0, 20, 0, 0xff, 1, 0x1f, 0}, everyone...)
	list := append([]byte{2, 0, byte(8 + len(rule)), 0, 1, 0, 0, 0}, rule...)
	raw = append(append(append(raw, sid...), sid...), list...)
	must(t, unix.Setxattr(file, "system.ntfs_acl", raw, 0))
}

// junction makes a folder a junction, as the file system keeps one.
func junction(t *testing.T, dir, target string) {
	t.Helper()
	wide := func(text string) (raw []byte) {
		for _, u := range utf16.Encode([]rune(text)) {
			raw = binary.LittleEndian.AppendUint16(raw, u)
		}
		return raw
	}
	inside, shown := wide(`\??\`+target), wide(target)
	names := append(append(append(inside, 0, 0), shown...), 0, 0)
	raw := binary.LittleEndian.AppendUint32(nil, 0xA0000003)
	raw = binary.LittleEndian.AppendUint16(raw, uint16(8+len(names)))
	for _, n := range []int{0, 0, len(inside), len(inside) + 2, len(shown)} {
		raw = binary.LittleEndian.AppendUint16(raw, uint16(n))
	}
	must(t, unix.Setxattr(dir, "system.ntfs_reparse_data", append(raw, names...), 0))
}

// TestAProfileThatComesAndGoes takes a change back of which a part is in a
// profile whose hive is away.
func TestAProfileThatComesAndGoes(t *testing.T) {
	dir := windowsMachine(t, nil)
	on, user := "--root "+dir+" ", "program:run/Marl-update@isolde"
	says(t, on+"disable Penstock "+user+" --yes", 0, "Done, as change 1")
	says(t, on+"show "+user, 0, "It is off")
	file, aside := dir+"/Users/isolde/NTUSER.DAT", t.TempDir()+"/NTUSER.DAT"
	must(t, os.Rename(file, aside))
	const away = "has no hive on this disk"
	says(t, on+"undo 1 --yes", 1, "change 1 is taken back but for", away, "undo 1 --leave")
	says(t, on+"show Penstock", 0, "It is on")
	for _, words := range []string{"undo --all --yes", "undo 1 --overwrite --yes"} {
		if text := says(t, on+words, 1, away); strings.Contains(text, "put back already") {
			t.Errorf("calmdawn %s took what is away for done:\n%s", words, text)
		}
	}
	must(t, os.Rename(aside, file))
	says(t, on+"undo --all --yes", 0)
	says(t, on+"show "+user, 0, "It is on")
	says(t, on+"history", 0, "undone by 2")
}

// TestCompressedSystemFiles has a volume whose system files are compressed
// behind a mark that the driver does not read. Nothing of the system is taken
// for gone, or for what can go.
func TestCompressedSystemFiles(t *testing.T) {
	volume := t.TempDir()
	windowstest.Mount(t, volume, 24)
	says(t, "demo --keep "+volume+"/x --family windows", 0)
	if out, err := exec.Command("sh", "-c", "mv "+volume+"/x/* "+volume).CombinedOutput(); err !=
		nil {
		t.Fatalf("%v %s", err, out)
	}
	// [MS-FSCC] 2.1.2: the tag, the size of what follows, and that the filter
	// of compressed files keeps it
	mark := []byte{0x17, 0, 0, 0x80, 16, 0, 0, 0, 1, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0}
	marked := 0
	must(t, filepath.WalkDir(volume+"/Windows", func(p string, e fs.DirEntry, err error) error {
		end := strings.ToLower(filepath.Ext(p))
		if err != nil || !e.Type().IsRegular() || !slices.Contains([]string{".exe", ".dll", ".sys"},
			end) {
			return err
		}
		marked++
		return unix.Setxattr(p, "system.ntfs_reparse_data", mark, 0)
	}))
	on := "--root " + volume + " "
	const why = "it is compressed in the newer way"
	says(t, on+"show RpcSs", 0, "It is on", "Protected", why)
	says(t, on+"disable service:RpcSs service:LSM --yes", 1, "is protected")
	for _, words := range []string{"", "list"} {
		says(t, on+words, 0, "programs that are launched cannot be read", why)
	}
	var list struct {
		Items []struct{ ID, State, Why, Opaque string }
	}
	out, _, _ := call(t, on+"list --all --json")
	must(t, json.Unmarshal([]byte(out), &list))
	schematest.Check(t, "list-1", []byte(out))
	one, _, _ := call(t, on+"show RpcSs --json")
	schematest.Check(t, "item-1", []byte(one))
	opaque := 0
	for _, it := range list.Items {
		if it.State == "broken" && strings.Contains(strings.ToLower(it.Why), `\windows\`) {
			t.Errorf("%s is broken: %s", it.ID, it.Why)
		}
		if it.Opaque != "" {
			opaque++
		}
	}
	if marked < 10 || opaque < 10 {
		t.Errorf("of %d compressed programs %d items tell", marked, opaque)
	}
}
