package review

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// View is what the screen shows: as many lines as it has.
func (m *Model) View() string {
	var lines []string
	switch {
	case m.width < leastWidth || m.height < leastHeight:
		text := fmt.Sprintf("Too small: %d by %d at least.", leastWidth, leastHeight)
		lines = []string{m.screen.Fit(text, m.width, false)}
	case m.mode == paging:
		lines = m.viewPage()
	case m.mode == helping:
		lines = m.viewHelp()
	default:
		lines = append(m.viewHead(), m.viewBody()...)
		lines = append(lines, m.viewFoot()...)
	}
	for len(lines) < m.height {
		lines = append(lines, "")
	}
	lines = lines[:m.height]
	for i, line := range lines {
		lines[i] = ansi.Truncate(line, m.width, "")
	}
	return strings.Join(lines, "\n")
}

const (
	headHeight = 2
	footHeight = 6
)

// rows is how many lines the list has.
func (m *Model) rows() int { return max(1, m.height-headHeight-footHeight) }

// pageWidth is how wide the page beside the list is; 0 where there is no room.
func (m *Model) pageWidth() int {
	const least, most = 44, 90
	const list, narrow = 88, 72 // as wide as the list likes to be, and has to be
	if m.width-narrow-3 < least || m.height < leastHeight {
		return 0
	}
	return max(least, min(m.width-list-3, most))
}

func (m *Model) listWidth() int {
	if width := m.pageWidth(); width > 0 {
		return m.width - width - 3
	}
	return m.width
}

// columns are the widths of the list's columns; 0 for one that has no room.
type columns struct{ decision, title, wait, bar, grade, state, advice, maker int }

func (m *Model) columns() columns {
	c := columns{decision: 5, state: 7, grade: 8, wait: 8, advice: 10}
	left := m.listWidth() - 3 - c.decision - c.state - c.grade - c.wait - c.advice - 5
	if left < 18 { // what one decides by stays longest
		left += c.grade + 1
		c.grade = 0
	}
	if left >= 40 {
		c.bar = min(12, left-32)
		left -= c.bar + 1
	}
	// headings, or the page beside, tell it too
	if left >= 32 && !m.grouped && m.pageWidth() == 0 {
		c.maker = min(24, left-24)
		left -= c.maker + 1
	}
	c.title = max(8, left)
	return c
}

// row puts the texts of a row into its columns; paint gives each its tone.
func (c columns) row(s *render.Screen, cells [8]render.Cell, plain bool) string {
	var b strings.Builder
	for i, width := range []int{
		c.decision, c.title, c.wait, c.bar, c.grade, c.state, c.advice, c.maker,
	} {
		if width == 0 {
			continue
		}
		if i > 0 {
			b.WriteByte(' ')
		}
		text := s.FitCell(cells[i], width, i == 2)
		if !plain && cells[i].Text != "" {
			text = s.Paint(cells[i].Tone, text)
		}
		b.WriteString(text)
	}
	return b.String()
}

func (m *Model) viewHead() []string {
	s := m.screen
	host := cmp.Or(render.Clean(m.v.Host), "this machine")
	text := fmt.Sprintf("%s: %d of %d items", host, m.items(), len(m.v.Items))
	if m.parted > 0 && !m.parts {
		text += fmt.Sprintf(", %d parts of the system folded", m.parted)
	}
	if m.by > 0 {
		text += ", by " + orders[m.by]
	}
	if m.grouped {
		text += ", grouped by maker"
	}
	if m.find != "" {
		text += fmt.Sprintf(", with %q", render.Clean(m.find))
	}
	if m.asked != "" {
		text += ", " + render.Clean(m.asked)
	}
	if n := m.marks(); n > 0 {
		text += fmt.Sprintf(", %d marked", n)
	}
	head := func(text string) render.Cell { return render.Cell{Text: text, Tone: render.Dim} }
	titles := m.columns().row(s, [8]render.Cell{
		head("PLAN"), head("TITLE"), head("WAIT"), head(""), head("GRADE"), head("STATE"),
		head("ADVICE"), head("MAKER"),
	}, true)
	return []string{
		s.Paint(render.Strong, s.Fit(text, m.width, false)),
		s.Paint(render.Dim, s.Fit("   "+titles, m.listWidth(), false)),
	}
}

// items is how many the list shows, those that have no row of their own too.
func (m *Model) items() (n int) {
	for _, i := range m.lines {
		if i >= 0 {
			n += 1 + len(m.with[i])
		}
	}
	return n
}

func (m *Model) viewBody() []string {
	s, width := m.screen, m.pageWidth()
	var beside []string
	if width > 0 && m.page.width == width && m.page.id == m.current() {
		beside = m.page.lines
	}
	var lines []string
	for n := range m.rows() {
		line := ""
		if at := m.top + n; at < len(m.lines) {
			line = m.viewLine(at)
		} else if len(m.lines) == 0 && n == 0 {
			line = "   " + s.Text(render.Dim, "Nothing is like that; esc shows all again.")
		}
		if width > 0 {
			line += strings.Repeat(" ", max(0, m.listWidth()-ansi.StringWidth(line)))
			line += s.Text(render.Dim, " │ ")
			if n < len(beside) {
				line += beside[n]
			}
			if n == m.rows()-1 && len(beside) > n+1 {
				line = ansi.Truncate(line, m.width-width, "") +
					s.Text(render.Dim, "… enter shows all of it")
			}
		}
		lines = append(lines, line)
	}
	return lines
}

