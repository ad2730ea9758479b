package review

import (
	"cmp"
	"slices"
	"strings"

	tea "github.com/charmbracelet/bubbletea"

	"calmdawn/internal/core/proposal"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A binding is what keys do in the list.
type binding struct {
	keys  []string
	shown string // how the keys are called
	help  string
	foot  string // in a word, at the foot of the screen; empty for not there
	spare bool   // there only where all others have room
	keeps bool   // the last sentence stays
	do    func(*Model) []tea.Cmd
}

// plainly is a binding that has nothing done beside the screen.
func plainly(do func(*Model)) func(*Model) []tea.Cmd {
	return func(m *Model) []tea.Cmd { do(m); return nil }
}

// bindings are the keys of the list, in the order in which help shows them.
var bindings []binding

func init() { // they refer to what shows them
	decides := func(do string, insist bool) func(*Model) []tea.Cmd {
		return plainly(func(m *Model) { m.decide(do, 0, insist) })
	}
	moves := func(by func(*Model) int) func(*Model) []tea.Cmd {
		return plainly(func(m *Model) { m.move(by(m)) })
	}
	sorts := func(step int) func(*Model) []tea.Cmd {
		return plainly(func(m *Model) { m.sortBy(step) })
	}
	bindings = []binding{
		{
			keys:  []string{"o"},
			shown: "o",
			help:  "off",
			foot:  "off",
			do:    decides(proposal.Disable, false),
		},
		{
			keys:  []string{"l"},
			shown: "l",
			help:  "later: start it some time after the boot or the login",
			foot:  "later",
			do:    plainly((*Model).askLater),
		},
		{
			keys:  []string{"b"},
			shown: "b",
			help:  "back on; what calmdawn switched off is taken back exactly",
			foot:  "back",
			do:    decides(proposal.Enable, false),
		},
		{
			keys:  []string{"e"},
			shown: "e",
			help:  "keep, as a decision that the plan's file holds",
			foot:  "keep",
			spare: true,
			do:    decides(proposal.Keep, false),
		},
		{
			keys:  []string{"r"},
			shown: "r",
			help:  "your rule for it from now on: keep, go or wait, and why",
			do:    plainly((*Model).askRule),
		},
		{
			keys:  []string{"x", "delete", "backspace"},
			shown: "x",
			help:  "no decision; so does the same key again",
			do:    decides("", true),
		},
		{
			keys:  []string{"!"},
			shown: "!",
			help:  "off, although it is protected",
			do:    decides(proposal.Disable, true),
		},
		{
			keys:  []string{"u"},
			shown: "u",
			help:  "undo the last decision",
			foot:  "undo",
			spare: true,
			do:    plainly((*Model).takeBack),
		},
		{
			keys:  []string{" "},
			shown: "space",
			help:  "mark a row; decisions are on all marked ones",
			foot:  "mark",
			do:    plainly((*Model).mark),
		},
		{
			keys:  []string{"v"},
			shown: "v",
			help:  "begin to mark a range, or end it",
			do:    plainly((*Model).markRange),
		},
		{
			keys:  []string{"a"},
			shown: "a",
			help:  "mark all that is shown, or none",
			do:    plainly((*Model).markAll),
		},
		{
			keys:  []string{"m"},
			shown: "m",
			help:  "mark all of this maker that is shown",
			do:    plainly((*Model).markMaker),
		},
		{
			keys:  []string{"/"},
			shown: "/",
			help:  "find by typing",
			foot:  "find",
			do:    plainly((*Model).askFind),
		},
		{
			keys:  []string{"f"},
			shown: "f",
			help:  "filter by fields: advice=can go,can wait state=on",
			do:    plainly((*Model).askFilter),
		},
		{
			keys:  []string{"s"},
			shown: "s, S",
			help:  "sort by the next column, by the one before",
			do:    sorts(1),
		},
		{keys: []string{"S"}, do: sorts(-1)},
		{
			keys:  []string{"g"},
			shown: "g",
			help:  "group by maker, or not",
			do: plainly(func(m *Model) {
				m.grouped = !m.grouped
				m.arrange(m.current())
			}),
		},
		{
			keys:  []string{"+"},
			shown: "+",
			help:  "a row for each item of a package, or one for those that cost nothing",
			do:    plainly((*Model).open),
		},
		{
			keys:  []string{"."},
			shown: ".",
			help:  "show the operating system's own parts, or fold them",
			do: plainly(func(m *Model) {
				m.parts = !m.parts
				m.narrow(m.current())
			}),
		},
		{
			keys:  []string{"enter", "right"},
			shown: "enter",
			help:  "the page about the item, on the whole screen",
			do:    (*Model).openPage,
		},
		{
			keys:  []string{"up", "k"},
			shown: "up k, down j",
			help:  "the row above, below",
			keeps: true,
			do:    moves(func(*Model) int { return -1 }),
		},
		{keys: []string{"down", "j"}, keeps: true, do: moves(func(*Model) int { return 1 })},
		{
			keys:  []string{"pgup", "ctrl+b"},
			shown: "page keys",
			help:  "a screen up, down",
			keeps: true,
			do:    moves(func(m *Model) int { return -m.rows() }),
		},
		{keys: []string{"pgdown", "ctrl+f"}, keeps: true, do: moves((*Model).rows)},
		{
			keys:  []string{"home"},
			shown: "home, end",
			help:  "the first row, the last",
			keeps: true,
			do:    moves(func(m *Model) int { return -len(m.lines) }),
		},
		{
			keys:  []string{"end"},
			keeps: true,
			do:    moves(func(m *Model) int { return len(m.lines) }),
		},
		{
			keys:  []string{"esc"},
			shown: "esc",
			help:  "take marks away; then what was searched and filtered",
			do:    plainly((*Model).escape),
		},
		{
			keys:  []string{"w"},
			shown: "w",
			help:  "write the plan to a file, as a proposal that apply takes",
			foot:  "write",
			spare: true,
			do:    plainly((*Model).askFile),
		},
		{
			keys:  []string{"c"},
			shown: "c",
			help:  "carry the plan out: shows all it does, and asks",
			foot:  "carry out",
			do:    plainly((*Model).beginCarry),
		},
		{
			keys:  []string{"?"},
			shown: "?",
			help:  "these keys",
			foot:  "keys",
			do:    plainly(func(m *Model) { m.mode, m.helpFrom = helping, 0 }),
		},
		{
			keys:  []string{"q"},
			shown: "q",
			help:  "leave; nothing was changed",
			foot:  "leave",
			do:    (*Model).leave,
		},
		{
			keys:  []string{"ctrl+z"},
			shown: "ctrl+z",
			help:  "back to the shell for a while; fg returns",
			do:    func(*Model) []tea.Cmd { return []tea.Cmd{tea.Suspend} },
		},
	}
}

// helpLines are the keys with what they do.
func helpLines(s *render.Screen, width int) []string {
	return s.Lines(width, func(s *render.Screen) {
		for _, b := range bindings {
			if b.help != "" {
				s.Wrap(16, "  %-14s%s", b.shown, b.help)
			}
		}
		s.Line("")
		s.Wrap(2, "  Nothing is changed on the machine before a plan is carried out and you have "+
			"said yes to what it touches.")
	})
}

func (m *Model) mark() {
	if i, ok := m.here(); ok {
		m.from, m.marked[i] = -1, !m.marked[i]
		m.move(1)
	}
}

func (m *Model) markRange() {
	if m.from >= 0 {
		m.from = -1
		m.say(render.Plain, "%d marked.", m.marks())
		return
	}
	if _, ok := m.here(); ok {
		m.from = m.cursor
		m.stretch()
		m.say(render.Plain, "From here on; move, and v ends the range.")
	}
}

func (m *Model) markAll() {
	shown := slices.DeleteFunc(slices.Clone(m.lines), func(i int) bool { return i < 0 })
	all := !slices.ContainsFunc(shown, func(i int) bool { return !m.marked[i] })
	m.unmark()
	for _, i := range shown {
		m.marked[i] = !all
	}
	m.say(render.Plain, "%d marked.", m.marks())
}

func (m *Model) markMaker() {
	here, ok := m.here()
	if !ok {
		return
	}
	m.from = -1
	maker := m.v.Items[here].Maker
	for _, i := range m.lines {
		if i >= 0 && strings.EqualFold(m.v.Items[i].Maker, maker) {
			m.marked[i] = true
		}
	}
	m.say(render.Plain, "%d marked, with those of %s.", m.marks(),
		cmp.Or(render.Clean(maker), "an unknown maker"))
}

// sortBy goes on to the next order, or back to the one before.
func (m *Model) sortBy(step int) {
	m.by = (m.by + step + len(orders)) % len(orders)
	m.arrange(m.current())
	m.say(render.Plain, "Sorted by %s.", orders[m.by])
}

func (m *Model) openPage() []tea.Cmd {
	if _, ok := m.here(); !ok {
		return nil
	}
	m.mode, m.page.from, m.page.id = paging, 0, ""
	return []tea.Cmd{m.makePage()}
}

// escape takes away what stands in the way: marks first, then filters.
func (m *Model) escape() {
	switch {
	case m.from >= 0 || m.marks() > 0:
		m.unmark()
	case m.find != "" || m.asked != "":
		m.find, m.asked = "", ""
		m.filter = visit.Filter{}
		m.narrow(m.current())
	default:
		m.say(render.Plain, "q leaves.")
	}
}
