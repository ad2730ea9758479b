// Width fails where a line is too long: code over 100 columns, a comment over
// 80, prose of a page over 100. A tab counts four. A line of one word, which
// cannot be broken, may be longer, and so may a row of a table.
package main

import (
	"bufio"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

func main() {
	wrong := 0
	for _, dir := range []string{
		"cmd", "internal", "packaging", ".ci", "docs", "README.md", "CONTRIBUTING.md",
	} {
		err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(p, ".go") && !strings.HasSuffix(p, ".md") {
				return err
			}
			n, err := check(p)
			wrong += n
			return err
		})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	if wrong > 0 {
		os.Exit(1)
	}
}

// check prints the lines of a file that are too long, and counts them.
func check(file string) (wrong int, err error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	fenced := false // what a program printed, or a shell takes
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimSpace(lines.Text())
		if strings.HasSuffix(file, ".md") && strings.HasPrefix(text, "```") {
			fenced = !fenced
		}
		most := 100
		words := strings.Fields(text)
		if strings.HasPrefix(text, "//") && !strings.HasPrefix(text, "//go:") {
			most, words = 80, strings.Fields(strings.TrimLeft(text, "/"))
		}
		if fenced || strings.HasSuffix(file, ".md") && (strings.HasPrefix(text, "|") ||
			strings.HasPrefix(text, "![")) {
			continue
		}
		width := utf8.RuneCountInString(strings.ReplaceAll(lines.Text(), "\t", "    "))
		if width > most && len(words) > 1 {
			fmt.Printf("%s:%d: %d columns, %d at most\n", file, n, width, most)
			wrong++
		}
	}
	return wrong, lines.Err()
}
