package registry

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"

	"calmdawn/internal/core/change"
	"calmdawn/internal/windows/hive"
)

// Words is a value as files for import write it. That is "dword:00000004", a
// text in quotes, or the bytes of any other. It comes with what a note of what
// is off says.
func (s *Store) Words(address string, n change.Node) string {
	const most = 40 // bytes that are shown of a long one
	key, _, _ := parse(address)
	says := means(key, n)
	if says != "" {
		says = ", which says " + says
	}
	text := imported(n)
	if len(n.Data) > most && strings.HasPrefix(text, "hex") {
		n.Data = n.Data[:most]
		text = imported(n) + ",…"
	}
	return text + says
}

// imported is the data of a value in the form of files for import. A text is
// one only where its bytes are exactly what Windows makes of it.
func imported(n change.Node) string {
	kind := hive.Type(n.Type)
	switch {
	case kind == hive.DWord && len(n.Data) == 4:
		return fmt.Sprintf("dword:%08x", binary.LittleEndian.Uint32(n.Data))
	case kind == hive.String && len(n.Data) >= 2 && len(n.Data)%2 == 0:
		units := make([]uint16, len(n.Data)/2)
		for i := range units {
			units[i] = binary.LittleEndian.Uint16(n.Data[2*i:])
		}
		text, ended := strings.CutSuffix(string(utf16.Decode(units)), "\x00")
		if ended && strings.IndexFunc(text, func(r rune) bool {
			return unicode.IsControl(r) || r == unicode.ReplacementChar
		}) < 0 {
			return quoted(text)
		}
	}
	mark := "hex:"
	if kind != hive.Binary {
		mark = fmt.Sprintf("hex(%x):", n.Type)
	}
	var bytes []string
	for _, b := range n.Data {
		bytes = append(bytes, hex.EncodeToString([]byte{b}))
	}
	return mark + strings.Join(bytes, ",")
}

func quoted(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// roots are what files for import call the parts of the registry that
// addresses begin with.
var roots = strings.NewReplacer(`HKLM\`, `HKEY_LOCAL_MACHINE\`, `HKU\`, `HKEY_USERS\`)

// Import is a file, in the open form for imports, that gives values the states
// of the given edits before them. The running Windows takes it; those of a user
// only while that one is logged in.
func (s *Store) Import(edits []change.Edit) (name string, data []byte) {
	return "take-back.reg", importFile([]string{
		"What calmdawn changed on this machine, taken back. Where a control set has another",
		"number by now, or a user is not logged in, calmdawn undo is the better way.",
	}, edits, func(key string) (string, bool) {
		begin, rest, _ := strings.Cut(key, `\`)
		return roots.Replace(begin+`\`) + rest, true
	})
}

// importFile is a file for imports (UTF-16 with its mark) with remarks at its
// head. named is how it calls a key; false for one that it leaves out.
func importFile(
	remarks []string,
	edits []change.Edit,
	named func(key string) (string, bool),
) []byte {
	var b strings.Builder
	line := func(format string, values ...any) { fmt.Fprintf(&b, format+"\r\n", values...) }
	line("Windows Registry Editor Version 5.00")
	line("")
	for _, remark := range remarks {
		line("; %s", remark)
	}
	last, left := "", 0
	for _, e := range edits {
		key, value, ok := parse(e.Path)
		if !ok || strings.IndexFunc(key+value, unicode.IsControl) >= 0 {
			left++
			continue
		}
		called, ok := named(key)
		if !ok {
			continue
		}
		if key != last {
			line("")
			line("[%s]", called)
			last = key
		}
		name := quoted(value)
		if value == "" {
			name = "@"
		}
		if e.Before.Kind == change.Absent {
			line("%s=-", name)
		} else {
			line("%s=%s", name, imported(e.Before))
		}
	}
	if left > 0 {
		line("")
		line("; Not here: %d of the changed values. Their names hold control characters, which",
			left)
		line("; this form cannot write. The guide beside this file tells of them, and calmdawn")
		line("; undo takes them back.")
	}
	return marked(b.String())
}

// marked is a text in UTF-16 with its mark, as Windows reads it.
func marked(text string) []byte {
	raw := []byte{0xFF, 0xFE}
	for _, unit := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, unit)
	}
	return raw
}
