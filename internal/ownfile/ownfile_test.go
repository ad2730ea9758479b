//go:build linux

package ownfile

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

func text(s string) func(io.Writer) error {
	return func(w io.Writer) error { _, err := io.WriteString(w, s); return err }
}

func TestWriteIsWholePrivateAndFollowsNoLink(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, content := range []string{"one", "two"} {
		if err := Write(at("report"), text(content)); err != nil {
			t.Fatal(err)
		}
		data, _ := os.ReadFile(at("report"))
		if info, _ := os.Stat(at("report")); string(data) != content ||
			info.Mode().Perm() != 0o600 {
			t.Errorf("%q %v", data, info.Mode())
		}
	}
	if err := Write(at("report"), func(w io.Writer) error {
		return errors.Join(text("thr")(w), errors.New("torn"))
	}); err == nil || !strings.Contains(err.Error(), "torn") {
		t.Errorf("%v", err)
	}
	if data, _ := os.ReadFile(at("report")); string(data) != "two" {
		t.Errorf("half written: %q", data)
	}
	if err := errors.Join(os.Symlink(at("report"), at("link")),
		syscall.Mkfifo(at("fifo"), 0o600)); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"link":        "is a link",
		"fifo":        "not a regular file",
		"none/report": "no folder",
	} {
		if err := Write(at(name), text("x")); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if left, _ := filepath.Glob(at(".calmdawn-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestSecureTakesOthersRights(t *testing.T) {
	dir := t.TempDir()
	book := filepath.Join(dir, "book")
	for _, before := range []os.FileMode{0, 0o644, 0o600} {
		if before != 0 {
			if err := os.Chmod(book, before); err != nil {
				t.Fatal(err)
			}
		}
		exposed, err := Secure(book)
		if info, _ := os.Stat(book); err != nil || exposed || info.Mode().Perm() != 0o600 {
			t.Errorf("%v: %v %v %v", before, exposed, err, info.Mode())
		}
	}
	if err := os.Symlink(book, book+"2"); err != nil {
		t.Fatal(err)
	}
	if _, err := Secure(book + "2"); err == nil || !strings.Contains(err.Error(), "is a link") {
		t.Errorf("%v", err)
	}
}

// TestOwnTextIsBounded: what stands where notes or rules are read may be
// anything.
func TestOwnTextIsBounded(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	if err := errors.Join(syscall.Mkfifo(at("fifo"), 0o600), os.Mkdir(at("folder"), 0o700),
		os.WriteFile(at("large"), nil, 0o600), os.Truncate(at("large"), maxText+1),
		os.WriteFile(at("own"), []byte("x"), 0o600)); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"fifo": "is not a file", "folder": "is not a file", "large": "over 8 MiB",
		"none": "no such file",
	} {
		if _, err := Read(at(name)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if text, err := Read(at("own")); err != nil || string(text) != "x" {
		t.Errorf("%q, %v", text, err)
	}
}
