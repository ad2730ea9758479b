package loginscript

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/desktop"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
)

// lists finds what session managers launch by lists of their own.
type lists struct {
	*Scripts
	root     *machine.Root
	finder   *launch.Finder
	users    []account.User
	sessions []desktop.Session
	files    int // that were read of one list
}

// mostFiles bounds how many files one list leads to.
const mostFiles = 64

// read reads the lists of all managers that are known.
func (l *lists) read() {
	for _, m := range desktop.Managers {
		for _, list := range m.Lists {
			l.of(m, list)
		}
	}
}

// of reads one list: the machine's, and those that people have in its place or
// besides it.
func (l *lists) of(m desktop.Manager, list desktop.List) {
	why := ""
	if !l.used(m) {
		why = "nobody can log in to a session of " + m.Name + " on this machine"
	}
	first := list.Read != "lines" && list.Read != "files" && !list.Both
	shared := l.find("", list.Machine, first)
	people, own := 0, map[string]int{}
	for _, u := range l.users {
		if u.UID != 0 {
			people++
		}
		whyNot := why
		if whyNot == "" && u.NoLogin != "" {
			whyNot = "nobody logs in as " + u.Name + ", whose shell is " + u.NoLogin
		}
		for _, p := range l.find(u.Home, list.Home, first) {
			if u.UID != 0 {
				own[tail(p, list.Read)]++
			}
			l.list(m, list.Read, p, u.Name, whyNot)
		}
	}
	for _, p := range shared {
		whyNot := why
		if n := own[tail(p, list.Read)]; whyNot == "" && !list.Both && n > 0 && n == people {
			whyNot = "every user has a list of their own in its place"
		}
		l.list(m, list.Read, p, "", whyNot)
	}
}

// tail is what two lists have in common of which one stands for the other. Of
// one with a file for each profile that is the profile.
func tail(p, read string) string {
	if read == "lines" {
		return path.Base(path.Dir(p))
	}
	return ""
}

// used reports whether people can log in to a session of a manager, or have its
// program to start it by themselves.
func (l *lists) used(m desktop.Manager) bool {
	return slices.ContainsFunc(l.sessions, func(s desktop.Session) bool {
		return s.Manager.Name == m.Name
	}) || slices.ContainsFunc(m.Programs, func(name string) bool {
		return l.finder.IsFile(l.finder.Look(name, programPath))
	})
}

// find returns the files that patterns name below a folder, of all or of the
// first that names any.
func (l *lists) find(below string, patterns []string, first bool) (all []string) {
	for _, pattern := range patterns {
		all = append(all, l.match(path.Join("/", below, pattern))...)
		if first && len(all) > 0 {
			return all[:1]
		}
	}
	return all
}

// match returns the files of a pattern that has at most one part with a star,
// in the order of their names.
func (l *lists) match(pattern string) (all []string) {
	before, rest, found := pattern, "", false
	if i := strings.IndexByte(pattern, '*'); i >= 0 {
		before, found = pattern[:strings.LastIndexByte(pattern[:i], '/')], true
		pattern = pattern[len(before)+1:]
		pattern, rest, _ = strings.Cut(pattern, "/")
	}
	if !found {
		if l.root.IsFile(before) {
			return []string{before}
		}
		return nil
	}
	entries, err := l.root.ReadDir(before)
	l.Skip(before, err)
	for _, e := range entries {
		p := path.Join(before, e.Name, rest)
		if ok, err := path.Match(pattern, e.Name); ok && err == nil && !machine.Leftover(e.Name) &&
			l.root.IsFile(p) && len(all) < mostFiles {
			all = append(all, p)
		}
	}
	return all
}

// list adds what one file of a list launches. why says that it does not.
func (l *lists) list(m desktop.Manager, read, p, owner, why string) {
	text := ""
	if read != "files" {
		raw, err := l.root.ReadFile(p, maxText)
		if err != nil {
			l.Skip(p, err)
			return
		}
		text = string(raw)
	}
	var items []item.Item
	add := func(at, line, command string) {
		if it, ok := one(l.finder, at, owner, line, command); ok {
			items = append(items, it)
		}
	}
	l.files = 0
	switch read {
	case "script":
		items = scan(l.finder, p, owner, text)
	case "lines":
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
				add(p, line, strings.TrimPrefix(line, "@"))
			}
		}
	case "exec":
		l.directives(p, text, add)
	case "once":
		l.assignments(p, text, add)
	case "section":
		keys := section(text, "autostart")
		for _, key := range slices.Sorted(maps.Keys(keys)) {
			if command := keys[key]; command != "true" && command != "false" {
				add(p, key+" = "+command, command)
			}
		}
	case "files":
		add(p, path.Base(p), p)
	case "restored":
		restored(text, func(line, command string) { add(p, line, command) })
	case "cache":
		cached(text, func(line, command string) { add(p, line, command) })
	}
	for _, it := range items {
		it.Because = []string{"login to " + m.Name, it.File}
		if l.starts(it) && why == "" && it.State == item.On {
			l.starters[m.Name] = true
		}
		if why != "" {
			it.State, it.Why, it.Because = item.Off, why, nil
		}
		l.items = append(l.items, it)
	}
}

