// Package change holds what a decision does to a machine. Those are the edits
// of single paths, their inverses, and what happens when the path was touched
// by somebody else in between.
//
// It computes; it neither reads nor writes a machine. A Node is the whole state
// of one path. So the edit that takes another one back is the same value the
// other way round.
package change

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"calmdawn/internal/core/item"
)

// NodeKind says what stands at a path.
type NodeKind string

// What can stand at a path that is edited.
const (
	Absent NodeKind = "absent"
	File   NodeKind = "file"
	Link   NodeKind = "link"  // a symbolic link
	Value  NodeKind = "value" // what a store holds: typed bytes
)

// A Node is the whole state of one path: what undo restores.
//
// Change time, birth time and inode number belong to the kernel and are not
// part of it.
type Node struct {
	Kind NodeKind `json:"kind"`
	Data []byte   `json:"data,omitempty"` // the bytes of a file, or of a value
	Type uint32   `json:"type,omitempty"` // of a value, as its store numbers types
	// of a file whose bytes are not kept: their SHA-256 (FIPS 180-4)
	Sum    []byte `json:"sum,omitempty"`
	Target string `json:"target,omitempty"` // the text of a link
	// permission, set-id and sticky bits (07777); meaningless for links
	Mode    uint32            `json:"mode,omitempty"`
	UID     int               `json:"uid"`
	GID     int               `json:"gid"`
	ModTime int64             `json:"mtime,omitempty"` // nanoseconds since 1970 UTC
	Xattrs  map[string][]byte `json:"xattrs,omitempty"`
	// of what a store holds, or does not: what it comes to, where that can be
	// written in several ways
	Means string `json:"means,omitempty"`
	// of a value that a store keeps in an order: its number there, from 1. It
	// is not compared
	Place int `json:"place,omitempty"`
	// names that share the file (hard links); found, never restored
	Links uint64 `json:"-"`
}

// SameTime reports whether a file system gave back a modification time that was
// recorded: some keep whole seconds, some every second one, some 100
// nanoseconds.
func SameTime(recorded, found int64) bool {
	const second, tick = int64(time.Second), int64(100)
	cut := recorded - found
	return cut == 0 || cut > 0 &&
		(found%second == 0 && cut < 2*second || found%tick == 0 && cut < tick)
}

// Agrees reports whether two nodes come to the same, if not in the same bytes.
func (n Node) Agrees(m Node) bool {
	return n.Same(m) || n.Means != "" && n.Means == m.Means
}

// Bare returns the node without the attributes that other does not have.
func (n Node) Bare(other Node) Node {
	all := n.Xattrs
	n.Xattrs = map[string][]byte{}
	for key, value := range all {
		if _, there := other.Xattrs[key]; there {
			n.Xattrs[key] = value
		}
	}
	return n
}

// Same reports whether two nodes are the same to a reader: everything but the
// modification time.
func (n Node) Same(m Node) bool {
	if n.Kind != m.Kind {
		return false
	}
	if n.Kind == Absent {
		return true
	}
	if n.Kind == Value {
		return n.Type == m.Type && bytes.Equal(n.Data, m.Data)
	}
	sameText := n.sameData(m) && n.Target == m.Target
	sameOwner := n.UID == m.UID && n.GID == m.GID
	sameMode := n.Kind == Link || n.Mode == m.Mode
	return sameText && sameOwner && sameMode && sameXattrs(n.Xattrs, m.Xattrs)
}

// sameData compares the bytes of two files, by their sums where one of them has
// only that.
func (n Node) sameData(m Node) bool {
	if n.Sum == nil && m.Sum == nil {
		return bytes.Equal(n.Data, m.Data)
	}
	return bytes.Equal(n.sum(), m.sum())
}

func (n Node) sum() []byte {
	if n.Sum != nil {
		return n.Sum
	}
	sum := sha256.Sum256(n.Data)
	return sum[:]
}

// WithoutData returns a large file's node with the sum of its bytes instead of
// them. That is enough to know it again, and to take away what we put there.
func (n Node) WithoutData() Node {
	const large = 1 << 20
	if n.Kind == File && len(n.Data) > large {
		n.Sum, n.Data = n.sum(), nil
	}
	return n
}

