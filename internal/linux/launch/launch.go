// Package launch finds, in the line with which something is launched, the
// program that is really meant: behind wrappers, shells and application stores.
// Where that cannot be told it says so; it never guesses that a program is
// missing.
package launch

import (
	"path"
	"slices"
	"strings"
	"sync"

	"calmdawn/internal/machine"
)

// A Program is what a launch line comes down to.
type Program struct {
	Path    string // of the program meant, inside the machine; empty where it cannot be told
	Missing string // what is not there and without which nothing runs; empty otherwise
}

// A Finder resolves launch lines of one machine; it looks each program up once.
// It can be used by several goroutines.
type Finder struct {
	root  *machine.Root
	files sync.Map // path to bool: whether it is a file
}

// On returns a finder for the programs of a machine as it is now.
func On(r *machine.Root) *Finder { return &Finder{root: r} }

// IsFile reports whether p leads to a regular file.
func (f *Finder) IsFile(p string) bool {
	is, known := f.files.Load(p)
	if !known {
		is, _ = f.files.LoadOrStore(p, f.root.IsFile(p))
	}
	return is.(bool)
}

// Look looks a bare program name up in folders, in their order; a path is
// returned as it is. What is not found comes back as the bare name.
func (f *Finder) Look(word string, folders []string) string {
	if strings.Contains(word, "/") {
		return word
	}
	for _, folder := range folders {
		if p := path.Join(folder, word); f.IsFile(p) {
			return p
		}
	}
	return word
}

// Resolve follows the words of a launch line. folders are where bare names are
// looked up.
func (f *Finder) Resolve(words, folders []string) Program {
	for depth := 0; len(words) > 0 && depth < 8; depth++ {
		word := words[0]
		if word == "" || strings.ContainsAny(word, "$%`*?") {
			return Program{}
		}
		p := f.Look(word, folders)
		if !path.IsAbs(p) || !f.IsFile(p) {
			return Program{Path: p, Missing: p}
		}
		if missing := app(f.root, words); missing != "" {
			return Program{Path: p, Missing: missing}
		}
		inner, script := unwrap(words)
		switch {
		case script != "" && !path.IsAbs(script):
			return Program{Path: p}
		case script != "" && !f.IsFile(script):
			return Program{Path: script, Missing: script}
		case script != "":
			return Program{Path: script}
		case len(inner) == 0:
			return Program{Path: p}
		}
		words = inner
	}
	return Program{}
}

// Arguments returns the words behind the program that a launch line comes down
// to, as [Finder.Resolve] finds it.
func Arguments(words []string) []string {
	for depth := 0; len(words) > 0 && depth < 8; depth++ {
		inner, script := unwrap(words)
		switch {
		case script != "":
			return words[slices.Index(words, script)+1:]
		case len(inner) == 0:
			return words[1:]
		}
		words = inner
	}
	return nil
}

// unwrap returns the words behind a wrapper, or the script that an interpreter
// is given.
func unwrap(words []string) (inner []string, script string) {
	args := words[1:]
	switch path.Base(words[0]) {
	case "env":
		for len(args) > 0 {
			name, _, assigns := strings.Cut(args[0], "=")
			switch {
			case args[0] == "-u" || args[0] == "-C":
				args = args[min(2, len(args)):]
			case strings.HasPrefix(args[0], "-") || assigns && name != "":
				args = args[1:]
			default:
				return args, ""
			}
		}
	case "nohup", "setsid", "dbus-run-session", "dbus-launch", "systemd-cat":
		if len(args) > 0 && args[0] == "--" {
			args = args[1:]
		}
		if len(args) > 0 && !strings.HasPrefix(args[0], "-") {
			return args, ""
		}
	case "nice", "ionice", "chrt", "timeout", "stdbuf":
		return behindOptions(path.Base(words[0]), args), ""
	case "sh", "bash", "dash", "ash", "zsh", "ksh":
		for i, a := range args {
			if !strings.HasPrefix(a, "-") {
				return nil, a
			}
			if strings.HasSuffix(a, "c") && !strings.HasPrefix(a, "--") && i+1 < len(args) {
				return Shell(args[i+1]), ""
			}
		}
	case "python3", "python", "perl", "ruby", "node":
		if len(args) > 0 && path.IsAbs(args[0]) {
			return nil, args[0]
		}
	}
	return nil, ""
}

