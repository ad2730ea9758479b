//go:build linux

package review

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/x/ansi"

	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/say"
	"calmdawn/internal/testtree"
	"calmdawn/internal/visit"
)

// machine is one with some services, of which b requires a, and ufw is
// protected.
func machine(t testing.TB, more int) *visit.Visit {
	t.Helper()
	files := map[string]string{"usr/bin/true": ""}
	add := func(name, lines string) {
		unit := "etc/systemd/system/" + name + ".service"
		files[unit] = lines + "\n[Service]\nExecStart=/usr/bin/true\n"
		files["etc/systemd/system/multi-user.target.wants/"+name+".service"] =
			"-> ../" + name + ".service"
	}
	files["var/lib/dpkg/status"] = "Package: more\nStatus: install ok installed\nVersion: 1\n\n"
	files["var/lib/dpkg/info/more.list"] = ""
	files["etc/systemd/system/default.target"] = "-> /usr/lib/systemd/system/multi-user.target"
	files["usr/lib/systemd/system/multi-user.target"] = "[Unit]\n"
	add("a", "[Unit]\nDescription=Alpha")
	add("b", "[Unit]\nDescription=Beta\nRequires=a.service")
	add("c", "[Unit]\nDescription=Gamma \x1b[31m\u202e山山 e\u0301\u0301")
	add("ufw", "[Unit]\nDescription=Packet filter")
	for i := range more {
		add(fmt.Sprintf("more%05d", i), fmt.Sprintf("[Unit]\nDescription=More %d", i))
		files["var/lib/dpkg/info/more.list"] += fmt.Sprintf(
			"/etc/systemd/system/more%05d.service\n", i)
	}
	v, err := visit.Site{Dir: testtree.Make(t, files), Now: time.Now}.Look()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { v.Close() })
	return v
}

// A person at the screen presses keys, and waits for what is done beside it.
type person struct {
	testing.TB
	*Model
}

func sitDown(t testing.TB, v *visit.Visit, o Options) person {
	p := person{t, New(v, o)}
	p.after(p.Begin())
	return p
}

// after runs what is to be done beside the screen, but for what ends it.
func (p person) after(cmds []tea.Cmd) (ended bool) {
	for _, cmd := range cmds {
		if cmd == nil {
			continue
		}
		switch msg := cmd().(type) {
		case tea.QuitMsg:
			ended = true
		default:
			ended = p.after(p.Update(msg)) || ended
		}
	}
	return ended
}

var named = map[string]tea.KeyType{
	"enter": tea.KeyEnter, "esc": tea.KeyEsc, "down": tea.KeyDown, "up": tea.KeyUp,
	"end": tea.KeyEnd, "home": tea.KeyHome, "pgdown": tea.KeyPgDown, "space": tea.KeySpace,
	"del": tea.KeyBackspace, "clear": tea.KeyCtrlU,
}

// press presses keys, one a word; what is no key is typed.
func (p person) press(words string) (ended bool) {
	for word := range strings.FieldsSeq(words) {
		msg := tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune(word)}
		if kind, ok := named[word]; ok {
			msg = tea.KeyMsg{Type: kind}
			if kind == tea.KeySpace {
				msg.Runes = []rune(" ")
			}
		}
		ended = p.after(p.Update(msg))
	}
	return ended
}

func (p person) sees(parts ...string) {
	p.Helper()
	flat := strings.Join(strings.Fields(p.View()), " ")
	for _, part := range parts {
		if !strings.Contains(flat, part) {
			p.Errorf("without %q:\n%s", part, p.View())
		}
	}
}

func (p person) has(want string) {
	p.Helper()
	var all []string
	for _, d := range p.plan.decisions {
		all = append(all, strings.TrimSpace(strings.TrimSuffix(d.ID[8:], ".service")+" "+says[d.Do]+
			" "+d.By))
	}
	if got := strings.Join(all, ", "); got != want {
		p.Errorf("the plan is %q, want %q\n%s", got, want, p.View())
	}
}

