package launch

import (
	"encoding/base64"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"
)

// inside is the line that a wrapper launches in turn; empty where the program
// is none, or launches nothing that can be told.
func (f Finder) inside(l Line, wrapper, rest string) string {
	rest = strings.TrimSpace(rest)
	switch wrapper {
	case "rundll32":
		return library(rest)
	case "regsvr32":
		return quotedFile(withoutSwitches(rest, ""))
	case "cmd":
		for i := range rest {
			if i+2 <= len(rest) && slices.Contains([]string{"/c", "/k", "/r"},
				Small(rest[i:i+2])) {
				line := f.unquoted(l, strings.TrimSpace(rest[i+2:]))
				return outside(f.afterStart(l, line))
			}
		}
	case "wscript", "cscript", "mshta":
		file := quotedFile(withoutSwitches(rest, ""))
		if _, page := protocolOf(strings.Trim(file, `"`)); page {
			return "" // a script within the line, or from a network
		}
		return file
	case "powershell", "pwsh":
		return script(rest)
	case "conhost":
		return withoutSwitches(rest, "--")
	case "explorer":
		if strings.HasPrefix(rest, "/") ||
			strings.Contains(Small(strings.SplitN(rest, `\`, 2)[0]), "shell:") {
			return "" // it shows a folder
		}
		return quotedFile(rest)
	}
	return ""
}

// library is the one whose function a line runs; the function follows a comma,
// or a blank.
func library(rest string) string {
	name, _, _ := strings.Cut(rest, ",")
	if after, ok := strings.CutPrefix(rest, `"`); ok {
		name, _, _ = strings.Cut(after, `"`)
	} else if i := strings.Index(Small(name), ".dll "); i >= 0 {
		name = name[:i+len(".dll")]
	}
	if name = strings.TrimSpace(name); name != "" && path.Ext(base(name)) == "" {
		name += ".dll"
	}
	return `"` + name + `"`
}

// unquoted is a line as the command interpreter takes it, without the quotes
// around all of it. It leaves those that stand around the name of a file.
func (f Finder) unquoted(l Line, line string) string {
	if !strings.HasPrefix(line, `"`) {
		return line
	}
	last := strings.LastIndex(line, `"`)
	if last == 0 {
		return line[1:]
	}
	name := line[1:last]
	if !strings.ContainsAny(name, `"&<>()@^|`) &&
		(last < len(line)-1 || f.named(l, name).Fate == Found) {
		return line
	}
	return name + line[last+1:]
}

// afterStart is what the shell's own word for starting something starts.
func (f Finder) afterStart(l Line, line string) string {
	rest, ok := strings.CutPrefix(Small(line), "start ")
	if !ok {
		return line
	}
	rest = strings.TrimSpace(line[len(line)-len(rest):])
	if strings.HasPrefix(rest, `"`) { // a title
		_, rest, _ = strings.Cut(rest[1:], `"`)
	}
	folder := ""
	for {
		rest = strings.TrimSpace(rest)
		if !strings.HasPrefix(rest, "/") {
			break
		}
		var word string
		word, rest, _ = strings.Cut(rest, " ")
		switch word = Small(word); {
		case word == "/d":
			folder, rest = cutWord(strings.TrimSpace(rest))
		case strings.HasPrefix(word, `/d"`), strings.HasPrefix(word, "/d") && len(word) > 4:
			folder = strings.Trim(word[2:], `"`)
		case word == "/affinity", word == "/node":
			_, rest = cutWord(strings.TrimSpace(rest))
		}
	}
	if name, args := cutWord(rest); folder != "" && !strings.ContainsAny(name, `\/:`) {
		if there := folder + `\` + name; f.named(l, there).Fate == Found {
			return `"` + there + `"` + args
		}
	}
	return rest
}

// Small has the letters of ASCII small, and as many bytes as the text: what is
// found in it is at the same place there.
func Small(text string) string {
	b := []byte(text)
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[i] = c + 'a' - 'A'
		}
	}
	return string(b)
}

// cutWord cuts a line behind its first word, which may have quotes.
func cutWord(line string) (word, rest string) {
	if after, ok := strings.CutPrefix(line, `"`); ok {
		word, rest, _ = strings.Cut(after, `"`)
		return word, rest
	}
	if i := strings.IndexAny(line, " \t"); i >= 0 {
		return line[:i], line[i:]
	}
	return line, ""
}

// builtIn are the words that the command interpreter carries out by itself, as
// its own help lists them.
var builtIn = strings.Fields("assoc break cd chdir cls color copy date del dir echo endlocal " +
	"erase exit for ftype goto if md mkdir mklink move path pause popd prompt pushd rd rem ren " +
	"rename rmdir set setlocal shift time title type ver verify vol")

// outside is a line for the command interpreter without what goes before its
// first word; empty where that is its own.
func outside(line string) string {
	line = strings.TrimLeft(line, "@( \t")
	word, rest, _ := strings.Cut(line, " ")
	word = Small(strings.TrimRight(word, ".:/\\"))
	switch {
	case word == "call":
		return outside(strings.TrimSpace(rest))
	case slices.Contains(builtIn, word) || strings.HasPrefix(word, "echo."):
		return ""
	}
	return line
}

// withValue are the parameters of PowerShell, but for those that are looked
// for, which a value follows; each may be written shorter.
var withValue = []string{
	"-configurationname", "-encodedcommand", "-ec", "-executionpolicy", "-ep", "-inputformat",
	"-outputformat", "-psconsolefile", "-version", "-windowstyle", "-workingdirectory", "-wd",
}

// command finds the file at the beginning of a command of PowerShell. It is
// called by its name, by the call operator, or by the word that starts a
// program.
var command = regexp.MustCompile(`(?i)^["\s]*(?:(?:&|\.|start-process|start|saps)\s+)?` +
	`(?:-filepath\s+)?(?:'([^']+)'|\\?"([^"]+?)\\?"|([^\s'"&;|]+))`)

// script is the file that a line of PowerShell runs; empty where it runs none.
func script(rest string) string {
	for {
		rest = strings.TrimSpace(rest)
		word, after := cutWord(rest)
		name := Small(strings.Replace(word, "/", "-", 1))
		is := func(full string, least int) bool {
			return len(name) >= least && strings.HasPrefix(full, name)
		}
		switch {
		case name == "":
			return ""
		case is("-file", 2):
			return quotedFile(strings.TrimSpace(after))
		case !strings.HasPrefix(name, "-"), is("-command", 2):
			if strings.HasPrefix(name, "-") {
				rest = strings.TrimSpace(after)
			}
			m := command.FindStringSubmatch(rest)
			for _, found := range m[min(1, len(m)):] {
				if strings.Contains(found, `\`) && path.Ext(base(found)) != "" {
					return `"` + strings.TrimSpace(found) + `"`
				}
			}
			return ""
		}
		rest = after
		if slices.ContainsFunc(withValue, func(full string) bool { return is(full, 2) }) {
			_, rest = cutWord(strings.TrimSpace(after))
		}
	}
}

// Encoded is the text of a command that a line has in base64; empty where it
// has none.
func Encoded(line string) string {
	fields := strings.Fields(line)
	for i, word := range fields {
		word = Small(strings.Replace(word, "/", "-", 1))
		if len(word) < 2 || !strings.HasPrefix("-encodedcommand", word) || i+1 == len(fields) {
			continue
		}
		raw, err := base64.StdEncoding.DecodeString(fields[i+1])
		if err != nil || len(raw) < 4 {
			return ""
		}
		units := make([]uint16, len(raw)/2)
		for n := range units {
			units[n] = uint16(raw[2*n]) | uint16(raw[2*n+1])<<8
		}
		return string(utf16.Decode(units))
	}
	return ""
}

// withoutSwitches is a line without the switches that it begins with.
func withoutSwitches(line, sign string) string {
	for {
		line = strings.TrimSpace(line)
		isSwitch := strings.HasPrefix(line, "/") || strings.HasPrefix(line, "-")
		if sign != "" {
			isSwitch = strings.HasPrefix(line, sign)
		}
		if !isSwitch {
			return line
		}
		_, rest, ok := strings.Cut(line, " ")
		if !ok {
			return ""
		}
		line = rest
	}
}

// quotedFile is a line that names one file, as one that names no arguments.
func quotedFile(line string) string {
	if strings.HasPrefix(line, `"`) || line == "" {
		return line
	}
	name, _, _ := strings.Cut(line, " ")
	return name
}
