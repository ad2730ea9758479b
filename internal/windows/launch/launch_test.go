//go:build linux

package launch_test

import (
	"os"
	"strings"
	"testing"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

// finder finds programs on a disk, as the user isolde means them.
func finder(t *testing.T, d *windowstest.Disk) (launch.Finder, *registry.User) {
	t.Helper()
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	reg, err := registry.Open(r)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { reg.Close() })
	for _, u := range reg.Users {
		if u.Name == "isolde" {
			return launch.Finder{Reg: reg}, u
		}
	}
	t.Fatal("the user is not found")
	return launch.Finder{}, nil
}

// TestLines finds what lines mean, through wrappers and in short forms.
func TestLines(t *testing.T) {
	d := windowstest.New()
	for _, p := range []string{
		"Apps/a.exe", "Apps/lib.dll", "Apps/s.ps1", "Apps/page.hta", "Apps/b c.exe",
		"Users/isolde/AppData/Local/Marl/Update.exe", "Windows/System32/cmd.exe",
		"Users/isolde/AppData/Local/Marl/app-1.2/Marl.exe", "Windows/SysWOW64/x.exe",
		"Users/isolde/AppData/Local/Marl/app-1.3/Marl.exe", "Windows/System32/regsvr32.exe",
		"Windows/System32/mshta.exe", "Windows/System32/conhost.exe", "Tools/own.exe",
		"Windows/System32/WindowsPowerShell/v1.0/powershell.exe", "Windows/System32/x.exe",
		"Program Files (x86)/Old/old.exe",
	} {
		d.Files[p] = ""
	}
	d.System.At(`ControlSet001\Control\Session Manager\Environment`).Set(
		windowstest.Grows("Path", `%SystemRoot%\System32;C:\Tools;C:\Windows\System32\`+
			`WindowsPowerShell\v1.0`))
	f, isolde := finder(t, d)
	for _, c := range []struct {
		line, program, through string
		narrow                 bool
	}{
		{line: `c:/apps/A.EXE /x`, program: "/Apps/a.exe"},
		{line: `\\?\C:\Apps\a.exe`, program: "/Apps/a.exe"},
		{line: `"C:\Apps\b c" -q`, program: "/Apps/b c.exe"},
		{line: `own -q`, program: "/Tools/own.exe"},
		{line: `%ProgramFiles(x86)%\Old\old.exe`, program: "/Program Files (x86)/Old/old.exe"},
		{line: `regsvr32 /s C:\Apps\lib.dll`, program: "/Apps/lib.dll",
			through: "/Windows/System32/regsvr32.exe"},
		{line: `cmd.exe /d /c "C:\Apps\a.exe -x"`, program: "/Apps/a.exe",
			through: "/Windows/System32/cmd.exe"},
		{line: `mshta C:\Apps\page.hta`, program: "/Apps/page.hta",
			through: "/Windows/System32/mshta.exe"},
		{line: `conhost --headless cmd /c start C:\Apps\a.exe`, program: "/Apps/a.exe",
			through: "/Windows/System32/cmd.exe"},
		{line: `powershell -NoProfile -File "C:\Apps\s.ps1" -x`, program: "/Apps/s.ps1",
			through: "/Windows/System32/WindowsPowerShell/v1.0/powershell.exe"},
		{line: `%LocalAppData%\Marl\Update.exe --processStart "Marl.exe" -a`,
			program: "/Users/isolde/AppData/Local/Marl/app-1.3/Marl.exe",
			through: "/Users/isolde/AppData/Local/Marl/Update.exe"},
		{line: `C:\Windows\System32\x.exe`, program: "/Windows/System32/x.exe"},
		{line: `C:\Windows\System32\x.exe`, program: "/Windows/SysWOW64/x.exe", narrow: true},
		{line: `C:\Windows\Sysnative\x.exe`, program: "/Windows/System32/x.exe", narrow: true},
		{line: `C:\Tools\..\Apps\.\a.exe`, program: "/Apps/a.exe"},
		{line: `\\server\share\a.exe`, program: ""},
		{line: "   ", program: ""},
	} {
		got := f.Find(launch.Line{Text: c.line, User: isolde, Narrow: c.narrow})
		program := got.Program
		if got.Fate != launch.Found {
			program = ""
		}
		if program != c.program || got.Through != c.through {
			t.Errorf("%s runs %q through %q; want %q through %q", c.line, program, got.Through,
				c.program, c.through)
		}
	}
	// what names nothing that could be gone
	for line, want := range map[string]string{
		`cmd.exe /q /c del /q "C:\Users\isolde\left.tmp"`: "/Windows/System32/cmd.exe",
		`cmd /c if exist C:\gone.txt start C:\gone.exe`:   "/Windows/System32/cmd.exe",
		`cmd /d /c rem nothing`:                           "/Windows/System32/cmd.exe",
		`cmd /c echo. > C:\x.txt`:                         "/Windows/System32/cmd.exe",
		`cmd /c @rd /s /q C:\Temp`:                        "/Windows/System32/cmd.exe",
		`cmd /c call C:\Apps\a.exe`:                       "/Apps/a.exe",
		`cmd /c "cd /d C:\Apps && a.exe"`:                 "/Windows/System32/cmd.exe",
		`explorer.exe shell:AppsFolder\Some.App_1!App`:    "/Windows/explorer.exe",
		`explorer.exe /e,C:\Users`:                        "/Windows/explorer.exe",
		`powershell.exe -Command "Get-Date"`: "/Windows/System32/WindowsPowerShell/v1.0/" +
			"powershell.exe",
	} {
		t1 := f.Find(launch.Line{Text: line, User: isolde})
		if t1.Fate != launch.Found || t1.Program != want {
			t.Errorf("%s is %q, fate %d; want %q", line, t1.Program, t1.Fate, want)
		}
	}
	for _, line := range []string{
		"ms-settings:display", "mailto:somebody@example.org", `%NOWHERE%\a.exe`, "gorse://open/1",
	} {
		var it item.Item
		t1 := f.Find(launch.Line{Text: line, User: isolde})
		if t1.Tell(&it); t1.Fate != launch.Asked || it.State == item.Broken ||
			len(it.Conditions) != 1 {
			t.Errorf("%s: fate %d, %+v", line, t1.Fate, it)
		}
	}
	if t1 := f.Find(launch.Line{Text: `cmd /c ` + strings.Repeat("cmd /c ", 50)}); t1.Fate ==
		launch.Unnamed {
		t.Error("a line of wrappers alone names nothing")
	}
	const encoded = "powershell -enc RQBjAGgAbwAgAGgAaQA="
	if text := launch.Encoded(encoded); text != "Echo hi" {
		t.Errorf("%q", text)
	}
}

// TestTableOfLines finds what stands behind lines as installers, people and
// policies write them; the answers were written down before the code was asked.
func TestTableOfLines(t *testing.T) {
	d := windowstest.New()
	for _, p := range []string{
		"Apps/a.exe", "Apps/b c.exe", "Apps/lib.dll", "Apps/s.ps1", "Apps/page.hta",
		"Apps/run.bat", "Apps/w.vbs", "Apps/x.msi", "Tools/own.exe", "Tools/batch.cmd",
		"Program Files/Deep Sea/sub/deep.exe", "Program Files/Deep Sea/sea lib.dll",
		"Program Files (x86)/Old Reel/reel.exe", "Program Files/Common Files/Orchard/help.exe",
		"ProgramData/Orchard/tool.exe", "Users/Public/share.exe",
		"Users/isolde/AppData/Local/Marl/marl.exe", "Users/isolde/AppData/Local/Marl/Update.exe",
		"Users/isolde/AppData/Local/Marl/app-1.2/marl.exe",
		"Users/isolde/AppData/Local/Marl/app-1.3/marl.exe",
		"Users/isolde/AppData/Local/Temp/once.exe", "Users/isolde/AppData/Roaming/Reed/reed.exe",
		"Users/isolde/OneDesk/notes.txt", "Users/isolde/OneDesk/desk plan.pdf",
		"Windows/SysWOW64/narrow.exe", "Windows/System32/drivers/desk.sys",
		"Windows/System32/WindowsPowerShell/v1.0/powershell.exe",
	} {
		d.Files[p] = ""
	}
	for _, name := range strings.Fields("cmd.exe conhost.exe cscript.exe msiexec.exe mshta.exe " +
		"net.exe notepad.exe reg.exe regsvr32.exe rundll32.exe schtasks.exe shell32.dll " +
		"shutdown.exe wscript.exe") {
		d.Files["Windows/System32/"+name] = ""
	}
	d.System.At(`ControlSet001\Control\Session Manager\Environment`).Set(
		windowstest.Grows("Path", `%SystemRoot%\System32;C:\Tools;C:\Windows\System32\`+
			`WindowsPowerShell\v1.0`),
		windowstest.Grows("ComSpec", `%SystemRoot%\system32\cmd.exe`))
	d.Software.At(`Microsoft\Windows\CurrentVersion\App Paths\registered.exe`).Set(
		windowstest.Grows("", `%ProgramFiles%\Deep Sea\sub\deep.exe`))
	f, isolde := finder(t, d)
	table, err := os.ReadFile("testdata/lines.tsv")
	if err != nil {
		t.Fatal(err)
	}
	fates := map[launch.Fate]string{
		launch.Missing: "!missing", launch.Elsewhere: "!elsewhere", launch.Unnamed: "!unnamed",
		launch.Asked: "!asked", launch.Unreadable: "!unreadable",
	}
	for line := range strings.Lines(string(table)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		cells := append(strings.Split(strings.TrimSuffix(line, "\n"), "\t"), "")
		l := launch.Line{Text: cells[1], User: isolde, Narrow: cells[0] == "narrow"}
		if cells[0] == "service" {
			l.User, l.Service = nil, true
		}
		got := f.Find(l)
		answer := got.Program
		if got.Fate != launch.Found {
			answer, got.Through = fates[got.Fate], ""
		}
		if answer != cells[2] || got.Through != cells[3] {
			t.Errorf("%s: %s\n\tis %q through %q; want %q through %q", cells[0], cells[1], answer,
				got.Through, cells[2], cells[3])
		}
	}
}

// TestLettersThatGrow has signs in lines that are longer in small letters, and
// cuts lines of all wrappers at every place: nothing may break.
func TestLettersThatGrow(t *testing.T) {
	f, isolde := finder(t, windowstest.New())
	grow := strings.Repeat("Ⱥ", 40)
	for _, line := range []string{
		"cmd /c start " + grow, "cmd /c start \"" + grow + "\" /d " + grow + " a.exe",
		grow + ".exe " + grow, `C:\` + grow + `\System32\` + grow, "rundll32 " + grow + ".dll x",
		"explorer " + grow + " --processStart " + grow,
		"powershell -Command \"& " + grow + `\a.ps1"`,
		`cmd /c "` + grow + `" & "`, "regsvr32 /s " + grow, "conhost --" + grow,
	} {
		for cut := 0; cut <= len(line); cut += 3 {
			for _, narrow := range []bool{false, true} {
				f.Find(launch.Line{Text: line[:cut], User: isolde, Narrow: narrow})
			}
		}
		f.Find(launch.Line{Text: line, Service: true})
	}
}