// viewLine is one line of the list.
func (m *Model) viewLine(at int) string {
	s, i := m.screen, m.lines[at]
	if i < 0 {
		name := cmp.Or(render.Clean(m.v.Items[-1-i].Maker), "(maker not known)")
		return "   " + s.Paint(render.Strong, s.Fit(name, m.listWidth()-3, false))
	}
	sign, mark := " ", " "
	if at == m.cursor {
		sign = s.Fit("›", 1, false)
	}
	if m.marked[i] {
		mark = "*"
	}
	row := m.columns().row(s, m.cellsOf(i), at == m.cursor)
	if at == m.cursor {
		return sign + mark + " " + s.Reverse(row)
	}
	return sign + mark + " " + row
}

// cellsOf are what a row shows of an item.
func cellsOf(v *visit.Visit, it item.Item) cells {
	wait := say.WaitCell(v, it)
	if wait.Text == say.NoneShown {
		wait.Text = "none" // which the page explains
	}
	if wait.Text == say.WithOthers {
		wait.Text = "joint"
	}
	return cells{
		state:  render.Cell{Text: string(it.State), Tone: say.StateTone(it.State)},
		grade:  say.GradeCell(v, it),
		wait:   wait,
		advice: render.Cell{Text: string(it.Advice), Tone: say.AdviceTone(it.Advice)},
	}
}

func (m *Model) cellsOf(i int) [8]render.Cell {
	it := m.v.Items[i]
	cells, ok := m.cells[i]
	if !ok {
		cells = cellsOf(m.v, it)
		m.cells[i] = cells
	}
	decision := render.Cell{Tone: render.Strong}
	if at := m.plan.of(it.ID); at >= 0 {
		decision.Text = says[m.plan.decisions[at].Do]
	}
	bar := render.Cell{Tone: cells.grade.Tone}
	if w := m.v.Cost(it).Wait.Lead(); w.Shows && cells.wait.Text != "" {
		bar.Text = m.screen.Bar(0, w.Saving.Median, m.longest, m.columns().bar)
	}
	return [8]render.Cell{
		decision,
		{Text: titleOf(it), Tone: cells.state.Tone, Tail: m.more(i)},
		cells.wait, bar, cells.grade, cells.state, cells.advice,
		render.C(render.Clean(it.Maker)),
	}
}

// more is how many items a row stands for besides.
func (m *Model) more(i int) string {
	if n := len(m.with[i]); n > 0 {
		return fmt.Sprintf(" +%d", n)
	}
	return ""
}

// titleOf begins with whose login launches an item: two users may have the
// same.
func titleOf(it item.Item) string {
	if it.Owner == "" {
		return render.Clean(it.Title)
	}
	return render.Clean(it.Owner + ": " + it.Title)
}

// viewFoot is what the plan brings, the last sentence and the keys.
func (m *Model) viewFoot() []string {
	s := m.screen
	rule := strings.Repeat("─", m.width)
	text := "No decision yet."
	if len(m.plan.decisions) > 0 {
		text = "Plan: " + m.plan.summary() + "."
		if m.saved {
			text += " It is in " + render.Clean(m.o.File) + "."
		}
	}
	busy := ""
	switch {
	case m.reading:
		busy = "boots are being read …"
	case m.busy && len(m.plan.decisions) > 0:
		busy = "working it out …"
	}
	room := m.width - ansi.StringWidth(busy)
	lines := []string{
		s.Text(render.Dim, rule),
		s.Paint(render.Strong, s.Fit(text, room, false)) + s.Text(render.Dim, busy),
	}
	switch m.mode {
	case carrying:
		lines = append(lines, m.viewCarry()...)
	case asking:
		lines = append(lines, m.fold(m.message, m.tone, 2)...)
	case choosing:
		lines = append(lines, m.fold(m.choice.question, render.Strong, 2)...)
	default:
		const room = footHeight - 3
		said := m.fold(m.message, m.tone, min(room-1, len(m.fold(m.message, m.tone, 0))))
		lines = append(lines, m.fold(m.outlook(), render.Plain, room-len(said))...)
		lines = append(lines, said...)
	}
	for len(lines) < footHeight-1 {
		lines = append(lines, "")
	}
	return append(lines[:footHeight-1], m.viewKeys())
}

