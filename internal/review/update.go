package review

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/bubbles/textinput"
	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/x/ansi"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// What happens beside the screen.
type (
	bootsRead struct {
		visit *visit.Visit
		err   error
	}
	rested   int // the keys there were when the cursor came to stand
	pageMade struct {
		id    string
		width int
		lines []string
	}
)

// Begin is what is done beside the screen from its begin on.
func (m *Model) Begin() []tea.Cmd {
	m.reading = true
	v := m.v
	return append(m.follow(), func() tea.Msg {
		read := *v
		err := read.ReadBoots()
		read.Rate(read.Items)
		return bootsRead{&read, err}
	})
}

// Update takes what happened, and returns what is to be done beside the screen.
func (m *Model) Update(msg tea.Msg) []tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.resize(msg.Width, msg.Height)
	case bootsRead:
		m.reading = false
		if msg.err != nil {
			m.say(render.Warn, "Boots could not be read: %s.", render.Clean(msg.err.Error()))
			break
		}
		m.see(msg.visit)
		m.work.plan.number = -1
		if !m.moved { // what one is to look at first has only come to the top now
			m.move(-len(m.lines))
		}
	case worked:
		m.busy = false
		if m.samePlan(msg.plan) {
			m.workedOut(msg)
		}
	case rested:
		if int(msg) == m.page.rested {
			return append(m.follow(), m.makePage())
		}
	case pageMade:
		if msg.id == m.current() {
			m.page.id, m.page.width, m.page.lines = msg.id, msg.width, msg.lines
		}
	case tea.KeyMsg:
		if msg.Type != tea.KeyRunes || len(msg.Runes) < 2 || msg.Paste {
			return m.key(msg)
		}
		var all []tea.Cmd
		for _, r := range msg.Runes { // keys of a fast hand, or a slow line, come together
			one := tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune{r}, Alt: msg.Alt}
			all = append(all, m.key(one)...)
		}
		return all
	}
	return m.follow()
}

// follow has the newest plan worked out, and the page made after a rest.
func (m *Model) follow() (all []tea.Cmd) {
	if !m.busy && !m.samePlan(m.work.plan) {
		m.busy = true
		v, p := m.v, m.plan
		all = append(all, func() tea.Msg { return workOut(v, p) })
	}
	if id, now := m.current(), m.page.rested; m.pageWidth() > 0 && m.mode != paging &&
		id != "" && m.page.id != id && m.page.ticked != now {
		m.page.ticked = now
		all = append(all, tea.Tick(rest, func(time.Time) tea.Msg { return rested(now) }))
	}
	return all
}

func (m *Model) samePlan(p plan) bool { return m.plan.number == p.number }

// workedOut takes what the newest plan comes to; what cannot be carried out
// leaves the plan with the reason.
func (m *Model) workedOut(w worked) {
	m.work = w
	if len(w.refused) == 0 {
		return
	}
	var out []proposal.Decision
	why := ""
	for _, d := range m.plan.decisions {
		if err := w.refused[d.ID]; err != nil {
			out = append(out, proposal.Decision{ID: d.ID})
			why = err.Error()
		}
	}
	m.plan = m.plan.with(out, false)
	why = render.Clean(strings.ReplaceAll(why, "\n", "; "))
	if len(out) > 1 {
		m.say(render.Warn, "%d are left out; of one of them: %s.", len(out), why)
		return
	}
	m.say(render.Warn, "Left out: %s.", why)
}

// makePage writes the page of the item under the cursor.
func (m *Model) makePage() tea.Cmd {
	i, ok := m.here()
	width := m.pageWidth()
	if m.mode == paging {
		width = m.width - 2
	}
	if !ok || width <= 0 {
		return nil
	}
	v, s, calls, show, it := m.v, m.screen, m.o.Calls, m.showItem, m.v.Items[i]
	return func() tea.Msg {
		var lines []string
		for _, line := range s.Lines(width, func(s *render.Screen) {
			show(say.Page{Screen: s, Calls: calls}, v, it)
		}) {
			// a path is broken anywhere rather than cut
			lines = append(lines, strings.Split(ansi.Hardwrap(line, width, true), "\n")...)
		}
		return pageMade{it.ID, width, lines}
	}
}

func (m *Model) say(t render.Tone, format string, values ...any) {
	m.message, m.tone = fmt.Sprintf(format, values...), t
}

// Say shows a sentence above the keys.
func (m *Model) Say(text string) { m.say(render.Warn, "%s", render.Clean(text)) }

// A line is typed.
type line struct {
	label string
	input textinput.Model
	live  func(text string)                    // with every key; may be nil
	enter func(text string) ([]tea.Cmd, error) // an error is said, and the line stays
	leave func()                               // by escape; may be nil
}

// ask has a line typed.
func (m *Model) ask(label, text string, enter func(string) ([]tea.Cmd, error)) {
	input := textinput.New()
	input.CharLimit = 500
	input.SetValue(text)
	input.CursorEnd()
	_ = input.Focus() // what it returns makes its cursor blink
	m.line, m.mode, m.message = line{label: label, input: input, enter: enter}, asking, ""
}

