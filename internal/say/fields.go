package say

import (
	"slices"
	"strings"

	"calmdawn/internal/render"
)

// A field is one column of a table: on a screen, in a file of comma-separated
// values, or in both.
type field[T any] struct {
	render.Column                     // on a screen
	cell          func(T) render.Cell // what stands there; nil where text does
	joined        bool                // a row of several tells the values of all of them

	head   string         // above it in a file; empty where it stands in none
	text   func(T) string // as it came from the machine
	number func(T) string // in place of text: digits, or empty where it is not known
}

// onScreen are the fields that a screen shows: those with a title or a cell.
func onScreen[T any](all []field[T]) []field[T] {
	return slices.DeleteFunc(slices.Clone(all), func(f field[T]) bool {
		return f.Title == "" && f.cell == nil
	})
}

func columnsOf[T any](fields []field[T]) []render.Column {
	columns := make([]render.Column, len(fields))
	for i, f := range fields {
		columns[i] = f.Column
	}
	return columns
}

// rowOf is what stands in fields for a value.
func rowOf[T any](fields []field[T], value T) []render.Cell {
	row := make([]render.Cell, len(fields))
	for i, f := range fields {
		if f.cell != nil {
			row[i] = f.cell(value)
		} else {
			row[i] = render.C(render.Clean(f.text(value)))
		}
	}
	return row
}

// separated are values as rows of a file of comma-separated values, the heads
// first, in the given order of heads. Without one, in that of the fields. The
// file is safe to open in a spreadsheet: a text that one would run as a formula
// is led by an apostrophe.
func separated[T any](fields []field[T], order []string, values []T) [][]string {
	fields = slices.DeleteFunc(slices.Clone(fields), func(f field[T]) bool {
		return f.head == ""
	})
	if len(order) > 0 {
		slices.SortStableFunc(fields, func(a, b field[T]) int {
			return slices.Index(order, a.head) - slices.Index(order, b.head)
		})
	}
	head := make([]string, len(fields))
	for i, f := range fields {
		head[i] = f.head
	}
	rows := [][]string{head}
	for _, v := range values {
		row := make([]string, len(fields))
		for i, f := range fields {
			if f.number != nil {
				row[i] = f.number(v)
			} else {
				row[i] = unrunnable(render.Clean(f.text(v)))
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// unrunnable leads with an apostrophe what a spreadsheet would run: at the
// begin, and behind what one may be told to part cells at. The wide forms of
// the signs count too.
func unrunnable(text string) string {
	var b strings.Builder
	begins := true // blanks aside, a cell may begin here
	for _, c := range text {
		if begins && strings.ContainsRune("=+-@\t\r＝＋－＠", c) {
			b.WriteByte('\'')
		}
		b.WriteRune(c)
		begins = strings.ContainsRune(";|\t", c) || begins && c == ' '
	}
	return b.String()
}
