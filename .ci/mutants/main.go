// Mutants changes the code in small ways, one at a time, and counts which of
// the changes the tests notice. Such changes are a condition negated, a bound
// shifted by one, a sync or an early return dropped. The files stay as they
// are; go sees the changed ones through an overlay. make bench-mutants runs it.
package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/printer"
	"go/token"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// targets are the packages that are changed, and those whose tests are asked,
// in turn, until one fails.
var targets = map[string][]string{
	"internal/ledger":           {"internal/ledger", "internal/guard", "internal/stoptest"},
	"internal/machine":          {"internal/machine", "internal/ledger", "internal/stoptest"},
	"internal/windows/registry": {"internal/windows/registry", "internal/windows", "internal/cli"},
	"internal/core/compare":     {"internal/core/compare", "internal/cli"},
	"internal/linux/unit":       {"internal/linux/unit", "internal/linux", "internal/cli"},
	"internal/review":           {"internal/review", "internal/cli"},
}

// A mutant is one change of one file.
type mutant struct {
	pkg, file string
	line      int
	what      string
	text      []byte // of the whole changed file
}

func (m mutant) String() string { return fmt.Sprintf("%s:%d: %s", m.file, m.line, m.what) }

func main() {
	count := flag.Int("n", 60, "how many mutants")
	seed := flag.Uint64("seed", 1, "which mutants")
	dry := flag.Bool("list", false, "only list them")
	only := flag.String("only", "", "of all there can be, those whose name has this `PATTERN`")
	flag.Parse()
	all, err := choose(2**count, *seed) // some do not compile
	if *only != "" {
		all, err = matching(*only)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	caught, tried, begun := 0, 0, time.Now()
	var alive []string
	for _, m := range all {
		if tried == *count {
			break
		}
		name := m.String()
		if *dry {
			tried++
			fmt.Println(name)
			continue
		}
		by, err := try(m)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		if by == compiler {
			continue
		}
		if tried++; by != "" {
			caught++
		} else {
			alive = append(alive, name)
		}
		fmt.Printf("%2d %-60s %s\n", tried, name, cmp.Or(by, "SURVIVES"))
	}
	if !*dry {
		fmt.Printf("%d of %d are caught (%d %%), in %s\n", caught, tried,
			100*caught/max(1, tried), time.Since(begun).Round(time.Second))
		for _, name := range alive {
			fmt.Println("survives:", name)
		}
	}
}

// matching makes all mutants whose names a pattern fits, of every target.
func matching(pattern string) (all []mutant, err error) {
	fits, err := regexp.Compile(pattern)
	if err != nil {
		return nil, err
	}
	for _, pkg := range slices.Sorted(maps.Keys(targets)) {
		of, err := mutantsOf(pkg)
		if err != nil {
			return nil, err
		}
		for _, m := range of {
			if fits.MatchString(m.String()) {
				all = append(all, m)
			}
		}
	}
	return all, nil
}

// choose makes as many mutants as are wanted, of each target alike, by a seed.
func choose(count int, seed uint64) (all []mutant, err error) {
	rng := rand.New(rand.NewPCG(seed, 60))
	names := slices.Sorted(maps.Keys(targets))
	possible := map[string][]mutant{}
	for _, name := range names {
		if possible[name], err = mutantsOf(name); err != nil {
			return nil, err
		}
		rng.Shuffle(len(possible[name]), func(i, j int) {
			possible[name][i], possible[name][j] = possible[name][j], possible[name][i]
		})
	}
	for n := 0; len(all) < count; n++ {
		some := false
		for _, name := range names {
			if of := possible[name]; n < len(of) && len(all) < count {
				all, some = append(all, of[n]), true
			}
		}
		if !some {
			break
		}
	}
	return all, nil
}

// mutantsOf lists all changes of a package's files that this system compiles.
func mutantsOf(pkg string) (all []mutant, err error) {
	files, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, "_other.go") ||
			strings.HasSuffix(file, "_windows.go") || strings.HasSuffix(file, "_darwin.go") {
			continue
		}
		src, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		places, err := changes(file, src, -1)
		if err != nil {
			return nil, err
		}
		for i := range places {
			one, err := changes(file, src, i)
			if err != nil {
				return nil, err
			}
			m := one[i]
			m.pkg = pkg
			all = append(all, m)
		}
	}
	return all, nil
}

