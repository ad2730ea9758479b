package say

import (
	"strings"

	"calmdawn/internal/render"
)

// A Part is one file of a fault report.
type Part struct {
	Name string
	Data []byte
}

// LeftOut says what a fault report does not hold; --verbose tells none of it
// either.
const LeftOut = `Left out of this archive, and of what --verbose tells:

- in launch lines what stands behind names such as password, token or key: …
- the environment of units, and every other line of their files
- of crontabs all but the launch lines
- the data of registry values, those of Run lists among them
- the ids of this machine and of its computer
- your notes, and the reasons of your own rules
- in the casebook what stood in edited files before and after

What is in it: names of programs, users, files and this machine; launch lines;
when it was started, and what that took.
`

// ShowDiagnosis says what goes into a file for a fault report, and what does
// not.
func ShowDiagnosis(s Page, file string, parts []Part) {
	s.Say(render.Strong, "What goes into %s:", render.Clean(file))
	s.Line("")
	rows := make([][]render.Cell, len(parts))
	for i, p := range parts {
		rows[i] = []render.Cell{
			render.C("  " + p.Name), render.C(render.Bytes(int64(len(p.Data)))),
		}
	}
	s.Table([]render.Column{{Title: "  FILE"}, {Title: "SIZE", Right: true}}, rows)
	s.Line("")
	for line := range strings.Lines(LeftOut) {
		s.Wrap(2, "%s", strings.TrimRight(line, "\n"))
	}
	s.Line("")
}
