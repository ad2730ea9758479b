package main

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/cpuguy83/go-md2man/v2/md2man"
	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"

	"calmdawn/internal/cli"
)

// texts are what is the same for all targets: README, guide, manual pages and
// completions.
func (c *checkout) texts() (all []file, err error) {
	for _, name := range []string{"README.md", "docs/guide.md"} {
		text, err := os.ReadFile(filepath.Join(c.dir, name))
		if errors.Is(err, os.ErrNotExist) && name != "README.md" {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, file{name, text, 0o644})
	}
	for shell, suffix := range map[string]string{
		"bash": "bash", "zsh": "zsh", "fish": "fish", "powershell": "ps1",
	} {
		var text, errs bytes.Buffer
		if code := cli.Run([]string{"completion", shell}, cli.Streams{
			In: strings.NewReader(""), Out: &text, Err: &errs,
		}); code != 0 {
			return nil, fmt.Errorf("completion %s: %s", shell, errs.String())
		}
		all = append(all, file{"completions/calmdawn." + suffix, text.Bytes(), 0o644})
	}
	pages, err := c.pages(cli.Commands())
	if err != nil {
		return nil, err
	}
	formats, err := os.ReadFile(filepath.Join(c.dir, "docs/formats.md"))
	if err != nil {
		return nil, err
	}
	files, err := filesPage(string(formats))
	return append(append(all, pages...), c.page("calmdawn", 7, job),
		c.page("calmdawn-files", 5, files)), err
}

// job is the page of the job from start to end.
//
//go:embed calmdawn.7.md
var job string

// filesPage makes the page of files from docs/formats.md: its chapters, below
// the name that a manual page needs.
func filesPage(formats string) (string, error) {
	_, text, ok := strings.Cut(formats, "\n\n") // below its title
	if !ok {
		return "", errors.New("docs/formats.md has no text below its title")
	}
	text = regexp.MustCompile(`(?m)^## (.*)$`).ReplaceAllStringFunc(text, func(h string) string {
		return "# " + strings.ToUpper(h[3:])
	})
	// a link leads nowhere from here: its words stay
	text = regexp.MustCompile(`\[([^]]*)\]\([^)]*\)`).ReplaceAllString(text, "$1")
	// a table of sentences is wider than a page: its rows become terms
	text = regexp.MustCompile(`(?m)^\|( --- \|)+\n`).ReplaceAllString(text, "")
	text = regexp.MustCompile(`(?m)^\| (.*?) \| (.*) \|$`).ReplaceAllString(text, "$1\n: $2\n")
	return "# NAME\n\ncalmdawn-files - what calmdawn writes to disk\n\n# DESCRIPTION\n\n" + text +
		"\n# SEE ALSO\n\ncalmdawn(1), calmdawn(7)\n", nil
}

// page is a page of text in Markdown.
func (c *checkout) page(name string, section int, text string) file {
	head := fmt.Sprintf("%% %q %q %q %q %q\n", strings.ToUpper(name), fmt.Sprint(section),
		c.date.Format("Jan 2006"), "Calm Dawn", "Calm Dawn")
	return file{fmt.Sprintf("man/%s.%d", name, section), md2man.Render([]byte(head + text)), 0o644}
}

// pages are the manual pages of a command and of those below it.
func (c *checkout) pages(cmd *cobra.Command) (all []file, err error) {
	if cmd.Hidden || cmd.Name() == "help" {
		return nil, nil
	}
	cmd.DisableAutoGenTag = true
	cmd.InitDefaultHelpFlag()
	flags := cmd.Flags()
	flags.VisitAll(plain)
	cmd.PersistentFlags().VisitAll(plain)
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
	var text bytes.Buffer
	err = doc.GenMan(cmd, &doc.GenManHeader{
		Title: strings.ToUpper(name), Section: "1", Date: &c.date, Source: "Calm Dawn",
		Manual: "Calm Dawn",
	}, &text)
	if err != nil {
		return nil, err
	}
	page := strings.NewReplacer("[=]", "", "=\n", "\n", " []\n", "\n").Replace(text.String())
	all = append(all, file{"man/" + name + ".1", []byte(page), 0o644})
	for _, sub := range cmd.Commands() {
		more, err := c.pages(sub)
		if err != nil {
			return nil, err
		}
		all = append(all, more...)
	}
	slices.SortFunc(all, func(a, b file) int { return strings.Compare(a.path, b.path) })
	return all, nil
}

// plain makes a flag read as help shows it: with the name of what it takes in
// the place of its default.
func plain(f *pflag.Flag) {
	if _, done := f.Value.(untyped); done {
		return
	}
	form, usage := cli.Described(f)
	f.Usage, f.DefValue, f.Value = usage, form, untyped{f.Value}
}

// untyped keeps the library from quoting what a flag takes.
type untyped struct{ pflag.Value }

func (untyped) Type() string { return "" }
