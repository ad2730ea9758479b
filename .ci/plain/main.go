// Plain fails where prose is hard to read: a sentence of more than 25 words, or
// a phrase that a reader must unriddle. It reads comments, the texts of help
// and the pages below docs/. What has to stay as it is stands in except.txt,
// each with its reason.
package main

import (
	"bufio"
	_ "embed"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"unicode"
)

const (
	mostWords      = 25
	mostExceptions = 30
)

// riddles are phrases that say in a roundabout way what a plain word says.
var riddles = []string{"it is said", "none of some", "what of an item that"}

//go:embed except.txt
var exceptTexts string

// A piece is some prose with where it stands.
type piece struct {
	file string
	line int
	text string
}

func main() {
	excepted, err := exceptions()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	var all []piece
	for _, read := range []func() ([]piece, error){source, pages} {
		found, err := read()
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		all = append(all, found...)
	}
	wrong := 0
	for _, p := range all {
		for _, s := range sentences(p.text) {
			for _, why := range faults(s) {
				if _, ok := excepted[s]; ok {
					excepted[s] = true
					continue
				}
				fmt.Printf("%s:%d: %s: %s\n", p.file, p.line, why, s)
				wrong++
			}
		}
	}
	for s, used := range excepted {
		if !used {
			fmt.Printf("except.txt: no longer needed: %s\n", s)
			wrong++
		}
	}
	if wrong > 0 {
		os.Exit(1)
	}
}

// exceptions are the sentences that may stay: each is followed by a line with
// its reason, which begins with "because".
func exceptions() (map[string]bool, error) {
	found := map[string]bool{}
	last := ""
	lines := bufio.NewScanner(strings.NewReader(exceptTexts))
	for lines.Scan() {
		switch text := strings.TrimSpace(lines.Text()); {
		case text == "" || strings.HasPrefix(text, "#"):
		case strings.HasPrefix(text, "because "):
			found[last] = false
			last = ""
		case last != "":
			return nil, fmt.Errorf("except.txt: no reason for: %s", last)
		default:
			last = text
		}
	}
	if last != "" || len(found) > mostExceptions {
		return nil, fmt.Errorf("except.txt: %d exceptions, %d at most; without a reason: %q",
			len(found), mostExceptions, last)
	}
	return found, nil
}

