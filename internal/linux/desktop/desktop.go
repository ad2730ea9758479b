// Package desktop knows the sessions that people of a Linux machine can log in
// to, and what each launches.
//
// What session managers do is data (managers.toml), from their manuals and from
// trying those that Debian has.
package desktop

import (
	_ "embed"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

//go:embed managers.toml
var data []byte

// Launching says who launches the autostart entries of a session.
type Launching string

// The ways.
const (
	Itself Launching = "itself"
	Units  Launching = "units"  // the user's service manager
	Nobody Launching = "nobody" // unless a list of the session calls something that does
)

// Phases says what comes of entries with a phase.
type Phases string

// The ways.
const (
	Starts   Phases = "starts"   // when it comes to the phase
	Launches Phases = "launches" // like any other entry
	Leaves   Phases = "leaves"
)

// A Manager is a session manager, or a window manager that stands for one. The
// zero one is not known.
type Manager struct {
	Name     string    `toml:"name"`
	Programs []string  `toml:"programs"`
	Desktops []string  `toml:"desktops"`
	Entries  Launching `toml:"entries"`
	Phases   Phases    `toml:"phases"`
	Off      []string  `toml:"off"` // keys that switch entries off
	Lists    []List    `toml:"list"`
}

// A List is where a manager launches things that are no entries. The paths are
// patterns as of [path.Match]; those of home are below each home.
type List struct {
	Read    string   `toml:"read"`
	Machine []string `toml:"machine"`
	Home    []string `toml:"home"`
	Both    bool     `toml:"both"` // those of home besides the machine's, not in their place
}

// Managers are those that are known.
var Managers = func() []Manager {
	var table struct {
		Managers []Manager `toml:"manager"`
	}
	if err := toml.Unmarshal(data, &table); err != nil {
		panic("managers.toml, which is built in, cannot be read: " + err.Error())
	}
	return table.Managers
}()

// A Session is one that people can log in to.
type Session struct {
	Names   []string // of its desktop, as XDG_CURRENT_DESKTOP has them; may be none
	Manager Manager  // without a name where it is not known
	// Installed says that it stands among the sessions of the machine. Else it
	// is what users' service managers are told.
	Installed bool
}

// sessionOf tells a session's manager by its program, or its desktop's names.
func sessionOf(command string, names []string) Session {
	s := Session{Names: names}
	word := ""
	for _, w := range strings.Fields(command) { // behind env and its variables
		if word = path.Base(strings.Trim(w, `"'`)); word != "env" && !strings.Contains(w, "=") &&
			word != "dbus-run-session" && word != "dbus-launch" && !strings.HasPrefix(w, "-") {
			break
		}
	}
	by := func(is func(Manager) bool) bool {
		i := slices.IndexFunc(Managers, is)
		if i >= 0 {
			s.Manager = Managers[i]
		}
		return i >= 0
	}
	if !by(func(m Manager) bool { return slices.Contains(m.Programs, word) }) {
		by(func(m Manager) bool {
			return slices.ContainsFunc(m.Desktops, func(d string) bool {
				return slices.ContainsFunc(names, func(n string) bool {
					return strings.EqualFold(d, n)
				})
			})
		})
	}
	return s
}

const maxText = 1 << 20

// A Reader reads the keys of a desktop entry; an error where it is none.
type Reader func(text []byte) (map[string]string, error)

// Sessions are those of a machine, without those that are alike. What could not
// be read is told.
func Sessions(r *machine.Root, keys Reader) (all []Session, unread []item.Unread) {
	add := func(s Session) {
		if !slices.ContainsFunc(all, func(o Session) bool {
			return slices.Equal(o.Names, s.Names) && o.Manager.Name == s.Manager.Name
		}) {
			all = append(all, s)
		}
	}
	texts := func(folder, suffix string) (texts [][]byte) {
		entries, err := r.ReadDir(folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			unread = append(unread, machine.Unread(folder, err))
		}
		for _, f := range entries {
			if !strings.HasSuffix(f.Name, suffix) {
				continue
			}
			if text, err := r.ReadFile(path.Join(folder, f.Name), maxText); err == nil {
				texts = append(texts, text)
			}
		}
		return texts
	}
	for _, folder := range []string{"/usr/share/xsessions", "/usr/share/wayland-sessions"} {
		for _, text := range texts(folder, ".desktop") {
			if d, err := keys(text); err == nil {
				s := sessionOf(d["Exec"], split(d["DesktopNames"], ";"))
				if s.Installed = true; len(s.Names) > 0 || s.Manager.Name != "" {
					add(s)
				}
			}
		}
	}
	told := ""
	for _, folder := range []string{
		"/usr/lib/environment.d", "/usr/local/lib/environment.d", "/etc/environment.d",
	} {
		for _, text := range texts(folder, ".conf") {
			for line := range strings.Lines(string(text)) {
				if value, ok := strings.CutPrefix(strings.TrimSpace(line),
					"XDG_CURRENT_DESKTOP="); ok {
					told = strings.Trim(value, `"'`)
				}
			}
		}
	}
	if names := split(told, ":;"); len(names) > 0 {
		add(sessionOf("", names))
	}
	return all, unread
}

// split parts a list of names.
func split(list, at string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return strings.ContainsRune(at, r) })
}
