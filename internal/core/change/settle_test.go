package change

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

// TestTorn goes through what a stop may leave of a file that is written in
// place, and what it may not.
func TestTorn(t *testing.T) {
	text := func(letters string) (b []byte) { // 512 bytes a letter; the last one short
		for i, l := range letters {
			n := 512
			if i == len(letters)-1 {
				n = 100
			}
			b = append(b, bytes.Repeat([]byte{byte(l)}, n)...)
		}
		return b
	}
	file := func(data []byte, mode uint32) Node { return Node{Kind: File, Data: data, Mode: mode} }
	e := Edit{Path: "/x", Before: file(text("abc"), 0o644), After: file(text("ABCDE"), 0o755)}
	shrunk := Edit{
		Path:   "/x",
		Before: file([]byte("x\n#mark y\n"), 0o644),
		After:  file([]byte("x\ny\n"), 0o644),
	}
	if now := file([]byte("x\ny\nark y\n"),
		0o644); !Torn(shrunk, now) || Torn(shrunk, file([]byte("x\ny\nARK y\n"), 0o644)) {
		t.Error("a shorter text that is written, and not cut yet, is not told from another one")
	}
	for name, row := range map[string]struct {
		now  Node
		want bool
	}{
		"as before":                  {file(text("abc"), 0o644), true},
		"as after":                   {file(text("ABCDE"), 0o755), true},
		"one block":                  {file(text("Abc"), 0o644), true},
		"blocks in any order":        {file(text("aBc"), 0o755), true},
		"growing":                    {file(text("ABCDE")[:3*512], 0o644), true},
		"the text of after, not cut": {file(text("ABCDE")[:2*512+100], 0o644), true},
		"shorter than either":        {file(text("abc")[:512], 0o644), false},
		"longer than either":         {file(text("ABCDEF"), 0o644), false},
		"a block of neither":         {file(text("aXc"), 0o644), false},
		"half a block of each": {
			file(append(text("A")[:50], text("abc")[50:]...), 0o644),
			false,
		},
		"another mode": {file(text("Abc"), 0o600), false},
		"another owner": {
			Node{Kind: File, Data: text("Abc"), Mode: 0o644, UID: 7},
			false,
		},
		"an attribute that neither has": {
			Node{
				Kind:   File,
				Data:   text("Abc"),
				Mode:   0o644,
				Xattrs: map[string][]byte{"user.x": {1}},
			},
			false,
		},
		"a label that the system put on": {
			Node{
				Kind:   File,
				Data:   text("Abc"),
				Mode:   0o644,
				Xattrs: map[string][]byte{"security.selinux": {1}},
			},
			true,
		},
		"a link": {Node{Kind: Link, Target: "/y"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			if got := Torn(e, row.now); got != row.want {
				t.Errorf("%v; want %v", got, row.want)
			}
		})
	}
}

func TestDifferencesOfPlans(t *testing.T) {
	at := time.Now().UnixNano()
	link := Node{Kind: Link, Target: "/a", ModTime: at}
	plan := func(before, after Node, targets ...Target) []Change {
		return []Change{
			{Targets: targets, Edits: []Edit{{Path: "/l", Before: before, After: after}}},
		}
	}
	later := link
	later.ModTime++
	absent := Node{Kind: Absent}
	off := Target{ID: "service:x", Before: "on", After: "off"}
	for name, row := range map[string]struct {
		agreed, now []Change
		want        string
	}{
		"the same": {plan(link, absent, off), plan(link, absent, off), ""},
		"another time": {plan(link, absent), plan(later, absent), "/l: it was a link to /a, " +
			"and is another link to /a now"},
		"gone meanwhile": {plan(link, absent), nil, "/l: it would not be touched any more"},
		"more paths":     {nil, plan(link, absent), "/l: it would be touched as well"},
		"another outcome": {
			plan(absent, link),
			plan(absent, Node{Kind: Link, Target: "/b", ModTime: at}),
			"/l: it would become a link to /b",
		},
		"another item": {plan(link, absent, off), plan(link, absent), "service:x: on → off is " +
			"not to be done any more"},
	} {
		t.Run(name, func(t *testing.T) {
			if got := strings.Join(Differences(row.agreed, row.now), "\n"); got != row.want {
				t.Errorf("%q; want %q", got, row.want)
			}
		})
	}
}