// text reports whether a file is compared line by line. Programs are not, and
// what is larger than any text that a launch mechanism reads.
func (n Node) text() bool {
	const large = 256 << 10
	return n.Kind == File && n.Sum == nil && len(n.Data) <= large && bytes.IndexByte(n.Data, 0) < 0
}

// IsLabel reports whether an extended attribute is a security label, which the
// system gives to what is new by itself.
func IsLabel(xattr string) bool {
	return xattr == "security.selinux" ||
		xattr == "security.SMACK64"
}

// sameXattrs compares labels only where both sides have them.
func sameXattrs(a, b map[string][]byte) bool {
	covered := func(a, b map[string][]byte) bool {
		for key, value := range a {
			other, ok := b[key]
			if !ok && IsLabel(key) {
				continue
			}
			if !ok || !bytes.Equal(value, other) {
				return false
			}
		}
		return true
	}
	return covered(a, b) && covered(b, a)
}

// Describe says in a few words what a node is.
func (n Node) Describe() string {
	switch n.Kind {
	case File:
		if n.Sum != nil {
			return fmt.Sprintf("a file with the sum %.4x…", n.Sum)
		}
		return fmt.Sprintf("a file of %d bytes", len(n.Data))
	case Link:
		return "a link to " + n.Target
	case Value:
		return fmt.Sprintf("a value of type %d and %d bytes", n.Type, len(n.Data))
	}
	return "absent"
}

// Known says what a node is so that it can be known again. A file is known by
// its size and the whole sum of its bytes (SHA-256, FIPS 180-4).
func (n Node) Known() string {
	if n.Kind != File {
		return n.Describe()
	}
	if n.Sum != nil {
		return fmt.Sprintf("a file with the SHA-256 %x", n.Sum)
	}
	return fmt.Sprintf("a file of %d bytes with the SHA-256 %x", len(n.Data), n.sum())
}

// An Edit is one address with its whole state before and after.
type Edit struct {
	// an address, see [IsAddress]; a path is free of links in its folder
	Path string `json:"path"`
	// the home folder that the edit must not leave; empty outside homes
	Home   string `json:"home,omitempty"`
	Before Node   `json:"before"`
	After  Node   `json:"after"`
	// Mounts are the folders above a path at which file systems were mounted
	// when it was edited; nil where that is not on record.
	Mounts []string `json:"-"`
}

// Names reports whether a word means the edit's path. It may be as it is, or as
// [item.SafeID] writes it, for paths that no quotes of a shell can hold.
func (e Edit) Names(word string) bool {
	return e.Path == word || item.SafeID(e.Path) == word
}

// NamedBy reports whether one of some words names a path, see [Edit.Names].
func NamedBy(words []string, path string) bool {
	return slices.ContainsFunc(words, Edit{Path: path}.Names)
}

// Inverse returns the edit that takes e back.
func (e Edit) Inverse() Edit {
	e.Before, e.After = e.After, e.Before
	return e
}

// Verb says what the edit does to its path: "creates", "removes", "rewrites",
// "replaces", or "changes the mode of".
func (e Edit) Verb() string {
	switch {
	case e.Before.Kind == File && e.After.Kind == File && bytes.Equal(e.Before.Data, e.After.Data):
		return "changes the mode of"
	case e.Before.Kind == Absent:
		return "creates"
	case e.After.Kind == Absent:
		return "removes"
	case e.Before.Kind == e.After.Kind && e.Before.Kind != Link:
		return "rewrites"
	}
	return "replaces"
}

// A Conflict is an edit whose path is not as the edit expects it.
type Conflict struct {
	Edit Edit
	Now  Node
	// Words says what a node is; nil for [Node.Describe].
	Words func(Node) string
}

func (c *Conflict) Error() string {
	words := c.Words
	if words == nil {
		words = Node.Describe
	}
	s := fmt.Sprintf("%s was changed by somebody else since: expected %s, found %s",
		c.Edit.Path, words(c.Edit.Before), words(c.Now))
	if d := c.Diff(); d != "" {
		s += "\n" + strings.TrimRight(d, "\n")
	}
	return s
}