// changes lists the places of a file that can be changed. The one at makes is
// changed, and its text is that of the whole file.
func changes(file string, src []byte, makes int) (all []mutant, err error) {
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, src, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	note := func(at token.Pos, what string, change func()) {
		all = append(all, mutant{file: file, line: set.Position(at).Line, what: what})
		if len(all)-1 == makes {
			change()
		}
	}
	shifted := map[token.Token]token.Token{
		token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
	}
	ast.Inspect(tree, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.IfStmt:
			note(n.Cond.Pos(), "condition negated", func() {
				n.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: n.Cond}}
			})
			last := len(n.Body.List) - 1
			if last < 0 {
				break
			}
			if ret, ok := n.Body.List[last].(*ast.ReturnStmt); ok {
				note(ret.Pos(), "early return dropped", func() { n.Body.List = n.Body.List[:last] })
			}
		case *ast.BinaryExpr:
			if to, ok := shifted[n.Op]; ok {
				note(n.OpPos, fmt.Sprintf("%s is %s", n.Op, to), func() { n.Op = to })
			}
		case *ast.BlockStmt:
			for i, s := range n.List {
				if e, ok := s.(*ast.ExprStmt); ok && calls(e.X) == "Sync" {
					note(s.Pos(), "sync dropped", func() { n.List[i] = &ast.EmptyStmt{} })
				}
			}
		case *ast.CallExpr:
			if name := calls(n); name == "Sync" || name == "Fsync" || name == "syncFolder" {
				note(n.Pos(), "sync dropped", func() {
					n.Fun, n.Args = ast.NewIdent("error"), []ast.Expr{ast.NewIdent("nil")}
				})
			}
		}
		return true
	})
	if makes >= 0 {
		var out bytes.Buffer
		if err := printer.Fprint(&out, set, tree); err != nil {
			return nil, err
		}
		all[makes].text = out.Bytes()
	}
	return all, nil
}

// calls is the name of what an expression calls.
func calls(e ast.Expr) string {
	call, ok := e.(*ast.CallExpr)
	if !ok {
		return ""
	}
	switch f := call.Fun.(type) {
	case *ast.SelectorExpr:
		return f.Sel.Name
	case *ast.Ident:
		return f.Name
	}
	return ""
}

// compiler notices what is no program; that is no mutant.
const compiler = "the compiler"

// try runs tests on a mutant; by is the package whose tests failed, empty where
// none did.
func try(m mutant) (by string, err error) {
	dir, err := os.MkdirTemp("", "calmdawn-mutant-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	changed := filepath.Join(dir, "changed.go")
	whole, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {whole: changed}})
	if err != nil {
		return "", err
	}
	list := filepath.Join(dir, "overlay.json")
	for name, text := range map[string][]byte{changed: m.text, list: overlay} {
		if err := os.WriteFile(name, text, 0o644); err != nil {
			return "", err
		}
	}
	run := func(words ...string) bool {
		cmd := exec.Command("go", words...)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=-overlay="+list,
			"CALMDAWN_RING="+cmp.Or(os.Getenv("CALMDAWN_RING"), "middle"))
		return cmd.Run() == nil
	}
	if !run("build", "./"+m.pkg) {
		return compiler, nil
	}
	for _, pkg := range targets[m.pkg] {
		// a loop without an end is noticed too
		if !run("test", "-failfast", "-timeout", "5m", "./"+pkg) {
			return pkg, nil
		}
	}
	return "", nil
}