// behindOptions skips options whose form is plain; nil where it is not.
func behindOptions(wrapper string, args []string) []string {
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		takesNext := len(args[0]) == 2 && strings.Contains("ncksoei", args[0][1:])
		if !takesNext && !strings.Contains(args[0], "=") && len(args[0]) < 3 {
			return nil
		}
		args = args[1:]
		if takesNext {
			args = args[min(1, len(args)):]
		}
	}
	if wrapper == "timeout" || wrapper == "chrt" {
		args = args[min(1, len(args)):]
	}
	return args
}

// unplain are words with which a shell does something else than start a program
// of that name.
var unplain = []string{
	"if", "for", "while", "until", "case", "cd", "test", "[", "[[", ".", "source", "eval", "set",
	"export",
	"echo", "printf", ":", "true", "false", "trap", "ulimit", "umask", "wait", "read", "exit",
	"return", "unset", "shift", "command",
	"type", "local", "readonly", "alias", "kill", "pwd", "sleep", "until", "!", "{", "(",
}

// Shell returns the words of the first command in a shell's text, where that
// plainly is a program; nil otherwise. A text in which that program's failure
// is provided for tells nothing.
func Shell(text string) []string {
	if strings.Contains(text, "||") {
		return nil
	}
	if end := strings.IndexAny(text, ";|&<>\n"); end >= 0 {
		text = text[:end]
	}
	words := Split(text)
	for len(words) > 0 {
		name, _, assigns := strings.Cut(words[0], "=")
		if words[0] != "exec" && !(assigns && name != "" && !strings.ContainsAny(name, "/$")) {
			break
		}
		words = words[1:]
	}
	if len(words) == 0 || slices.Contains(unplain, words[0]) ||
		strings.ContainsAny(words[0], "$`*?[]{}()~!\\") {
		return nil
	}
	return words
}

// Split parts a line into words, minding quotes and backslashes.
func Split(line string) []string {
	var words []string
	var b strings.Builder
	var quote rune
	inWord, escaped := false, false
	for _, c := range line {
		switch {
		case escaped:
			b.WriteRune(c)
			escaped = false
		case c == '\\' && quote != '\'':
			escaped, inWord = true, true
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote, inWord = c, true
		case quote == 0 && (c == ' ' || c == '\t' || c == '\n'):
			if inWord {
				words = append(words, b.String())
				b.Reset()
				inWord = false
			}
		default:
			b.WriteRune(c)
			inWord = true
		}
	}
	if inWord {
		words = append(words, b.String())
	}
	return words
}

// app names the application of a store that a line would run and that is not
// installed.
func app(r *machine.Root, words []string) string {
	if len(words) < 3 || words[1] != "run" {
		return ""
	}
	i := slices.IndexFunc(words[2:], func(w string) bool { return !strings.HasPrefix(w, "-") })
	if i < 0 {
		return ""
	}
	name := words[2+i]
	if name == "" || strings.ContainsAny(name, "/$%") {
		return ""
	}
	there := func(p string) bool { _, err := r.Stat(p); return err == nil }
	switch path.Base(words[0]) {
	case "flatpak":
		if there("/var/lib/flatpak/app") && !there("/var/lib/flatpak/app/"+name) &&
			!ofAUser(r, name) {
			return "the application " + name
		}
	case "snap":
		snap, _, _ := strings.Cut(name, ".")
		if there("/snap") && !there("/snap/"+snap) {
			return "the application " + snap
		}
	}
	return ""
}

// ofAUser reports whether some user has installed an application for
// themselves.
func ofAUser(r *machine.Root, name string) bool {
	homes, err := r.ReadDir("/home")
	if err != nil {
		return true // it cannot be told
	}
	return slices.ContainsFunc(homes, func(h machine.Entry) bool {
		_, err := r.Stat(path.Join("/home", h.Name, ".local/share/flatpak/app", name))
		return err == nil
	})
}