// Diff returns the difference between what was expected and what is there, as a
// unified diff; empty unless both are texts.
func (c *Conflict) Diff() string {
	if !c.Edit.Before.text() || !c.Now.text() {
		return ""
	}
	return udiff.Unified("expected", "found", string(c.Edit.Before.Data), string(c.Now.Data))
}

// Rebase fits e to what is at its path now. It returns e with Before set to now
// and After to what e makes of it.
//
// Where now is what e expects, After is unchanged. Where now already is what e
// would make, or means the same, the returned edit changes nothing. Where
// all three are files that differ in their text alone, the lines that e changes
// are found again in the present text. Three lines of context around them tell
// where. known gives earlier states of the path: a text that is back to one of
// them gets its modification time too. Else the modification time is at.
// Anything else is a *Conflict.
func Rebase(e Edit, now Node, known []Node, at time.Time) (Edit, error) {
	fitted := Edit{Path: e.Path, Home: e.Home, Before: now, After: e.After}
	switch {
	case now.Same(e.Before):
		return fitted, nil
	case now.Same(e.After), now.Agrees(e.After) && !now.Agrees(e.Before):
		fitted.After = now
		return fitted, nil
	case now.Agrees(e.Before):
		return fitted, nil
	}
	textOnly := e.Before
	textOnly.Data = now.Data
	texts := e.Before.text() && e.After.text() && now.text()
	if !texts || !textOnly.Same(now) {
		return Edit{}, &Conflict{Edit: e, Now: now}
	}
	text, ok := transplant(string(e.Before.Data), string(e.After.Data), string(now.Data))
	if !ok {
		return Edit{}, &Conflict{Edit: e, Now: now}
	}
	fitted.After.Data = []byte(text)
	fitted.After.ModTime = at.UnixNano()
	for _, k := range known {
		if k.Same(fitted.After) {
			fitted.After.ModTime = k.ModTime
			break
		}
	}
	return fitted, nil
}

// transplant carries the change from before to after over to now, line by line.
//
// Each run of changed lines is looked for with up to three lines around it. The
// context shrinks, first to one line and then to none, until the run stands in
// exactly one place. A run that is nowhere, or in several places, ends it.
func transplant(before, after, now string) (string, bool) {
	diff, err := udiff.ToUnifiedDiff("", "", before, udiff.Lines(before, after), 0)
	if err != nil {
		return "", false
	}
	old := lines(before)
	text := lines(now)
	for _, h := range diff.Hunks {
		var cut, put []string
		for _, l := range h.Lines {
			switch l.Kind {
			case udiff.Delete:
				cut = append(cut, l.Content)
			case udiff.Insert:
				put = append(put, l.Content)
			}
		}
		start := h.FromLine - 1
		if len(cut) == 0 && len(old) == 0 {
			start = 0
		}
		at, ok := place(text, old, start, len(cut))
		if !ok {
			return "", false
		}
		text = append(text[:at:at], append(put, text[at+len(cut):]...)...)
	}
	return strings.Join(text, ""), true
}

// place finds in text the n lines that stand in old at start, by their context.
func place(text, old []string, start, n int) (int, bool) {
	for _, context := range []int{3, 1, 0} {
		from, to := max(0, start-context), min(len(old), start+n+context)
		if from == to {
			continue
		}
		want := old[from:to]
		found, count := 0, 0
		for i := 0; i+len(want) <= len(text); i++ {
			if equal(text[i:i+len(want)], want) {
				found, count = i, count+1
			}
		}
		if count == 1 {
			return found + start - from, true
		}
		if count > 1 {
			return 0, false
		}
	}
	return 0, false
}

func equal(a, b []string) bool {
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// lines splits a text behind each newline; the last line may lack one.
func lines(s string) []string {
	l := strings.SplitAfter(s, "\n")
	return l[:len(l)-1+min(1, len(l[len(l)-1]))]
}
