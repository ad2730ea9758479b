package change_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
)

func text(s string) change.Node {
	return change.Node{
		Kind: change.File,
		Data: []byte(s),
		Mode: 0o644,
	}
}

func TestRebaseFitsTextEditsToWhatIsThereNow(t *testing.T) {
	const table = "# a\nSHELL=/bin/sh\n@reboot root /one\n@reboot root /two\n17 * * * * root " +
		"/three\n"
	off := func(s, line string) string { return strings.Replace(s, line, "#off "+line, 1) }
	one, two := off(table, "@reboot root /one"), off(table, "@reboot root /two")
	both := off(one, "@reboot root /two")
	for _, c := range []struct{ name, before, after, now, want string }{
		{"as expected", table, one, table, one},
		{"already done", table, one, one, one},
		{"undo the first of two", one, table, both, two},
		{"undo the second of two", both, one, two, table},
		{"a line was added above", table, one, "# new\n" + table, "# new\n" + one},
		{"a line was added below", table, one, table + "@daily root /x\n", one + "@daily root " +
			"/x\n"},
		{"the line is gone", table, one, "SHELL=/bin/sh\n", ""},
		{"the line was altered", table, one, strings.Replace(table, "/one", "/uno", 1), ""},
		{"two places fit", "x\n", "y\n", "x\nz\nx\n", ""},
		{"a line put in", "a\nb\n", "a\nHidden=true\nb\n", "# top\na\nb\n", "# top\na\n" +
			"Hidden=true\nb\n"},
		{"no newline at the end", "a\nb", "a\nb\nHidden=true\n", "# top\na\nb", "# top\na\nb\n" +
			"Hidden=true\n"},
		{"the file was emptied", table, one, "", ""},
	} {
		got, err := change.Rebase(change.Edit{
			Path:   "/p",
			Before: text(c.before),
			After:  text(c.after),
		}, text(c.now), nil, time.Unix(9, 0))
		var conflict *change.Conflict
		switch {
		case c.want == "" && !errors.As(err, &conflict):
			t.Errorf("%s: got %q, %v; want a conflict", c.name, got.After.Data, err)
		case c.want != "" &&
			(err != nil || string(got.After.Data) != c.want || string(got.Before.Data) != c.now):
			t.Errorf("%s: got %q, %v; want %q", c.name, got.After.Data, err, c.want)
		}
	}
}

func TestRebaseGivesBackKnownTimes(t *testing.T) {
	first, then := text("a\nb\n"), text("#a\nb\n")
	first.ModTime, then.ModTime = 100, 200
	now := text("#a\n#b\n")
	got, err := change.Rebase(change.Edit{
		Before: text("a\n#b\n"),
		After:  text("a\nb\n"),
	}, now, []change.Node{first, then}, time.Unix(9, 0))
	if err != nil || got.After.ModTime != 200 {
		t.Errorf("time %d, %v; want that of the text it is back to", got.After.ModTime, err)
	}
}

func TestOtherDifferencesAreConflicts(t *testing.T) {
	edit := change.Edit{Path: "/p", Before: text("a\n"), After: text("b\n")}
	owned, moded := text("a\n"), text("a\n")
	owned.UID, moded.Mode = 7, 0o600
	for _, now := range []change.Node{
		{Kind: change.Absent},
		{Kind: change.Link, Target: "/x"},
		owned,
		moded,
	} {
		var conflict *change.Conflict
		if _, err := change.Rebase(edit, now, nil,
			time.Time{}); !errors.As(err, &conflict) || !strings.Contains(err.Error(), "/p") {
			t.Errorf("now %+v: %v; want a conflict that names the path", now, err)
		}
	}
}

func ExampleEdit_Inverse() {
	off := change.Edit{
		Path: "/etc/systemd/system/multi-user.target.wants/star-index.service",
		Before: change.Node{
			Kind:   change.Link,
			Target: "/usr/lib/systemd/system/star-index.service",
		},
		After: change.Node{Kind: change.Absent},
	}
	fmt.Println(off.Verb(), "/", off.Inverse().Verb())
	// Output: removes / creates
}

// TestPathsAreNamed: a path is named as it is, or where no quotes can hold it
// in the form of an id.
func TestPathsAreNamed(t *testing.T) {
	words := []string{"/etc/x", "/etc/a%0Ab"}
	for p, want := range map[string]bool{
		"/etc/x": true, "/etc/a\nb": true, "/etc/a%0Ab": true, "/etc/y": false, "/etc": false,
	} {
		if got := change.NamedBy(words, p); got != want {
			t.Errorf("%q: %v", p, got)
		}
	}
}
