package render

import (
	"bytes"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Text is a cleaned text as this screen shows it, in a tone.
func (s *Screen) Text(t Tone, text string) string { return s.Paint(t, s.plain(text)) }

// Fit is a cleaned text as wide as columns are, cut or filled with blanks; on
// the left where right is set.
func (s *Screen) Fit(text string, columns int, right bool) string {
	return s.FitCell(Cell{Text: text}, columns, right)
}

// FitCell does the same with a cell, whose tail is never cut.
func (s *Screen) FitCell(c Cell, columns int, right bool) string {
	if columns <= 0 {
		return ""
	}
	text := s.cut(c, columns)
	pad := strings.Repeat(" ", max(0, columns-ansi.StringWidth(text)))
	if right {
		return pad + text
	}
	return text + pad
}

// Reverse shows a text with its colours exchanged; without colours it stays as
// it is.
func (s *Screen) Reverse(text string) string { return s.reverse.Render(text) }

// Lines returns what somebody writes to a screen like this one of another
// width, line by line.
func (s *Screen) Lines(width int, write func(*Screen)) []string {
	var b bytes.Buffer
	other := *s
	other.w, other.width = &b, width
	write(&other)
	if b.Len() == 0 {
		return nil
	}
	return strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
}