// A choice is between a few keys.
type choice struct {
	question string
	keys     map[string]func() []tea.Cmd
}

// key takes a key to where it belongs.
func (m *Model) key(msg tea.KeyMsg) []tea.Cmd {
	m.page.rested++
	m.moved = true
	if msg.String() == "ctrl+c" {
		return []tea.Cmd{tea.Quit}
	}
	if msg.Paste && m.mode != asking {
		m.say(render.Plain, "Pasted text is not a decision; it was ignored.")
		return m.follow()
	}
	switch m.mode {
	case asking:
		return m.typed(msg)
	case choosing:
		do, ok := m.choice.keys[msg.String()]
		m.mode, m.message = listing, ""
		if ok {
			return append(do(), m.follow()...)
		}
		return m.follow()
	case carrying:
		return m.carryKey(msg.String())
	case paging:
		return m.pageKey(msg.String())
	case helping:
		return m.helpKey(msg.String())
	}
	for _, b := range bindings {
		if slices.Contains(b.keys, msg.String()) {
			if !b.keeps {
				m.message = ""
			}
			return append(b.do(m), m.follow()...)
		}
	}
	m.say(render.Plain, "%s does nothing here; ? shows the keys.", render.Clean(msg.String()))
	return m.follow()
}

func (m *Model) typed(msg tea.KeyMsg) []tea.Cmd {
	switch msg.Type {
	case tea.KeyEsc:
		m.mode = listing
		if m.line.leave != nil {
			m.line.leave()
		}
		return m.follow()
	case tea.KeyEnter:
		m.mode = listing
		cmds, err := m.line.enter(strings.TrimSpace(m.line.input.Value()))
		if err != nil {
			m.mode = asking
			m.say(render.Warn, "%s", render.Clean(err.Error()))
		}
		return append(cmds, m.follow()...)
	}
	m.line.input, _ = m.line.input.Update(msg)
	if m.line.live != nil {
		m.line.live(m.line.input.Value())
	}
	return m.follow()
}

// move moves the cursor by lines.
func (m *Model) move(by int) {
	onwards := 1
	if by < 0 {
		onwards = -1
	}
	m.cursor += by
	m.settle(onwards)
	m.stretch()
}

// stretch marks what lies between where a range began and the cursor.
func (m *Model) stretch() {
	if m.from < 0 {
		return
	}
	clear(m.marked)
	for _, i := range m.lines[min(m.from, m.cursor) : max(m.from, m.cursor)+1] {
		if i >= 0 {
			m.marked[i] = true
		}
	}
}

// askFind narrows the list as one types.
func (m *Model) askFind() {
	before, at := m.find, m.current()
	find := func(text string) { m.find = text; m.narrow(m.current()) }
	m.ask("Find", m.find, func(text string) ([]tea.Cmd, error) { find(text); return nil, nil })
	m.line.live = find
	m.line.leave = func() { m.find = before; m.narrow(at) }
}

// fieldOf is where a field of a filter begins.
var fieldOf = regexp.MustCompile(`(\w+)\s*=`)

// askFilter takes fields as list does: advice=can go,can wait state=on.
func (m *Model) askFilter() {
	m.ask("Filter", m.asked, func(text string) ([]tea.Cmd, error) {
		f, err := parseFilter(text)
		if err != nil {
			return nil, err
		}
		m.filter, m.asked = f, text
		m.narrow(m.current())
		return nil, nil
	})
}

func parseFilter(text string) (visit.Filter, error) {
	f := visit.Filter{}
	choices := f.Choices()
	var names []string
	for _, c := range choices {
		names = append(names, c.Name)
	}
	found := fieldOf.FindAllStringSubmatchIndex(text, -1)
	first := len(text)
	if len(found) > 0 {
		first = found[0][0]
	}
	if strings.TrimSpace(text[:first]) != "" {
		return f, fmt.Errorf("a filter is FIELD=VALUE, with %s; / finds words",
			strings.Join(names, ", "))
	}
	for n, at := range found {
		end := len(text)
		if n+1 < len(found) {
			end = found[n+1][0]
		}
		name := strings.ToLower(text[at[2]:at[3]])
		i := slices.Index(names, name)
		if i < 0 {
			return f, fmt.Errorf("there is no field %q; there are %s", name,
				strings.Join(names, ", "))
		}
		for value := range strings.SplitSeq(text[at[1]:end], ",") {
			value = strings.TrimSpace(value)
			if allowed := choices[i].Allowed; allowed != nil && !slices.Contains(allowed, value) {
				return f, fmt.Errorf("%s is %s, not %q", name, strings.Join(allowed, ", "), value)
			}
			*choices[i].Values = append(*choices[i].Values, value)
		}
	}
	return f, nil
}

// askLater asks by how much items are to be delayed.
func (m *Model) askLater() {
	if len(m.meant()) == 0 {
		m.decide(proposal.Delay, 0, false)
		return
	}
	by := visit.ByText(m.v.PastUsable())
	if i := m.plan.of(m.current()); i >= 0 && m.plan.decisions[i].By != "" {
		by = m.plan.decisions[i].By
	}
	m.ask("Later by", by, func(text string) ([]tea.Cmd, error) {
		d := proposal.Decision{Do: proposal.Delay, By: text}
		late, err := d.Later()
		if err != nil {
			return nil, errors.New("say how much later: 90s, 5m, at most 24h")
		}
		m.decide(proposal.Delay, late, false)
		return nil, nil
	})
}

