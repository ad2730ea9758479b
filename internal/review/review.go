// Package review is the full-screen view in which items are decided upon with
// the forecast in sight.
//
// It shows a machine as visit has it and say puts it, and gathers decisions; it
// changes nothing of the machine itself.
package review

import (
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// orders are what items can be sorted by, cost the first: of [say.Orders].
var orders = []string{
	"cost", "wait", "cpu", "title", "maker", "state", "advice", "when", "owner",
}

// cells are what a row shows of an item.
type cells struct{ state, grade, wait, advice render.Cell }

// Options are what a review begins with.
type Options struct {
	Colour, UTF8 bool
	Calls        say.Calls        // that a page recommends
	Now          func() time.Time // nil for the real clock
	// ReadOnly says why nothing can be carried out here; empty where it can.
	ReadOnly string
	Plan     []proposal.Decision
	Unknown  int    // decisions of the file on what this machine does not have
	File     string // where the plan was opened, or is written; empty for nowhere yet
}

// Carry is how a plan is to be carried out.
type Carry struct {
	Plan     []proposal.Decision
	Insist   []string // ids of protected items
	Together bool     // as one change
	Trial    string   // as change.ParseTrial takes it; empty for none
	Guard    visit.Wanted
}

// A mode is what keys go to.
type mode int

const (
	listing mode = iota
	paging       // the whole screen shows one item
	helping
	asking   // a line is typed
	choosing // yes or no
	carrying // how the plan is to be carried out
)

// A Model is the state of the screen. It is for one goroutine, and is not to be
// copied.
type Model struct {
	o Options
	// showItem fills the page of an item, beside the list.
	showItem func(say.Page, *visit.Visit, item.Item)

	v       *visit.Visit
	reading bool // boots are being read

	width, height int
	screen        *render.Screen
	mode          mode

	// Items go by their numbers in the survey.
	sorted []int    // all, by what they are sorted
	order  []int    // the same, grouped or not
	texts  []string // in which words are looked for
	folded []bool   // away, unless all are to be seen
	parted int      // how many are
	marked []bool
	// of rows that stand for several items of a package
	shelves []visit.Shelf
	opened  map[visit.Shelf]bool // whose items have a row each
	with    map[int][]int        // what an item's row stands for besides, in lines
	cells   map[int]cells
	// lines are what the list shows: numbers of items, and for a heading that
	// of the item below it, as -1-number
	lines       []int
	cursor, top int  // of lines
	from        int  // where a range of marks began, of lines; -1 for nowhere
	moved       bool // somebody has pressed a key

	find     string
	filter   visit.Filter
	asked    string // the filter as it was typed
	by       int    // which of Orders
	sortedBy string // the order that sorted is of; empty where it is of none
	grouped  bool
	parts    bool // with the operating system's own

	longest time.Duration // the longest wait, for bars
	plan    plan
	history []plan
	saved   bool // the plan is as its file has it

	work worked // of the newest plan that was worked out
	busy bool
	// what the page beside the list, or the whole page, shows, and from where
	page struct {
		id     string
		width  int
		lines  []string
		from   int
		rested int // counts keys and new sizes, so that only a rest is answered
		ticked int // for which of them a rest is waited for
	}
	helpFrom int

	line    line
	choice  choice
	message string
	tone    render.Tone

	carry   Carry
	outcome *Carry
}

// New makes the screen of a machine that was looked at. The visit stays the
// caller's to close, after the review has ended.
func New(v *visit.Visit, o Options) *Model {
	if o.Now == nil {
		o.Now = time.Now
	}
	m := &Model{o: o, showItem: say.ShowItem, from: -1, saved: true}
	m.opened = map[visit.Shelf]bool{}
	m.carry.Guard, m.carry.Together = visit.GuardAuto, true
	m.plan = plan{}.with(o.Plan, false)
	m.resize(80, 24)
	m.see(v)
	if o.Unknown > 0 {
		m.say(render.Warn, "%d of the decisions in %s are on items that this machine does not "+
			"have; they are left out.", o.Unknown, render.Clean(o.File))
	}
	return m
}

// See shows a machine anew, as after a change that was carried out in part.
func (m *Model) See(v *visit.Visit) { m.see(v) }

func (m *Model) see(v *visit.Visit) {
	at := ""
	if m.v != nil {
		at = m.current()
	}
	if m.v == nil || m.v.Root != v.Root { // boots change nothing of the survey
		n := len(v.Items)
		m.sorted, m.order, m.texts = make([]int, n), make([]int, n), make([]string, n)
		m.folded, m.marked = make([]bool, n), make([]bool, n)
		m.parted = 0
		for i, it := range v.Items {
			m.texts[i], m.folded[i] = visit.Text(it), folded(it)
			if m.folded[i] {
				m.parted++
			}
		}
	}
	m.v, m.cells, m.page.id, m.sortedBy = v, map[int]cells{}, "", ""
	m.page.rested++
	m.longest = v.LongestWait()
	m.shelves = make([]visit.Shelf, len(v.Items))
	for i, it := range v.Items {
		if !m.folded[i] {
			m.shelves[i] = v.ShelfOf(it)
		}
	}
	m.arrange(at)
}

// folded reports whether an item stands in no list unless all are asked for.
func folded(it item.Item) bool { return it.System || it.Ours || it.Aside || it.AdminToo }

// Decided is how many decisions the plan has that were neither carried out nor
// written to a file.
func (m *Model) Decided() int {
	if m.saved {
		return 0
	}
	return len(m.plan.decisions)
}

// arrange puts the items into their order, and the cursor on one.
func (m *Model) arrange(at string) {
	if name := orders[m.by]; m.sortedBy != name {
		m.sortedBy = name
		for i := range m.sorted {
			m.sorted[i] = i
		}
		key := m.v.ByCost
		if m.by > 0 {
			key = func(it item.Item) visit.Key { return say.Orders[name](m.v, it) }
		}
		visit.Arrange(m.sorted, m.v.Items, key)
	}
	copy(m.order, m.sorted)
	if m.grouped {
		visit.Arrange(m.order, m.v.Items, makerOf)
	}
	m.narrow(at)
}

func makerOf(it item.Item) visit.Key {
	return visit.Key{Text: strings.ToLower(it.Maker), Known: it.Maker != ""}
}

// narrow chooses the lines that are shown, and puts the cursor on an item if
// that is among them.
func (m *Model) narrow(at string) {
	test, words := m.filter.Test(), strings.Fields(strings.ToLower(m.find))
	m.lines, m.from, m.cursor = m.lines[:0], -1, 0
	m.with = map[int][]int{}
	last, rows := -1, map[visit.Shelf]int{} // lines, by the shelf whose row they are
	for _, i := range m.order {
		it := &m.v.Items[i]
		if !m.parts && m.folded[i] && m.plan.of(it.ID) < 0 ||
			!visit.Contains(m.texts[i], words) || !test(*it) {
			continue
		}
		row, there := rows[m.shelves[i]]
		if there && m.gathers(i) && m.alike(m.lines[row], i) {
			m.with[m.lines[row]] = append(m.with[m.lines[row]], i)
			if it.ID == at {
				m.cursor = row
			}
			continue
		}
		if m.grouped && (last < 0 || !strings.EqualFold(m.v.Items[last].Maker, it.Maker)) {
			m.lines = append(m.lines, -1-i)
		}
		last = i
		if it.ID == at {
			m.cursor = len(m.lines)
		}
		if !there {
			rows[m.shelves[i]] = len(m.lines)
		}
		m.lines = append(m.lines, i)
	}
	m.settle(1)
}

// gathers reports whether an item may stand in another one's row.
func (m *Model) gathers(i int) bool {
	return m.shelves[i] != (visit.Shelf{}) && !m.opened[m.shelves[i]] && !m.parts && m.find == ""
}

// alike reports whether the plan says the same of two items.
func (m *Model) alike(i, j int) bool {
	a, b := m.plan.of(m.v.Items[i].ID), m.plan.of(m.v.Items[j].ID)
	if a < 0 || b < 0 {
		return a == b
	}
	x, y := m.plan.decisions[a], m.plan.decisions[b]
	return x.Do == y.Do && x.By == y.By
}

// open gives each item of the row under the cursor a row, or takes these away.
func (m *Model) open() {
	i, ok := m.here()
	if !ok || len(m.with[i]) == 0 && !m.opened[m.shelves[i]] {
		m.say(render.Plain, "This row stands for one item.")
		return
	}
	m.unmark()
	m.opened[m.shelves[i]] = !m.opened[m.shelves[i]]
	m.narrow(m.current())
}

// settle puts the cursor onto an item, onwards where it is on a heading, and
// the lines around it into sight.
func (m *Model) settle(onwards int) {
	last := len(m.lines) - 1
	m.cursor = max(0, min(m.cursor, last))
	if last >= 0 && m.lines[m.cursor] < 0 {
		m.cursor += onwards
		if m.cursor < 0 || m.cursor > last { // a heading has an item below it
			m.cursor += -2 * onwards
		}
		m.cursor = max(0, min(m.cursor, last))
		if m.lines[m.cursor] < 0 {
			m.cursor = min(m.cursor+1, last)
		}
	}
	rows := m.rows()
	switch half := max(1, rows/2); {
	case m.cursor < m.top:
		m.top = max(0, min(m.cursor, m.cursor-rows+half))
	case m.cursor >= m.top+rows:
		m.top = m.cursor - rows + half
	}
	m.top = max(0, min(m.top, len(m.lines)-rows))
	if m.cursor == 1 && m.top == 1 { // with its heading
		m.top = 0
	}
}

// here is the number of the item under the cursor; false where the list is
// empty.
func (m *Model) here() (int, bool) {
	if m.cursor >= len(m.lines) || m.lines[m.cursor] < 0 {
		return 0, false
	}
	return m.lines[m.cursor], true
}

// current is the id of the item under the cursor; empty where there is none.
func (m *Model) current() string {
	if i, ok := m.here(); ok {
		return m.v.Items[i].ID
	}
	return ""
}

// meant are the items that a decision is on: those of the marked rows, or of
// the one under the cursor.
func (m *Model) meant() (all []int) {
	taken := make([]bool, len(m.v.Items)) // one may have been marked in a row of its own
	add := func(i int) {
		for _, j := range append([]int{i}, m.with[i]...) {
			if !taken[j] {
				all, taken[j] = append(all, j), true
			}
		}
	}
	for _, i := range m.order {
		if m.marked[i] {
			add(i)
		}
	}
	if i, ok := m.here(); ok && len(all) == 0 {
		add(i)
	}
	return all
}

// unmark takes all marks away.
func (m *Model) unmark() {
	clear(m.marked)
	m.from = -1
}

// marks is how many items are marked.
func (m *Model) marks() (n int) {
	for _, yes := range m.marked {
		if yes {
			n++
		}
	}
	return n
}

const (
	leastWidth  = 40
	leastHeight = 12
	maxWidth    = 1000
)

// resize takes the size of the window; a serial line tells 0.
func (m *Model) resize(width, height int) {
	if width <= 0 || height <= 0 {
		width, height = 80, 24
	}
	m.width, m.height = min(width, maxWidth), min(height, maxWidth)
	m.screen = render.NewScreen(nil, m.width, m.o.Colour, m.o.UTF8)
	m.page.id = ""
	m.page.rested++
	m.settle(1)
}

// rest is how long the cursor stands still before the page beside the list is
// made.
const rest = 150 * time.Millisecond
