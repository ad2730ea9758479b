// Package testtree makes small file trees for tests and tells two states of a
// tree apart. Only tests use it.
package testtree

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Make writes files into a new folder and returns it. A value that begins with
// "-> " makes a link; a path that ends in "/" a folder.
func Make(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	Add(t, dir, files)
	return dir
}

// Add writes files as [Make] does into a folder that is there.
func Add(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for p, text := range files {
		full := filepath.Join(dir, p)
		must(t, os.MkdirAll(filepath.Dir(full), 0o755))
		target, isLink := strings.CutPrefix(text, "-> ")
		switch {
		case strings.HasSuffix(p, "/"):
			must(t, os.MkdirAll(full, 0o755))
		case isLink:
			must(t, os.Symlink(target, full))
		case strings.HasPrefix(p, "var/spool/cron/"): // as crontab(1) makes them
			must(t, os.WriteFile(full, []byte(text), 0o600))
		default:
			must(t, os.WriteFile(full, []byte(text), 0o644))
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Snapshot lists a tree, a line a path: kind, mode, owner, modification time,
// extended attributes, content. Paths for which skip says so are left out, with
// what is below them.
func Snapshot(t testing.TB, dir string, skip func(string) bool) string {
	t.Helper()
	var lines []string
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		if rel = "/" + rel; skip != nil && skip(rel) {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		content := ""
		switch {
		case info.Mode().IsRegular():
			data, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			content = fmt.Sprintf("%q", data)
		case info.Mode()&fs.ModeSymlink != 0:
			content, _ = os.Readlink(p)
		}
		lines = append(lines, fmt.Sprintf("%s %v %s %s %s %s", rel, info.Mode(), owner(info),
			info.ModTime().UTC().Format("2006-01-02T15:04:05.000000000"), xattrs(p), content))
		return nil
	})
	must(t, err)
	if len(lines) == 0 {
		t.Fatalf("nothing of %s is compared", dir)
	}
	return strings.Join(lines, "\n")
}

// Diff returns the lines in which two snapshots differ; empty when they are the
// same.
func Diff(before, after string) string {
	b, a := strings.Split(before, "\n"), strings.Split(after, "\n")
	var d []string
	for _, l := range b {
		if !slices.Contains(a, l) {
			d = append(d, "- "+l)
		}
	}
	for _, l := range a {
		if !slices.Contains(b, l) {
			d = append(d, "+ "+l)
		}
	}
	return strings.Join(d, "\n")
}
