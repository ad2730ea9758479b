//go:build linux

package windows

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/windowstest"
)

// made is a program of a maker.
func made(maker, says string) string {
	info := write.ProgramInfo{Maker: maker, Description: says, Version: "1.2"}
	return string(write.Program(info, nil))
}

// TestWhoMadeWhat tells makers, packages, titles by reference, and what belongs
// to the operating system.
func TestWhoMadeWhat(t *testing.T) {
	d := windowstest.New()
	d.Files["Windows/System32/kernel32.dll"] = made("System Works", "")
	d.Files["Windows/System32/own.exe"] = made("SYSTEM WORKS", "A part")
	d.Files["Windows/System32/plain.exe"] = "MZ, and nothing more"
	d.Files["Windows/System32/guest.exe"] = made("Penstock", "A guest")
	d.Files["Windows/System32/drivers/guest.sys"] = made("Penstock", "")
	d.Files["Windows/System32/drivers/bare.sys"] = ""
	d.Files["Program Files/Office/desk.exe"] = made("System Works", "A desk")
	d.Files["Program Files/Marl/app/sync.exe"] = "no program"
	d.Files["Windows/System32/titles.dll"] = string(write.Program(write.ProgramInfo{},
		map[uint32]string{7: "In no language"}))
	d.Files["Windows/System32/de-DE/titles.dll.mui"] = string(write.Program(write.ProgramInfo{},
		map[uint32]string{5: "Ein Titel"}))
	for name, image := range map[string]string{
		"Own": `C:\Windows\System32\own.exe`, "Plain": `C:\Windows\System32\plain.exe`,
		"Guest": `C:\Windows\System32\guest.exe`, "Desk": `C:\Program Files\Office\desk.exe`,
		"Marl": `C:\Program Files\Marl\app\sync.exe`,
	} {
		d.Service(name, windowstest.Auto(image)...)
	}
	for _, name := range []string{"guest", "bare"} {
		d.Service("drv"+name, write.Counted("Type", 1), write.Counted("Start", 1),
			text("ImagePath", `System32\drivers\`+name+".sys"))
	}
	d.Service("Own").Set(text("DisplayName", `@%SystemRoot%\System32\titles.dll,-5;an aid`))
	d.Service("Plain").Set(text("DisplayName", `@titles.dll,-7`),
		text("Description", `@titles.dll,-9`))
	d.Service("Guest").Set(text("DisplayName", `@nothing.dll,-7`))
	d.Run("", `Uninstall\{9}`).Set(text("DisplayName", "Marl Sync 3"), text("Publisher", "Marl"),
		text("DisplayVersion", "3.1"), text("InstallDate", "20260504"),
		text("InstallLocation", `"C:\Program Files\Marl\"`))
	d.Run("", `Uninstall\Wide`).Set(text("DisplayName", "All"), text("Publisher", "No"),
		text("UninstallString", `C:\Windows\un.exe`))
	found, _ := survey(t, d)
	for id, want := range map[string]string{
		"Own":      "true | operating system | Ein Titel | A part | ",
		"Plain":    "true | operating system | In no language |  | ",
		"Guest":    "false | Penstock | Guest | A guest | ",
		"drvguest": "false | Penstock | drvguest |  | ",
		"drvbare":  "false |  | drvbare |  | ",
		"Desk":     "false | System Works | Desk | A desk | ",
		"Marl":     "false | Marl | Marl |  | Marl Sync 3 3.1",
	} {
		it, _ := found.Find("service:" + id)
		got := fmt.Sprintf("%v | %s | %s | %s | %s", it.System, it.Maker, it.Title, it.Summary,
			strings.TrimSpace(it.Package+" "+strings.TrimPrefix(it.Version, "1.2")))
		if got != want {
			t.Errorf("%s is %s; want %s", id, got, want)
		}
	}
	if it, _ := found.Find("service:Marl"); !it.Installed.Equal(
		time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC)) {
		t.Error(it.Installed)
	}
}

// TestTitlesInTheMachinesLanguage has a text in several languages.
func TestTitlesInTheMachinesLanguage(t *testing.T) {
	for want, set := range map[string]func(mui *write.Key){
		"Ein Titel": func(*write.Key) {}, // nothing says which
		"Un titolo": func(mui *write.Key) {
			mui.At("Settings").Set(write.Listed("PreferredUILanguages", "it-IT", "en-US"))
		},
		"A title": func(mui *write.Key) { mui.At(`UILanguages\en-US`) },
	} {
		d := windowstest.New()
		d.Files["Windows/System32/titles.dll"] = ""
		for tag, title := range map[string]string{
			"de-DE": "Ein Titel", "en-US": "A title", "it-IT": "Un titolo",
		} {
			d.Files["Windows/System32/"+tag+"/titles.dll.mui"] = string(write.Program(
				write.ProgramInfo{}, map[uint32]string{5: title}))
		}
		d.Service("S", windowstest.Auto(`%SystemRoot%\explorer.exe`)...).Set(
			text("DisplayName", `@%SystemRoot%\System32\titles.dll,-5`))
		set(d.System.At(`ControlSet001\Control\MUI`))
		found, _ := survey(t, d)
		if it, _ := found.Find("service:S"); it.Title != want {
			t.Errorf("the title is %q, not %q", it.Title, want)
		}
	}
}

// TestStartupFolders has files of every kind, in folders that were moved.
func TestStartupFolders(t *testing.T) {
	d := windowstest.New()
	const common = "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/"
	link := func(l write.Link) string { return string(write.Shortcut(l)) }
	to := func(target string) string { return link(write.Link{Target: target}) }
	d.Files["Apps/a.exe"] = ""
	for name, content := range map[string]string{
		"Desk.lnk":         to(`C:\apps\A.exe`),
		"Gone.lnk":         to(`C:\Apps\gone.exe`),
		"Variable.lnk":     to(`%SystemRoot%\explorer.exe`),
		"Relative.lnk":     link(write.Link{Relative: `..\..\..\..\..\..\Apps\a.exe`}),
		"Advertised.lnk":   link(write.Link{Advertised: true}),
		"Far.lnk":          to(`E:\far.exe`),
		"Broken.lnk":       "nothing of the kind",
		"Page.url":         "[InternetShortcut]\r\nURL=https://example.org/\r\n",
		"run me.cmd":       "echo",
		"desktop.ini":      "",
		"Switched off.lnk": to(`C:\Apps\a.exe`),
	} {
		d.Files[common+name] = content
	}
	d.System.At(`ControlSet001\Control\Nls\CodePage`).Set(text("ACP", "1251"))
	d.Files["Поле/a.exe"] = ""
	d.Files[common+"Old.lnk"] = string(write.OldShortcut([]byte("C:\\\xcf\xee\xeb\xe5\\a.exe")))
	d.Files["Moved/Start/own.cmd"] = ""
	d.Users["isolde"].At(`Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`).
		Set(grows("Startup", `%SystemDrive%\Moved\Start`))
	d.Users["branko"].At(`Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`).
		Set(text("Startup", `F:\Start`))
	d.Run("", `Explorer\StartupApproved\StartupFolder`).Set(
		approval("switched off.lnk", 3, time.Date(2026, 5, 3, 10, 0, 0, 0, time.UTC), 12))
	found, _ := survey(t, d)
	const native = `C:\ProgramData\Microsoft\Windows\Start Menu\Programs\StartUp\`
	all := map[string]string{}
	for _, it := range found.Items {
		name := strings.TrimPrefix(it.Native, native)
		all[name] = strings.Join([]string{string(it.State), it.Program, it.Why,
			strings.Join(it.Conditions, ","), it.Owner}, "|")
	}
	for name, want := range map[string]string{
		"Desk.lnk":               "on|/Apps/a.exe|||",
		"Gone.lnk":               `broken||its program is gone: C:\Apps\gone.exe||`,
		"Variable.lnk":           "on|/Windows/explorer.exe|||",
		"Relative.lnk":           "on|/Apps/a.exe|||",
		"Advertised.lnk":         "on|||what it launches is known to the installer alone|",
		"Far.lnk":                `on|||E:\far.exe is on a disk that is not here|`,
		"Old.lnk":                "on|/Поле/a.exe|||",
		"Broken.lnk":             "broken||its file is not a shortcut||",
		"Page.url":               "on||||",
		"run me.cmd":             "on|/" + common + "run me.cmd|||",
		"Switched off.lnk":       "off|/Apps/a.exe|it was switched off for everybody on 3 May",
		`C:\Moved\Start\own.cmd`: "on|/Moved/Start/own.cmd|||isolde",
	} {
		if !strings.HasPrefix(all[name], want) {
			t.Errorf("%s is %q; want %q", name, all[name], want)
		}
	}
	if len(all) != 12 || !strings.Contains(fmt.Sprint(found.Unread), "is on F:, not on this disk") {
		t.Errorf("%d items, %v", len(all), found.Unread)
	}
	if _, ok := found.Find("program:startup/Desk.lnk"); !ok {
		t.Error("there is no program:startup/Desk.lnk")
	}
}

// TestPackagedApps has start-up tasks of packages in every state.
func TestPackagedApps(t *testing.T) {
	d := windowstest.New()
	classes := &write.Key{Name: "ROOT"}
	const model = `Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\`
	const full, family = "Dunmarrow.Gorsedale_1.2.0.0_x64__8f3k", "Dunmarrow.Gorsedale_8f3k"
	classes.At(model + `Repository\Packages\` + full)
	classes.At(model + `Repository\Packages\NoManifest_1.0_x64__8f3k`)
	tasks := ""
	for name, state := range map[string]int{
		"Off": 0, "ByUser": 1, "On": 2, "ByPolicy": 3, "Kept": 4, "Odd": 77, "Yes": -1, "No": -2,
	} {
		tasks += `<uap5:Extension Category="windows.startupTask" Executable="app\gorse.exe">` +
			`<uap5:StartupTask TaskId="` + name + `" Enabled="` + fmt.Sprint(state == -1) +
			`" DisplayName="Gorse"/></uap5:Extension>`
		if state >= 0 {
			classes.At(model + `SystemAppData\` + family + `\` + name).Set(
				write.Counted("State", uint32(state)))
		}
	}
	classes.At(model + `Repository\Packages\` + full).Set(
		text("PackageRootFolder", `C:\Moved\Gorsedale`))
	d.Files["Moved/Gorsedale/AppxManifest.xml"] = `<?xml version="1.0" ` +
		`encoding="utf-8"?><Package xmlns:uap5="u"><Properties><DisplayName>Gorsedale` +
		`</DisplayName><PublisherDisplayName>Dunmarrow</PublisherDisplayName></Properties>` +
		`<Applications><Application><Extensions>` + tasks +
		`</Extensions></Application></Applications></Package>`
	d.Files["Moved/Gorsedale/app/gorse.exe"] = ""
	d.Files["Users/isolde/AppData/Local/Microsoft/Windows/UsrClass.dat"] = string(
		write.Hive(classes, 5, "UsrClass.dat", windowstest.At))
	found, _ := survey(t, d)
	for name, want := range map[string]string{
		"Off": "off it is off", "ByUser": "off isolde switched it off", "On": "on ",
		"ByPolicy": "off a policy has it off", "Kept": "on a policy has it on",
		"Odd": "off its state is a number that means nothing", "Yes": "on ",
		"No": "off its maker has it off until somebody switches it on",
	} {
		it, _ := found.Find("program:app/" + family + "/" + name + "@isolde")
		got := string(it.State) + " " + it.Why
		if got != want || it.Native != family+"!"+name || it.Maker != "Dunmarrow" ||
			!strings.HasSuffix(it.Program, "gorse.exe") {
			t.Errorf("%s is %q: %+v", name, got, it)
		}
	}
	if len(found.Items) != 8 || len(found.Unread) > 0 {
		t.Errorf("%d items, %v", len(found.Items), found.Unread)
	}
}
