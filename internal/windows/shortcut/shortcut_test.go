package shortcut

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/codepage"
)

var page = codepage.Numbered("1252")

// TestOldTexts reads paths that stand in the machine's code page alone, as
// those of older programs do.
func TestOldTexts(t *testing.T) {
	for number, c := range map[string]struct{ raw, want string }{
		"1252": {"C:\\Gr\xf6\xdfe\\a.exe", `C:\Größe\a.exe`},
		"1251": {"C:\\\xcf\xee\xeb\xe5\\a.exe", `C:\Поле\a.exe`},
		"932":  {"C:\\\x93\xfa\x96\x7b\x83\x5c\\a.exe", `C:\日本ソ\a.exe`},
		"none": {"C:\\caf\xe9.exe", `C:\café.exe`},
	} {
		l, err := Parse(write.OldShortcut([]byte(c.raw)), codepage.Numbered(number))
		if err != nil || len(l.Targets) != 1 || l.Targets[0] != c.want {
			t.Errorf("page %s: %v %q, want %q", number, err, l.Targets, c.want)
		}
	}
}

func TestAllThatIsBuiltIsRead(t *testing.T) {
	for _, l := range []Link{
		{Targets: []string{`C:\Apps\Größe 日本\a.exe`}, Arguments: "/x /y", Name: "An app",
			Relative: `..\a.exe`, Folder: `C:\Apps`},
		{Targets: []string{`%ProgramFiles%\A\a.exe`}},
		{Advertised: true},
		{Relative: `.\b.exe`},
	} {
		target := slices.Concat(l.Targets, []string{""})[0]
		got, err := Parse(write.Shortcut(write.Link{
			Target: target, Relative: l.Relative, Arguments: l.Arguments, Name: l.Name,
			Folder: l.Folder, Advertised: l.Advertised,
		}), page)
		if err != nil || fmt.Sprint(got) != fmt.Sprint(l) {
			t.Errorf("%v: %+v, want %+v", err, got, l)
		}
	}
}

// TestLists makes paths of lists of items, with long names in blocks of each
// version.
func TestLists(t *testing.T) {
	item := func(kind byte, body []byte) []byte {
		it := append([]byte{0, 0, kind}, body...)
		binary.LittleEndian.PutUint16(it, uint16(len(it)))
		return it
	}
	file := func(kind byte, short, long string, version uint16, before int) []byte {
		body := append(make([]byte, 11), short+"\x00"...)
		if len(body)%2 == 0 {
			body = append(body, 0)
		}
		at := 3 + len(body)
		block := make([]byte, before)
		binary.LittleEndian.PutUint16(block[2:], version)
		binary.LittleEndian.PutUint32(block[4:], 0xBEEF0004)
		for _, unit := range utf16.Encode([]rune(long + "\x00")) {
			block = binary.LittleEndian.AppendUint16(block, unit)
		}
		block = binary.LittleEndian.AppendUint16(block, uint16(at))
		binary.LittleEndian.PutUint16(block, uint16(len(block)))
		return item(kind, append(body, block...))
	}
	list := slices.Concat(item(0x1F, make([]byte, 17)), item(0x2F, []byte(`C:\`+"\x00")),
		file(0x31, "APPS~1", "Apps of mine", 3, 20), file(0x31, "B", "日本", 9, 46),
		file(0x32, "A.EXE", "a.exe", 8, 42))
	raw := write.Shortcut(write.Link{})
	binary.LittleEndian.PutUint32(raw[20:], isUnicode|hasList)
	sized := binary.LittleEndian.AppendUint16(nil, uint16(len(list)+2))
	raw = slices.Concat(raw[:76], sized, list, []byte{0, 0}, raw[76:])
	l, err := Parse(raw, page)
	if want := `[C:\Apps of mine\日本\a.exe]`; err != nil || fmt.Sprint(l.Targets) != want {
		t.Errorf("%v %q, want %s", err, l.Targets, want)
	}
}

// TestAForeignReaderAgrees has an independent library tell one of ours.
func TestAForeignReaderAgrees(t *testing.T) {
	tool, err := exec.LookPath("lnkinfo")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("lnkinfo (liblnk-utils) is missing")
		}
		t.Skip("lnkinfo (liblnk-utils) is not installed")
	}
	file := filepath.Join(t.TempDir(), "a.lnk")
	l := write.Link{Target: `C:\Apps\a.exe`, Arguments: "/x", Folder: `C:\Apps`, Name: "App"}
	if err := os.WriteFile(file, write.Shortcut(l), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(tool, file).Output()
	for _, part := range []string{l.Target, "/x", l.Folder, "App"} {
		if !strings.Contains(string(out), part) {
			t.Errorf("%v: without %q:\n%s", err, part, out)
		}
	}
}

// TestDamageIsBounded changes bytes at random, and cuts files short.
func TestDamageIsBounded(t *testing.T) {
	data := write.Shortcut(write.Link{Target: `C:\Apps\a.exe`, Arguments: "/x", Name: "b"})
	rng := rand.New(rand.NewPCG(7, 8))
	for range 50_000 {
		bad := slices.Clone(data)
		for range 1 + rng.IntN(4) {
			bad[20+rng.IntN(len(bad)-20)] = byte(rng.Uint32())
		}
		_, _ = Parse(bad[:rng.IntN(len(bad)+1)], page)
	}
}

func FuzzShortcut(f *testing.F) {
	f.Add(write.Shortcut(write.Link{Target: `C:\Apps\a.exe`, Arguments: "/x", Advertised: true}))
	f.Fuzz(func(_ *testing.T, data []byte) { _, _ = Parse(data, page) })
}
