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

	reverse lipgloss.Style
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
	return &Screen{w: w, width: width, ascii: !utf8, reverse: style().Reverse(true),
		styles: map[Tone]lipgloss.Style{
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

// Line writes one line of our own words. Where it is wider than the screen it
// writes further ones, indented by two more. Values for %s that come from a
// machine are cleaned by the caller.
func (s *Screen) Line(format string, values ...any) {
	text := fmt.Sprintf(format, values...)
	s.Wrap(len(text)-len(strings.TrimLeft(text, " "))+2, "%s", text)
}

// Wrap writes a paragraph, broken at the screen's width, its further lines
// indented.
func (s *Screen) Wrap(indent int, format string, values ...any) {
	text := s.plain(fmt.Sprintf(format, values...))
	if s.width > 0 {
		text = wrap(text, s.width, indent)
	}
	fmt.Fprintln(s.w, Parted(text))
}

// joint stands for a blank at which no line is broken. It is no character of
// any text (Unicode, "Noncharacters").
const joint = "\uFDD0"

// Whole is a text that [Screen] never breaks, as a command that people copy. A
// terminal folds it by itself where it is wider than a line.
func Whole(text string) string { return strings.ReplaceAll(text, " ", joint) }

// Parted is a text with blanks where [Whole] had put others.
func Parted(text string) string { return strings.ReplaceAll(text, joint, " ") }

// CleanWhole cleans a text and keeps what stands in it from [Whole].
func CleanWhole(text string) string {
	parts := strings.Split(text, joint)
	for i, part := range parts {
		parts[i] = Clean(part)
	}
	return strings.Join(parts, joint)
}

// wrap breaks a text at blanks alone, so that no id or path is torn; lines
// behind the first are indented. A command that is wider than a line is broken
// between its words as a shell takes it.
func wrap(text string, width, indent int) string {
	var b strings.Builder
	column, pending := 0, ""
	put := func(word string, room int, broken string) {
		wide := ansi.StringWidth(Parted(word))
		if column > indent && column+len(pending)+wide > width-room {
			b.WriteString(broken + "\n" + strings.Repeat(" ", indent))
			column, pending = indent, ""
		}
		b.WriteString(pending + word)
		column, pending = column+len(pending)+wide, ""
	}
	for word := range strings.SplitAfterSeq(text, " ") {
		bare := strings.TrimRight(word, " ")
		words := []string{bare}
		if ansi.StringWidth(Parted(bare)) > width-indent {
			words = shellWords(bare)
		}
		const on = ` \`
		for i, w := range words {
			room := len(on)
			switch {
			case i == len(words)-1:
				room = 0
			case i == 0 && column > indent: // it begins a line
				room = width
			}
			if i == 0 {
				put(w, room, "")
				continue
			}
			pending = " "
			put(w, room, on)
		}
		pending = word[len(bare):]
	}
	return b.String()
}

// shellWords parts a command that is kept whole at those of its blanks that
// stand in no quotes, sh(1).
func shellWords(command string) []string {
	const open, quoted, dollar = 0, 1, 2
	words, state, escaped := []string{""}, open, false
	for i, r := range command {
		if string(r) == joint && state == open && !escaped {
			words = append(words, "")
			continue
		}
		switch {
		case escaped:
			escaped = false
		case r == '\\' && state != quoted:
			escaped = true
		case r == '\'' && state != open:
			state = open
		case r == '\'' && strings.HasSuffix(command[:i], "$"):
			state = dollar
		case r == '\'':
			state = quoted
		}
		words[len(words)-1] += string(r)
	}
	return words
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
	"-", "▒", ":", "█", "#", "░", "+", "▲", "^",
	"›", ">", "│", "|", "●", "o", "±", "+/-", "×", "x", "’", "'")

// plain replaces what an ASCII screen cannot show.
func (s *Screen) plain(text string) string {
	if !s.ascii {
		return text
	}
	return strings.Map(func(r rune) rune {
		if r > unicode.MaxASCII && string(r) != joint {
			return '?'
		}
		return r
	}, substitutes.Replace(text))
}

const maxShown = 2000 // runes of one text from a machine

// Clean makes a text from a machine safe to show on one line. Control
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
		case string(r) == joint:
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