func TestDecisions(t *testing.T) {
	v := machine(t, 0)
	for _, c := range []struct{ name, keys, plan, says string }{
		{"off", "o", "a off", "Mind: a.service is needed by service:b.service."},
		{"the same again takes it away", "o o", "", "No decision yet"},
		{"another one replaces it", "o e", "a keep", "1 keep"},
		{"undo takes one step back", "o e u", "a off", "1 off"},
		{"undo of nothing", "u", "", "no decision to undo"},
		{"no decision", "o x", "", "No decision yet"},
		{"later takes a time", "down l clear 90s enter", "b later 90s", "1 later"},
		{"later takes no other", "down l clear 0s enter", "", "say how much later"},
		{"later, and escape", "down l esc", "", "No decision yet"},
		{"what others need is not delayed", "l enter", "",
			"Left out: service:a.service cannot be delayed"},
		{"on already", "b", "", "Alpha is on already"},
		{"protected", "end o", "", "is protected"},
		{"protected, insisting", "end !", "ufw off", "1 off"},
		{"marked rows", "space space o", "a off, b off", "2 off"},
		{"marked by a range", "v down down v e", "a keep, b keep, c keep", "3 keep"},
		{"all shown", "a o", "a off, b off, c off", "Left out: 1 protected"},
		{"all of a maker", "m o", "a off, b off, c off", "Left out: 1 protected"},
		{"none marked any more", "a esc o", "a off", "1 off"},
		{"found by typing", "/ gam enter o", "c off", "1 of 4 items"},
		{"find, and escape", "/ gam esc o", "a off", "4 of 4 items"},
		{"by a field", "f kind=service space advice=keep enter a !", "ufw off", "advice=keep"},
		{"by no field", "f color=red enter", "", `there is no field "color"`},
		{"by no value", "f state=open enter", "", "state is on, off, delayed, broken"},
		{"sorted", "s end o", "ufw off", "is protected"},
		{"keys that come together", "ou", "", "No decision yet"},
		{"a key of no meaning", "y", "", "y does nothing here"},
		{"the last row and back", "end home pgdown up down o", "", "is protected"},
		{"help", "?", "", "undo the last decision"},
		{"the page", "enter", "", "calmdawn disable service:a.service"},
		{"the page of the next", "enter n", "", "calmdawn disable service:b.service"},
		{"carrying out nothing", "c", "", "no decision to carry out"},
		{"writing nothing", "w", "", "no decision to write"},
		{"writing without a name", "o w clear enter", "a off", "give the file a name"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := sitDown(t, v, Options{UTF8: true})
			p.press(c.keys)
			if c.name == "sorted" || strings.HasPrefix(c.name, "the last") {
				p.sees(c.says)
				return
			}
			p.has(c.plan)
			p.sees(c.says)
		})
	}
}

// TestARowForAPackage decides on a row that stands for three items, and on one
// of them.
func TestARowForAPackage(t *testing.T) {
	p := sitDown(t, machine(t, 3), Options{UTF8: true})
	p.sees("7 of 7 items", "More 0 +2")
	if len(p.lines) != 5 {
		t.Fatalf("%d rows:\n%s", len(p.lines), p.View())
	}
	p.press("/ more enter")
	p.sees("3 of 7 items", "More 2")
	p.press("esc o")
	p.has("more00000 off, more00001 off, more00002 off")
	p.press("+ down x")
	p.has("more00000 off, more00002 off")
	p.press("+")
	p.sees("More 0 +1", "More 1")
	p.press("/ more enter a esc o")
	p.has("more00000 off, more00002 off, more00001 off")
	p.press("home +")
	p.sees("This row stands for one item")
}

// TestOwnersAreNamed shows whose an item is, and of the machine's nothing.
func TestOwnersAreNamed(t *testing.T) {
	for owner, want := range map[string]string{"": "Gate", "maria": "maria: Gate"} {
		if got := titleOf(item.Item{Title: "Gate", Owner: owner}); got != want {
			t.Errorf("of %q: %q", owner, got)
		}
	}
}