// askFile writes the plan as a proposal.
func (m *Model) askFile() {
	if len(m.plan.decisions) == 0 {
		m.say(render.Plain, "There is no decision to write.")
		return
	}
	m.ask("Write the plan to the file", m.o.File, func(file string) ([]tea.Cmd, error) {
		if file == "" {
			return nil, errors.New("give the file a name")
		}
		return nil, m.write(file, file == m.o.File)
	})
}

func (m *Model) write(file string, replace bool) error {
	err := m.writeTo(file, replace)
	if errors.Is(err, fs.ErrExist) {
		m.mode = choosing
		m.choice = choice{
			fmt.Sprintf("%s is there already. Write over it?  y yes  any other key: no",
				render.Clean(file)),
			map[string]func() []tea.Cmd{"y": func() []tea.Cmd {
				if err := m.write(file, true); err != nil {
					m.say(render.Warn, "%s", render.Clean(err.Error()))
				}
				return nil
			}},
		}
		return nil
	}
	if err != nil {
		return err
	}
	m.o.File, m.saved = file, true
	m.say(render.Good, "The plan is in %s; calmdawn apply carries it out.", render.Clean(file))
	return nil
}

// leave ends the review, after a question where decisions would be lost.
func (m *Model) leave() []tea.Cmd {
	if m.Decided() == 0 {
		return []tea.Cmd{tea.Quit}
	}
	m.mode = choosing
	m.choice = choice{
		"The plan is neither carried out nor written. Leave all the same?  y leave  w write it  " +
			"any other key: stay",
		map[string]func() []tea.Cmd{
			"y": func() []tea.Cmd { return []tea.Cmd{tea.Quit} },
			"w": func() []tea.Cmd { m.askFile(); return nil },
		},
	}
	return nil
}

// carryKey takes the keys that say how a plan is to be carried out.
func (m *Model) carryKey(key string) []tea.Cmd {
	switch key {
	case "esc", "q":
		m.mode = listing
	case "o":
		m.carry.Together = !m.carry.Together
	case "g":
		next := map[visit.Wanted]visit.Wanted{
			visit.GuardAuto: visit.GuardOn, visit.GuardOn: visit.GuardOff,
			visit.GuardOff: visit.GuardAuto,
		}
		m.carry.Guard = next[m.carry.Guard]
	case "t":
		m.ask("On trial until (14d, 2w, 2026-12-07; empty for no trial)", m.carry.Trial,
			func(text string) ([]tea.Cmd, error) {
				if text != "" {
					if _, err := change.ParseTrial(text, m.v.Now()); err != nil {
						return nil, err
					}
				}
				m.carry.Trial, m.mode = text, carrying
				return nil, nil
			})
		m.line.leave = func() { m.mode = carrying }
	case "enter":
		out := m.carry
		out.Plan = m.plan.decisions
		for id := range m.plan.insist {
			out.Insist = append(out.Insist, id)
		}
		slices.Sort(out.Insist)
		m.outcome = &out
		return []tea.Cmd{tea.Quit}
	}
	return m.follow()
}

// beginCarry shows how the plan would be carried out.
func (m *Model) beginCarry() {
	switch {
	case !m.plan.turns():
		m.say(render.Plain, "There is no decision to carry out.")
	case m.o.ReadOnly != "":
		m.say(render.Warn, "%s: w writes the plan to a file.", m.o.ReadOnly)
	default:
		m.mode = carrying
	}
}

func (m *Model) pageKey(key string) []tea.Cmd {
	screenful := m.height - 2
	switch key {
	case "esc", "enter", "q", "left":
		m.mode, m.page.id = listing, ""
		return m.follow()
	case "n", "tab":
		m.move(1)
		m.page.from = 0
		return []tea.Cmd{m.makePage()}
	case "p", "shift+tab":
		m.move(-1)
		m.page.from = 0
		return []tea.Cmd{m.makePage()}
	}
	m.page.from = scrolled(m.page.from, key, screenful, len(m.page.lines))
	return m.follow()
}

func (m *Model) helpKey(key string) []tea.Cmd {
	switch key {
	case "esc", "enter", "q", "?":
		m.mode = listing
		return m.follow()
	}
	m.helpFrom = scrolled(m.helpFrom, key, m.height-1, len(helpLines(m.screen, m.width)))
	return m.follow()
}

// scrolled is where a text of some lines is shown from after a key.
func scrolled(from int, key string, screenful, lines int) int {
	switch key {
	case "down", "j":
		from++
	case "up", "k":
		from--
	case "pgdown", " ", "ctrl+f":
		from += screenful - 1
	case "pgup", "ctrl+b":
		from -= screenful - 1
	case "home":
		from = 0
	case "end":
		from = lines
	}
	return max(0, min(from, lines-screenful))
}
