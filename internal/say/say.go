// Package say puts into words what was found out about a machine: sentences,
// tables and pages. Values of core and visit go in, and text comes out. It
// reads no flag, opens nothing and changes nothing.
//
// What comes from a machine is cleaned here ([render.Clean]). A function that
// fills a page takes a [Page]; one that returns text returns it without a line
// end.
package say

import (
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/shell"
)

// A Page is a screen, with the commands that a text on it recommends.
type Page struct {
	*render.Screen
	Calls
}

// Calls are how the reader would call calmdawn again: on the same machine and
// with the same casebook. The zero value is for the machine that one sits at.
type Calls struct {
	Root     string // that a call has to name; empty for none
	Casebook string // a file; empty for the one inside the machine
	Workshop string // that calls of it have to name; empty for none
	// Commands are the names of all commands, which Named looks for.
	Commands []string
}

// Call returns a command as one types it, which a screen never breaks.
func (c Calls) Call(words string) string {
	s := "calmdawn"
	if c.Root != "" {
		s += " --root " + ShellWord(c.Root)
	}
	if c.Casebook != "" {
		s += " --casebook " + ShellWord(c.Casebook)
	}
	if c.Workshop != "" && strings.HasPrefix(words, "workshop") {
		words += " --workshop " + ShellWord(c.Workshop)
	}
	return render.Whole(strings.TrimSpace(s + " " + words))
}

// Named returns a text in which the commands that it names go to the same
// machine.
func (c Calls) Named(text string) string {
	for _, name := range c.Commands {
		for _, after := range []string{" ", "\n", ";", ",", ")"} {
			if !strings.Contains(text, name+" --help") {
				text = strings.ReplaceAll(text, "calmdawn "+name+after, c.Call(name)+after)
			}
		}
	}
	return text
}

// ShellWord returns a word for a command that we recommend. What no quotes can
// hold has the form of an id, which stands for an item and for a path of a
// change.
func ShellWord(w string) string {
	if word, ok := shell.Word(w); ok {
		return word
	}
	return item.SafeID(w)
}
