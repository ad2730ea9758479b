package families

import (
	"go/parser"
	"go/token"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestWhoKnowsAFamily holds what stands above the families to the words of
// package family: nothing there imports one of them.
func TestWhoKnowsAFamily(t *testing.T) {
	kinds := []string{"linux", "windows", "macos"}
	read := 0
	for _, folder := range []string{
		"cli", "review", "say", "visit", "document", "render", "family", "ledger", "casebook",
		"machine", "recorder", "guard",
		"notebook", "ownfile", "core/*",
	} {
		files, err := filepath.Glob(filepath.Join("..", folder, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range files {
			if strings.HasSuffix(p, "_test.go") {
				continue
			}
			read++
			f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly)
			if err != nil {
				t.Fatal(err)
			}
			for _, i := range f.Imports {
				name, _ := strconv.Unquote(i.Path.Value)
				for _, kind := range kinds {
					inside := "calmdawn/internal/" + kind
					if name == inside || strings.HasPrefix(name, inside+"/") {
						t.Errorf("%s imports %s", p, name)
					}
				}
			}
		}
	}
	if read < 80 {
		t.Errorf("only %d files were read", read)
	}
}

// TestWordsTouchNothing holds say to values in and text out: it imports nothing
// that opens, writes, calls or asks.
func TestWordsTouchNothing(t *testing.T) {
	files, err := filepath.Glob("../say/*.go")
	if err != nil || len(files) < 15 {
		t.Fatalf("%v: %d files", err, len(files))
	}
	for _, p := range files {
		if strings.HasSuffix(p, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range f.Imports {
			switch name, _ := strconv.Unquote(i.Path.Value); name {
			case "os", "os/exec", "io/fs", "net", "syscall", "github.com/spf13/cobra",
				"calmdawn/internal/ownfile", "calmdawn/internal/notebook":
				t.Errorf("%s imports %s", p, name)
			}
		}
	}
}
