package shell

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// here are the shells that are tried: those that make test installs only there.
func here() []string {
	all := []string{"sh", "bash", "zsh", "fish"}
	return all[:ring.Pick(1, len(all), len(all))]
}

func TestWordsPassShells(t *testing.T) {
	shells := map[string][]string{
		"sh":   {"sh", "-c"},
		"bash": {"bash", "--norc", "-c"},
		"zsh":  {"zsh", "-f", "-c"},
		"fish": {"fish", "--no-config", "-c"},
	}
	tried := 0
	for _, name := range here() {
		call := shells[name]
		dir := t.TempDir()
		for _, w := range append(testtree.Hostile, "") {
			word, ok := Word(w)
			if !ok {
				continue
			}
			tried++
			cmd := exec.Command(call[0], append(call[1:], "printf %s "+word)...)
			if strings.HasPrefix(w, "-") {
				cmd.Args[len(cmd.Args)-1] = "printf %s -- " + word
			}
			cmd.Dir = dir
			out, err := cmd.CombinedOutput()
			if got := strings.TrimPrefix(string(out), "--"); err != nil || got != w {
				t.Errorf("%s makes %q of %s, not %q (%v)", name, out, word, w, err)
			}
		}
		if all, _ := filepath.Glob(dir + "/*"); len(all) > 0 {
			t.Errorf("%s made %v", name, all)
		}
	}
	if least := 40 * len(here()); tried < least {
		t.Errorf("%d words were tried, not %d", tried, least)
	}
	for _, w := range []string{"a\nb", "a\x1b[31mb", "a\xffb", "a\u202eb", "a\u200bb", "a\x00b"} {
		if word, ok := Word(w); ok {
			t.Errorf("%q became %q", w, word)
		}
	}
}

// TestCommandsPassShells removes files by names that no quotes can hold.
func TestCommandsPassShells(t *testing.T) {
	for _, shell := range here() {
		dir := t.TempDir()
		for _, name := range []string{"a\nb", "a\n", "a\xff'b", "-\t", "a b", "a\x1b[31m\\"} {
			file := filepath.Join(dir, name)
			if err := os.WriteFile(file, nil, 0o600); err != nil {
				t.Fatal(err)
			}
			out, err := exec.Command(shell, "-c", Command("rm", file)).CombinedOutput()
			if _, still := os.Lstat(file); err != nil || still == nil {
				t.Errorf("%s: %s: %v, %s", shell, Command("rm", file), err, out)
			}
		}
	}
}

func TestPowerShellsOwnForm(t *testing.T) {
	for w, want := range map[string]string{
		`C:\till\a.db`: `C:\till\a.db`, "a b": "'a b'", "it's": "'it''s'", "it’s": "'it’’s'",
		"$(x)": "'$(x)'", "@a": "'@a'", "": "''", "a`b": "'a`b'",
	} {
		if got := powerShell(w); got != want {
			t.Errorf("%q became %s, not %s", w, got, want)
		}
	}
}
