package ledger

import (
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/shell"
)

// writeGuide brings the guide beside the casebook up to date, with open changes
// among those in force. The casebook says all that it says, so that one which a
// stop left behind is put right by the next call.
func (l *Ledger) writeGuide() error {
	edits := inForce(l.all)
	files := l.root.Imports(edits)
	rescue := l.root.Rescue(edits, func(name string) string {
		if l.choice.File != "" {
			return path.Base(l.choice.File) + "." + name
		}
		return path.Join(l.root.Home.Casebook, name)
	})
	text := guide(l.root, l.all, slices.Sorted(maps.Keys(files)), rescue[machine.RescueText] != nil)
	if l.root.Home.Marked {
		text = "\uFEFF" + strings.ReplaceAll(text, "\n", "\r\n")
	}
	files[casebook.GuideName] = []byte(text)
	maps.Copy(files, rescue)
	if rescue != nil {
		if err := l.removeRescue(rescue); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := l.writeBeside(name, files[name]); err != nil {
			return err
		}
	}
	return nil
}

// inForce are the edits that are in force, one for each address: from what was
// there before all of them.
func inForce(changes []change.Change) (edits []change.Edit) {
	at := map[string]int{}
	for _, c := range changes {
		if c.Verb == change.Undo || c.UndoneBy != 0 || c.Status == change.Failed {
			continue
		}
		for _, e := range c.Edits {
			if i, ok := at[e.Path]; ok {
				edits[i].After = e.After
			} else if c.Settlement == nil || !c.Settlement.Settled(e.Path) {
				at[e.Path] = len(edits)
				edits = append(edits, e)
			}
		}
	}
	return edits
}

// writeBeside has a file beside the casebook hold a text.
func (l *Ledger) writeBeside(name string, text []byte) error {
	if l.choice.File != "" {
		file := l.choice.File + "." + name
		if info, err := os.Lstat(file); err == nil && info.Mode().IsRegular() {
			if old, err := os.ReadFile(file); err == nil && string(old) == string(text) {
				return nil
			}
		}
		return ownfile.Write(file, func(w io.Writer) error { _, err := w.Write(text); return err })
	}
	folder, err := l.root.Resolve(l.root.Home.Casebook)
	if err != nil {
		return err
	}
	if err := l.root.Sweep(folder, ""); err != nil {
		return err
	}
	p := path.Join(folder, name)
	now, err := l.root.Node(p, "")
	if err != nil {
		return err
	}
	after := change.Node{
		Kind:    change.File,
		Data:    text,
		Mode:    0o600,
		UID:     os.Geteuid(),
		GID:     os.Getegid(),
		ModTime: l.at.UnixNano(),
	}
	if now.Same(after) {
		return nil
	}
	return l.root.Apply(change.Edit{Path: p, Before: now, After: after})
}

// removeRescue takes files beside the casebook away that would take back what
// is in force no more. Those are files for rescue that are not among the
// present ones.
func (l *Ledger) removeRescue(present map[string][]byte) error {
	if l.choice.File != "" {
		lead := l.choice.File + "."
		old, err := filepath.Glob(globbed(lead) + machine.RescueFile + "*")
		if err != nil {
			return err
		}
		for _, file := range old {
			if present[strings.TrimPrefix(file, lead)] != nil {
				continue
			}
			if err := os.Remove(file); err != nil {
				return err
			}
		}
		return nil
	}
	folder, err := l.root.Resolve(l.root.Home.Casebook)
	if err != nil {
		return err
	}
	names, err := l.root.ReadDir(folder)
	if err != nil {
		return err
	}
	for _, entry := range names {
		name := entry.Name
		if !strings.HasPrefix(name, machine.RescueFile) || present[name] != nil {
			continue
		}
		p := path.Join(folder, name)
		now, err := l.root.Node(p, "")
		if err != nil {
			return err
		}
		gone := change.Edit{Path: p, Before: now, After: change.Node{Kind: change.Absent}}
		if err := l.root.Apply(gone); err != nil {
			return err
		}
	}
	return nil
}

// globbed is a name as a pattern that means it alone.
func globbed(name string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(name)
}

