//go:build linux

package cli_test

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/cli"
	"calmdawn/internal/ring"
)

// TestTheGuide runs each command of docs/guide.md in its order, with a person
// who says yes, and holds what comes back against the page.
func TestTheGuide(t *testing.T) {
	ring.Needs(t, ring.Middle)
	page, err := os.ReadFile("../../docs/guide.md")
	must(t, err)
	home := t.TempDir()
	t.Chdir(home)
	t.Setenv("XDG_CONFIG_HOME", home+"/config")
	clock := time.Date(2026, 11, 16, 10, 30, 0, 0, time.UTC)
	calls := 0
	for _, block := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllSubmatch(page, -1) {
		for one := range strings.SplitSeq("\n"+string(block[1]), "\n$ ") {
			words, want, _ := strings.Cut(one, "\n")
			if name, value, set := strings.Cut(strings.TrimPrefix(words, "export "), "="); set &&
				strings.HasPrefix(words, "export ") {
				t.Setenv(name, value)
				continue
			}
			words, ours := strings.CutPrefix(words, "calmdawn")
			if !ours {
				continue // what stands before the first command
			}
			calls++
			clock = clock.Add(time.Minute)
			if strings.HasPrefix(words, " demo reboot") {
				clock = clock.Add(24 * time.Hour)
			}
			var text bytes.Buffer
			code := cli.Run(append([]string{"--color", "never"}, shellWords(words)...), cli.Streams{
				In: strings.NewReader("y\n"), Out: &text, Err: &text, Width: 100, Height: 1000,
				Terminal: true, Ask: true, UTF8: true, State: home + "/state",
				Now: func() time.Time { return clock },
			})
			if code != 0 || !reads(want, text.String()) {
				t.Errorf("calmdawn%s: exit %d; docs/guide.md has\n%s\nand it says\n%s", words, code,
					want, text.String())
			}
		}
	}
	if calls < 20 {
		t.Errorf("the guide has %d commands", calls)
	}
}

// reads reports whether a text is as the guide has it: blanks and the breaks of
// lines aside, with anything where … stands.
func reads(guide, text string) bool {
	flat := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	// a person's answer stands on their own line of the page
	guide = strings.ReplaceAll(guide, "[y/N] y\n", "[y/N] ")
	var pattern strings.Builder
	for n, part := range strings.Split(flat(guide), "…") {
		if n > 0 {
			pattern.WriteString(".*")
		}
		pattern.WriteString(regexp.QuoteMeta(strings.TrimSpace(part)))
		pattern.WriteString(" ?")
	}
	return regexp.MustCompile("^ ?" + strings.ReplaceAll(pattern.String(), " ?.*", " ?.* ?") +
		"$").MatchString(flat(text))
}

// TestRecommendedCallsAreUnderstood takes each call that a page of ours names
// in a sentence, and asks the tree of commands for it.
func TestRecommendedCallsAreUnderstood(t *testing.T) {
	calls := regexp.MustCompile("`calmdawn( [^`]*)?`")
	for _, name := range []string{
		"README.md", "docs/guide.md", "docs/linux.md", "docs/windows.md",
	} {
		page, err := os.ReadFile("../../" + name)
		must(t, err)
		for _, m := range calls.FindAllStringSubmatch(string(page), -1) {
			if strings.HasPrefix(m[1], " help") {
				continue // the library adds it as a call begins
			}
			tree := cli.Commands()
			cmd, rest, err := tree.Find(shellWords(m[1]))
			if err == nil {
				err = cmd.ParseFlags(rest)
			}
			if err != nil || cmd == tree && len(cmd.Flags().Args()) > 0 {
				t.Errorf("%s: calmdawn%s: %v", name, m[1], err)
			}
		}
	}
}
