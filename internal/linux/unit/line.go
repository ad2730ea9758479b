package unit

import (
	"slices"
	"strconv"
	"strings"

	"calmdawn/internal/linux/launch"
)

// A launchLine is one value of ExecStart= and its like, systemd.service(5).
type launchLine struct {
	flags    string   // the signs before the program
	words    []string // of the first command of the line
	commands int      // how many there are, with ; between them
}

// What the service manager does with a launch line that it cannot take.
type fault int

const (
	fine    fault = iota
	ignored       // the line is as if it were not there
	refused       // the unit is
)

// readLaunch reads a launch line as the service manager does. Specifiers are
// left as they are.
func readLaunch(value string) (line launchLine, wrong fault) {
	rest := value
	for first := true; ; first = false {
		word, after, ok := execWord(rest)
		if !ok { // before the program's name the line alone is lost
			return line, ignored
		}
		if word == "" && strings.TrimSpace(rest) == "" {
			if first {
				return line, ignored
			}
			return line, fine
		}
		program := strings.TrimLeft(word, "@-:+!|")
		flags := word[:len(word)-len(program)]
		bad := refused
		if strings.Contains(flags, "-") {
			bad = ignored
		}
		relative := !strings.HasPrefix(program, "/")
		if program == "" || strings.HasSuffix(program, "/") || !specified(program) ||
			relative && strings.Contains(program, "/") && !strings.HasPrefix(program, "%") {
			return line, bad
		}
		words := []string{program}
		rest = after
		more := false
		for strings.TrimSpace(rest) != "" {
			trimmed := strings.TrimLeft(rest, " \t")
			if trimmed[0] == ';' && (len(trimmed) == 1 || trimmed[1] == ' ' || trimmed[1] == '\t') {
				rest, more = trimmed[1:], true
				break
			}
			if strings.HasPrefix(trimmed, `\;`) && strings.TrimLeft(trimmed[2:], " \t") !=
				trimmed[2:] {
				words, rest = append(words, ";"), trimmed[2:]
				continue
			}
			word, after, ok := execWord(rest)
			if !ok || !specified(word) {
				return line, bad
			}
			words, rest = append(words, word), after
		}
		if line.commands++; line.commands == 1 {
			line.flags, line.words = flags, words
		}
		if !more {
			return line, fine
		}
	}
}

// execWord takes the first word off a launch line, its quotes and escapes
// undone; false where a quote is not closed.
func execWord(s string) (word, rest string, ok bool) {
	s = strings.TrimLeft(s, " \t\n")
	var b strings.Builder
	quote := byte(0)
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '\\' && i+1 < len(s):
			text, n := escape(s[i+1:])
			b.WriteString(text)
			i += n
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote == 0 && (c == ' ' || c == '\t' || c == '\n'):
			return b.String(), s[i:], true
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), "", quote == 0
}

// escape is what stands for a backslash and what follows it, and how many
// letters of that belong to it. An escape that there is not stays as it is.
func escape(s string) (text string, n int) {
	if at := strings.IndexByte(`abfnrtv\"'s`, s[0]); at >= 0 {
		return "\a\b\f\n\r\t\v\\\"' "[at : at+1], 1
	}
	for lead, digits := range map[byte]int{'x': 2, 'u': 4, 'U': 8} {
		if s[0] == lead && len(s) > digits {
			if v, err := strconv.ParseUint(s[1:1+digits], 16, 32); err == nil && v > 0 {
				if lead == 'x' {
					return string([]byte{byte(v)}), 1 + digits
				}
				return string(rune(v)), 1 + digits
			}
		}
	}
	if len(s) >= 3 {
		if v, err := strconv.ParseUint(s[:3], 8, 8); err == nil && v > 0 {
			return string([]byte{byte(v)}), 3
		}
	}
	return `\` + s[:1], 1
}

// launchKeys are the settings whose values are launch lines.
var launchKeys = []string{
	"ExecCondition", "ExecStartPre", "ExecStart", "ExecStartPost", "ExecReload", "ExecStop",
	"ExecStopPost",
}

// withoutFaults takes out the launch lines that the service manager ignores,
// and says why it refuses the unit for one, if it does. The settings are its to
// keep.
func withoutFaults(settings []setting) (kept []setting, why string) {
	kept = settings[:0]
	for _, s := range settings {
		if s.section == "Service" && slices.Contains(launchKeys, s.key) && s.value != "" {
			_, wrong := readLaunch(s.value)
			if wrong == refused && why == "" {
				why = "the service manager refuses it: " + s.key + "= cannot be read"
			}
			if wrong != fine {
				continue
			}
		}
		kept = append(kept, s)
	}
	return kept, why
}

// resolve finds the program that a launch line means.
func (t *Tree) resolve(value string) launch.Program {
	line, _ := readLaunch(value)
	words := line.words
	if strings.Contains(line.flags, "@") && len(words) > 1 {
		words = append(words[:1:1], words[2:]...) // the name that the program is told to have
	}
	return t.finder.Resolve(words, programPath)
}
