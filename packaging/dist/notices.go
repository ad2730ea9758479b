package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strings"
)

// licenceName is how modules name the files that hold their terms.
var licenceName = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice|patents|unlicense)`)

var readmeTerms = regexp.MustCompile(`(?mi)^#+ *licen[cs]e`)

// notices is one text with the terms of everything that is linked in.
func (c *checkout) notices(p *program) (file, error) {
	listed, err := c.run([]string{"GOFLAGS="}, "go", "list", "-m", "-json", "all")
	if err != nil {
		return file{}, err
	}
	dirs := map[string]string{}
	for d := json.NewDecoder(bytes.NewReader(listed)); ; {
		var m struct{ Path, Dir string }
		err := d.Decode(&m)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return file{}, err
		}
		dirs[m.Path] = m.Dir
	}
	root, err := c.run(nil, "go", "env", "GOROOT")
	if err != nil {
		return file{}, err
	}
	var text strings.Builder
	text.WriteString("Calm Dawn is linked with the works below. Each stands under its own terms.\n")
	add := func(m *debug.Module, dir string) error {
		found, err := terms(dir)
		if err != nil || len(found) == 0 {
			return fmt.Errorf("%s %s: its terms are not found in %q: %v", m.Path, m.Version, dir,
				err)
		}
		fmt.Fprintf(&text, "\n%s\n%s %s\n", strings.Repeat("=", 78), m.Path, m.Version)
		for _, f := range found {
			fmt.Fprintf(&text, "%s\n%s: %s\n\n%s\n", strings.Repeat("-", 78), m.Path, f.path,
				strings.TrimSpace(string(f.data)))
		}
		return nil
	}
	goes := &debug.Module{Path: "Go and its standard library", Version: p.info.GoVersion}
	if err := add(goes, strings.TrimSpace(string(root))); err != nil {
		return file{}, err
	}
	for _, m := range p.info.Deps {
		if m.Replace != nil && m.Replace.Sum == "" {
			continue // a folder of ours
		}
		if err := add(m, dirs[m.Path]); err != nil {
			return file{}, err
		}
	}
	return file{"NOTICES.txt", []byte(text.String()), 0o644}, nil
}

// terms are the files of a folder that hold the terms of what is in it.
func terms(dir string) (found []file, err error) {
	if dir == "" {
		return nil, errors.New("the module is not there; go mod download fetches it")
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.IsDir() || !licenceName.MatchString(e.Name()) || filepath.Ext(e.Name()) == ".go" {
			continue
		}
		data, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		found = append(found, file{path: e.Name(), data: data})
	}
	if len(found) > 0 {
		return found, nil
	}
	// One module names its terms in its README alone.
	text, err := os.ReadFile(filepath.Join(dir, "README.md"))
	if err != nil {
		return nil, err
	}
	if at := readmeTerms.FindIndex(text); at != nil {
		found = append(found, file{path: "README.md", data: text[at[0]:]})
	}
	return found, nil
}
