//go:build linux

package cli_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const sentencesFile = "testdata/sentences.txt"

// offLanguage is what no sentence of ours holds.
var offLanguage = map[string]*regexp.Regexp{
	"a plural in brackets":  regexp.MustCompile(`[a-z]\(s\)`),
	"things as ones":        regexp.MustCompile(`%[ds] ones\b`),
	"a blank too many":      regexp.MustCompile(`[a-z]  [a-z].*[.]$`),
	"a blank before a stop": regexp.MustCompile(` [.,;](\s|$)`),
	"words of a library":    regexp.MustCompile(`(?i)\bfailed to (open|read|write|parse)\b`),
}

// TestEverySentenceWasRead collects what the program can say. A new or another
// sentence has to be read by a person before it is kept:
// CALMDAWN_KEEP=1 go test -run Sentence ./internal/cli
func TestEverySentenceWasRead(t *testing.T) {
	found := map[string]bool{}
	must(t, filepath.WalkDir("..", func(p string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") ||
			strings.Contains(p, "test/") || strings.Contains(p, "testtree") ||
			strings.HasPrefix(p, "../ring/") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), p, nil, 0)
		if err != nil {
			return err
		}
		var look func(ast.Node) bool
		look = func(n ast.Node) bool {
			e, ok := n.(ast.Expr)
			if !ok {
				return true
			}
			text, rest := literal(e)
			if strings.Count(strings.TrimSpace(text), " ") > 1 {
				found[strconv.Quote(text)] = true
			}
			for _, e := range rest {
				ast.Inspect(e, look)
			}
			return text == ""
		}
		ast.Inspect(f, look)
		return nil
	}))
	all := slices.Sorted(maps.Keys(found))
	for _, s := range all {
		text, _ := strconv.Unquote(s)
		for what, off := range offLanguage {
			if off.MatchString(text) && !strings.Contains(text, "calmdawn ") {
				t.Errorf("%s in %s", what, s)
			}
		}
	}
	if os.Getenv("CALMDAWN_KEEP") != "" {
		must(t, os.WriteFile(sentencesFile, []byte(strings.Join(all, "\n")+"\n"), 0o644))
	}
	kept, err := os.ReadFile(sentencesFile)
	must(t, err)
	for _, s := range all {
		if !strings.Contains("\n"+string(kept), "\n"+s+"\n") {
			t.Errorf("nobody has read: %s", s)
		}
	}
	if n := strings.Count(string(kept), "\n"); n != len(all) {
		t.Errorf("%s has %d sentences, the program %d", sentencesFile, n, len(all))
	}
}

// literal is a string that stands in the code, put together of several. …
// stands for what is only known when it runs. It is empty for no string.
func literal(e ast.Expr) (text string, rest []ast.Expr) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind == token.STRING {
			text, _ = strconv.Unquote(e.Value)
		}
	case *ast.BinaryExpr:
		if e.Op != token.ADD {
			break
		}
		a, rest1 := literal(e.X)
		b, rest2 := literal(e.Y)
		if a == "" && b == "" {
			break
		}
		if a == "" {
			a, rest1 = "…", []ast.Expr{e.X}
		}
		if b == "" {
			b, rest2 = "…", []ast.Expr{e.Y}
		}
		return a + b, append(rest1, rest2...)
	}
	return text, nil
}
