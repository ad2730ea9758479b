//go:build linux

package cli_test

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"calmdawn/internal/cli"
	"calmdawn/internal/ring"
)

// atTerminal runs a call as a person at a terminal makes it, who answers every
// question with yes.
func atTerminal(t *testing.T, state, words string) (out string, code int) {
	t.Helper()
	var text bytes.Buffer
	code = cli.Run(shellWords(words), cli.Streams{
		In: strings.NewReader("y\n"), Out: &text, Err: &text, Width: 80, Height: 24,
		Terminal: true, Ask: true, UTF8: true, State: state,
	})
	return text.String(), code
}

func TestNumbersOfTheLastList(t *testing.T) {
	dir, state := demoMachine(t), t.TempDir()
	on := "--root " + dir + " --color never "
	person := func(words string, want int, parts ...string) string {
		t.Helper()
		out, code := atTerminal(t, state, on+words)
		flat := strings.Join(strings.Fields(out), " ")
		for _, part := range parts {
			if !strings.Contains(flat, part) {
				t.Errorf("%s: without %q:\n%s", words, part, out)
			}
		}
		if code != want {
			t.Errorf("%s: exit %d:\n%s", words, code, out)
		}
		return out
	}
	person("show 1", 2, "no list of this machine was shown")
	person("list --advice 'can wait' --when boot", 0, "NO TITLE", "1 Star-catalogue indexer")
	person("show 2", 0, "Star-catalogue cache")
	person("show 99", 2, "99 is not among them")
	says(t, on+"show 1", 2, "for people", "nobody is there")
	person("disable 1 --yes", 2, "leave --yes away")
	person("disable 1-2", 0, "Star-catalogue cache", "Done, as change 1")
	person("show 1", 0, "It is off") // by a change of ours
	person("undo last", 0, "taken back")
	person("disable 3-2", 2, "not among them")
	says(t, on+"list --json", 0) // a script's list is nobody's last one
	person("show 1", 0, "Star-catalogue indexer")
	must(t, os.RemoveAll(dir+"/etc/systemd/system/graphical.target.wants/star-cache.service"))
	person("disable 1-2", 2, "row 2 of the last list", "was on, and is off now")
	person("list no-such-thing", 3)
	person("show 1", 0, "Star-catalogue indexer") // an empty table has no numbers
	person("list", 0, "NO ")
	person("forecast --best", 0, "NO ITEM", "Next: calmdawn")
	person("disable 2", 0, "Mind: 2 is", "by the table shown last; in the one before it was")
	person("undo last", 0, "taken back")
	row := regexp.MustCompile(`(?m)^ *(\d+) +Fetch the rea.*, and 1 more`)
	list := person("list", 0, "1 item stands in the row of another")
	found := row.FindStringSubmatch(list)
	if found == nil {
		t.Fatalf("no row stands for several items of a package:\n%s", list)
	}
	person("show "+found[1], 0, "Fetch the readings", "1 item more is meant by that number")
	person("disable "+found[1], 0, "Switching off 2 items", "Done, as change")
	person("undo last", 0, "taken back")
	if out := person("list --each", 0, "Fetch the readings"); row.MatchString(out) {
		t.Errorf("a row for each item was asked for:\n%s", out)
	}
	person("list", 0)
	person("disable "+found[1], 0, "Switching off 2 items", "Mind: "+found[1]+" is")
	person("undo last", 0, "taken back")
	person("list", 0)
	person("note 1 'not on Mondays'", 0, "Noted on")
	lists, err := filepath.Glob(state + "/lists/*.json")
	if err != nil || len(lists) != 1 {
		t.Fatal(lists, err)
	}
	text, err := os.ReadFile(lists[0])
	must(t, err)
	today := regexp.MustCompile(`20\d\d-\d\d-\d\d`)
	must(t, os.WriteFile(lists[0], today.ReplaceAll(text, []byte("2026-01-01")), 0o600))
	person("show 1", 2, "too long ago")
	must(t, os.WriteFile(lists[0], []byte("{"), 0o600))
	person("show 1", 1, "cannot be read")
}