// source returns the comments and the texts of help.
func source() (all []piece, err error) {
	for _, dir := range []string{"cmd", "internal", "packaging", ".ci"} {
		err = filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(p, ".go") {
				return err
			}
			set := token.NewFileSet()
			f, err := parser.ParseFile(set, p, nil, parser.ParseComments)
			if err != nil {
				return err
			}
			for _, group := range f.Comments {
				all = append(all, paragraphs(p, set.Position(group.Pos()).Line, group.Text())...)
			}
			if filepath.Dir(p) == filepath.Join("internal", "cli") {
				all = append(all, help(set, p, f)...)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// help returns the texts of commands, flags and topics in a file.
func help(set *token.FileSet, p string, f *ast.File) (all []piece) {
	add := func(e ast.Expr) {
		if text := literal(e); text != "" {
			all = append(all, paragraphs(p, set.Position(e.Pos()).Line, text)...)
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.KeyValueExpr:
			if id, ok := n.Key.(*ast.Ident); ok && (id.Name == "Long" || id.Name == "Short" ||
				id.Name == "long" || id.Name == "short" || id.Name == "text") {
				add(n.Value)
			}
		case *ast.CallExpr:
			sel, ok := n.Fun.(*ast.SelectorExpr)
			if ok && strings.Contains(sel.Sel.Name, "Var") && len(n.Args) > 3 {
				add(n.Args[len(n.Args)-1])
			}
		}
		return true
	})
	return all
}

// literal is a string that stands in the code; empty for no string.
func literal(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind == token.STRING {
			text, _ := strconv.Unquote(e.Value)
			return text
		}
	case *ast.BinaryExpr:
		return literal(e.X) + literal(e.Y)
	}
	return ""
}

// pages returns the prose of the pages for readers.
func pages() (all []piece, err error) {
	files, err := filepath.Glob("docs/*.md")
	if err != nil {
		return nil, err
	}
	more, err := filepath.Glob("docs/design/*.md")
	if err != nil {
		return nil, err
	}
	for _, p := range append(append(files, more...), "README.md", "CONTRIBUTING.md") {
		raw, err := os.ReadFile(p)
		if err != nil {
			return nil, err
		}
		all = append(all, paragraphs(p, 1, string(raw))...)
	}
	return all, nil
}

var (
	listItem = regexp.MustCompile(`^(\d+\.|[-*])\s+`)
	link     = regexp.MustCompile(`\[([^\]]*)\]\([^)]*\)`)
	code     = regexp.MustCompile("`[^`]*`")
)

// paragraphs parts a text: at empty lines, headings, the items of lists and the
// cells of tables. Blocks of code are left out.
func paragraphs(file string, line int, text string) (all []piece) {
	var words []string
	begin, fenced, indented := line, false, false
	flush := func() {
		if len(words) > 0 {
			all = append(all, piece{file, begin, strings.Join(words, " ")})
		}
		words = nil
	}
	for i, raw := range strings.Split(text, "\n") {
		trimmed := strings.TrimSpace(raw)
		if strings.HasPrefix(trimmed, "```") {
			fenced = !fenced
			flush()
			continue
		}
		listed := listItem.MatchString(trimmed)
		deep := strings.HasPrefix(raw, "\t") || strings.HasPrefix(raw, "    ") ||
			strings.HasPrefix(raw, "  ") && strings.Contains(strings.TrimSpace(raw), "   ")
		indented = deep && !listed && (len(words) == 0 || indented)
		switch {
		case fenced || indented:
			flush()
		case trimmed == "" || strings.HasPrefix(trimmed, "#"):
			flush()
		case strings.HasPrefix(trimmed, "|"):
			flush()
			for _, cell := range strings.FieldsFunc(trimmed, func(r rune) bool {
				return r == '|' || r == ';' // a cell is a list of words, rather
			}) {
				if cell = strings.TrimSpace(cell); cell != "" {
					all = append(all, piece{file, line + i, cell})
				}
			}
		default:
			if listed {
				flush()
				trimmed = listItem.ReplaceAllString(trimmed, "")
			}
			if len(words) == 0 {
				begin = line + i
			}
			words = append(words, trimmed)
		}
	}
	flush()
	return all
}

// sentences parts a paragraph behind its stops.
func sentences(text string) (all []string) {
	text = link.ReplaceAllString(text, "$1")
	begin := 0
	runes := []rune(text)
	for i, r := range runes {
		if r != '.' && r != '!' && r != '?' {
			continue
		}
		end := i + 1
		for end < len(runes) && strings.ContainsRune("\")'*”", runes[end]) {
			end++
		}
		if end == len(runes) || unicode.IsSpace(runes[end]) && startsSentence(runes[end:]) {
			all = append(all, strings.TrimSpace(string(runes[begin:end])))
			begin = end
		}
	}
	if rest := strings.TrimSpace(string(runes[begin:])); rest != "" {
		all = append(all, rest)
	}
	return all
}

// startsSentence reports whether a sentence follows a stop, and not the rest of
// one behind an abbreviation or three points.
func startsSentence(rest []rune) bool {
	text := strings.TrimLeft(string(rest), " \n\t\"'([*`“-")
	return text != "" && (unicode.IsLetter([]rune(text)[0]) || unicode.IsDigit([]rune(text)[0]))
}

// faults says what is hard to read in a sentence.
func faults(sentence string) (all []string) {
	n := 0
	for _, word := range strings.Fields(code.ReplaceAllString(sentence, "x")) {
		if strings.ContainsFunc(word, func(r rune) bool {
			return unicode.IsLetter(r) || unicode.IsDigit(r)
		}) {
			n++
		}
	}
	if n > mostWords {
		all = append(all, fmt.Sprintf("%d words, %d at most", n, mostWords))
	}
	lower := strings.ToLower(sentence)
	for _, riddle := range riddles {
		if strings.Contains(lower, riddle) {
			all = append(all, fmt.Sprintf("%q", riddle))
		}
	}
	return all
}
