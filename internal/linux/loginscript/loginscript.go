// Package loginscript finds programs that shells and display sessions leave
// running in the background when somebody logs in.
//
// A script can do anything; what is found here is listed with low confidence
// and is never edited.
package loginscript

import (
	"crypto/sha256"
	"fmt"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/desktop"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/linux/shown"
	"calmdawn/internal/machine"
)

const maxText = 1 << 20

var (
	machineFiles   = []string{"/etc/profile"}
	machineFolders = []string{"/etc/profile.d", "/etc/X11/Xsession.d", "/etc/X11/xinit/xinitrc.d"}
	homeFiles      = []string{
		".profile", ".bash_profile", ".bash_login", ".zprofile", ".xprofile", ".xsession",
		".xsessionrc", ".xinitrc",
	}
	programPath = []string{
		"/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin",
	}
)

// Mechanism is the mechanism of items that stand in a login script.
const Mechanism = "login script"

// Scripts are the login scripts of a machine.
type Scripts struct {
	shown.Only
	items    []item.Item
	starters map[string]bool
}

// Starters are the names of session managers whose lists have autostart entries
// launched.
func (s *Scripts) Starters() map[string]bool { return s.starters }

// Read reads the scripts of the machine and of the users, and the lists of the
// managers of its sessions.
func Read(
	r *machine.Root,
	finder *launch.Finder,
	users []account.User,
	sessions []desktop.Session,
) *Scripts {
	s := &Scripts{starters: map[string]bool{}}
	s.Mechanism, s.Refusal = Mechanism, func(it item.Item) error {
		return fmt.Errorf("it stands in %s, which is never edited; change that by hand", it.File)
	}
	read := func(p, owner string) {
		text, err := r.ReadFile(p, maxText)
		if err == nil {
			s.items = append(s.items, scan(finder, p, owner, string(text))...)
		}
		s.Skip(p, err)
	}
	for _, p := range machineFiles {
		read(p, "")
	}
	for _, folder := range machineFolders {
		entries, _ := r.ReadDir(folder)
		for _, e := range entries {
			if e.Kind == machine.Regular || e.Kind == machine.Symlink {
				read(path.Join(folder, e.Name), "")
			}
		}
	}
	for _, u := range users {
		for _, name := range homeFiles {
			read(path.Join(u.Home, name), u.Name)
		}
		for i := range s.items {
			if it := &s.items[i]; it.Owner == u.Name && u.NoLogin != "" {
				it.State, it.Because = item.Off, nil
				it.Why = "nobody logs in as " + u.Name + ", whose shell is " + u.NoLogin
			}
		}
	}
	l := &lists{Scripts: s, root: r, finder: finder, users: users, sessions: sessions}
	l.read()
	return s
}

// Survey returns what the scripts launch.
func (s *Scripts) Survey() []item.Item { return s.items }

// scan finds the lines at the outermost level that end in a single "&".
func scan(finder *launch.Finder, p, owner, text string) []item.Item {
	var items []item.Item
	depth := 0
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		first, _, _ := strings.Cut(line, " ")
		switch strings.TrimRight(first, ";") {
		case "if", "for", "while", "until", "case":
			depth++
		case "fi", "done", "esac":
			depth--
		}
		if strings.HasSuffix(line, "{") {
			depth++
		}
		if first == "}" {
			depth--
		}
		command, ok := strings.CutSuffix(line, "&")
		if !ok || depth > 0 || strings.HasSuffix(command, "&") || strings.HasPrefix(line, "#") {
			continue
		}
		command = strings.TrimSpace(command)
		if it, ok := one(finder, p, owner, line, command); ok {
			items = append(items, it)
		}
	}
	return items
}

// builtin are commands of the shell itself that lines begin with.
var builtin = []string{
	"hash", "test", "[", "command", "export", "exec", "eval", "cd", "if", "while", "for", ".",
	"source", "set", "unset", "umask", "ulimit", "trap",
}

// one is the item of a line in a file, which has a command launched; false
// where that is none.
func one(finder *launch.Finder, p, owner, line, command string) (item.Item, bool) {
	words := launch.Shell(command)
	if len(words) == 0 {
		return item.Item{}, false
	}
	program := finder.Resolve(words, programPath)
	sum := sha256.Sum256([]byte(line))
	it := item.Item{
		ID:      fmt.Sprintf("program:%s#%x", p, sum[:2]),
		Kind:    item.Program,
		Native:  p + ": " + line,
		Title:   path.Base(words[0]),
		Owner:   owner,
		When:    item.AtLogin,
		State:   item.On,
		Unsure:  true,
		Command: command,
		Program: program.Path,
		Args:    launch.Arguments(words),
		File:    p,
		Because: []string{"login", p},
	}
	switch {
	case program.Missing == "":
	case strings.ContainsAny(command, "|;<>&$`(") || slices.Contains(builtin, words[0]):
		it.Program = "" // what a shell makes of it is not known
	default:
		it.State, it.Why = item.Broken, program.Missing+" is not there"
	}
	return it, true
}
