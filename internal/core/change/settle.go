package change

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"
)

// A Settlement is what became of a record that a stop or a failure had left
// open.
type Settlement struct {
	At time.Time `json:"at"` // when its last path was settled, or the last try
	By string    `json:"by"`
	// Done are the paths that are as they shall be.
	Done []string `json:"done,omitempty"`
	// Left are those that somebody decided to leave as they were found.
	Left []string `json:"left,omitempty"`
	// Open says of the others why they could not be settled at the last try.
	Open map[string]string `json:"open,omitempty"`
}

// Settled reports whether a path of the record needs nothing more.
func (s Settlement) Settled(path string) bool {
	return slices.Contains(s.Done, path) || slices.Contains(s.Left, path)
}

// Open returns the paths of an interrupted change that are not settled yet, in
// the order of its edits. There are none for a change that has ended.
func (c Change) Open() []string {
	var open []string
	for _, e := range c.Edits {
		if c.Status == Planned && (c.Settlement == nil || !c.Settlement.Settled(e.Path)) {
			open = append(open, e.Path)
		}
	}
	return open
}

// WhyOpen says why a path of an interrupted change is not settled.
func (c Change) WhyOpen(path string) string {
	if c.Settlement == nil || c.Settlement.Open[path] == "" {
		return "nothing was tried yet"
	}
	return c.Settlement.Open[path]
}

// Guards reports whether the boot guard has to watch over the change.
func (c Change) Guards() bool {
	return c.Terms.Guarded && (c.Stands() || c.Status == Planned && c.Verb != Undo)
}

// Guarded returns the numbers of the changes that the boot guard has to watch
// over.
func Guarded(all []Change) (ids []int64) {
	for _, c := range all {
		if c.Guards() {
			ids = append(ids, c.ID)
		}
	}
	return ids
}

// Over says as a clause that a chore has nothing more to do among the changes
// that there are; empty where it has.
func (c Change) Over(all []Change) string {
	if c.Verb == Watch && len(Guarded(all)) == 0 {
		return "the boot guard guards nothing any more"
	}
	return ""
}

// Chore reports whether the record is one of our own upkeep, which nobody
// decided. Its number is below zero, and no list of changes shows it.
func (c Change) Chore() bool { return c.ID < 0 }

// block is the smallest unit in which a disk keeps what was written, in bytes.
const block = 512

// Torn reports whether now can be what a stop left of rewriting a file in place
// from one state to the other. Every block of its text, its length and each of
// its attributes is as before or as after.
func Torn(e Edit, now Node) bool {
	b, a := e.Before, e.After
	if b.Kind != File || a.Kind != File || now.Kind != File || b.Sum != nil || a.Sum != nil {
		return false
	}
	const setID = 0o6000 // chown(2) takes these bits away
	modes := []uint32{b.Mode, a.Mode, b.Mode &^ setID, a.Mode &^ setID}
	return tornText(b.Data, a.Data, now.Data) && slices.Contains(modes, now.Mode) &&
		(now.UID == b.UID || now.UID == a.UID) && (now.GID == b.GID || now.GID == a.GID) &&
		tornXattrs(b.Xattrs, a.Xattrs, now.Xattrs)
}

// tornText allows the lengths that writing the whole and cutting it then go
// through.
func tornText(before, after, now []byte) bool {
	growing := len(now) > len(before) && len(now) < len(after)
	if len(now) != len(before) && len(now) != len(after) && !growing {
		return false
	}
	for from := 0; from < len(now); from += block {
		to := min(from+block, len(now))
		// What is not cut yet stands behind the end of the shorter text.
		as := func(text, rest []byte) bool {
			whole := append(slices.Clone(part(text, from, to)),
				part(rest, max(from, len(text)), to)...)
			return bytes.Equal(now[from:to], whole)
		}
		if !as(before, after) && !as(after, before) {
			return false
		}
	}
	return true
}

// part is what a text has between two offsets.
func part(text []byte, from, to int) []byte {
	to = min(to, len(text))
	return text[min(from, to):to]
}

func tornXattrs(before, after, now map[string][]byte) bool {
	for key, value := range now {
		b, inBefore := before[key]
		a, inAfter := after[key]
		as := inBefore && bytes.Equal(value, b) || inAfter && bytes.Equal(value, a)
		if !as && !IsLabel(key) {
			return false
		}
	}
	for key := range before {
		_, there := now[key]
		if _, stays := after[key]; stays && !there && !IsLabel(key) {
			return false
		}
	}
	return true
}

// Differences says in a line each how two plans of the same decisions differ
// that were made for the same instant. It compares their items, and their paths
// with all that stands there. None means that whoever agreed to the first has
// agreed to the second.
func Differences(agreed, now []Change) []string {
	all := unlike(itemsOf(agreed), itemsOf(now))
	before, after := byPath(agreed), byPath(now)
	for _, p := range before.order {
		b, a := before.edits[p], after.edits[p]
		switch {
		case a == nil:
			all = append(all, p+": it would not be touched any more")
		case !b.Before.Identical(a.Before):
			all = append(all, fmt.Sprintf("%s: it was %s, and is %s now", p,
				b.Before.Describe(), otherwise(a.Before, b.Before)))
		case !b.After.Identical(a.After) || b.Home != a.Home:
			all = append(all, fmt.Sprintf("%s: it would become %s", p, otherwise(a.After, b.After)))
		}
	}
	for _, p := range after.order {
		if before.edits[p] == nil {
			all = append(all, p+": it would be touched as well")
		}
	}
	return all
}

// Identical reports whether two nodes are the same, the modification time
// included.
func (n Node) Identical(m Node) bool { return n.Same(m) && n.ModTime == m.ModTime }

// otherwise describes a node, and says that it is another one where the words
// for both are the same.
func otherwise(n, than Node) string {
	text := n.Describe()
	if what, ok := strings.CutPrefix(text, "a "); ok && text == than.Describe() {
		return "another " + what
	}
	return text
}

func itemsOf(plans []Change) (list []string) {
	for _, c := range plans {
		for _, t := range c.Targets {
			list = append(list, fmt.Sprintf("%s: %s → %s", t.ID, t.Before, t.After))
		}
	}
	return list
}

type editsByPath struct {
	order []string
	edits map[string]*Edit
}

// byPath finds edits by their paths; where several plans touch one, the later
// ones are numbered.
func byPath(plans []Change) editsByPath {
	found := editsByPath{edits: map[string]*Edit{}}
	for _, c := range plans {
		for _, e := range c.Edits {
			key := e.Path
			for n := 2; found.edits[key] != nil; n++ {
				key = fmt.Sprintf("%s (%d)", e.Path, n)
			}
			found.edits[key] = &e
			found.order = append(found.order, key)
		}
	}
	return found
}

func unlike(before, after []string) (lines []string) {
	for _, text := range before {
		if !slices.Contains(after, text) {
			lines = append(lines, text+" is not to be done any more")
		}
	}
	for _, text := range after {
		if !slices.Contains(before, text) {
			lines = append(lines, text+" would be done now")
		}
	}
	return lines
}