// guide tells, newest first, what each change in force did, and how each of its
// edits is taken back without calmdawn.
// imports are the files beside it that the running machine takes. rescue says
// that one beside it tells how to help from outside.
func guide(r *machine.Root, changes []change.Change, imports []string, rescue bool) string {
	var b strings.Builder
	b.WriteString("How to take back by hand what calmdawn changed on this machine, newest change " +
		"first.\n" +
		"With calmdawn at hand, calmdawn undo does the same and checks it. All paths are the " +
		"machine's own:\n" +
		"on a rescue system, put the folder before them at which its disk is mounted.\n")
	for _, name := range imports {
		fmt.Fprintf(&b, "The machine, running, takes %s beside this file, and does the same by "+
			"itself.\n", name)
	}
	if rescue {
		fmt.Fprintf(&b, "Where it no longer starts, %s beside this file says what to do.\n",
			machine.RescueText)
	}
	any := false
	for _, c := range slices.Backward(changes) {
		if c.Verb == change.Undo || c.UndoneBy != 0 || c.Status == change.Failed {
			continue
		}
		any = true
		fmt.Fprintf(&b, "\nChange %d, %s, by %s: %s", c.ID, c.MadeAt.UTC().Format("2006-01-02 "+
			"15:04 UTC"), printable(c.MadeBy), c.Verb)
		for _, t := range c.Targets {
			fmt.Fprintf(&b, " %s", printable(t.ID))
		}
		if c.Status == change.Planned {
			b.WriteString(" (begun; it may be done in part)")
		}
		b.WriteString("\n")
		for _, e := range slices.Backward(c.Edits) {
			if c.Settlement == nil || !c.Settlement.Settled(e.Path) {
				b.WriteString(byHand(r, e))
			}
		}
	}
	if !any {
		b.WriteString("\nNo change is in force.\n")
	}
	return b.String()
}

// byHand tells how one edit is taken back with the tools of every system.
func byHand(r *machine.Root, e change.Edit) string {
	if scheme := change.Scheme(e.Path); scheme != "" {
		_, p, _ := strings.Cut(printable(e.Path), scheme+":")
		if _, inside := e.Folder(); !inside {
			return fmt.Sprintf("  leave %s as it is\n    the system itself brings it to that "+
				"state as it starts\n", p)
		}
		if e.Before.Kind == change.Absent {
			return fmt.Sprintf("  take away %s\n    which the change made %s\n", p,
				printable(r.Words(e.Path, e.After)))
		}
		return fmt.Sprintf("  give %s\n    %s again; the change made it %s\n", p,
			printable(r.Words(e.Path, e.Before)), printable(r.Words(e.Path, e.After)))
	}
	switch {
	case e.Before.Kind == change.Absent:
		return "  " + shell.Command("rm", e.Path) + "\n"
	case e.Before.Kind == change.Link:
		return "  " + shell.Command("ln -sfn", e.Before.Target, e.Path) + "\n"
	case e.After.Kind == change.File && string(e.Before.Data) == string(e.After.Data):
		return "  " + shell.Command(fmt.Sprintf("chmod %04o", e.Before.Mode), e.Path) + "\n"
	}
	p := printable(e.Path)
	if large := 256 << 10; e.Before.Sum != nil || e.After.Sum != nil ||
		len(e.Before.Data) > large || len(e.After.Data) > large {
		return fmt.Sprintf("  %s was %s (owner %d:%d, mode %04o), which the casebook keeps: "+
			"calmdawn undo puts it back\n", p, e.Before.Known(), e.Before.UID, e.Before.GID,
			e.Before.Mode)
	}
	text := fmt.Sprintf("  in %s put back the lines with - and take away those with + (owner "+
		"%d:%d, mode %04o):\n", p, e.Before.UID, e.Before.GID, e.Before.Mode)
	for line := range strings.Lines(udiff.Unified("before", "after", string(e.Before.Data),
		string(e.After.Data))) {
		text += "    " + printable(strings.TrimRight(line, "\n")) + "\n"
	}
	return text
}

// printable writes what no terminal should see as escapes.
func printable(s string) string {
	var b strings.Builder
	for _, r := range s {
		if unicode.IsPrint(r) && r != utf8.RuneError || r == '\t' {
			b.WriteRune(r)
			continue
		}
		quoted := strconv.QuoteRuneToASCII(r)
		b.WriteString(quoted[1 : len(quoted)-1])
	}
	return b.String()
}