// outlook says what is forecast for the plan, as far as it is worked out.
func (m *Model) outlook() string {
	switch {
	case !m.plan.turns():
		return ""
	case m.reading:
		return "What it brings is known when the boots are read."
	case !m.samePlan(m.work.plan):
		return "Forecast: …"
	case len(m.v.Replays) == 0:
		return "What it brings is not known: no boot of this machine can be replayed."
	case m.work.forecast == nil:
		return "What it brings is not known: no boot shows any of it."
	}
	text := say.ForecastLine(*m.work.forecast) + say.OfSimulated(m.v)
	switch n := m.work.unseen; {
	case n == 1:
		text += " One item is in no boot, and not counted."
	case n > 1:
		text += fmt.Sprintf(" %d items are in no boot, and not counted.", n)
	}
	return text
}

// fold breaks a text into so many lines; with 0 into as many as it needs.
func (m *Model) fold(text string, tone render.Tone, most int) []string {
	if text == "" {
		return make([]string, most)
	}
	lines := m.screen.Lines(m.width, func(s *render.Screen) { s.Wrap(0, "%s", text) })
	if most > 0 && len(lines) > most {
		last := strings.Join(lines[most-1:], " ")
		lines = append(lines[:most-1], m.screen.Fit(last, m.width, false))
	}
	for i, line := range lines {
		lines[i] = m.screen.Paint(tone, strings.TrimRight(line, " "))
	}
	for len(lines) < most {
		lines = append(lines, "")
	}
	return lines
}

func (m *Model) viewCarry() []string {
	s := m.screen
	how := map[bool]string{true: "as one change", false: "as a change a decision"}[m.carry.Together]
	guard := map[visit.Wanted]string{
		visit.GuardAuto: "comes where it can help",
		visit.GuardOn:   "comes",
		visit.GuardOff:  "does not come",
	}[m.carry.Guard]
	trial := "no trial"
	if m.carry.Trial != "" {
		trial = "on trial until " + render.Clean(m.carry.Trial)
	}
	return []string{
		s.Text(render.Plain, fmt.Sprintf("Carried out %s (o), %s (t).", how, trial)),
		s.Text(render.Plain, fmt.Sprintf("The boot guard %s (g).", guard)),
		s.Text(render.Strong, "enter shows what it touches, and asks; esc goes back."),
	}
}

// viewKeys is the last line: the keys, or what is typed.
func (m *Model) viewKeys() string {
	s := m.screen
	switch m.mode {
	case asking:
		return m.viewTyped()
	case carrying:
		return s.Text(render.Dim, s.Fit("o one or each  t trial  g guard  enter go on  esc back",
			m.width, false))
	case choosing:
		return ""
	}
	words := func(spare bool) string {
		var all []string
		for _, b := range bindings {
			if b.foot != "" && (spare || !b.spare) {
				all = append(all, b.shown+" "+b.foot)
			}
		}
		return strings.Join(all, "  ")
	}
	text := words(true)
	if ansi.StringWidth(text) > m.width {
		text = words(false)
	}
	return s.Text(render.Dim, text)
}

// viewTyped shows the line that is typed, its end where it is too long.
func (m *Model) viewTyped() string {
	s := m.screen
	label := m.line.label + ": "
	value := []rune(m.line.input.Value())
	at := min(m.line.input.Position(), len(value))
	room := max(4, m.width-ansi.StringWidth(label)-2)
	before, after := render.Clean(string(value[:at])), render.Clean(string(value[at:]))
	for ansi.StringWidth(before) > room {
		before = ansi.TruncateLeft(before, 1, "")
	}
	under := " "
	if r := []rune(after); len(r) > 0 {
		under, after = string(r[0]), string(r[1:])
	}
	cursor := s.Reverse(under)
	if !m.o.Colour {
		cursor = "_" + strings.TrimSpace(under)
	}
	return s.Paint(render.Strong, label) + s.Text(render.Plain, before) + cursor +
		s.Text(render.Plain, after)
}

func (m *Model) viewPage() []string {
	s, screenful := m.screen, m.height-2
	var it item.Item
	if i, ok := m.here(); ok {
		it = m.v.Items[i]
	}
	lines := []string{s.Reverse(s.Fit(" "+render.Clean(it.Title), m.width, false))}
	if m.page.id == it.ID {
		from := max(0, min(m.page.from, len(m.page.lines)-1))
		for _, line := range m.page.lines[from:min(len(m.page.lines), from+screenful)] {
			lines = append(lines, " "+line)
		}
	}
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	more := ""
	if below := len(m.page.lines) - m.page.from - screenful; below > 0 {
		more = fmt.Sprintf("%d more lines  ", below)
	}
	return append(lines, s.Text(render.Dim, more+
		"up down scroll  n p the next item, the one before  esc back"))
}

func (m *Model) viewHelp() []string {
	s := m.screen
	all := helpLines(s, m.width)
	from := max(0, min(m.helpFrom, len(all)-1))
	lines := all[from:min(len(all), from+m.height-1)]
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	more := ""
	if below := len(all) - from - m.height + 1; below > 0 {
		more = fmt.Sprintf("%d more lines  ", below)
	}
	return append(lines, s.Text(render.Dim, more+"up down scroll  esc back"))
}
