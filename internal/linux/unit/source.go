package unit

import (
	"errors"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
)

// A Source reads the files behind units, each once, whichever service managers
// they are for.
type Source struct {
	root    *machine.Root
	finder  *launch.Finder
	now     time.Time
	version int // of the service manager; 0 where that is not known
	facts   facts
	devices map[bool][]string // what devices want, of the system and of users
	read    atomic.Int64      // bytes of unit files so far

	mu      sync.Mutex // guards what follows
	unread  []item.Unread
	skipped map[string]bool
	folders map[string]listed
	texts   map[string]parsed
}

type listed struct {
	entries []machine.Entry
	err     error
}

type parsed struct {
	settings []setting
	refused  string // why the service manager refuses a unit with such a launch line
	err      error
	empty    bool // of bytes, not only of settings
}

// Read prepares the reading of a machine's units; now is when the next boot is
// taken to be.
func Read(r *machine.Root, finder *launch.Finder, now time.Time) *Source {
	src := &Source{
		root:    r,
		finder:  finder,
		now:     now,
		skipped: map[string]bool{},
		folders: map[string]listed{},
		texts:   map[string]parsed{},
	}
	src.version = src.managerVersion()
	src.readFacts()
	src.readDevices()
	return src
}

// Unread names the places that could not be read.
func (src *Source) Unread() []item.Unread { return src.unread }

func (src *Source) skip(p string, err error) {
	src.mu.Lock()
	defer src.mu.Unlock()
	if !src.skipped[p] && !errors.Is(err, fs.ErrNotExist) {
		src.skipped[p] = true
		src.unread = append(src.unread, machine.Unread(p, err))
	}
}

func (src *Source) list(folder string) ([]machine.Entry, error) {
	src.mu.Lock()
	defer src.mu.Unlock()
	l, ok := src.folders[folder]
	if !ok {
		l.entries, l.err = src.root.ReadDir(folder)
		src.folders[folder] = l
	}
	return l.entries, l.err
}

// text returns what a file says; its error says why the service manager refuses
// it, and is noted. The settings are shared and stay as they are.
func (src *Source) text(p string) parsed {
	src.mu.Lock()
	t, known := src.texts[p]
	src.mu.Unlock()
	if known {
		return t
	}
	data, err := src.root.ReadFile(p, maxText)
	t = parseText(p, data, err)
	src.keep(p, t)
	return t
}

func parseText(p string, data []byte, err error) parsed {
	var t parsed
	if err == nil {
		if t.settings, err = parse(data); err != nil {
			err = &machine.Refusal{
				Path:   p,
				Reason: "the service manager refuses it: " + err.Error(),
			}
		}
		t.settings, t.refused = withoutFaults(t.settings)
	}
	t.err = err
	return t
}

func (src *Source) keep(p string, t parsed) {
	if t.err != nil {
		src.skip(p, t.err)
	}
	src.mu.Lock()
	src.texts[p] = t
	src.mu.Unlock()
}

// fetch reads the unit files that a listing has told of, on all processors.
func (src *Source) fetch(folder string, entries []machine.Entry) {
	var paths []string
	for _, e := range entries {
		p := folder + "/" + e.Name
		if _, known := src.texts[p]; e.Kind == machine.Regular && validName(e.Name) && !known {
			paths = append(paths, p)
		}
	}
	texts := make([]parsed, len(paths))
	machine.Each(len(paths), func(i int) {
		data, err := src.root.ReadListed(paths[i], maxText)
		if src.read.Add(int64(len(data))) > maxTexts {
			data, err = nil, &machine.Refusal{Path: paths[i], Reason: "is not read any more: all " +
				"unit files together are too large"}
		}
		texts[i] = parseText(paths[i], data, err)
		texts[i].empty = err == nil && len(data) == 0
	})
	if len(src.texts) == 0 {
		src.texts = make(map[string]parsed, len(paths))
	}
	for i, p := range paths {
		src.keep(p, texts[i])
	}
}

// managerVersion reads the service manager's version off the name of its
// library.
func (src *Source) managerVersion() int {
	for _, folder := range []string{
		"/usr/lib/systemd", "/lib/systemd", "/usr/lib/x86_64-linux-gnu/systemd",
		"/usr/lib/aarch64-linux-gnu/systemd", "/usr/lib64/systemd",
	} {
		entries, err := src.list(folder)
		if err != nil {
			continue
		}
		for _, e := range entries {
			rest, ok := strings.CutPrefix(e.Name, "libsystemd-shared-")
			if !ok || path.Ext(e.Name) != ".so" {
				continue
			}
			digits := rest[:len(rest)-len(strings.TrimLeft(rest, "0123456789"))]
			if n, err := strconv.Atoi(digits); err == nil {
				return n
			}
		}
	}
	return 0
}

// readsUpholds reports whether the service manager reads .upholds folders;
// those up to 252 do not.
func (src *Source) readsUpholds() bool { return src.version == 0 || src.version > 252 }

// firstBoot reports whether the next boot is the machine's first,
// machine-id(5).
func (src *Source) firstBoot() bool {
	text, err := src.root.ReadFile("/etc/machine-id", 4096)
	return errors.Is(err, fs.ErrNotExist) || strings.TrimSpace(string(text)) == "uninitialized"
}
