// Package notebook keeps what a technician brings along from machine to
// machine: their notes on items, and their own rules for roles and advice. Both
// are TOML files in their configuration folder.
package notebook

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
	"calmdawn/internal/ownfile"
)

// A Note is a remark on an item, found again by the item's id on one machine or
// on every machine.
type Note struct {
	Item    string `toml:"item"`
	Text    string `toml:"text"`
	Machine string `toml:"machine,omitempty"` // its id, machine-id(5); empty for every machine
}

// A Notebook is a technician's notes.
type Notebook struct {
	file  string
	Notes []Note `toml:"note"`
}

// Folder is the technician's configuration folder for calmdawn.
func Folder() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "calmdawn"), err
}

// Open reads the notes; one that was never written is empty.
func Open() (*Notebook, error) {
	dir, err := Folder()
	if err != nil {
		return &Notebook{}, nil // nobody's machine: no home, no notes
	}
	n := &Notebook{file: filepath.Join(dir, "notes.toml")}
	text, err := ownfile.Read(n.file)
	if errors.Is(err, fs.ErrNotExist) {
		return n, nil
	}
	if err == nil {
		err = toml.Unmarshal(text, n)
	}
	if err != nil {
		return nil, fmt.Errorf("your notes cannot be read: %s: %w; mend the file, or move it "+
			"away to begin anew", n.file, err)
	}
	return n, nil
}

// On returns the notes on an item of a machine: that of the machine alone, and
// that of every machine; empty where there is none.
func (n *Notebook) On(id, machine string) (here, everywhere string) {
	for _, note := range n.Notes {
		switch {
		case !of(note, id):
		case note.Machine == "":
			everywhere = note.Text
		case note.Machine == machine:
			here = note.Text
		}
	}
	return here, everywhere
}

// of reports whether a note is on an item. Earlier versions wrote ids that held
// names as they were.
func of(note Note, id string) bool { return note.Item == id || note.Item == item.RawID(id) }

// Set writes a note on an item of one machine, or with an empty one of every
// machine, in place of an older one. An empty text takes it away. It returns
// where the notes stand.
func (n *Notebook) Set(id, machine, text string) (string, error) {
	if n.file == "" {
		return "", errors.New("there is no configuration folder to keep notes in; set " +
			"XDG_CONFIG_HOME or HOME")
	}
	n.Notes = slices.DeleteFunc(n.Notes, func(note Note) bool {
		return of(note, id) && note.Machine == machine
	})
	if text != "" {
		n.Notes = append(n.Notes, Note{Item: id, Text: text, Machine: machine})
	}
	data, err := toml.Marshal(n)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(n.file), 0o700); err != nil {
		return "", err
	}
	return n.file, ownfile.Write(n.file, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}

// Rules returns the technician's own rules for roles and advice. Those are what
// they decided on items, decided.toml, and roles.toml; both have the same form.
// It is nothing where there are none.
func Rules() ([]byte, error) {
	decided, err1 := own(decidedFile)
	rules, err2 := own("roles.toml")
	if len(decided) > 0 {
		decided = append(decided, '\n')
	}
	return append(decided, rules...), errors.Join(err1, err2)
}

const decidedFile = "decided.toml"

// A Decided is what a technician decided on an item after looking it up, as a
// rule of roles.toml.
type Decided struct {
	Role    string   `toml:"role"`
	Items   []string `toml:"items"`
	Machine string   `toml:"machine,omitempty"`
	Advice  string   `toml:"advice"`
	Reason  string   `toml:"reason"`
	Made    string   `toml:"made"` // the day, in ISO 8601
}

// Advices are what a technician can advise by a rule of their own, by the word
// for it.
var Advices = map[string]item.Advice{
	"keep": item.Keep, "go": item.CanGo, "wait": item.CanWait,
}

// Decide keeps what was decided on an item, in the place of an older decision.
// It is for the machine of an id, or for all with an empty one. One without
// advice takes that away. It returns where it stands, and whether there was
// one.
func Decide(d Decided) (file string, was bool, err error) {
	dir, err := Folder()
	if err != nil {
		return "", false, errors.New("there is no configuration folder to keep your rules in; " +
			"set XDG_CONFIG_HOME or HOME")
	}
	file = filepath.Join(dir, decidedFile)
	var all struct {
		Rules []Decided `toml:"rule"`
	}
	text, err := own(decidedFile)
	if err == nil {
		err = toml.Unmarshal(text, &all)
	}
	if err != nil {
		return file, false, fmt.Errorf("your own rules cannot be read: %s: %w", file, err)
	}
	n := len(all.Rules)
	all.Rules = slices.DeleteFunc(all.Rules, func(r Decided) bool {
		return r.Machine == d.Machine && slices.Equal(r.Items, d.Items)
	})
	was = len(all.Rules) < n
	if d.Advice != "" {
		d.Role = "decided"
		all.Rules = append(all.Rules, d)
	}
	data, err := toml.Marshal(all)
	if err != nil {
		return file, was, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return file, was, err
	}
	return file, was, ownfile.Write(file, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}

// Grades returns the technician's own bounds of the grades, grades.toml;
// nothing where there are none.
func Grades() ([]byte, error) { return own("grades.toml") }

// Settings are what a technician wants without saying it each time.
type Settings struct {
	Guard string `toml:"guard"` // what --guard is if it is not given: auto, on or off
}

// OwnSettings returns those of settings.toml; empty ones where there are none.
func OwnSettings() (Settings, error) {
	var s Settings
	text, err := own("settings.toml")
	if err == nil {
		dec := toml.NewDecoder(bytes.NewReader(text))
		dec.DisallowUnknownFields()
		if err = dec.Decode(&s); errors.Is(err, io.EOF) {
			err = nil
		}
	}
	if err != nil {
		return s, fmt.Errorf("your own settings, settings.toml, cannot be read: %w", err)
	}
	return s, nil
}

func own(name string) ([]byte, error) {
	dir, err := Folder()
	if err != nil {
		return nil, nil
	}
	text, err := ownfile.Read(filepath.Join(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return text, err
}