// TestEveryColumnSorts sorts a list by each of its columns.
func TestEveryColumnSorts(t *testing.T) {
	ring.Needs(t, ring.Outer)
	on := "--root " + demoMachine(t) + " "
	says(t, on+"disable --yes larder.service", 0)
	out := says(t, on+"list", 0)
	_, table, _ := strings.Cut(out, "\n\n")
	head, _, _ := strings.Cut(table, "\n")
	columns := 0
	for name := range strings.SplitSeq(head, "  ") {
		if name = strings.TrimSpace(name); name != "" {
			columns++
			args := append(shellWords(on), "list", "--sort", strings.ToLower(name))
			if out, errs, code := callArgs(t, args); code != 0 || len(out) < len(table)/2 {
				t.Errorf("--sort %q: %d %s", name, code, errs)
			}
		}
	}
	if columns < 12 {
		t.Errorf("only %d columns in %q", columns, head)
	}
}

func TestOneBootByItsNumber(t *testing.T) {
	on := "--root " + demoMachine(t) + " "
	third := says(t, on+"boots 3", 0, "The boot of", "one stretch after the other")
	says(t, on+"label memory 3", 0)
	for _, words := range []string{"boots memory", "boots --spans --boot 3"} {
		if out := says(t, on+words, 0); out != third {
			t.Errorf("%s is another boot:\n%s", words, out)
		}
	}
	says(t, on+"boots last", 0, "The boot of")
	says(t, on+"boots 1-2", 2, "is 2 boots")
	says(t, on+"boots 9", 2, "numbered 1 to 5")
	if out := says(t, on+"boots --last 2", 0, "NO"); !strings.Contains(out, "\n 4  ") &&
		!strings.Contains(out, "\n4   ") {
		t.Errorf("the last two have other numbers:\n%s", out)
	}
}

// TestManyChangesBetweenBoots folds them.
func TestManyChangesBetweenBoots(t *testing.T) {
	ring.Needs(t, ring.Middle)
	on := "--root " + demoMachine(t) + " "
	t.Chdir(t.TempDir())
	says(t, on+"propose p.toml", 0)
	says(t, on+"apply p.toml --yes", 0, "Forecast: usable", "Done, as changes 1 to")
	out := says(t, on+"boots", 0, "changes 1-", " delay, ")
	if n := strings.Count(out, "\n"); n > 16 {
		t.Errorf("%d lines:\n%s", n, out)
	}
	says(t, on+"disable --yes palisade.service --insist", 0, "Done, as")
	says(t, on+"disable --yes ssh loan-db --insist", 2, "--insist alone means the one item given")
}

func TestHelpFitsAScreen(t *testing.T) {
	const most = 32
	help, _ := atTerminal(t, t.TempDir(), "--color never --help")
	commands := 0
	for line := range strings.Lines(help) {
		name, _, ok := strings.Cut(strings.TrimPrefix(line, "  "), "  ")
		if !ok || strings.ContainsAny(name, " -<") || name == "" {
			continue
		}
		text, code := atTerminal(t, t.TempDir(), "--pager off help "+name)
		if code != 0 || len(text) < 100 {
			t.Errorf("help %s: %d %s", name, code, text)
		}
		text, _ = atTerminal(t, t.TempDir(), name+" --help")
		if !strings.Contains(text, "Usage: calmdawn "+name) { // a topic
			continue
		}
		commands++
		if n := strings.Count(text, "\n"); n > most && name != "completion" {
			t.Errorf("%s --help has %d lines, %d at most", name, n, most)
		}
	}
	if commands < 20 {
		t.Errorf("only %d commands are listed:\n%s", commands, help)
	}
	says(t, "help no-such-topic", 2, "topics are costs")
}

