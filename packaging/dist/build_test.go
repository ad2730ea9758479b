package main

import (
	"os"
	"strings"
	"testing"
)

// TestAnotherGoIsRefused looks at checkouts that would not give the same bytes
// again.
func TestAnotherGoIsRefused(t *testing.T) {
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
	if _, err := choose("linux/amd64,plan9/386"); err == nil {
		t.Error("a target that there is not was taken")
	}
}