// TestHelpSaysWhatIsBelow opens the help where it does not fit, and where it
// does.
func TestHelpSaysWhatIsBelow(t *testing.T) {
	p := sitDown(t, machine(t, 0), Options{UTF8: true})
	p.press("?")
	for _, height := range []int{12, 200} {
		p.after(p.Update(tea.WindowSizeMsg{Width: 100, Height: height}))
		if below := strings.Contains(p.View(), "more lines"); below != (height == 12) {
			t.Errorf("of %d lines: more below: %v", height, below)
		}
	}
}

// TestMarkedRowsShow has the rows that are marked, and no others, say so.
func TestMarkedRowsShow(t *testing.T) {
	p := sitDown(t, machine(t, 0), Options{UTF8: true})
	marks := func() int {
		text := "\n" + p.View()
		return strings.Count(text, "\n *") + strings.Count(text, "\n›*")
	}
	for _, c := range []struct {
		keys string
		want int
	}{{"", 0}, {"space", 1}, {"space", 2}, {"up space", 1}, {"esc", 0}} {
		if p.press(c.keys); marks() != c.want {
			t.Errorf("after %q %d rows are marked, not %d:\n%s", c.keys, marks(), c.want, p.View())
		}
	}
}

func TestAPlanIsCarriedOutWrittenOrLeft(t *testing.T) {
	v := machine(t, 0)
	file := filepath.Join(t.TempDir(), "there.toml")
	if err := os.WriteFile(file, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	written := func() string {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	p := sitDown(t, v, Options{UTF8: true})
	if !p.press("q") {
		t.Error("q stays although nothing was decided")
	}
	p.press("down o")
	if p.press("q") {
		t.Error("q leaves a plan behind without a question")
	}
	p.sees("neither carried out nor written")
	if p.press("n") || p.Decided() != 1 {
		t.Error("it was left all the same")
	}
	p.press("w " + file + " enter")
	p.sees("Write over it?")
	p.press("n")
	if written() != "mine" {
		t.Error("a file was written over")
	}
	p.press("w " + file + " enter y")
	plan, err := proposal.Parse([]byte(written()))
	if err != nil || len(plan.Decide) != 1 || plan.Decide[0].Do != proposal.Disable ||
		!strings.Contains(written(), "Beta") || p.Decided() != 0 || !p.press("q") {
		t.Errorf("%v %+v, %d decided", err, plan, p.Decided())
	}
	p.press("end ! c o t 14d enter g")
	p.sees("as a change a decision (o), on trial until 14d", "boot guard comes (g)")
	if !p.press("enter") || p.outcome == nil {
		t.Fatal("it is not carried out")
	}
	if o := *p.outcome; len(o.Plan) != 2 || o.Together || o.Trial != "14d" ||
		o.Guard != visit.GuardOn || fmt.Sprint(o.Insist) != "[service:ufw.service]" {
		t.Errorf("%+v", o)
	}
	p = sitDown(t, v, Options{ReadOnly: "The disk is mounted read-only", UTF8: true})
	p.press("down o c")
	p.sees("mounted read-only", "w writes the plan")
}

// TestTheNewestPlanWins has a plan worked out while the next one is made.
func TestTheNewestPlanWins(t *testing.T) {
	m := New(machine(t, 0), Options{UTF8: true})
	slow := m.Update(tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune("o")})
	if again := m.Update(tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune("e")}); len(again) != 0 {
		t.Error("two plans are worked out at once")
	}
	next := m.Update(slow[0]())
	if m.samePlan(m.work.plan) {
		t.Error("what an older plan comes to is taken for the newest")
	}
	if len(next) != 1 {
		t.Fatal("the newest plan is not worked out")
	}
	m.Update(next[0]())
	if !m.samePlan(m.work.plan) || m.busy {
		t.Error("the newest plan was not taken")
	}
}

