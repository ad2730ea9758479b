// Package visit is one machine under work. It knows what the machine launches
// and what its boots cost, what is decided about it. It tells how that is
// carried out and compared. It asks nobody and prints nothing; commands and
// screens do.
package visit

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/secret"
	"calmdawn/internal/families"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/notebook"
)

// A Site says which machine is meant and who works on it. It is a value: it
// holds nothing open.
type Site struct {
	Dir      string          // where its root file system is mounted; "/" for the running one
	Casebook casebook.Choice // where its changes are kept
	Now      func() time.Time
	By       string       // whose name stands beside changes
	Language string       // of titles, as in locale(7)
	Remote   bool         // the person works over a connection to that machine
	Secrets  bool         // launch lines are shown with the passwords in them
	Warn     func(string) // told what is to be known of the casebook, once or more; may be nil
	// Listed returns the last list of the machine of a name as [Site.ListedAs]
	// gives it, or why numbers of rows are not taken. It is nil where nobody
	// has seen a list.
	Listed func(machine string) (notebook.List, error)
}

// Scopes tells of each kind of machine what a list holds, in paragraphs.
func Scopes() string { return families.Scopes() }

// A Misuse is an error of whoever asks, in what was asked for.
type Misuse struct{ Err error }

func (m *Misuse) Error() string { return m.Err.Error() }
func (m *Misuse) Unwrap() error { return m.Err }

func misuse(format string, values ...any) error {
	return &Misuse{fmt.Errorf(format, values...)}
}

// A Machine is one that is open, for one goroutine.
type Machine struct {
	Site
	Root   *machine.Root
	Family string // the kind of its operating system, in lower case
	kind   family.Machine
}

// Close closes the machine.
func (m *Machine) Close() error {
	m.kind.Forget()
	return m.Root.Close()
}

// kindOf says what stands in the place of a folder.
func kindOf(m os.FileMode) string {
	switch {
	case m&os.ModeDevice != 0:
		return "device"
	case m.IsRegular():
		return "file"
	}
	return "socket or the like"
}

// Open opens the machine; it is the caller's to close.
func (s Site) Open() (*Machine, error) {
	info, err := os.Stat(s.Dir)
	if err == nil && !info.IsDir() {
		return nil, fmt.Errorf("--root, or CALMDAWN_ROOT, %s is a %s, and no folder; mount the "+
			"disk, or an image of it, and give the folder at which it is mounted", s.Dir,
			kindOf(info.Mode()))
	}
	if err != nil {
		return nil, fmt.Errorf("--root, or CALMDAWN_ROOT, %s: there is no such folder; give the "+
			"folder at which the machine's disk is mounted", s.Dir)
	}
	r, err := machine.Open(s.Dir)
	if err != nil {
		return nil, err
	}
	f, err := families.Of(r)
	if err != nil {
		defer r.Close()
		why := err.Error()
		if errors.Is(err, families.ErrNone) {
			why = looksLike(r, s.Dir)
		}
		return nil, fmt.Errorf("%s is not the disk of a machine that calmdawn knows: %s", s.Dir,
			why)
	}
	return &Machine{s, r, strings.ToLower(f.Name()), f.Open(r)}, nil
}

// looksLike says what a folder that is no machine's disk is taken for, and what
// to give instead.
func looksLike(r *machine.Root, dir string) string {
	const give = "give the folder at which the root file system of Linux, or the volume with the " +
		"folder Windows, is mounted"
	entries, err := r.ReadDir("/")
	if err != nil {
		return "it cannot be listed; " + give
	}
	if within := families.Within(r, dir); within != "" {
		return within
	}
	has := map[string]bool{}
	for _, e := range entries {
		has[strings.ToLower(e.Name)] = true
	}
	switch {
	case len(entries) == 0:
		return "it is empty: mount the disk there; a volume that is encrypted has to be unlocked " +
			"before"
	case has["system"] && has["library"], has["private"] && has["applications"]:
		return "it looks like the disk of a Mac, which is not read yet"
	case has["windows"]:
		return "its folder Windows has no registry (System32/config/SYSTEM)"
	case has["efi"] || has["loader"]:
		return "it looks like the partition that firmware starts from; " + give
	case has["bootmgr"] || has["boot"]:
		return "it looks like a partition that only starts another one; " + give
	case has["recovery"]:
		return "it looks like a recovery partition; " + give
	case has["etc"]:
		return "it has a folder etc, and nothing else of a Linux machine; " + give
	}
	return "it has neither a folder etc nor a folder Windows; " + give
}

