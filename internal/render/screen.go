// Package render turns values into what people read: lines, tables and figures
// for a terminal or a pipe.
//
// It computes nothing about machines. Everything that comes from one passes
// through [Clean] here, so that no name or description can steer a terminal.
package render

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/muesli/termenv"
)

// A Screen is where text for people goes.
type Screen struct {
	w      io.Writer
	width  int // columns; 0 for a pipe, which is never cut
	ascii  bool
	styles map[Tone]lipgloss.Style
}

// A Tone is one of the few meanings that colour strengthens.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Strong
	Dim
	Good
	Warn
	Bad
)

// NewScreen returns a screen of the given width in columns; 0 means a pipe.
func NewScreen(w io.Writer, width int, colour, utf8 bool) *Screen {
	r := lipgloss.NewRenderer(w)
	r.SetColorProfile(termenv.Ascii)
	if colour {
		r.SetColorProfile(termenv.ANSI)
	}
	style := r.NewStyle
	return &Screen{w: w, width: width, ascii: !utf8, styles: map[Tone]lipgloss.Style{
		Plain:  style(),
		Strong: style().Bold(true),
		Dim:    style().Faint(true),
		Good:   style().Foreground(lipgloss.Color("2")),
		Warn:   style().Foreground(lipgloss.Color("3")),
		Bad:    style().Foreground(lipgloss.Color("1")).Bold(true),
	}}
}

// Width is the number of columns; 0 for a pipe.
func (s *Screen) Width() int { return s.width }

// Paint gives a text its tone.
func (s *Screen) Paint(t Tone, text string) string {
	if t == Plain || text == "" {
		return text
	}
	return s.styles[t].Render(text)
}

// Line writes one line of our own words; %s values that come from a machine are
// cleaned by the caller.
func (s *Screen) Line(format string, values ...any) {
	fmt.Fprintln(s.w, s.plain(fmt.Sprintf(format, values...)))
}

// Wrap writes a paragraph, broken at the screen's width, its further lines
// indented.
func (s *Screen) Wrap(indent int, format string, values ...any) {
	text := s.plain(fmt.Sprintf(format, values...))
	if s.width > 0 {
		text = wrap(text, s.width, indent)
	}
	fmt.Fprintln(s.w, text)
}

// wrap breaks a text at blanks alone, so that no id or path is torn; lines
// behind the first are indented.
func wrap(text string, width, indent int) string {
	var b strings.Builder
	column, pending := 0, ""
	for word := range strings.SplitAfterSeq(text, " ") {
		bare := strings.TrimRight(word, " ")
		if column > indent && column+len(pending)+ansi.StringWidth(bare) > width {
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column, pending = indent, ""
		}
		b.WriteString(pending + bare)
		column += len(pending) + ansi.StringWidth(bare)
		pending = word[len(bare):]
	}
	return b.String()
}

// Say writes one line in a tone.
func (s *Screen) Say(t Tone, format string, values ...any) {
	s.Line("%s", s.Paint(t, fmt.Sprintf(format, values...)))
}

// SayWrapped writes text in a tone, folded like [Screen.Wrap].
func (s *Screen) SayWrapped(indent int, t Tone, format string, values ...any) {
	s.Wrap(indent, "%s", s.Paint(t, fmt.Sprintf(format, values...)))
}

// Field writes a labelled value of a page about one thing, wrapped behind its
// label.
func (s *Screen) Field(label, value string) {
	const indent = 14
	s.Wrap(indent, "  %-*s%s", indent-2, label, value)
}

// substitutes stand for our own signs where the locale has only ASCII.
var substitutes = strings.NewReplacer("→", "->", "·", "-", "…", "...", "–", "-", "━", "=", "─",
	"-", "▒", ":", "█", "#", "░", "+", "▲", "^", "●", "o", "±", "+/-", "×", "x", "’", "'")

// plain replaces what an ASCII screen cannot show.
func (s *Screen) plain(text string) string {
	if !s.ascii {
		return text
	}
	return strings.Map(func(r rune) rune {
		if r > unicode.MaxASCII {
			return '?'
		}
		return r
	}, substitutes.Replace(text))
}

const maxShown = 2000 // runes of one text from a machine

// Clean makes a text from a machine safe to show on one line: control
// characters, escape sequences, marks that turn the direction of writing,
// invisible ones and bytes that are no text each become a visible substitute.
func Clean(text string) string {
	var b strings.Builder
	count := 0
	for i, r := range text {
		if count++; count > maxShown {
			b.WriteString("…")
			break
		}
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(text[i:], "\uFFFD"):
			b.WriteByte('?')
		case r == '\t' || r == '\n':
			b.WriteByte(' ')
		case unicode.IsControl(r), unicode.Is(unicode.Cf, r), r == '\u2028', r == '\u2029':
			b.WriteByte('?')
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Seconds shows a duration as figures stand in a column: seconds with one
// decimal.
func Seconds(d time.Duration) string { return fmt.Sprintf("%.1f s", d.Seconds()) }

// Duration shows a duration in a sentence: "0.8 s", "14.2 s", "1 min 48 s", "2
// h 5 min".
func Duration(d time.Duration) string {
	switch d = max(d, -d); {
	case d < time.Minute-50*time.Millisecond:
		return Seconds(d)
	case d < time.Hour-500*time.Millisecond:
		d = d.Round(time.Second)
		return fmt.Sprintf("%d min %d s", d/time.Minute, d%time.Minute/time.Second)
	}
	d = d.Round(time.Minute)
	return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
}

// Millis shows a short duration: "3 ms", "0.4 ms"; from a second on as
// [Duration] does.
func Millis(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond))
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return Duration(d)
}

// Bytes shows an amount of memory or of data: "320 MB", "4.1 GB".
func Bytes(n int64) string {
	const k = 1000
	switch {
	case n < k:
		return fmt.Sprintf("%d B", n)
	case n < k*k:
		return fmt.Sprintf("%.0f kB", float64(n)/k)
	case n < 10*k*k:
		return fmt.Sprintf("%.1f MB", float64(n)/(k*k))
	case n < k*k*k:
		return fmt.Sprintf("%.0f MB", float64(n)/(k*k))
	}
	return fmt.Sprintf("%.1f GB", float64(n)/(k*k*k))
}