// starts reports whether a line has autostart entries launched.
func (l *lists) starts(it item.Item) bool {
	program := path.Base(it.Program)
	return slices.Contains([]string{
		"dex", "dex-autostart", "lxsession-xdg-autostart", "openbox-xdg-autostart", "lxsession",
	}, program) || strings.Contains(it.Command, "xdg-desktop-autostart.target") ||
		strings.Contains(it.Command, "-session.target")
}

// directives goes through the directives of a configuration of i3 or sway, and
// of those that it includes. Of blocks only those of bars launch something as a
// session begins.
func (l *lists) directives(p, text string, add func(at, line, command string)) {
	if l.files++; l.files > mostFiles {
		return
	}
	depth, bar := 0, false
	text = strings.ReplaceAll(text, "\\\n", " ")
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		word, rest, _ := strings.Cut(line, " ")
		rest = strings.TrimSpace(rest)
		switch {
		case depth == 1 && bar && word == "status_command":
			add(p, line, rest)
		case depth > 0:
		case word == "include":
			l.include(p, rest, add, l.directives)
		case word == "exec" || word == "exec_always":
			for strings.HasPrefix(rest, "--") {
				_, rest, _ = strings.Cut(rest, " ")
				rest = strings.TrimSpace(rest)
			}
			if quote := rest; len(quote) > 1 && quote[0] == '"' && strings.HasSuffix(quote, `"`) &&
				strings.Count(quote, `"`) == 2 {
				rest = quote[1 : len(quote)-1]
			}
			add(p, line, rest)
		}
		if strings.HasSuffix(line, "{") {
			bar = depth == 0 && word == "bar"
			depth++
		}
		if strings.HasPrefix(line, "}") {
			depth = max(0, depth-1)
		}
	}
}

// include follows an include of one file or pattern, beside the file that has
// it where the path is not absolute.
func (l *lists) include(
	p, to string,
	add func(at, line, command string),
	read func(p, text string, add func(at, line, command string)),
) {
	if strings.ContainsAny(to, "$`~(") {
		return // what a shell would make of it is not known
	}
	if !path.IsAbs(to) {
		to = path.Join(path.Dir(p), to)
	}
	for _, file := range l.match(path.Clean(to)) {
		if text, err := l.root.ReadFile(file, maxText); err == nil {
			read(file, string(text), add)
		} else {
			l.Skip(file, err)
		}
	}
}

// assignments goes through a configuration of Hyprland.
func (l *lists) assignments(p, text string, add func(at, line, command string)) {
	if l.files++; l.files > mostFiles {
		return
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		key, value, ok := strings.Cut(line, "=")
		value = strings.TrimSpace(value)
		switch key = strings.TrimSpace(key); {
		case !ok || strings.HasPrefix(line, "#"):
		case key == "source":
			l.include(p, value, add, l.assignments)
		case key == "exec-once" || key == "exec":
			if strings.HasPrefix(value, "[") { // rules for its window
				_, value, _ = strings.Cut(value, "]")
			}
			add(p, line, strings.TrimSpace(value))
		}
	}
}

// section are the keys of a section of a file of settings.
func section(text, name string) map[string]string {
	keys, inside := map[string]string{}, false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			inside = line == "["+name+"]"
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		if inside && ok && !strings.HasPrefix(line, "#") {
			keys[strings.TrimSpace(key)] = strings.TrimSpace(value)
		}
	}
	return keys
}

// mostRestored bounds the programs of one restored session.
const mostRestored = 200

// restored goes through what Plasma starts again of the last session, unless it
// is set to begin with an empty one.
func restored(text string, add func(line, command string)) {
	mode := section(text, "General")["loginMode"]
	if mode == "emptySession" || mode == "default" {
		return
	}
	name := "Session: saved at previous logout"
	if mode == "restoreSavedSession" {
		name = "Session: saved by user"
	}
	keys := section(text, name)
	for n := 1; n <= mostRestored; n++ {
		command := keys[fmt.Sprintf("restartCommand%d", n)]
		if command == "" {
			break
		}
		add(fmt.Sprintf("restartCommand%d=%s", n, command), strings.ReplaceAll(command, ",", " "))
	}
}

// cached goes through what Xfce starts again of the last session.
func cached(text string, add func(line, command string)) {
	keys := section(text, "Session: Default")
	for n := range mostRestored {
		name := fmt.Sprintf("Client%d_RestartCommand", n)
		if command := keys[name]; command != "" {
			add(name+"="+command, strings.ReplaceAll(command, ",", " "))
		}
	}
}