// TestEverySizeHoldsHostileTitles looks at every line of windows of all sizes.
func TestEverySizeHoldsHostileTitles(t *testing.T) {
	v := machine(t, 30)
	for _, utf8 := range []bool{true, false} {
		p := sitDown(t, v, Options{UTF8: utf8})
		for _, size := range [][2]int{
			{80, 24}, {0, 0}, {40, 12}, {39, 11}, {132, 43}, {200, 60}, {1, 1}, {5000, 3},
		} {
			p.after(p.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]}))
			for keys := range strings.FieldsSeq("home end o g g . enter esc ? esc") {
				p.press(keys)
				lines := strings.Split(p.View(), "\n")
				if len(lines) != p.height {
					t.Fatalf("%v after %s: %d lines", size, keys, len(lines))
				}
				for _, line := range lines {
					bare, signs := ansi.Strip(line), func(r rune) bool { return r > 126 }
					wide := ansi.StringWidth(line) > p.width
					if wide || strings.ContainsAny(bare, "\x1b\u202e") ||
						!utf8 && strings.ContainsFunc(bare, signs) {
						t.Fatalf("%v after %s: %q", size, keys, line)
					}
				}
			}
		}
	}
}

// TestAFaultOfOursIsASentence has each part of the screen break, in a real
// terminal (tmux) in which the test is run once more.
func TestAFaultOfOursIsASentence(t *testing.T) {
	const part = "CALMDAWN_TEST_BREAKS"
	if at := os.Getenv(part); at != "" {
		m := New(machine(t, 0), Options{UTF8: true, Now: func() time.Time { panic("no write") }})
		switch at {
		case "page":
			m.showItem = func(say.Page, *visit.Visit, item.Item) { panic("no page") }
		case "view":
			m.cells = nil // which takes no entry
		}
		_, _, err := m.Run(os.Stdin, os.Stdout)
		fmt.Println("then:", err)
		time.Sleep(time.Minute)
	}
	for at, of := range map[string]struct{ key, says string }{
		"page":  {"Enter", "no page"},
		"view":  {"", "assignment to entry in nil map"},
		"write": {"w", "no write"},
	} {
		key := of.key
		dir := t.TempDir() // the other one is killed, and its own folders with it
		socket := filepath.Join(dir, "tmux")
		tmux := func(args ...string) string {
			args = append([]string{"-S", socket}, args...)
			out, _ := exec.Command("tmux", args...).CombinedOutput()
			return string(out)
		}
		tmux("-f", "/dev/null", "new-session", "-d", "-x", "80", "-y", "24", "env",
			part+"="+at, "TMPDIR="+dir, os.Args[0], "-test.run", "^TestAFaultOfOursIsASentence$")
		var screen string
		for range 300 {
			if screen = tmux("capture-pane", "-p"); strings.Contains(screen, "then:") {
				break
			}
			if strings.Contains(screen, "q leave") && key != "" {
				tmux("send-keys", "o", key, "x", "Enter")
				key = ""
			}
			time.Sleep(50 * time.Millisecond)
		}
		flat := strings.Join(strings.Fields(screen), " ")
		want := "then: the review broke off (" + of.says + "); nothing was changed"
		if !strings.Contains(flat, want) || strings.Contains(flat, "goroutine") ||
			tmux("display", "-p", "#{alternate_on}") != "0\n" {
			t.Errorf("%s:\n%s", at, screen)
		}
		tmux("kill-server")
	}
}

func BenchmarkKeys(b *testing.B) {
	p := sitDown(b, machine(b, 10_000), Options{UTF8: true})
	p.Update(tea.WindowSizeMsg{Width: 140, Height: 40})
	for _, key := range []string{"down", "end", "o", "a", "s", "g", "."} {
		b.Run(key, func(b *testing.B) {
			msg := tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune(key)}
			if kind, ok := named[key]; ok {
				msg = tea.KeyMsg{Type: kind}
			}
			for b.Loop() {
				p.Update(msg)
				_ = p.View()
			}
		})
	}
	b.Run("find", func(b *testing.B) {
		p.press("/")
		for b.Loop() {
			p.Update(tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune("7")})
			_ = p.View()
			p.Update(tea.KeyMsg{Type: tea.KeyBackspace})
			_ = p.View()
		}
	})
}
