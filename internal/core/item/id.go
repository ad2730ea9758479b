package item

import (
	"fmt"
	"strings"
)

// SafeID makes an id of a text that may hold anything. ASCII letters, digits
// and "._-+@:/#" stay. Any other byte and the % become % and two digits, as in
// URIs (RFC 3986, section 2.1). No two texts share an id, and nothing in one
// means anything to a shell.
func SafeID(text string) string {
	if strings.IndexFunc(text, unsafe) < 0 {
		return text
	}
	var b strings.Builder
	for _, c := range []byte(text) {
		if unsafe(rune(c)) {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// RawID is the text of which [SafeID] made an id; any other text it returns as
// it is.
func RawID(id string) string {
	if !strings.Contains(id, "%") {
		return id
	}
	var b strings.Builder
	for i := 0; i < len(id); i++ {
		if id[i] != '%' {
			b.WriteByte(id[i])
			continue
		}
		var c byte
		if n, err := fmt.Sscanf(id[i:min(i+3, len(id))], "%%%02X", &c); err != nil || n != 1 {
			return id
		}
		b.WriteByte(c)
		i += 2
	}
	if raw := b.String(); SafeID(raw) == id {
		return raw
	}
	return id
}

func unsafe(c rune) bool {
	return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
		strings.ContainsRune("._-+@:/#", c))
}
