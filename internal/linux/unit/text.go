package unit

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// A setting is one "Key=Value" of a unit file, in its section.
type setting struct{ section, key, value string }

const maxLine = 1 << 20 // a longer line makes the service manager refuse the whole unit

// parse reads the text of a unit file or drop-in, systemd.syntax(7). An error
// says why the service manager refuses it. A line ends at a carriage return and
// at a NUL too, as it does for the service manager.
func parse(data []byte) ([]setting, error) {
	text := strings.TrimPrefix(string(data), "\ufeff")
	if strings.ContainsAny(text, "\r\x00") {
		text = lineEnds.Replace(text)
	}
	large := len(text) > 64<<10
	valid := utf8.ValidString(text)
	found := make([]setting, 0, strings.Count(text, "="))
	section := ""
	var pending strings.Builder // the lines so far of one that goes on
	continued := false
	for number := 1; text != ""; number++ {
		var line string
		line, text, _ = strings.Cut(text, "\n")
		if len(line) > maxLine {
			return nil, fmt.Errorf("line %d is longer than 1 MiB", number)
		}
		if start := strings.TrimLeft(line,
			" \t"); start != "" && (start[0] == '#' || start[0] == ';') {
			continue // inside a continuation too
		}
		if !valid && !utf8.ValidString(line) {
			return nil, fmt.Errorf("line %d is not UTF-8", number)
		}
		rest, more := strings.CutSuffix(line, "\\")
		if more && text != "" {
			pending.WriteString(rest)
			pending.WriteByte(' ')
			if continued = true; pending.Len() > maxLine {
				return nil, fmt.Errorf("line %d: what it continues is longer than 1 MiB", number)
			}
			continue
		}
		if continued {
			rest = pending.String() + rest
			pending.Reset()
			continued = false
		}
		rest = strings.TrimSpace(rest)
		switch {
		case rest == "":
		case rest[0] == '[':
			if rest[len(rest)-1] != ']' {
				return nil, fmt.Errorf("line %d: the section heading is not closed", number)
			}
			section = rest[1 : len(rest)-1]
		case section != "":
			if key, value, ok := strings.Cut(rest, "="); ok {
				s := setting{section, strings.TrimSpace(key), strings.TrimSpace(value)}
				if large { // of which little may be worth keeping
					s = setting{
						strings.Clone(s.section), strings.Clone(s.key), strings.Clone(s.value),
					}
				}
				found = append(found, s)
			}
		}
	}
	return found, nil
}

// lineEnds makes one newline of each end of a line.
var lineEnds = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\x00", "\n")

// words splits a list of unit names. Quotes stay part of a name, as they do for
// the service manager.
func words(value string) []string { return strings.Fields(value) }

// unescape undoes the escaping of unit names: "-" for "/", "\x2d" for "-".
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		var c byte
		switch {
		case s[i] == '-':
			b.WriteByte('/')
		case strings.HasPrefix(s[i:], `\x`) && len(s) >= i+4:
			if _, err := fmt.Sscanf(s[i+2:i+4], "%02x", &c); err != nil {
				return s
			}
			b.WriteByte(c)
			i += 3
		default:
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

// A unitName is a name taken apart: "mast@2.service" is prefix "mast", instance
// "2", suffix "service".
type unitName struct {
	prefix, instance, suffix string
	templated                bool // there is an "@"
}

func splitName(name string) unitName {
	var n unitName
	dot := strings.LastIndex(name, ".")
	if dot < 0 {
		return unitName{prefix: name}
	}
	n.prefix, n.suffix = name[:dot], name[dot+1:]
	if at := strings.Index(n.prefix, "@"); at >= 0 {
		n.templated = true
		n.prefix, n.instance = n.prefix[:at], n.prefix[at+1:]
	}
	return n
}

func (n unitName) isTemplate() bool { return n.templated && n.instance == "" }

func (n unitName) template() string { return n.prefix + "@." + n.suffix }

func (n unitName) withInstance(instance string) string {
	return n.prefix + "@" + instance + "." + n.suffix
}

// validName reports whether a name can be a unit's, systemd.unit(5).
func validName(name string) bool {
	if len(name) > 255 {
		return false
	}
	switch splitName(name).suffix {
	case "service",
		"socket",
		"target",
		"timer",
		"path",
		"mount",
		"automount",
		"swap",
		"slice",
		"scope",
		"device":
	default:
		return false
	}
	for _, r := range name {
		ok := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune(`:-_.\@`, r)
		if !ok {
			return false
		}
	}
	return true
}
