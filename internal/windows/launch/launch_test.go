//go:build linux

package launch_test

import (
	"strings"
	"testing"

	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

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
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	reg, err := registry.Open(r)
	if err != nil {
		t.Fatal(err)
	}
	defer reg.Close()
	var isolde *registry.User
	for _, u := range reg.Users {
		if u.Name == "isolde" {
			isolde = u
		}
	}
	f := launch.Finder{Reg: reg}
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
	if t1 := f.Find(launch.Line{Text: `cmd /c ` + strings.Repeat("cmd /c ", 50)}); t1.Fate ==
		launch.Unnamed {
		t.Error("a line of wrappers alone names nothing")
	}
	const encoded = "powershell -enc RQBjAGgAbwAgAGgAaQA="
	if text := launch.Encoded(encoded); text != "Echo hi" {
		t.Errorf("%q", text)
	}
}
