package render

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// A Column is one column of a table.
type Column struct {
	Title string
	Right bool // figures stand right
	Flex  int  // where the screen is too narrow, it shrinks to this width; 0 never
	// Where that does not suffice, the column with the lowest Keep goes first;
	// 0 always stays.
	Keep int
	// Firm is how dear the full width of a column that may shrink is: columns
	// whose Keep is not larger go before it shrinks.
	Firm int
}

// A Cell is one text of a table, already cleaned.
type Cell struct {
	Text string
	Tone Tone
	Tail string // behind the text, which is cut in its favour
}

// C makes a cell.
func C(text string) Cell { return Cell{Text: text} }

// Titles are those of the columns that a table shows.
type Titles map[string]bool

// Table writes rows under their columns. It drops and shrinks columns to fit
// the screen and never cuts one that may not shrink; a pipe gets them all,
// uncut. Columns in which nothing stands are left out.
func (s *Screen) Table(columns []Column, rows [][]Cell) Titles {
	shown, titles := s.fit(columns, rows), Titles{}
	for _, c := range shown {
		titles[columns[c.index].Title] = true
	}
	header := make([]Cell, len(columns))
	for i, c := range columns {
		header[i] = Cell{Text: c.Title, Tone: Dim}
	}
	for _, row := range append([][]Cell{header}, rows...) {
		var b strings.Builder
		for n, c := range shown {
			text := s.cut(row[c.index], c.width)
			pad := strings.Repeat(" ", max(0, c.width-ansi.StringWidth(text)))
			text = s.Paint(row[c.index].Tone, text)
			switch {
			case columns[c.index].Right:
				b.WriteString(pad + text)
			case n == len(shown)-1:
				b.WriteString(text)
			default:
				b.WriteString(text + pad)
			}
			if n < len(shown)-1 {
				b.WriteString("  ")
			}
		}
		s.write(strings.TrimRight(b.String(), " "))
	}
	return titles
}

// cut is a cell's text and tail in a width.
func (s *Screen) cut(c Cell, width int) string {
	tail := s.plain(c.Tail)
	rest := width - ansi.StringWidth(tail)
	return ansi.Truncate(ansi.Truncate(s.plain(c.Text), rest, s.plain("…"))+tail, width, "")
}

func (s *Screen) write(line string) { _, _ = s.w.Write([]byte(line + "\n")) }

type shownColumn struct{ index, width int }

// fit chooses the columns and their widths.
func (s *Screen) fit(columns []Column, rows [][]Cell) []shownColumn {
	var shown []shownColumn
	for i, c := range columns {
		width, filled := ansi.StringWidth(c.Title), false
		for _, row := range rows {
			text := s.plain(row[i].Text + row[i].Tail)
			width, filled = max(width, ansi.StringWidth(text)), filled || text != ""
		}
		if filled || len(rows) == 0 {
			shown = append(shown, shownColumn{i, width})
		}
	}
	if s.width == 0 {
		return shown
	}
	// over is by how much it is too wide, columns less firm than keep shrunk
	over := func(keep int) int {
		total := -2 - s.width
		for _, c := range shown {
			width := c.width
			if columns[c.index].Firm < keep {
				width = c.least(columns)
			}
			total += width + 2
		}
		return total
	}
	for {
		drop := -1
		for n, c := range shown {
			keep := columns[c.index].Keep
			if keep > 0 && (drop < 0 || keep < columns[shown[drop].index].Keep) {
				drop = n
			}
		}
		if drop < 0 || over(columns[shown[drop].index].Keep) <= 0 {
			break
		}
		shown = append(shown[:drop], shown[drop+1:]...)
	}
	for n, c := range shown {
		if extra := over(0); extra > 0 {
			shown[n].width = max(c.least(columns), c.width-extra)
		}
	}
	return shown
}

// least is the width to which a column may shrink.
func (c shownColumn) least(columns []Column) int {
	if flex := columns[c.index].Flex; flex > 0 {
		return min(c.width, flex)
	}
	return c.width
}
