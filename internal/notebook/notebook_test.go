package notebook

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// home makes a configuration folder with some files.
func home(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	for name, text := range files {
		p := filepath.Join(dir, "calmdawn", name)
		if err := os.MkdirAll(filepath.Dir(p), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestNotesAreKeptReplacedAndTakenAway(t *testing.T) {
	dir := home(t, nil)
	for _, c := range []struct{ text, want string }{
		{"keep it", "keep it"},
		{"needed at \"night\"\nand = later", "needed at \"night\"\nand = later"},
		{"", ""},
	} {
		n, err := Open()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := n.Set("service:x.service", "one machine", "stays"); err != nil {
			t.Fatal(err)
		}
		file, err := n.Set("service:x.service", "", c.text)
		if err != nil || file != filepath.Join(dir, "calmdawn/notes.toml") {
			t.Fatalf("%s %v", file, err)
		}
		again, err := Open()
		here, everywhere := again.On("service:x.service", "one machine")
		other, _ := again.On("service:x.service", "another")
		if err != nil || everywhere != c.want || here != "stays" || other != "" {
			t.Errorf("%q came back as %q, %q, %q (%v)", c.text, everywhere, here, other, err)
		}
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%v %v", info, err)
		}
	}
}

func TestFilesThatCannotBeUsedAreNamed(t *testing.T) {
	dir := home(t, map[string]string{
		"notes.toml":    "[[note]\n",
		"settings.toml": "guard = \"on\"\ngaurd = \"off\"\n",
		"roles.toml":    "x = 1\n",
	})
	if _, err := Open(); err == nil || !strings.Contains(err.Error(), dir) {
		t.Errorf("notes: %v", err)
	}
	if _, err := OwnSettings(); err == nil || !strings.Contains(err.Error(), "settings.toml") {
		t.Errorf("settings: %v", err)
	}
	if text, err := Rules(); err != nil || string(text) != "x = 1\n" {
		t.Errorf("rules: %q %v", text, err)
	}
}

func TestWhereThereIsNothing(t *testing.T) {
	home(t, map[string]string{"settings.toml": ""})
	s, err := OwnSettings()
	if err != nil || s != (Settings{}) {
		t.Errorf("%+v %v", s, err)
	}
	if text, err := Grades(); err != nil || text != nil {
		t.Errorf("%q %v", text, err)
	}
	t.Setenv("XDG_CONFIG_HOME", "")
	t.Setenv("HOME", "")
	n, err := Open()
	here, everywhere := n.On("x", "")
	if err != nil || here+everywhere != "" {
		t.Fatalf("%+v %v", n, err)
	}
	_, err = n.Set("x", "", "y")
	if err == nil || !strings.Contains(err.Error(), "XDG_CONFIG_HOME") {
		t.Errorf("a note without a place: %v", err)
	}
}