func TestLongTextGoesThroughThePager(t *testing.T) {
	ring.Needs(t, ring.Middle)
	on := "--root " + demoMachine(t) + " "
	for _, c := range []struct{ words, env, says, not string }{
		{"list --pager 'wc -l'", "", "", "Lanternfile"},
		{"list --pager off", "", "Lanternfile", ""},
		{"list --pager no-such-pager-at-all", "", "cannot be run", ""},
		{"list --json --pager 'wc -l'", "", `"folded"`, ""},
		{"guard --pager 'wc -l'", "", "No boot guard is on", ""},
		{"show star-index --pager 'grep -c .'", "", "Star-catalogue indexer", ""}, // it fits
		{"list --pager cat", "", "\x1b[", ""},
		{"list --pager 'less -R'", "", "\x1b[", ""},
		{"list --pager 'sed s/Lantern/Candle/'", "", "Candlefile", "\x1b["},
		{"list", "sed s/Lantern/Candle/", "Lanternfile", ""}, // root's may be another's
	} {
		if c.env != "" && os.Geteuid() != 0 {
			c.says = "Candlefile"
		}
		t.Setenv("PAGER", c.env)
		height := 40
		if strings.HasPrefix(c.words, "list") {
			height = 24
		}
		var out, errs bytes.Buffer
		code := cli.Run(shellWords(on+c.words), cli.Streams{In: strings.NewReader(""), Out: &out,
			Err: &errs, Width: 80, Height: height, Terminal: true, UTF8: true})
		text := out.String() + errs.String()
		if code != 0 || !strings.Contains(text, c.says) ||
			c.not != "" && strings.Contains(text, c.not) {
			t.Errorf("%s: %d\n%s\nwant %q and not %q", c.words, code, text, c.says, c.not)
		}
	}
}

// shells type a line, press the tabulator, and print what is there then.
var shells = map[string]string{
	"bash": `source /usr/share/bash-completion/bash_completion; source <(calmdawn completion bash)
compopt() { :; }
COMP_LINE="$LINE" COMP_POINT=${#LINE} COMP_TYPE=9; read -ra COMP_WORDS <<<"$LINE"
[[ $LINE == *" " ]] && COMP_WORDS+=("")
COMP_CWORD=$((${#COMP_WORDS[@]}-1)); __start_calmdawn; printf '%s\n' "${COMPREPLY[@]}"`,
	"fish": `calmdawn completion fish | source; complete -C "$LINE" | cut -f1`,
	"zsh": `zmodload zsh/zpty; zpty z zsh -f -i
zpty -w z "PROMPT=; autoload -U compinit; compinit -u -D; source =(calmdawn completion zsh)"
zpty -w z "compdef _calmdawn calmdawn; zstyle ':completion:*' verbose no; print RE''ADY"
zpty -r z line '*READY*'
zpty -w -n z "$LINE"$'\t'; sleep $PAUSE; zpty -w -n z $'\x01print -r -- "[\x05]"\n'
zpty -r z out '*]'$'\r'; print -r -- "${out##*\[}" | tr -d '\\]'`,
}

func TestCompletionInShells(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	bin := t.TempDir()
	must(t, os.Symlink(program, bin+"/calmdawn"))
	says(t, "--root "+dir+" label memory 3", 0)
	says(t, "--root "+dir+" disable --yes larder.service", 0)
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	t.Setenv("CALMDAWN_ROOT", dir)
	t.Chdir(t.TempDir())
	for _, name := range []string{"a-file.txt", "last-job.toml"} {
		must(t, os.WriteFile(name, nil, 0o644))
	}
	var calls sync.WaitGroup
	for shell, script := range shells {
		for line, want := range map[string]string{
			"calmdawn sho":                    "show",
			"calmdawn show star-i":            "star-index.service",
			"calmdawn disable --maker pellin": "pellin",
			"calmdawn list --owner tE":        "tEo",
			"calmdawn list --advice cle":      "clean",
			"calmdawn list --sort cpu-":       "cpu-now",
			"calmdawn undo l":                 "last",
			"calmdawn boots mem":              "memory",
			"calmdawn compare change:":        "1", // some shells part words at the colon
			"calmdawn help cos":               "costs",
			"calmdawn apply l":                "last-job.toml",
			"calmdawn trial keep a":           "!a-file.txt",
			"calmdawn label a":                "!a-file.txt",
		} {
			calls.Go(func() { complete(t, shell, script, line, want, bin) })
		}
	}
	calls.Wait()
}