// read reads something of the casebook; without one there is nothing.
func (m *Machine) read(what func(*casebook.Book) error) error {
	book, err := casebook.Read(m.Root, m.Casebook)
	if errors.Is(err, casebook.ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	defer book.Close()
	return what(book)
}

// ReadChanges reads the machine's changes; none where it has no casebook.
func (m *Machine) ReadChanges() (all []change.Change, err error) {
	err = m.read(func(book *casebook.Book) (err error) {
		for _, warning := range book.Warnings {
			if m.Warn != nil {
				m.Warn(warning)
			}
		}
		all, err = book.Changes()
		return err
	})
	return all, err
}

// ReadLabels returns the ids of boots by their label; none where the machine
// has no casebook.
func (m *Machine) ReadLabels() (all map[string][]string, err error) {
	err = m.read(func(book *casebook.Book) error {
		labels, err := book.Labels()
		all = byLabel(labels)
		return err
	})
	return all, err
}

func byLabel(labels map[string]string) map[string][]string {
	all := map[string][]string{}
	for id, label := range labels {
		all[label] = append(all[label], id)
	}
	return all
}

// Recorded returns the records of the casebook, and of the machine's own one
// where another is used: the recorder knows only that. last bounds how many
// (0: all). With an error the boots are those that could be read.
func (m *Machine) Recorded(last int) ([]boot.Boot, error) {
	var all []boot.Boot
	var wrong error
	books := []casebook.Choice{m.Casebook}
	if m.Casebook.File != "" {
		books = append(books, casebook.Choice{ThisMachine: m.Casebook.ThisMachine})
	}
	for _, choice := range books {
		book, err := casebook.Read(m.Root, choice)
		if errors.Is(err, casebook.ErrNone) {
			continue
		}
		if err != nil {
			wrong = errors.Join(wrong, err)
			continue
		}
		boots, err := book.Boots(last)
		wrong = errors.Join(wrong, err, book.Close())
		all = append(all, boots...)
	}
	return all, wrong
}

// Remember reads what is known of the last boots (0: of all), from every
// source.
func (m *Machine) Remember(last int) family.Boots {
	recorded, err := m.Recorded(last)
	found := family.Remember(m.kind, recorded, last)
	for _, b := range found.Boots { // earlier versions recorded them whole
		for i, program := range b.Programs {
			b.Programs[i].Words = secret.Words(program.Words)
		}
		for _, l := range b.Logins {
			for i, run := range l.Launched {
				l.Launched[i].Line = secret.Hide(run.Line)
			}
		}
	}
	if err != nil {
		found.Unread = append(found.Unread, machine.Unread(m.Root.Home.Casebook, err))
	}
	return found
}

// Conditions are those of now, with the services that failed in the last boot.
func (m *Machine) Conditions() []boot.Condition {
	all := m.kind.Conditions()
	boots := m.Remember(1).Boots
	if len(boots) == 0 {
		return all
	}
	return append(all, m.kind.Failed(boots[len(boots)-1]))
}

// Beyond names what is not looked at of the machine, as a list for people.
func (m *Machine) Beyond() string { return m.kind.Beyond() }

// Log is where the machine keeps the log of its boots, for people.
func (m *Machine) Log() string { return m.kind.Log() }

// Name is the machine's, as far as it has one.
func (m *Machine) Name() string { return m.kind.Host() }

// Frozen says why not a byte may be written to the machine's disk, as a clause,
// and what helps, in sentences. It is empty where the disk takes changes.
func (m *Machine) Frozen() (why string, ways []string) {
	if why = m.kind.Frozen(); why == "" {
		return "", nil
	}
	if t, ok := m.kind.(family.Thawable); ok {
		ways = t.Thaw()
	}
	return why, ways
}

// Writable says why the casebook of the machine cannot be written. Its disk is
// not to be touched, or a part of it is missing that would hide the casebook
// later. It is nil where it can be.
func (m *Machine) Writable() error {
	if why := m.kind.Frozen(); why != "" && m.Casebook.File == "" {
		return fmt.Errorf("nothing is written to this disk, not even the casebook: %s; what is "+
			"kept of it can be kept elsewhere, with --casebook FILE", why)
	}
	for _, folder := range m.kind.Away() {
		if m.Casebook.File == "" && strings.HasPrefix(m.Root.Home.Casebook, folder+"/") {
			return fmt.Errorf("%s of this machine is a file system of its own that is not "+
				"mounted, so the casebook would land in the wrong place and nothing was changed; "+
				"mount it, or name another place with --casebook FILE", folder)
		}
	}
	return nil
}

// Write opens the casebook for what changes no file of the machine: labels,
// terms, kept surveys, outcomes. It is the caller's to close.
func (m *Machine) Write() (*casebook.Book, error) {
	if err := m.Writable(); err != nil {
		return nil, err
	}
	return casebook.Write(m.Root, m.Casebook)
}
