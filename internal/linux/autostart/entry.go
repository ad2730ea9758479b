// Package autostart reads the programs that a desktop launches when somebody
// logs in, and plans their switching. They follow the freedesktop.org Desktop
// Application Autostart and Desktop Entry specifications.
package autostart

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

const group = "Desktop Entry"

// An entry holds the keys of the [Desktop Entry] group that decide and
// describe.
type entry struct {
	keys   map[string]string // text keys: the first counts
	hidden bool              // the last Hidden counts
}

// parse reads a desktop entry. An error says why no desktop launches it.
func parse(text []byte) (entry, error) {
	e := entry{keys: map[string]string{}}
	if !utf8.Valid(text) {
		return e, errors.New("it is not UTF-8")
	}
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	inside, seen := false, false
	for number, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '[':
			inside = line == "["+group+"]"
			seen = seen || inside
		case inside:
			key, value, ok := strings.Cut(line, "=")
			if !ok {
				continue
			}
			key, value = strings.TrimSpace(key), strings.TrimSpace(value)
			if key == "Hidden" {
				on, err := boolean(value)
				if err != nil {
					return e, fmt.Errorf("line %d: %w", number+1, err)
				}
				e.hidden = on
			}
			if _, twice := e.keys[key]; !twice {
				e.keys[key] = value
			}
		}
	}
	if !seen {
		return e, errors.New("it has no [" + group + "] group")
	}
	return e, nil
}

// localised returns a text in a language such as "de_AT.UTF-8@euro", as near to
// it as the entry has.
func (e entry) localised(key, language string) string {
	rest, modifier, _ := strings.Cut(language, "@")
	rest, _, _ = strings.Cut(rest, ".")
	short, _, _ := strings.Cut(rest, "_")
	for _, name := range []string{rest + "@" + modifier, rest, short + "@" + modifier, short} {
		if text := e.keys[key+"["+name+"]"]; text != "" && short != "" {
			return text
		}
	}
	return e.keys[key]
}

func boolean(s string) (bool, error) {
	switch strings.ToLower(s) {
	case "true", "1", "yes", "y", "t", "on":
		return true, nil
	case "false", "0", "no", "n", "f", "off":
		return false, nil
	}
	return false, fmt.Errorf("%q is neither true nor false", s)
}

// list splits a value of several strings.
func list(value string) []string {
	return strings.FieldsFunc(value, func(r rune) bool { return r == ';' })
}

// A program is held back by a shell that sleeps before it; what its Exec was
// stands beside it in a key of ours.
var (
	held  = regexp.MustCompile(`^/bin/sh -c "sleep ([0-9]+); exec [^"]*"$`)
	plain = regexp.MustCompile(`^[A-Za-z0-9_@+=:,./ -]+$`)
	// what stands for files and icons; there are none at login
	argument = regexp.MustCompile(` ?%[fFuUdDnNickvm]\b`)
)

const keptExec = "X-Calmdawn-Exec"

// command returns the Exec value that is meant, and by how many seconds it is
// held back.
func (e entry) command() (string, int) {
	m := held.FindStringSubmatch(e.keys["Exec"])
	if m == nil || e.keys[keptExec] == "" {
		return e.keys["Exec"], 0
	}
	seconds, _ := strconv.Atoi(m[1])
	return e.keys[keptExec], seconds
}

// bare is a launch line without what stands for files and icons.
func bare(command string) string {
	return strings.TrimSpace(argument.ReplaceAllString(command, ""))
}

// setDelay returns the text of a desktop entry whose program is held back by so
// many seconds, 0 for not at all. The entry is not hidden then. Every other
// byte as it was.
func setDelay(text []byte, seconds int) ([]byte, error) {
	d, err := parse(text)
	if err != nil {
		return nil, err
	}
	command, now := d.command()
	bare := bare(command)
	if seconds > 0 && !plain.MatchString(bare) {
		return nil, fmt.Errorf("its launch line is too involved to be held back safely: %s",
			command)
	}
	if seconds != now {
		lines := strings.SplitAfter(string(text), "\n")
		inside, done := false, false
		kept := lines[:0:0]
		for _, line := range lines {
			trimmed := strings.TrimSpace(strings.TrimPrefix(line, "\ufeff"))
			ending := line[len(strings.TrimRight(line, "\r\n")):]
			key, _, _ := strings.Cut(trimmed, "=")
			if strings.HasPrefix(trimmed, "[") {
				inside = trimmed == "["+group+"]"
			}
			switch key = strings.TrimSpace(key); {
			case inside && key == keptExec:
				continue
			case inside && key == "Exec" && !done && seconds > 0:
				if ending == "" {
					ending = "\n"
				}
				line = fmt.Sprintf("Exec=/bin/sh -c \"sleep %d; exec %s\"%s%s=%s%s", seconds, bare,
					ending, keptExec, command, ending)
				done = true
			case inside && key == "Exec" && !done:
				line, done = "Exec="+command+ending, true
			}
			kept = append(kept, line)
		}
		text = []byte(strings.Join(kept, ""))
	}
	if d.hidden {
		return setHidden(text, false)
	}
	return text, nil
}

// switches are keys that switch an entry off besides Hidden, with the value
// that switches it on.
var switches = map[string]bool{
	"X-GNOME-Autostart-enabled": true, "X-systemd-skip": false,
}

// switchedOn returns the text of a desktop entry that none of its switches has
// off, every other byte as it was.
func switchedOn(text []byte) []byte {
	lines := strings.SplitAfter(string(text), "\n")
	inside := false
	seen := map[string]bool{} // the first counts
	for i, line := range lines {
		trimmed := strings.TrimSpace(strings.TrimPrefix(line, "\ufeff"))
		if strings.HasPrefix(trimmed, "[") {
			inside = trimmed == "["+group+"]"
		}
		key, value, _ := strings.Cut(trimmed, "=")
		key = strings.TrimSpace(key)
		on, is := switches[key]
		if !inside || !is || seen[key] {
			continue
		}
		seen[key] = true
		if now, err := boolean(strings.TrimSpace(value)); err == nil && now != on {
			lines[i] = fmt.Sprintf("%s=%v%s", key, on, line[len(strings.TrimRight(line, "\r\n")):])
		}
	}
	return []byte(strings.Join(lines, ""))
}

// setHidden returns the text of a desktop entry with Hidden set, every other
// byte as it was.
func setHidden(text []byte, hidden bool) ([]byte, error) {
	ending := "\n"
	if bytes.Contains(text, []byte("\r\n")) {
		ending = "\r\n"
	}
	value := fmt.Sprintf("Hidden=%v", hidden)
	lines := strings.SplitAfter(string(text), "\n")
	inside, last, behind := false, -1, -1
	for i, line := range lines {
		trimmed := strings.TrimSpace(strings.TrimPrefix(line, "\ufeff"))
		key, _, isKey := strings.Cut(trimmed, "=")
		switch {
		case strings.HasPrefix(trimmed, "["):
			inside = trimmed == "["+group+"]"
			if inside {
				behind = i
			}
		case inside && isKey && !strings.HasPrefix(trimmed, "#"):
			behind = i
			if strings.TrimSpace(key) == "Hidden" {
				last = i
			}
		}
	}
	switch {
	case last >= 0:
		tail := lines[last][len(strings.TrimRight(lines[last], "\r\n")):]
		lines[last] = value + tail
	case behind >= 0:
		if !strings.HasSuffix(lines[behind], "\n") {
			lines[behind] += ending
		}
		lines[behind] += value + ending
	default:
		return nil, errors.New("it has no [" + group + "] group")
	}
	return []byte(strings.Join(lines, "")), nil
}
