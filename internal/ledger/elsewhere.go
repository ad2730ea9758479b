package ledger

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

const (
	markFormat = "calmdawn.elsewhere/1"
	maxMark    = 1 << 20
)

// A mark tells of one change that is recorded outside the machine.
type mark struct {
	Format   string   `json:"format"`
	Casebook string   `json:"casebook"` // its file
	Token    string   `json:"token"`    // tells that casebook from others
	Computer string   `json:"computer"` // on which it was
	Change   int64    `json:"change"`
	Settled  bool     `json:"settled"` // false while edits are made, or were interrupted
	Paths    []string `json:"paths"`
}

// A HeldElsewhere error refuses a change because one that another casebook
// keeps has to be taken back or settled first.
type HeldElsewhere struct {
	Path     string // that both touch; empty where the other one is not settled
	Casebook string
	Computer string
	Change   int64
	Mark     string // the mark's path in the machine
}

func (h *HeldElsewhere) Error() string {
	what := "is not settled"
	if h.Path != "" {
		what = "holds " + h.Path
	}
	return fmt.Sprintf("change %d of the casebook %s on %s %s", h.Change, h.Casebook, h.Computer,
		what)
}

// withMark adds to a change that is recorded outside the machine, as its first
// edit, the mark that says so. Who may not write there leaves none.
func (l *Ledger) withMark(c change.Change) (change.Change, error) {
	if l.choice.File == "" || c.Verb == change.Undo || len(c.Edits) == 0 {
		return c, nil
	}
	if err := l.root.MayWrite(l.root.Home.Elsewhere); err != nil && os.Geteuid() != 0 {
		l.note("No mark of the change can stand in the machine (%s): another casebook would not "+
			"know of it.", machine.Reason(err))
		return c, nil
	}
	n, err := l.book.Next()
	if err != nil {
		return c, err
	}
	m := mark{Format: markFormat, Token: l.book.Token, Change: n, Settled: true}
	if m.Casebook, err = filepath.Abs(l.choice.File); err != nil {
		return c, err
	}
	m.Computer, _ = os.Hostname()
	for _, e := range c.Edits {
		m.Paths = append(m.Paths, e.Path)
	}
	text, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return c, err
	}
	d := l.root.Draft(c.MadeAt)
	if err := d.Create(path.Join(l.root.Home.Elsewhere, fmt.Sprintf("%s-%d.json", m.Token, n)), "",
		append(text, '\n')); err != nil {
		return c, err
	}
	e := d.Edits()[0]
	e.After.Mode = 0o600
	c.Edits = append([]change.Edit{e}, c.Edits...)
	return c, nil
}

// isMark reports whether an edit is of a mark.
func isMark(e change.Edit) bool {
	folder, _ := e.Folder()
	return e.Home == "" && change.Scheme(e.Path) == "" &&
		strings.HasSuffix(folder, "/calmdawn/elsewhere")
}

// unsettledMark is the mark's text while its change is under way.
func unsettledMark(text []byte) []byte {
	var m mark
	if json.Unmarshal(text, &m) != nil {
		return text
	}
	m.Settled = false
	open, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return text
	}
	return append(open, '\n')
}

// openMark has the mark of a change say that it is not settled. That comes
// before the first of the other edits of the change or of its undo.
func (l *Ledger) openMark(c change.Change) error {
	for _, e := range c.Edits {
		if !isMark(e) {
			continue
		}
		settled := e.After
		if c.Verb == change.Undo {
			settled = e.Before
		}
		if settled.Kind != change.File {
			return nil // somebody took it away
		}
		now, err := l.root.Node(e.Path, e.Home)
		if err != nil {
			return err
		}
		open := settled
		open.Data = unsettledMark(settled.Data)
		return l.root.Apply(change.Edit{Path: e.Path, Before: now, After: open})
	}
	return nil
}

// elsewhere refuses a change that another casebook's stand against.
func (l *Ledger) elsewhere(c change.Change) error {
	entries, err := l.root.ReadDir(l.root.Home.Elsewhere)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var wrong []error
	for _, entry := range entries {
		p := path.Join(l.root.Home.Elsewhere, entry.Name)
		text, err := l.root.ReadFile(p, maxMark)
		if errors.Is(err, fs.ErrPermission) {
			continue // of whoever wrote it
		}
		if err != nil {
			return err
		}
		var m mark
		if err := json.Unmarshal(text, &m); err != nil || m.Format != markFormat {
			continue // no mark
		}
		if l.book != nil && m.Token == l.book.Token {
			continue
		}
		held := HeldElsewhere{Casebook: m.Casebook, Computer: m.Computer, Change: m.Change, Mark: p}
		if !m.Settled {
			wrong = append(wrong, &held)
			continue
		}
		for _, e := range c.Edits {
			if slices.Contains(m.Paths, e.Path) {
				held.Path = e.Path
				wrong = append(wrong, &held)
				break
			}
		}
	}
	return errors.Join(wrong...)
}