// TestNoNameRuns has shells complete names that a user made up so that they do
// something. Others are names that begin like them, as readline leaves them
// behind.
func TestNoNameRuns(t *testing.T) {
	ring.Needs(t, ring.Middle)
	dir := demoMachine(t)
	folder := dir + "/home/maria/.config/autostart"
	must(t, os.MkdirAll(folder, 0o755))
	names := []string{
		"z$(touch PWN)1", "z$(touch PWN)2", "z`touch PWN`", "z';touch PWN;'", "z\\';touch PWN;'",
		"z|touch PWN", "z\ntouch PWN\n", "z;touch PWN", "z\"$(touch PWN)\"", "z(touch PWN)", "z a",
		"z%41", "z=x", "zé",
	}
	for _, name := range names {
		must(t, os.WriteFile(filepath.Join(folder, name+".desktop"), []byte("[Desktop Entry]\n"+
			"Type=Application\nName="+strings.TrimSpace(name)+"\nExec=/usr/bin/true\n"), 0o644))
	}
	bin := t.TempDir()
	must(t, os.Symlink(program, bin+"/calmdawn"))
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	t.Setenv("CALMDAWN_ROOT", dir)
	t.Chdir(t.TempDir())
	var calls sync.WaitGroup
	for shell, script := range shells {
		calls.Go(func() { complete(t, shell, script, "calmdawn show program:z", "z%", bin) })
		for _, name := range append(names, "z$(touch PWN)", "z%24%28touch") {
			line := "calmdawn show program:" + name
			if strings.Contains(name, "\n") {
				continue // a key that calls what is typed so far
			}
			calls.Go(func() { tab(shell, script, line, bin) })
		}
		for _, line := range []string{"calmdawn show z", "calmdawn list --on=$(touch PWN)",
			"calmdawn list --owner='$(touch PWN)", "calmdawn disable $(touch PWN) z"} {
			calls.Go(func() { tab(shell, script, line, bin) })
		}
	}
	calls.Wait()
	if made, _ := filepath.Glob("*"); len(made) > 0 {
		t.Errorf("a name ran: %v", made)
	}
	list := says(t, "--root "+dir+" list --owner maria --all", 0)
	for _, want := range []string{"program:z%24%28touch%20PWN%291.desktop@maria",
		"program:z%0Atouch%20PWN%0A.desktop@maria", "program:z%2541.desktop@maria"} {
		if !strings.Contains(list, want) {
			t.Errorf("the list has no %s:\n%s", want, list)
		}
	}
	// ids as earlier versions had them
	out, errs, code := callArgs(t, []string{"--root", dir, "show", "program:z a.desktop@maria"})
	if code != 0 || !strings.Contains(out, "program:z%20a.desktop@maria") {
		t.Errorf("an id of earlier: %d\n%s%s", code, out, errs)
	}
}

// tab has a shell complete a line, whatever comes of it: with an open quote in
// it a shell may wait without end.
func tab(shell, script, line, home string) {
	if shell == "zsh" {
		// else it would print the line by a command that has it in quotes, and
		// expand what is typed before it asks anybody
		script = strings.Replace(script, "PROMPT=;", "PROMPT=; bindkey '^I' complete-word;", 1)
		script, _, _ = strings.Cut(script, "sleep $PAUSE")
		script = strings.Replace(script, `"$LINE"$'\t'`, `"$LINE"$'\t\t'`, 1) + "sleep $PAUSE"
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, shell, "-c", script)
	cmd.Env = append(os.Environ(), "LINE="+line, "HOME="+home, "PAUSE=2")
	cmd.WaitDelay = time.Second
	_ = cmd.Run()
}

