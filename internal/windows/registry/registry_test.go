package registry_test

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

const (
	nt       = `Microsoft\Windows NT\CurrentVersion`
	current  = `Microsoft\Windows\CurrentVersion`
	profiles = nt + `\ProfileList\`
	isolde   = "S-1-5-21-1-2-3-1001"
	branko   = "S-1-5-21-1-2-3-1002"
)

func root(t *testing.T, d *windowstest.Disk) *machine.Root {
	t.Helper()
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r
}

func opened(t *testing.T, d *windowstest.Disk) *registry.Registry {
	t.Helper()
	reg, err := registry.Open(root(t, d))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(reg.Close)
	return reg
}

// told are the paths and reasons of places, those of a hive by its name.
func told(places []item.Unread) string {
	var all []string
	for _, u := range places {
		all = append(all, u.Path[strings.LastIndexAny(u.Path, `/\`)+1:]+" "+u.Reason)
	}
	return strings.Join(all, "; ")
}

// TestOpen opens disks that differ from a usual one in one point each: what is
// known of each differs in that point.
func TestOpen(t *testing.T) {
	selects := func(next, last uint32) func(*windowstest.Disk) {
		return func(d *windowstest.Disk) {
			d.System.At("Select").Set(write.Counted("Default", next),
				write.Counted("Current", last))
			d.System.At("ControlSet002")
		}
	}
	const usual = "ControlSet001 C: isolde branko"
	for name, c := range map[string]struct {
		change func(*windowstest.Disk)
		want   string // sets, letter, users; then what was not read, and notes
	}{
		"a usual one":      {nil, usual},
		"another set next": {selects(2, 1), "ControlSet002 ControlSet001 C: isolde branko"},
		"a set is missing": {selects(7, 7), "ControlSet007 C: isolde branko | SYSTEM " +
			"ControlSet007, which the next boot is to use, is missing in it"},
		"no choice of a set": {func(d *windowstest.Disk) {
			d.System.At("Select").Set(write.Counted("Default", 0), write.Counted("Current", 0))
		}, usual},
		"another letter": {func(d *windowstest.Disk) {
			d.Software.At(nt).Set(write.Texted("SystemRoot", hive.String, `d:\Windows`))
		}, "ControlSet001 D: | isolde the profile of isolde is on another disk (C:); " +
			"branko the profile of branko is on another disk (C:) | branko is a profile that no " +
			"user has any more; it launches nothing; isolde is a profile that no user has any " +
			"more; it launches nothing"},
		"a profile on another disk": {func(d *windowstest.Disk) {
			d.Profile(branko, `E:\branko`)
		}, "ControlSet001 C: isolde | branko the profile of branko is on another disk (E:) | " +
			"branko is a profile that no user has any more; it launches nothing"},
		"a profile that is gone": {func(d *windowstest.Disk) {
			d.Profile("S-1-5-21-1-2-3-1003", `C:\Users\mira`)
		}, usual + " | NTUSER.DAT is not there"},
		"a profile of nobody": {func(d *windowstest.Disk) {
			d.Users["mira"] = &write.Key{Name: "ROOT"}
		}, usual + " | | mira is a profile that no user has any more; it launches nothing"},
		"what new users get": {func(d *windowstest.Disk) {
			d.Users["Default"] = &write.Key{Name: "ROOT"}
			d.Software.At(strings.TrimSuffix(profiles, `\`)).Set(
				write.Texted("Default", hive.Expand, `%SystemDrive%\Users\Default`))
		}, usual + " Default(2)"},
		"no registry at all of the machine": {func(d *windowstest.Disk) {
			d.Files["Windows/System32/config/SOFTWARE"] = "torn"
		}, "ControlSet001 C: | SOFTWARE is not a readable registry"},
		"a user's is torn": {func(d *windowstest.Disk) {
			d.Files["Users/branko/NTUSER.DAT"] = "torn"
		}, "ControlSet001 C: isolde branko-dark | NTUSER.DAT is not a readable registry"},
	} {
		d := windowstest.New()
		if c.change != nil {
			c.change(d)
		}
		reg := opened(t, d)
		got := reg.Set
		if reg.Other != "" {
			got += " " + reg.Other
		}
		got += " " + reg.Drive
		for _, u := range reg.Users {
			switch {
			case u.Account != registry.Person && u.Hive != nil:
				got += fmt.Sprintf(" %s(%d)", u.Name, u.Account)
			case u.Profile == "":
			case u.Hive == nil:
				got += " " + u.Name + "-dark"
			default:
				got += " " + u.Name
			}
		}
		if len(reg.Unread)+len(reg.Notes) > 0 {
			got += " | " + told(reg.Unread)
		}
		if len(reg.Notes) > 0 {
			got += " | " + told(reg.Notes)
		}
		got, _, _ = strings.Cut(strings.ReplaceAll(got, " |  |", " | |"), ": unexpected")
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c.want)
		}
	}
	empty, err := machine.Open(testtree.Make(t, map[string]string{"Windows/System32/config/": ""}))
	if err != nil {
		t.Fatal(err)
	}
	defer empty.Close()
	if _, err := registry.Open(empty); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a disk without a registry: %v", err)
	}
}

// TestVariablesAndLetters puts variables into texts, and finds what Windows
// calls by its letters.
func TestVariablesAndLetters(t *testing.T) {
	d := windowstest.New()
	d.System.At(`ControlSet001\Control\Session Manager\Environment`).Set(
		windowstest.Grows("Shop", `%SystemDrive%\Shop`), windowstest.Grows("Path", `C:\bin`))
	d.Users["isolde"].At("Environment").Set(
		windowstest.Grows("Mine", `%USERPROFILE%\own`), windowstest.Grows("Path", `C:\hers`))
	d.Files["Shop/Till.exe"] = ""
	reg := opened(t, d)
	u := reg.Users[slices.IndexFunc(reg.Users, func(u *registry.User) bool {
		return u.Name == "isolde"
	})]
	for _, c := range []struct {
		text string
		of   *registry.User
		want string
	}{
		{`%SystemRoot%\x`, nil, `C:\Windows\x`},
		{`%shop%\till.exe`, nil, `C:\Shop\till.exe`},
		{`%Mine%`, u, `C:\Users\isolde\own`},
		{`%Mine%`, nil, `%Mine%`},
		{`%AppData%`, u, `C:\Users\isolde\AppData\Roaming`},
		{`%Path%`, u, `C:\bin;C:\hers`},
		{`100 % sure`, nil, `100 % sure`},
		{`%%SystemDrive%`, nil, `%C:`},
		{`%`, nil, `%`},
	} {
		if got := reg.Expand(c.text, c.of); got != c.want {
			t.Errorf("%s: %s, want %s", c.text, got, c.want)
		}
	}
	for p, want := range map[string]string{
		`C:\shop\TILL.EXE`:       "/Shop/Till.exe",
		`\??\c:\Shop\till.exe`:   "/Shop/Till.exe",
		`\\?\C:/Shop/till.exe`:   "/Shop/Till.exe",
		`D:\Shop\till.exe`:       "elsewhere D:",
		`\\server\share\x`:       "elsewhere",
		`C:\Shop\gone.exe`:       "gone",
		`C:\Shop\till.exe\below`: "gone",
	} {
		rest, letter, ok := reg.Local(p)
		got := "elsewhere " + letter
		if ok {
			got = "gone"
			if at, err := reg.Find(rest); err == nil {
				got = at
			}
		}
		if !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", p, got, want)
		}
	}
	if got := reg.Outside("/Shop/Till.exe"); got != `C:\Shop\Till.exe` {
		t.Errorf("outside it is %s", got)
	}
}

// TestWhatMayReturn tells of each sign that the next start, or the next login,
// may change things back.
func TestWhatMayReturn(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*windowstest.Disk)
		want   string
	}{
		"nothing": {func(*windowstest.Disk) {}, ""},
		"a set-up of parts": {func(d *windowstest.Disk) {
			d.Software.At(current + `\Component Based Servicing\RebootPending`)
		}, "parts of the system"},
		"the same by its file": {func(d *windowstest.Disk) {
			d.Files["Windows/WinSxS/pending.xml"] = ""
		}, "parts of the system"},
		"an update": {func(d *windowstest.Disk) {
			d.Software.At(current + `\WindowsUpdate\Auto Update\RebootRequired`)
		}, "an update"},
		"files": {func(d *windowstest.Disk) {
			d.System.At(`ControlSet001\Control\Session Manager`).Set(
				write.Listed("PendingFileRenameOperations", `\??\C:\a`, ""))
		}, "files to be replaced"},
		"a profile that a server keeps": {func(d *windowstest.Disk) {
			d.Software.At(profiles + branko).Set(
				write.Texted("CentralProfile", hive.String, `\\hall\branko`))
		}, "branko"},
	} {
		d := windowstest.New()
		c.change(d)
		all := slices.Sorted(maps.Values(opened(t, d).Returning()))
		got := strings.Join(all, " ")
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// TestStore edits values, and refuses what is not as it was expected.
func TestStore(t *testing.T) {
	d := windowstest.New()
	d.Service("Mill", windowstest.Auto(`C:\mill.exe`)...)
	d.Users["isolde"].At("Own").Set(write.Counted("n", 1))
	r := root(t, d)
	frozen := ""
	s := registry.NewStore(r, func(*machine.Root) string { return frozen })
	number := func(n uint32) change.Node {
		return change.Node{Kind: change.Value, Type: uint32(hive.DWord), Data: registry.Number(n)}
	}
	const (
		start = registry.Scheme + `:HKLM\SYSTEM\ControlSet001\Services\Mill\\Start`
		own   = registry.Scheme + `:HKU\` + isolde + `\Own\\n`
		fresh = registry.Scheme + `:HKLM\SOFTWARE\Orchard\\n`
	)
	node := func(address string) string {
		n, err := s.Node(address, "")
		return fmt.Sprint(n.Kind, n.Type, n.Data, err)
	}
	edit := func(address string, before, after change.Node) error {
		return s.Apply(change.Edit{Path: address, Before: before, After: after})
	}
	none := change.Node{Kind: change.Absent}
	for _, step := range []struct {
		what string
		do   func() error
		then string // what the address holds
		at   string
		bad  any
	}{
		{"another number", func() error { return edit(start, number(2), number(3)) },
			held(number(3)), start, nil},
		{"not as expected", func() error { return edit(start, number(2), number(4)) },
			held(number(3)), start, new(*change.Conflict)},
		{"all the same", func() error {
			return s.Force(change.Edit{Path: start, Before: number(2), After: number(4)})
		}, held(number(4)), start, nil},
		{"a user's", func() error { return edit(own, number(1), none) }, held(none), own, nil},
		{"a key of ours", func() error {
			return errors.Join(s.MakeFolder(registry.Scheme+`:HKLM\SOFTWARE\Orchard`, "", 0),
				edit(fresh, none, number(7)))
		}, held(number(7)), fresh, nil},
		{"it is not empty", func() error {
			return s.RemoveFolder(registry.Scheme+`:HKLM\SOFTWARE\Orchard`, "")
		}, held(number(7)), fresh, new(error)},
	} {
		err := step.do()
		switch {
		case step.bad == nil && err != nil, step.bad != nil && !errors.As(err, step.bad):
			t.Errorf("%s: %v", step.what, err)
		case node(step.at) != step.then:
			t.Errorf("%s: %s, want %s", step.what, node(step.at), step.then)
		}
	}
	at := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	key := registry.Scheme + `:HKLM\SYSTEM\ControlSet001\Services\Mill`
	if err := s.SetFolderTime(key, "", at.UnixNano()); err != nil {
		t.Fatal(err)
	}
	f, err := s.Folder(key, "")
	if err != nil || !f.Exists || f.Empty || f.ModTime != at.UnixNano() {
		t.Errorf("%+v, %v", f, err)
	}
	away := (*machine.Away)(nil)
	for address, want := range map[string]string{
		registry.Scheme + `:HKU\S-1-5-21-9-9-9-9\Own\\n`:                    "away",
		registry.Scheme + `:HKLM\SYSTEM\ControlSet001\Services\Gone\\Start`: "half a service",
		start: "",
	} {
		err := s.Reach(change.Edit{Path: address, Before: number(2), After: number(3)})
		switch {
		case want == "away" && errors.As(err, &away), want == "" && err == nil:
		case want == "" || want == "away" || err == nil || !strings.Contains(err.Error(), want):
			t.Errorf("%s: %v", address, err)
		}
	}
	frozen = "it is hibernated"
	anew := registry.NewStore(r, func(*machine.Root) string { return frozen })
	err = anew.Apply(change.Edit{Path: start, Before: number(4), After: number(2)})
	if err == nil || !strings.Contains(err.Error(), frozen) {
		t.Errorf("of a frozen disk: %v", err)
	}
}

// TestALostWriteIsNoticed has the disk lose what was written to a hive.
func TestALostWriteIsNoticed(t *testing.T) {
	d := windowstest.New()
	d.Service("Mill", windowstest.Auto(`C:\mill.exe`)...)
	r := root(t, d)
	const p = "/Windows/System32/config/SYSTEM"
	before, err := os.ReadFile(r.Dir() + p)
	if err != nil {
		t.Fatal(err)
	}
	lost := 0
	r.Hook = func(op machine.Op) error {
		if op.Name == "sync" && op.Path == p {
			lost++
			return os.WriteFile(r.Dir()+p, before, 0o644)
		}
		return nil
	}
	s := registry.NewStore(r, func(*machine.Root) string { return "" })
	node := func(n uint32) change.Node {
		return change.Node{Kind: change.Value, Type: uint32(hive.DWord), Data: registry.Number(n)}
	}
	err = s.Apply(change.Edit{
		Path:   registry.Scheme + `:HKLM\SYSTEM\ControlSet001\Services\Mill\\Start`,
		Before: node(2), After: node(4),
	})
	if err == nil || lost == 0 {
		t.Errorf("lost %d times: %v", lost, err)
	}
}

// held is how TestStore writes a state down.
func held(n change.Node) string { return fmt.Sprint(n.Kind, n.Type, n.Data, error(nil)) }
