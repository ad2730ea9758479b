package main

import (
	"os"
	"strings"
	"testing"
	"time"
)

// TestRefused looks at checkouts that would not give the same bytes again, and
// at a folder that is not ours to empty.
func TestRefused(t *testing.T) {
	for text, want := range map[string]string{
		"module x\n\ntoolchain go1.2.3\n": "go.mod names go1.2.3; other Go makes other bytes",
		"module x\n":                      "names no toolchain",
	} {
		dir := t.TempDir()
		if err := os.WriteFile(dir+"/go.mod", []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := lookAt(dir); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	dir := t.TempDir()
	if err := os.WriteFile(dir+"/letter.txt", nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := write(dir, nil, time.Now()); err == nil || !strings.Contains(err.Error(),
		"holds something, and no release") {
		t.Errorf("a folder of somebody's: %v", err)
	}
	if _, err := os.Stat(dir + "/letter.txt"); err != nil {
		t.Error(err)
	}
	if _, err := choose("linux/amd64,plan9/386"); err == nil {
		t.Error("a target that there is not was taken")
	}
}