// complete has a shell complete a line. How long that takes it does not tell,
// so it is given more time if something else comes out.
func complete(t *testing.T, shell, script, line, want, home string) {
	unwanted, not := strings.CutPrefix(want, "!")
	pauses := []string{"0.4", "2", "10"}
	if not {
		pauses = []string{"2"} // what is not there yet would prove nothing
	}
	for i, pause := range pauses {
		cmd := exec.Command(shell, "-c", script)
		cmd.Env = append(os.Environ(), "LINE="+line, "HOME="+home, "PAUSE="+pause)
		out, err := cmd.CombinedOutput()
		switch {
		case err == nil && strings.Contains(string(out), unwanted) != not:
			return
		case i == len(pauses)-1:
			t.Errorf("%s completes %q with %q (%v)", shell, line, out, err)
		}
	}
}

// TestFiguresAgree walks the job on both demo machines, and holds each figure
// that one command says against what the others say of it.
func TestFiguresAgree(t *testing.T) {
	ring.Needs(t, ring.Middle)
	for _, family := range []string{"linux", "windows"} {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir() + "/machine"
			clock := time.Date(2026, 11, 16, 10, 30, 0, 0, time.UTC)
			says := func(words string, parts ...string) string {
				t.Helper()
				clock = clock.Add(time.Minute)
				var text bytes.Buffer
				code := cli.Run(shellWords(words), cli.Streams{
					In: strings.NewReader(""), Out: &text, Err: &text, Width: 300, UTF8: true,
					Now: func() time.Time { return clock },
				})
				for _, part := range parts {
					if !strings.Contains(text.String(), part) {
						t.Errorf("calmdawn %s\n%s\nwithout %q", words, text.String(), part)
					}
				}
				if code != 0 {
					t.Fatalf("calmdawn %s ended with %d\n%s", words, code, text.String())
				}
				return text.String()
			}
			says("demo --family " + family + " --keep " + dir)
			on := "--root " + dir + " "
			// one finds what stands in an output, and is to be found in others
			one := func(what, from string, pattern string, others ...string) string {
				t.Helper()
				m := regexp.MustCompile(pattern).FindStringSubmatch(from)
				if m == nil {
					t.Fatalf("%s: no %s in\n%s", what, pattern, from)
				}
				for _, other := range others {
					if !strings.Contains(other, m[1]) {
						t.Errorf("%s is %q, and not so in\n%s", what, m[1], other)
					}
				}
				return m[1]
			}
			first := says(on)
			one("usable", first, `(Usable after [^;]*?),? (?:measured|simulated)`,
				says(on+"list"), says(on+"boots"))
			best := says(on + "forecast --best")
			one("what advice brings", best, ` of the (\d[^;]*? of usable \(.*?\)) that`, first)
			together := one("what the best bring", best, `brings? (\d.*?) of the `)
			applied := says(on+"apply --best --yes", together, "It is judged by usable")
			needs := one("restarts", applied, `takes (\d+) more`)
			first = says(on)
			one("waiting", first, `(\d+) changes? (?:is|are) waiting`,
				says(on+"compare"))
			one("restarts", says(on+"compare"), `(\d+ more restarts?)`,
				needs+" more restarts "+needs+" more restart")
			for range 5 {
				clock = clock.Truncate(24 * time.Hour).Add(32 * time.Hour)
				says("demo reboot " + dir)
			}
			answer := one("the verdict", says(on), `(Usable.* is faster by .*?) since`,
				says(on+"compare"))
			says(on + "report " + dir + ".md")
			text, err := os.ReadFile(dir + ".md")
			must(t, err)
			if !strings.Contains(string(text), answer) {
				t.Errorf("%q is not in the report", answer)
			}
			says(on + "undo --all --yes")
			one("the verdict", says(on), `(Usable.* was faster by .*?) since`,
				says(on+"compare", "All of that is taken back by now."))
			one("waiting", says(on), `(\d+ changes?) (?:is|are) waiting`,
				strings.ReplaceAll(says(on+"compare"), " wait for", " are waiting for"))
		})
	}
}
