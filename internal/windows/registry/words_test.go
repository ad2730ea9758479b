package registry

import (
	"encoding/binary"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"calmdawn/internal/core/change"
	"calmdawn/internal/windows/hive"
)

// stored is a text as the registry keeps it.
func stored(text string) (data []byte) {
	for _, unit := range utf16.Encode([]rune(text + "\x00")) {
		data = binary.LittleEndian.AppendUint16(data, unit)
	}
	return data
}

// TestAddressesComeBack writes names of values into addresses, and reads them.
func TestAddressesComeBack(t *testing.T) {
	p := Place{address: `HKLM\SOFTWARE\Run`}
	for _, name := range []string{"", "a", "50%", "%0041", "a\nb", `a\b`, "é", "a\x00", "=1"} {
		address, ok := p.Address(name)
		key, value, isValue := parse(address)
		if !ok || !isValue || key != p.address || value != name {
			t.Errorf("%q became %q, and that %q of %q", name, address, value, key)
		}
		if strings.ContainsAny(address, "\n\x00") {
			t.Errorf("%q holds control characters", address)
		}
	}
	if _, ok := p.Address("a\ufffd"); ok {
		t.Error("a name that is no text has an address")
	}
	if _, ok := (Place{}).Address("a"); ok {
		t.Error("a place without an address has values with one")
	}
}

// TestValuesInImportForm goes through the forms that a value may have.
func TestValuesInImportForm(t *testing.T) {
	dword := uint32(hive.DWord)
	for _, c := range []struct {
		kind uint32
		data []byte
		want string
	}{
		{dword, []byte{4, 0, 0, 0}, "dword:00000004"},
		{dword, []byte{4, 0, 0}, "hex(4):04,00,00"},
		{uint32(hive.String), stored(`C:\a "b"`), `"C:\\a \"b\""`},
		{uint32(hive.String), stored("a\nb"), "hex(1):61,00,0a,00,62,00,00,00"},
		{uint32(hive.String), []byte("a\x00"), "hex(1):61,00"},
		{uint32(hive.Binary), []byte{0, 255}, "hex:00,ff"},
		{uint32(hive.Binary), nil, "hex:"},
	} {
		got := imported(change.Node{Type: c.kind, Data: c.data})
		if got != c.want {
			t.Errorf("type %d, %x: %s, not %s", c.kind, c.data, got, c.want)
		}
	}
	long := (*Store)(nil).Words("", change.Node{Type: uint32(hive.Binary), Data: make([]byte, 99)})
	if !strings.HasSuffix(long, ",…") || strings.Count(long, "00") != 40 {
		t.Errorf("a long value is shown as %s", long)
	}
}

// TestTheImportSaysWhatIsNotInIt has a value whose name the form cannot write.
func TestTheImportSaysWhatIsNotInIt(t *testing.T) {
	p := Place{address: `HKLM\SOFTWARE\Run`}
	var edits []change.Edit
	for _, name := range []string{"plain", "a\nb", ""} {
		address, _ := p.Address(name)
		before := change.Node{Kind: change.Absent}
		if name == "plain" {
			before = change.Node{Kind: change.Value, Type: uint32(hive.String), Data: stored("x")}
		}
		edits = append(edits, change.Edit{Path: address, Before: before})
	}
	name, data := (*Store)(nil).Import(edits)
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(data[2*i:])
	}
	text := string(utf16.Decode(units))
	for _, want := range []string{
		"\ufeffWindows Registry Editor Version 5.00\r\n", "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Run]\r\n",
		"\"plain\"=\"x\"\r\n", "@=-\r\n", "Not here: 1 of the changed values",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("%s has no %q:\n%s", name, want, text)
		}
	}
	if _, data := (*Store)(nil).Import(edits[:1]); strings.Contains(string(data), "N\x00o\x00t") {
		t.Error("it says that something is missing where nothing is")
	}
}

// TestTimesOfKeysComeBack keeps times of keys, and gives them back.
func TestTimesOfKeysComeBack(t *testing.T) {
	for _, filetime := range []uint64{
		0, 116444736000000000, 133_000_000_000_000_001, hive.Filetime(time.Unix(1e9, 100)),
	} {
		ns, err := recorded("registry:x", dated(filetime))
		if back := hive.Filetime(given(ns)); err != nil || back != filetime {
			t.Errorf("%d became %d, and %d again: %v", filetime, ns, back, err)
		}
	}
	for _, filetime := range []uint64{1, 1 << 61, 1<<62 + 1, 1<<64 - 1} {
		if _, err := recorded("registry:x", dated(filetime)); err == nil {
			t.Errorf("%#x is kept", filetime)
		}
	}
}

func dated(filetime uint64) hive.Key {
	return hive.Key{Stamp: filetime, Written: hive.Time(filetime)}
}
