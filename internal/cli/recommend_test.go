//go:build linux

package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/ring"
)

// recommended finds the commands in an output. That is what follows the name of
// the program, to the end of the line or to a sign that ends it.
var recommended = regexp.MustCompile(`calmdawn (--root \S+ [^;\n]*)`)

// sentence cuts what belongs to the sentence around a command.
var sentence = regexp.MustCompile(
	`(, (or|and|then|with) .*|\)?[.,]?|; .*| (shows|lists|tells|keeps) .*)$`)

var placeholder = regexp.MustCompile(`\b[A-Z]{3,}\b`)

// TestEveryRecommendedCommandWorks runs what outputs on the demo machine
// recommend, before and after a job.
func TestEveryRecommendedCommandWorks(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	t.Chdir(t.TempDir())
	on := "--root " + dir + " "
	var list struct{ Items []struct{ ID string } }
	out, _, _ := call(t, on+"list --all --json")
	if err := json.Unmarshal([]byte(out), &list); err != nil {
		t.Fatal(err)
	}
	ran := map[string]bool{}
	check := func(words string) {
		t.Helper()
		out, errs, _ := call(t, words)
		for _, m := range recommended.FindAllStringSubmatch(out+errs, -1) {
			words := sentence.ReplaceAllString(strings.TrimSpace(m[1]), "")
			if ran[words] || placeholder.MatchString(strings.ReplaceAll(words, dir, "")) {
				continue
			}
			ran[words] = true
			out, errs, code := callArgs(t, shellWords(words))
			if code != 0 && code != 3 && !strings.Contains(errs, "nobody is there to be asked") {
				t.Errorf("%s recommends %q, which ends with %d: %s%s", m[0], words, code, out, errs)
			}
		}
	}
	page := func(every int) { // of so many items one
		for _, words := range []string{
			"", "list", "boots", "boots last", "recorder status", "conditions",
			"forecast --best", "propose p.toml --replace", "compare", "report r.md --replace",
			"history", "trial", "guard", "drift",
		} {
			check(on + words)
		}
		for i, it := range list.Items {
			if i%every == 0 {
				check(on + "show " + it.ID)
			}
			if i%(4*every) == 0 {
				check(on + "forecast " + it.ID)
			}
		}
	}
	page(1)
	says(t, on+"disable --yes --trial 14d service:star-index.service", 0)
	says(t, on+"delay --yes service:star-cache.service", 0)
	page(8)
	says(t, "demo reboot "+dir+" --times 4", 0)
	page(8)
	if len(ran) < 100 {
		t.Errorf("only %d commands were recommended", len(ran))
	}
}

// TestEveryExampleWorks runs the examples of the help texts in their order.
func TestEveryExampleWorks(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	t.Chdir(t.TempDir())
	on := "--root " + dir + " "
	for n := range 8 { // for examples that name changes
		says(t, on+"disable --yes --trial 14d service:larder.service", 0)
		if n == 1 {
			says(t, on+"disable --yes task:/etc/cron.d/mast#619c", 0)
		}
		says(t, on+"enable --yes service:larder.service", 0)
	}
	says(t, "demo reboot "+dir+" --times 5", 0)
	says(t, on+"list --save", 0)
	says(t, on+"list --save", 0)
	says(t, on+"label before 1-5", 0)
	says(t, on+"label after 6-10", 0)
	needsMore := map[string]string{ // than the demo machine has, and what is said then
		"list --sort cpu-now":   "on the running machine only",
		"conditions 3":          "nobody noted the conditions",
		"compare --with old.db": "is on both sides",
		"review":                "needs a terminal", // TestReviewRound has one
		"review meridian.toml":  "needs a terminal",
	}
	must(t, os.WriteFile("old.db", casebookOf(t, dir), 0o600))
	help, _, _ := call(t, "--help")
	examples := 0
	for line := range strings.Lines(help) {
		name, _, ok := strings.Cut(strings.TrimSpace(line), "  ")
		if !ok || !strings.HasPrefix(line, "  ") || slices.Contains([]string{"help", "completion",
			"demo"}, name) || strings.ContainsAny(name, " -<") {
			continue
		}
		text, _, _ := call(t, name+" --help")
		if !strings.Contains(text, "Usage: calmdawn "+name) { // a topic
			continue
		}
		for example := range strings.Lines(text) {
			words, ok := strings.CutPrefix(strings.TrimRight(example, "\n"), "  calmdawn ")
			words, _, _ = strings.Cut(words, "  ") // what it does
			words, _, _ = strings.Cut(words, " >")
			if !ok || strings.Contains(words, "--root") || strings.Contains(words, "/mnt") {
				continue
			}
			examples++
			args := append([]string{"--root", dir}, shellWords(words)...)
			out, errs, code := callArgs(t, args)
			works := code == 0 || code == 3 || strings.Contains(errs, "nobody is there to be asked")
			if told := needsMore[words]; told != "" {
				works = strings.Contains(errs, told)
			}
			if !works {
				t.Errorf("calmdawn %s: %d %s%s", words, code, out, errs)
			}
		}
	}
	if examples < 40 {
		t.Errorf("only %d examples were found", examples)
	}
}

func casebookOf(t *testing.T, dir string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, "var/lib/calmdawn/casebook.db"))
	must(t, err)
	return text
}

// shellWords parts words as a shell does, as far as examples need it.
func shellWords(line string) (words []string) {
	for _, w := range regexp.MustCompile(`"[^"]*"|'[^']*'|[^ "']+`).FindAllString(line, -1) {
		words = append(words, strings.Trim(w, `"'`))
	}
	return words
}
