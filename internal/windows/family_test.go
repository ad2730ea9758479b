//go:build linux

package windows

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/boots"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

func survey(t *testing.T, d *windowstest.Disk) (item.Survey, *machine.Root) {
	t.Helper()
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	if (Family{}).Fits(r) == "" {
		t.Fatal("it is not recognised")
	}
	return Family{}.Open(r).Survey(family.Options{Now: windowstest.At}).Found(), r
}

func text(name, value string) write.Datum  { return write.Texted(name, hive.String, value) }
func grows(name, value string) write.Datum { return write.Texted(name, hive.Expand, value) }

// approval is what Windows notes of an entry.
func approval(name string, first byte, since time.Time, size int) write.Datum {
	data := make([]byte, 12)
	data[0] = first
	if !since.IsZero() {
		binary.LittleEndian.PutUint64(data[4:], hive.Filetime(since))
	}
	return write.Raw(name, hive.Binary, append(data, make([]byte, 20)...)[:size])
}

// TestServices has a service of every form.
func TestServices(t *testing.T) {
	d := windowstest.New()
	for _, p := range []string{
		"Program Files/Penstock/pump.exe", "Program Files/Penstock/My App/x.exe",
		"Windows/System32/marl.dll", "Windows/System32/drivers/wkdrv.sys",
		"Windows/SysWOW64/narrow.exe", "Program Files/Long Named Folder/long.exe",
		"Program Files/Penstock/My.exe",
	} {
		d.Files[p] = ""
	}
	auto := windowstest.Auto
	d.Service("Penstock", auto(`"C:\Program Files\Penstock\pump.exe" -run`)...).Set(
		text("DisplayName", "Penstock pump"), text("Description", "Pumps."))
	d.Service("Late", auto(`%ProgramFiles%\Penstock\pump.exe`)...).Set(
		write.Counted("DelayedAutostart", 1))
	d.Service("Wk Blank Name", auto(`C:\Program Files\Penstock\My App\x.exe -q`)...)
	d.Service("Gone", auto(`C:\Program Files\Gone\gone.exe`)...)
	d.Service("OtherDisk", auto(`D:\Apps\far.exe`)...)
	d.Service("Off", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Start", 4))
	d.Service("Odd", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Start", 7))
	d.Service("NoStart", write.Counted("Type", 0x10), text("ImagePath", "x"))
	d.Service("NoImage", write.Counted("Type", 0x10), write.Counted("Start", 2))
	d.Service("Short", auto(`system32\marl.dll`)...)
	d.Service("Tilde", auto(`C:\PROGRA~1\LONGNA~1\long.exe`)...)
	d.Service("Narrow", auto(`C:\Windows\System32\narrow.exe`)...).Set(write.Counted("WOW64", 1))
	d.Service("Demand", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Start", 3))
	d.Service("Needed", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Start", 3))
	d.Service("Needs", auto(`C:\Windows\explorer.exe`)...).Set(
		write.Listed("DependOnService", "needed"))
	d.Service("NeedsOff", auto(`C:\Windows\explorer.exe`)...).Set(
		write.Listed("DependOnService", "Off"))
	for a, b := range map[string]string{"RoundA": "RoundB", "RoundB": "RoundA"} {
		d.Service(a, auto(`C:\Windows\explorer.exe`)...).Set(write.Listed("DependOnService", b))
	}
	hosted := `%SystemRoot%\System32\svchost.exe -k marlgroup -p`
	for _, name := range []string{"Hosted", "Unlisted", "NoLibrary"} {
		d.Service(name, auto(hosted)...).At("Parameters").Set(
			grows("ServiceDll", `%SystemRoot%\System32\marl.dll`))
	}
	d.Service("NoLibrary").At("Parameters").Set(grows("ServiceDll", `C:\gone.dll`))
	d.Software.At(`Microsoft\Windows NT\CurrentVersion\Svchost`).Set(
		write.Listed("marlgroup", "hosted", "nolibrary"))
	d.Service("Triggered", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Start", 3)).
		At(`TriggerInfo\0`).Set(write.Counted("Type", 1), write.Counted("Action", 1))
	d.Service("PerUser", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Type", 0x50))
	d.Service("PerUser_1a2b3", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("Type", 0xD0))
	d.Service("Truly_1a2b3", auto(`C:\Windows\explorer.exe`)...)
	d.Service("wkdrv", write.Counted("Type", 1), write.Counted("Start", 1), text("Group", "Video"))
	d.Service("Locked", auto(`C:\Windows\explorer.exe`)...).Set(write.Counted("LaunchProtected", 1))
	d.Service("Counters").At("Performance")
	found, _ := survey(t, d)

	blank := "Wk-Blank-Name#" + naming.Sum("Wk Blank Name", "", 4)
	for id, want := range map[string]string{
		"Penstock":    "on | Penstock pump | /Program Files/Penstock/pump.exe | ",
		"Late":        "delayed | Late | /Program Files/Penstock/pump.exe | two minutes",
		blank:         "on | Wk Blank Name | /Program Files/Penstock/My.exe | ",
		"Gone":        "broken | Gone |  | gone: C:\\Program Files\\Gone\\gone.exe",
		"OtherDisk":   "on | OtherDisk |  | ",
		"Off":         "off | Off | /Windows/explorer.exe | disabled",
		"Odd":         "off | Odd | /Windows/explorer.exe | its start type is 7",
		"NoStart":     "off | NoStart |  | missing",
		"NoImage":     "broken | NoImage |  | it names no program",
		"Short":       "on | Short | /Windows/System32/marl.dll | ",
		"Tilde":       "on | Tilde | /Program Files/Long Named Folder/long.exe | ",
		"Narrow":      "on | Narrow | /Windows/SysWOW64/narrow.exe | ",
		"Demand":      "off | Demand | /Windows/explorer.exe | on demand only",
		"Needed":      "on | Needed | /Windows/explorer.exe | Needs needs it",
		"Needs":       "on | Needs | /Windows/explorer.exe | ",
		"NeedsOff":    "off | NeedsOff | /Windows/explorer.exe | it needs Off, which is off",
		"RoundA":      "off | RoundA | /Windows/explorer.exe | ",
		"Hosted":      "on | Hosted | /Windows/System32/marl.dll | ",
		"Unlisted":    "broken | Unlisted | /Windows/System32/marl.dll | does not list it",
		"NoLibrary":   "broken | NoLibrary |  | gone: C:\\gone.dll",
		"Triggered":   "on | Triggered | /Windows/explorer.exe | ",
		"PerUser":     "on | PerUser | /Windows/explorer.exe | ",
		"Truly_1a2b3": "on | Truly_1a2b3 | /Windows/explorer.exe | ",
		"wkdrv":       "on | wkdrv | /Windows/System32/drivers/wkdrv.sys | ",
	} {
		it, ok := found.Find("service:" + id)
		if !ok {
			t.Errorf("there is no %s", id)
			continue
		}
		parts := strings.SplitN(want, " | ", 4)
		got := fmt.Sprintf("%s | %s | %s | %s", it.State, it.Title, it.Program, it.Why)
		if !strings.HasPrefix(got, strings.Join(parts[:3], " | ")) ||
			!strings.Contains(it.Why, parts[3]) {
			t.Errorf("%s is %s; want %s", id, got, want)
		}
	}
	for _, id := range []string{"PerUser_1a2b3", "Counters"} {
		if _, ok := found.Find("service:" + id); ok {
			t.Errorf("%s is listed", id)
		}
	}
	byID := func(id string) item.Item { it, _ := found.Find("service:" + id); return it }
	if it := byID(blank); len(it.Conditions) != 1 ||
		!strings.Contains(it.Conditions[0], `My App\x.exe as well`) {
		t.Errorf("the other reading of a line without quotes is not told: %q", it.Conditions)
	}
	if it := byID("Needed"); fmt.Sprint(it.Because, it.NeededBy) !=
		"[Needs Needed] [service:Needs]" {
		t.Error(it.Because, it.NeededBy)
	}
	if it := byID("Triggered"); it.When != item.Later || it.Fires != "when a device arrives" {
		t.Errorf("%+v", it)
	}
	if it := byID("wkdrv"); !it.Aside || it.System ||
		fmt.Sprint(it.Traits) != "[group Video driver]" {
		t.Errorf("%+v", it)
	}
	if it := byID("Penstock"); len(it.Twins) != 1 || it.Twins[0] != "service:Late" || it.System {
		t.Errorf("%+v", it)
	}
	if len(found.Unread) > 0 || found.Host != "ORCHARD" || found.OS != "Windows, build 19045" {
		t.Error(found.Unread, found.Host, found.OS)
	}
}

// TestRunLists has an entry of every form, for two users.
func TestRunLists(t *testing.T) {
	d := windowstest.New()
	for _, p := range []string{
		"Apps/a.exe", "Program.exe", "Program Files/My.exe", "Program Files/My App/x.exe",
		"Windows/System32/rundll32.exe", "Windows/System32/cmd.exe", "Apps/lib one.dll",
		"Windows/System32/mark.exe", "Apps/script.vbs", "Windows/System32/wscript.exe",
	} {
		d.Files[p] = ""
	}
	since := time.Date(2026, 5, 3, 10, 0, 0, 0, time.UTC)
	d.Run("", "Run").Set(
		text("Plain", `C:\Apps\a.exe /x`), text("", `C:\Apps\a.exe`),
		text("Gone", `C:\Apps\no.exe`),
		text("Off", `C:\Apps\a.exe`), text("Off and gone", `C:\Apps\no.exe`),
		text("Odd", `C:\Apps\a.exe`), text("On again", `C:\Apps\a.exe`),
		text("Blank", `C:\Program Files\My App\x.exe`), text("Unclosed", `"C:\Apps\a.exe /x`),
		grows("Library", `rundll32 "C:\Apps\lib one.dll",Func arg`),
		text("Shell", `cmd /c start "" /min C:\Apps\a.exe`), text("Search", `mark -q`),
		text("Script", `wscript //B C:\Apps\script.vbs`), text("Registered", "known.exe"),
		text("Far", `D:\far.exe`), text("Unknown", `%NOTHING%\a.exe`),
		text(`with\slash`, `C:\Apps\a.exe`),
		write.Counted("Number", 3),
	)
	d.Software.At(`Microsoft\Windows\CurrentVersion\App Paths\known.exe`).Set(
		text("", `C:\Apps\a.exe`))
	d.Run("", `Explorer\StartupApproved\Run`).Set(
		approval("off", 3, since, 12), approval("Off and gone", 7, time.Time{}, 12),
		approval("Odd", 1, since, 3), approval("On again", 6, since, 12),
		approval("Left over", 3, since, 12))
	d.Software.At(`Wow6432Node\Microsoft\Windows\CurrentVersion\Run`).Set(
		text("Plain", `C:\Apps\a.exe`))
	d.Run("", "RunOnce").Set(text("!Setup", `C:\Apps\a.exe`))
	d.Run("", `Policies\Explorer\Run`).Set(text("1", `C:\Apps\a.exe`))
	for _, user := range []string{"isolde", "branko"} {
		d.Run(user, "Run").Set(text("Plain", `C:\Apps\a.exe`))
	}
	d.Run("isolde", `Explorer\StartupApproved\Run`).Set(approval("Plain", 3, since, 12))
	d.Run("branko", `Policies\Explorer`).Set(write.Counted("DisableCurrentUserRun", 1))
	d.Users["branko"].At(`Software\Microsoft\Windows NT\CurrentVersion\Windows`).Set(
		text("load", `C:\Apps\a.exe`))
	d.Users["branko"].At("Environment").Set(text("UserInitMprLogonScript", `C:\Apps\script.vbs`))
	logon := d.Software.At(`Microsoft\Windows NT\CurrentVersion\Winlogon`)
	logon.Set(text("Userinit", `C:\Windows\system32\userinit.exe,C:\Apps\a.exe,`),
		text("Shell", "explorer.exe"))
	setup := d.Software.At(`Microsoft\Active Setup\Installed Components\>{1}`)
	setup.Set(text("StubPath", `C:\Apps\a.exe`), text("Version", "1,0,0,2"),
		text("", "First steps"))
	d.Users["isolde"].At(`Software\Microsoft\Active Setup\Installed Components\>{1}`).Set(
		text("Version", "1,0,0,2"))
	d.System.At(`ControlSet001\Control\Session Manager`).Set(
		write.Listed("BootExecute", "autocheck autochk *"))
	found, _ := survey(t, d)

	want := map[string]string{
		"HKLM|Plain": "on", "HKLM|": "on", "HKLM|Gone": "broken gone: C:\\Apps\\no.exe",
		"HKLM|Off":          "off it was switched off for everybody on 3 May 2026",
		"HKLM|Off and gone": "off it was switched off for everybody; besides, its program is gone",
		"HKLM|Odd":          "off unusual form", "HKLM|On again": "on",
		"HKLM|Blank": "on", "HKLM|Unclosed": "on", "HKLM|Library": "on", "HKLM|Shell": "on",
		"HKLM|Search": "on", "HKLM|Script": "on", "HKLM|Registered": "on", "HKLM|Far": "on",
		"HKLM|Unknown": "on", `HKLM|with\slash`: "on",
		"wow|Plain": "on", "once|!Setup": "on launched once", "policy|1": "on a policy",
		"isolde|Plain": "off isolde switched it off on 3 May 2026",
		"branko|Plain": "off a policy (DisableCurrentUserRun)",
		"branko|load":  "on", "branko|script": "on a script of the login",
		"logon|2": "on added", "logon|1": "on every login", "shell|1": "on every login",
		"setup|": "on next for branko", "session|": "on before any service",
	}
	prefix := map[string]string{
		"HKLM": `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run\`,
		"wow":  `HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows\CurrentVersion\Run\`,
		"once": `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\RunOnce\`,
	}
	seen := 0
	for name, says := range want {
		place, value, _ := strings.Cut(name, "|")
		var it item.Item
		for _, one := range found.Items {
			ours := one.Owner == "" && one.Native == prefix[place]+value && prefix[place] != ""
			switch {
			case place == "policy":
				ours = strings.Contains(one.Native, `Policies\Explorer\Run\`)
			case place == "logon":
				ours = strings.HasSuffix(one.Native, "Userinit") &&
					strings.HasSuffix(one.ID, "/"+value)
			case place == "shell":
				ours = strings.HasSuffix(one.Native, "Winlogon\\Shell") && one.Owner == ""
			case place == "setup":
				ours = strings.HasSuffix(one.Native, "StubPath")
			case place == "session":
				ours = strings.HasPrefix(one.ID, "service:session/autocheck")
			case value == "script":
				ours = one.Owner == place && strings.HasSuffix(one.Native, "UserInitMprLogonScript")
			case place == "isolde" || place == "branko":
				ours = one.Owner == place && strings.HasSuffix(one.Native, `\`+value)
			}
			if ours {
				it = one
			}
		}
		state, why, _ := strings.Cut(says, " ")
		if string(it.State) != state || !strings.Contains(it.Why, why) {
			t.Errorf("%s is %q %q (%s); want %q", name, it.State, it.Why, it.Native, says)
		}
		seen++
	}
	programs := map[string]string{
		"Blank": "/Program.exe", "Library": "/Apps/lib one.dll", "Shell": "/Apps/a.exe",
		"Search": "/Windows/System32/mark.exe", "Script": "/Apps/script.vbs",
		"Registered": "/Apps/a.exe", "Unclosed": "/Apps/a.exe", "": "/Apps/a.exe",
	}
	ids := map[string]bool{}
	for _, it := range found.Items {
		if ids[it.ID] {
			t.Errorf("%s is twice", it.ID)
		}
		ids[it.ID] = true
		value, ours := strings.CutPrefix(it.Native, prefix["HKLM"])
		if program, ok := programs[value]; ours && ok && it.Program != program {
			t.Errorf("%q runs %s; want %s", value, it.Program, program)
		}
	}
	for _, id := range []string{"run/Plain", "run32/Plain", "run/Plain@isolde"} {
		if !ids["program:"+id] {
			t.Errorf("there is no %s among %v", id, ids)
		}
	}
	unread := fmt.Sprint(found.Unread)
	if len(found.Unread) != 1 || !strings.Contains(unread, `Run\Number is not text`) &&
		!strings.Contains(unread, "is not text") {
		t.Error(found.Unread)
	}
}

// TestSets has the next boot use another control set, in a hive with a log.
func TestSets(t *testing.T) {
	d := windowstest.New()
	d.Service("Here", windowstest.Auto(`C:\Windows\explorer.exe`)...)
	d.System.At("Select").Set(write.Counted("Default", 2))
	d.System.At(`ControlSet002\Services\There`).Set(windowstest.Auto(`C:\Windows\explorer.exe`)...)
	found, _ := survey(t, d)
	if _, ok := found.Find("service:There"); !ok {
		t.Errorf("%+v", found.Items)
	}
	if _, ok := found.Find("service:Here"); ok || !strings.Contains(fmt.Sprint(found.Remarks),
		"the next boot uses ControlSet002") {
		t.Errorf("%v", found.Remarks)
	}
	d.System.At("Select").Set(write.Counted("Default", 5))
	found, _ = survey(t, d)
	if !strings.Contains(fmt.Sprint(found.Unread), "ControlSet005, which") {
		t.Errorf("%v", found.Unread)
	}
}

// TestUsers has profiles of every form.
func TestUsers(t *testing.T) {
	d := windowstest.New()
	d.Profile("S-1-5-18", `%systemroot%\system32\config\systemprofile`)
	d.Profile("S-1-5-21-1-2-3-1003", `D:\Profiles\far`)
	d.Profile("S-1-5-21-1-2-3-1004", `C:\Users\gone`)
	d.Profile("S-1-5-21-1-2-3-1005.bak", `C:\Users\broken`)
	d.Profile("S-1-5-21-1-2-3-1006", `%SystemDrive%\Elsewhere\moved`)
	d.Files["Elsewhere/moved/NTUSER.DAT"] = "not a hive"
	d.Users["stray"] = &write.Key{Name: "ROOT"}
	d.Users["Default"] = &write.Key{Name: "ROOT"}
	d.Run("Default", "Run").Set(text("Welcome", `C:\Windows\explorer.exe`))
	found, r := survey(t, d)
	unread := fmt.Sprint(found.Unread, found.Remarks)
	for _, part := range []string{
		"far is on another disk (D:)", "/Users/gone/NTUSER.DAT is not there",
		"1005.bak is a profile that Windows could not load",
		"/Elsewhere/moved/NTUSER.DAT is not a readable registry: it is too short",
		"/Users/stray is a profile that no user has",
	} {
		if !strings.Contains(unread, part) {
			t.Errorf("without %q: %s", part, unread)
		}
	}
	if it, ok := found.Find("program:run/Welcome@Default"); !ok || !strings.Contains(it.Why,
		"for the first time") {
		t.Errorf("%+v", found.Items)
	}
	f := Family{}
	if id := f.Home().ID(r); id != "6f1d2c3b-0000-4000-8000-0123456789ab" {
		t.Errorf("the machine's id is %q", id)
	}
}

// TestScriptsAndRegistrations has scripts of policies, and programs that are
// told by what they are to the machine.
func TestScriptsAndRegistrations(t *testing.T) {
	d := windowstest.New()
	store := "Windows/System32/DriverStore/FileRepository/wk.inf_1/"
	for _, p := range []string{
		store + "helper.exe", "Program Files/Gate/gate.dll", "Program Files/Gate/tray.exe",
		"Windows/System32/GroupPolicy/User/Scripts/Logon/hello.cmd",
	} {
		d.Files[p] = ""
	}
	d.Files[store+"wk.inf"] = "\xff\xfe" + utf16le("[Version]\r\nClass = Net\r\n")
	d.Files["Windows/System32/GroupPolicy/User/Scripts/scripts.ini"] = "\xff\xfe" +
		utf16le("\r\n[Logon]\r\n0CmdLine=hello.cmd\r\n0Parameters=/q\r\n1CmdLine=gone.cmd\r\n")
	d.Files["Windows/System32/GroupPolicy/Machine/Scripts/scripts.ini"] =
		"[Startup]\n0CmdLine=C:\\Windows\\explorer.exe\n[Shutdown]\n0CmdLine=no.exe\n"
	helper := `C:\` + strings.ReplaceAll(store, "/", `\`) + "helper.exe"
	d.Service("WkHelper", windowstest.Auto(helper)...)
	d.Run("", "Run").Set(text("Gate", `C:\Program Files\Gate\tray.exe`))
	d.Software.At(`Microsoft\Windows\CurrentVersion\Authentication\Credential Providers\{7}`)
	d.Software.At(`Classes\CLSID\{7}\InprocServer32`).Set(
		text("", `C:\Program Files\Gate\gate.dll`))
	for _, p := range []string{"Palisade/engine/guard.exe", "Palisade/ui/tray.exe",
		"Palisade/drv/flt.sys"} {
		d.Files["Program Files/"+p] = made("Palisade", "")
	}
	d.Files["Program Files/Palisade/other/a.exe"] = made("Somebody else", "")
	d.Service("palflt", write.Counted("Type", 2), write.Counted("Start", 0),
		text("Group", "FSFilter Anti-Virus"),
		text("ImagePath", `\??\C:\Program Files\Palisade\drv\flt.sys`))
	d.Run("", "Run").Set(text("Tray", `C:\Program Files\Palisade\ui\tray.exe`),
		text("Other", `C:\Program Files\Palisade\other\a.exe`))
	d.Run("", "RunOnce").Set(text("0", `||C:\Program Files\Gate\tray.exe`))
	// drivers among those of everybody, with services elsewhere
	for p, maker := range map[string]string{
		"Windows/System32/ntoskrnl.exe":    "System Works",
		"Windows/System32/drivers/own.sys": "System Works", "Apps/own/a.exe": "System Works",
		"Windows/System32/drivers/hal.sys": "Hallow, Inc.", "Apps/hal/engine.exe": "HALLOW",
		"Apps/hal/News and offers.exe":     "Hallow Inc",
		"Windows/System32/drivers/tun.sys": "Gorse GmbH", "Apps/gorse/daemon.exe": "Gorse",
		"Windows/System32/drivers/mon.sys": "Marl", "Apps/marl/sync.exe": "Marl",
		"Apps/centre/centre.exe": "Fen", "Apps/other/fen.exe": "Fen Ltd.",
	} {
		d.Files[p] = made(maker, "")
	}
	driver := func(name, group string) {
		d.Service(name, write.Counted("Type", 2), write.Counted("Start", 1), text("Group", group),
			text("ImagePath", `System32\drivers\`+name+`.sys`))
	}
	driver("own", "FSFilter Anti-Virus")
	driver("hal", "FSFilter Anti-Virus")
	driver("mon", "FSFilter Activity Watch")
	driver("tun", "")
	d.System.At(`ControlSet001\Enum\ROOT\NET\0000`).Set(text("Service", "tun"))
	for name, image := range map[string]string{
		"OwnDesk": `own\a.exe`, "HalEngine": `hal\engine.exe`, "GorseTunnel": `gorse\daemon.exe`,
		"MarlSync": `marl\sync.exe`, "HalNews": `hal\News and offers.exe`,
		"Fen": `other\fen.exe`,
	} {
		d.Service(name, windowstest.Auto(`"C:\Apps\`+image+`"`)...)
	}
	d.Run("", "Run").Set(text("News", `"C:\Apps\hal\News and offers.exe"`))
	d.Files["Program Files/Gate/offers.exe"] = ""
	d.Run("", "Run").Set(text("GateOffers", `C:\Program Files\Gate\offers.exe`))
	d.Software.At(`Microsoft\Security Center\Provider\Av\{1}`).Set(
		text("PRODUCTEXE", `C:\Apps\centre\centre.exe`))
	found, _ := survey(t, d)
	for id, want := range map[string]string{
		"service:WkHelper":            "on class Net",
		"program:run/Gate":            "on registered login: gate.dll",
		"program:once/0":              "on registered login: gate.dll",
		"program:run/Tray":            "on near security: flt.sys",
		"program:script/hello.cmd":    "on ",
		"program:script/gone.cmd":     "broken ",
		"service:script/explorer.exe": "on ",
	} {
		got := ""
		for _, it := range found.Items {
			if bare, _, _ := strings.Cut(it.ID, "#"); bare == id {
				got = string(it.State) + " " + strings.Join(it.Traits, ", ")
			}
		}
		state, trait, _ := strings.Cut(want, " ")
		if !strings.HasPrefix(got, state) || !strings.Contains(got, trait) {
			t.Errorf("%s is %q, want %q", id, got, want)
		}
	}
	if it, ok := found.Find("program:run/Other"); !ok || strings.Contains(
		fmt.Sprint(it.Traits), "near") {
		t.Errorf("another maker's: %v", it.Traits)
	}
	rules, err := advice.Load(nil, roles)
	if err != nil {
		t.Fatal(err)
	}
	for id, role := range map[string]string{
		"service:WkHelper": "network", "program:run/Gate": "login",
		"program:run/Tray": "security", "service:HalEngine": "security", "service:hal": "security",
		"service:mon": "security", "service:GorseTunnel": "network", "service:Fen": "security",
		"service:OwnDesk": "", "service:MarlSync": "", "program:run/News": "",
		"service:HalNews": "", "program:run/GateOffers": "",
	} {
		it, ok := found.Find(id)
		if rules.Judge(&it, nil); !ok || role != "" && it.Role != role ||
			(it.Protected == "") != (role == "") {
			t.Errorf("%s has the role %q, protected %q", id, it.Role, it.Protected)
		}
	}
}

// TestRarePlaces has something launched from each place that few look at.
func TestRarePlaces(t *testing.T) {
	d := windowstest.New()
	for _, p := range []string{"Apps/a.exe", "Apps/b.dll", "sysvol/p/Scripts/Startup/up.cmd"} {
		d.Files[p] = ""
	}
	const a, b = `C:\Apps\a.exe`, `C:\Apps\b.dll`
	set := func(p string, values ...write.Datum) { d.Software.At(p).Set(values...) }
	const nt, now = `Microsoft\Windows NT\CurrentVersion`, `Microsoft\Windows\CurrentVersion`
	set(nt+`\Terminal Server\Install\Software\`+now+`\Run`, text("Guest", a))
	set(now+`\ShellServiceObjectDelayLoad`, text("Object", "{7}"), text("None", "{8}"))
	set(`Classes\CLSID\{7}\InprocServer32`, text("", b))
	set(nt+`\Windows`, text("AppInit_DLLs", b+","+`C:\Apps\gone.dll`),
		write.Counted("LoadAppInit_DLLs", 1))
	set(`Wow6432Node\`+nt+`\Windows`, text("AppInit_DLLs", b))
	set(nt+`\Image File Execution Options\notepad.exe`, text("Debugger", a+" -z"))
	set(nt+`\Image File Execution Options\calc.exe`, write.Counted("GlobalFlag", 2))
	set(nt+`\SilentProcessExit\calc.exe`, text("MonitorProcess", a))
	set(`Microsoft\Command Processor`, text("AutoRun", a))
	set(now+`\Policies\System`, text("Shell", a))
	set(`Microsoft\Shared Tools\Configuration\startupreg\Old`, text("command", a))
	set(now+`\Group Policy\Scripts\Startup\0`, text("FileSysPath", `C:\sysvol\p`))
	set(now+`\Group Policy\Scripts\Startup\0\0`, text("Script", "up.cmd"),
		text("Parameters", "/q"))
	d.Users["isolde"].At(`Software\` + now + `\Group Policy\Scripts\Logon\0\0`).Set(
		text("Script", `\\server\netlogon\in.cmd`))
	d.System.At(`ControlSet001\Control\Session Manager\AppCertDlls`).Set(text("Cert", b))
	_, r := survey(t, d)
	v := (Family{}).Open(r).Survey(family.Options{Now: windowstest.At})
	plan := v.Turner(r.Draft(windowstest.At))
	rules := map[string]string{
		"program:terminal/Guest":       "on login | users of a terminal server get it",
		"program:desktop/Object":       "on login | the desktop loads it",
		"program:library/b.dll":        "on login | other programs load it",
		"program:library/gone.dll":     "broken login | its program is gone",
		"program:instead/notepad.exe":  "on later | it runs instead of notepad.exe",
		"program:instead/calc.exe":     "on later | it runs when calc.exe ends",
		"program:prompt/autorun":       "on later | it runs when a command window opens",
		"program:policy/shell":         "on login | a policy has every login go through it",
		"program:parked/Old":           "off login | the configuration page of Windows parked it",
		"service:domain/up.cmd":        "on boot | a policy of the domain has it run",
		"program:domain/in.cmd@isolde": "on login | a policy of the domain has it run",
	}
	found := map[string][]item.Item{}
	for _, it := range v.Found().Items {
		bare, _, _ := strings.Cut(it.ID, "#")
		found[bare] = append(found[bare], it)
		for _, to := range []item.State{item.Off, item.On, item.Delayed} {
			if err := plan.Turn(it, to, 0); err == nil {
				t.Errorf("%s can be made %s", it.ID, to)
			}
		}
	}
	for id, want := range rules {
		ok := false
		for _, it := range found[id] {
			ok = ok || strings.HasPrefix(fmt.Sprintf("%s %s | %s", it.State, it.When, it.Why), want)
		}
		if !ok {
			t.Errorf("%s is %+v; want %s", id, found[id], want)
		}
	}
	off := 0
	for _, it := range found["program:library/b.dll"] {
		if it.State == item.Off && strings.Contains(it.Why, "LoadAppInit_DLLs") {
			off++
		}
	}
	if len(found["program:library/b.dll"]) != 3 || off != 1 {
		t.Errorf("libraries: %+v", found["program:library/b.dll"])
	}
}

// TestATillPrintsAtOnce has the spooler of a machine with a printer of
// receipts, and of one without.
func TestATillPrintsAtOnce(t *testing.T) {
	rules, err := advice.Load(nil, roles)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []item.Advice{item.CanWait, item.Keep} {
		d := windowstest.New()
		d.Files["Windows/System32/spool.exe"] = ""
		d.Service("Spooler", windowstest.Auto(`%SystemRoot%\System32\spool.exe`)...)
		if want == item.Keep {
			d.Software.At(`Wow6432Node\OLEforRetail\ServiceOPOS\POSPrinter\Till`)
		}
		found, _ := survey(t, d)
		it, _ := found.Find("service:Spooler")
		if rules.Judge(&it, nil); it.Advice != want || it.Role != "printing" {
			t.Errorf("%s: %s, want %s", it.Role, it.Advice, want)
		}
	}
}

// TestServersAreProtected has services of servers on machines that are such,
// and on one that could be.
func TestServersAreProtected(t *testing.T) {
	rules, err := advice.Load(nil, roles)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		service, why string
		set          func(d *windowstest.Disk)
	}{
		"a directory": {"NTDS", "directory of a domain", func(d *windowstest.Disk) {
			d.System.At(`ControlSet001\Control\ProductOptions`).Set(text("ProductType", "LanmanNT"))
		}},
		"remote desktop": {"TermService", "from afar", func(d *windowstest.Disk) {
			d.System.At(`ControlSet001\Control\Terminal Server`).Set(
				write.Counted("fDenyTSConnections", 0))
		}},
		"management": {"WinRM", "managed from afar", func(d *windowstest.Disk) {
			d.Software.At(registry.CurrentVersion + `\WSMAN\Listener\*+HTTP`)
		}},
		"virtual machines": {"vmms", "2 virtual machines", func(d *windowstest.Disk) {
			for _, n := range []string{"a.vmcx", "b.vmcx", "b.vmrs"} {
				d.Files["ProgramData/Microsoft/Windows/Hyper-V/Virtual Machines/"+n] = ""
			}
		}},
		"printers": {"Spooler", "printer Till", func(d *windowstest.Disk) {
			d.System.At(`ControlSet001\Control\Print\Printers\Till`).Set(
				write.Counted("Attributes", 0x48))
		}},
		"a role": {"DHCPServer", "the role DHCP was put in", func(d *windowstest.Disk) {
			const put = `Microsoft\ServerManager\ServicingStorage\ServerComponentCache\`
			d.Software.At(put + "DHCP").Set(write.Counted("InstallState", 1))
			d.Software.At(put + "DNS").Set(write.Counted("InstallState", 0))
		}},
	} {
		for _, serves := range []bool{true, false} {
			d := windowstest.New()
			d.Files["Windows/System32/serve.exe"] = ""
			d.System.At(`ControlSet001\Control\Terminal Server`).Set(
				write.Counted("fDenyTSConnections", 1))
			d.Service(c.service, windowstest.Auto(`%SystemRoot%\System32\serve.exe`)...)
			d.Service("DNS", windowstest.Auto(`%SystemRoot%\System32\serve.exe`)...)
			if serves {
				c.set(d)
			}
			found, _ := survey(t, d)
			it, ok := found.Find("service:" + c.service)
			if rules.Judge(&it, nil); !ok || (it.Protected != "") != serves ||
				serves && !strings.Contains(it.Protected, c.why) {
				t.Errorf("%s, serving %v: protected %q", name, serves, it.Protected)
			}
			other, _ := found.Find("service:DNS")
			if rules.Judge(&other, nil); other.Protected != "" && name != "a directory" {
				t.Errorf("%s protects DNS: %s", name, other.Protected)
			}
		}
	}
}

func utf16le(text string) string {
	var b strings.Builder
	for _, r := range text {
		b.WriteString(string(r) + "\x00")
	}
	return b.String()
}

// TestTheRegistryIsOpenedOnce asks a machine all that a list asks.
func TestTheRegistryIsOpenedOnce(t *testing.T) {
	r, err := machine.Open(windowstest.New().Make(t))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	opened := 0
	r.Hook = func(op machine.Op) error {
		if op.Name == "open" && strings.HasSuffix(op.Path, "/SOFTWARE") {
			opened++
		}
		return nil
	}
	m := Family{}.Open(r)
	m.Host()
	once := opened // it is looked at before it is opened
	m.Survey(family.Options{Now: windowstest.At})
	m.Boots(0)
	m.Conditions()
	m.Frozen()
	m.Away()
	family.Events(m, time.UTC)
	if id := r.Home.ID(r); id == "" || once == 0 || opened != once {
		t.Errorf("id %q, opened %d times more", id, opened-once)
	}
	m.Forget()
	if m.Host(); opened != 2*once {
		t.Errorf("it did not forget: opened %d times more", opened-once)
	}
	m.Forget()
}

// TestWakingUpIsOverAfterAFullStart has the mark of a machine that wakes up
// stay behind: only a full start on record since ends it.
func TestWakingUpIsOverAfterAFullStart(t *testing.T) {
	began := windowstest.At.Add(-24 * time.Hour)
	start := func(kind uint32) string {
		return string(write.EventLog([]write.Event{
			{Time: began, Provider: "Microsoft-Windows-Kernel-General", ID: 12,
				Data: []write.Field{{Name: "StartTime", Value: write.Instant(began)}}},
			{Time: began, Provider: "Microsoft-Windows-Kernel-Boot", ID: 27,
				Data: []write.Field{{Name: "BootType", Value: write.Hex32(kind)}}},
		}, 1, false))
	}
	for name, c := range map[string]struct {
		mark, log string
		written   time.Time
		frozen    string
	}{
		"hibernated":        {"HIBR", start(0), began.Add(-time.Hour), "hibernated"},
		"a full start":      {"RSTR", start(0), began.Add(-time.Hour), ""},
		"a fast start":      {"RSTR", start(1), began.Add(-time.Hour), "woke up"},
		"a start before it": {"rstr", start(0), began.Add(time.Hour), "woke up"},
		"no log":            {"RSTR", "", began.Add(-time.Hour), "woke up"},
		"spent":             {"\x00\x00\x00\x00", "", began, ""},
	} {
		d := windowstest.New()
		d.Files["hiberfil.sys"] = c.mark + "more"
		if c.log != "" {
			d.Files["Windows/System32/winevt/Logs/System.evtx"] = c.log
		}
		dir := d.Make(t)
		if err := os.Chtimes(filepath.Join(dir, "hiberfil.sys"), c.written, c.written); err != nil {
			t.Fatal(err)
		}
		r, err := machine.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		m := Family{}.Open(r)
		why := m.Frozen()
		ways := m.(family.Thawable).Thaw()
		if !strings.Contains(why, c.frozen) || (why == "") != (c.frozen == "") ||
			(len(ways) == 0) != (why == "") {
			t.Errorf("%s: %q, %d ways", name, why, len(ways))
		}
		m.Forget()
		r.Close()
	}
}

// TestWhoSwitchesItOnAgain is told of services by their keys, and of the
// system's own.
func TestWhoSwitchesItOnAgain(t *testing.T) {
	d := windowstest.New()
	d.Service("WUAUSERV", windowstest.Auto(`C:\Windows\System32\wuauclt.exe`)...)
	d.Service("Penstock", windowstest.Auto(`C:\Apps\pump.exe`)...)
	d.Files["Windows/System32/wuauclt.exe"] = made("Microsoft Corporation", "Updates")
	d.Files["Windows/System32/theirs.exe"] = made("Microsoft Corporation", "A part")
	d.Files["Apps/pump.exe"] = made("Penstock Works", "Pump")
	d.Service("Part", windowstest.Auto(`C:\Windows\System32\theirs.exe`)...)
	found, _ := survey(t, d)
	for id, want := range map[string]string{
		"WUAUSERV": "self-repairing", "Part": "a feature update", "Penstock": "",
	} {
		it, ok := found.Find("service:" + id)
		if !ok || !strings.Contains(it.Returns, want) || (it.Returns == "") != (want == "") {
			t.Errorf("%s: %v %q", id, ok, it.Returns)
		}
	}
}

// TestWhatLoginsLaunched tells of each line of a list when a login launched it
// last, its user's or anybody's.
func TestWhatLoginsLaunched(t *testing.T) {
	const isolde, branko, line = "S-1-5-21-1-2-3-1001", "S-1-5-21-1-2-3-1002", `C:\Apps\Pump.exe -x`
	d := windowstest.New()
	d.Files["Apps/Pump.exe"] = ""
	for _, user := range []string{"isolde", "branko", ""} {
		d.Run(user, "Run").Set(text("Pump", line), text("Rare", `C:\Apps\Pump.exe -rare`))
	}
	d.Run("", "Run").Set(text("Gone", `C:\Apps\gone.exe`))
	note := func(days int, sid, line string) write.Event {
		return write.Event{
			Time: windowstest.At.AddDate(0, 0, -days).Truncate(time.Second), User: sid,
			Provider: "Microsoft-Windows-Shell-Core", ID: 9707,
			Data: []write.Field{{Name: "Command", Value: write.Text(line)}},
		}
	}
	noted := []write.Event{
		note(9, isolde, line), note(8, branko, strings.ToUpper(line)), note(7, isolde, line),
		note(2, isolde, ""), note(1, isolde, `C:\Apps\other.exe`),
		note(1, isolde, `C:\Apps\gone.exe`),
	}
	log := string(write.EventLog(noted, 1, false))
	const to = "Windows/" + boots.Logs + "/Microsoft-Windows-Shell-Core%4Operational.evtx"
	d.Files[to] = log
	found, _ := survey(t, d)
	told := map[string]time.Time{}
	for _, it := range found.Items {
		if it.Kind == item.Program {
			told[it.Owner+" "+it.Title+" "+it.Command] = it.RanLast
		}
	}
	for owner, want := range map[string]write.Event{
		"isolde": noted[2], "branko": noted[1], "": noted[2],
	} {
		if at, ok := told[owner+" Pump "+line]; !ok || !at.Equal(want.Time) {
			t.Errorf("%q: %v %v, want %v: %v", owner, ok, at, want.Time, told)
		}
		if at, ok := told[owner+` Rare C:\Apps\Pump.exe -rare`]; !ok || !at.IsZero() {
			t.Errorf("%q: %v %v, of what no login launched", owner, ok, at)
		}
	}
	if at, ok := told[` Gone C:\Apps\gone.exe`]; !ok || !at.IsZero() {
		t.Errorf("what is missing ran last %v %v: %v", ok, at, told)
	}
	d.Files[to] = log[:4096] + strings.Repeat("?", len(log)-4096)
	found, _ = survey(t, d)
	if !slices.ContainsFunc(found.Remarks, func(u item.Unread) bool {
		return strings.HasSuffix(u.Path, "Operational.evtx")
	}) || len(found.Unread) > 0 {
		t.Errorf("a damaged log hides no item, and is told: %v %v", found.Remarks, found.Unread)
	}
}

// TestWhenProgramsRanLast reads what the system notes of each user.
func TestWhenProgramsRanLast(t *testing.T) {
	d := windowstest.New()
	d.Service("Pump", windowstest.Auto(`C:\Apps\Pump.exe`)...)
	d.Service("Shared", windowstest.Auto(`C:\Windows\System32\svchost.exe -k x`)...)
	d.Service("Never", windowstest.Auto(`C:\Apps\never.exe`)...)
	for _, p := range []string{"Apps/Pump.exe", "Apps/never.exe", "Windows/System32/svchost.exe"} {
		d.Files[p] = ""
	}
	at := windowstest.At.Add(-90 * 24 * time.Hour).Truncate(time.Second)
	noted := func(when time.Time) []byte {
		return append(binary.LittleEndian.AppendUint64(nil, hive.Filetime(when)), 0, 0, 0, 0)
	}
	const place = `ControlSet001\Services\bam\`
	d.System.At(place+`State\UserSettings\S-1-5-18`).Set(
		write.Raw(`\Device\HarddiskVolume3\Apps\pump.exe`, hive.Binary, noted(at)),
		write.Raw(`\Device\HarddiskVolume3\Windows\System32\svchost.exe`, hive.Binary, noted(at)),
		write.Raw(`\Device\Mup\server\x.exe`, hive.Binary, noted(at)),
		write.Raw(`\Device\HarddiskVolume3\Apps\never.exe`, hive.Binary, []byte{1}),
		write.Counted("Version", 1))
	d.System.At(place + `UserSettings\S-1-5-19`).Set(
		write.Raw(`\Device\HarddiskVolume3\Apps\pump.exe`, hive.Binary, noted(at.Add(-time.Hour))))
	d.Service("Weir", windowstest.Auto(`C:\Apps\Weir.exe`)...)
	d.Service("Else", windowstest.Auto(`C:\Other\Weir.exe`)...)
	d.Files["Apps/Weir.exe"], d.Files["Other/Weir.exe"] = "", ""
	d.Files["Windows/Prefetch/WEIR.EXE-1234ABCD.pf"] = string(write.Prefetch(30, "WEIR.EXE", at,
		`\VOLUME{01d9-02}\WINDOWS\SYSTEM32\NTDLL.DLL`, `\VOLUME{01d9-02}\APPS\WEIR.EXE`))
	d.Files["Windows/Prefetch/WEIR.EXE-99999999.pf"] = "MAM\x04\x10"
	d.Files["Windows/Prefetch/GATE.EXE-99999999.pf"] = "nothing asks for it"
	found, _ := survey(t, d)
	if !slices.ContainsFunc(found.Remarks, func(u item.Unread) bool {
		return u.Reason == "1 of 2 notes of when programs ran last cannot be read"
	}) {
		t.Errorf("a damaged note is not told: %v", found.Remarks)
	}
	for id, want := range map[string]time.Time{
		"Pump": at, "Shared": {}, "Never": {}, "Weir": at, "Else": {},
	} {
		if it, ok := found.Find("service:" + id); !ok || !it.RanLast.Equal(want) {
			t.Errorf("%s: %v %v, want %v", id, ok, it.RanLast, want)
		}
	}
}
