package cli

import (
	"encoding/csv"
	"fmt"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A csvColumn is one column of comma-separated values, of texts or of numbers.
type csvColumn[T any] struct {
	head   string
	text   func(T) string
	number func(T) string // empty where it is not known
}

// writeCSV writes a line a value, safe to open in a spreadsheet: a text that
// one would run as a formula is led by an apostrophe.
func writeCSV[T any](a *app, columns []csvColumn[T], values []T) error {
	head := make([]string, len(columns))
	for i, c := range columns {
		head[i] = c.head
	}
	rows := [][]string{head}
	for _, v := range values {
		row := make([]string, len(columns))
		for i, c := range columns {
			if c.number != nil {
				row[i] = c.number(v)
			} else {
				row[i] = unrunnable(render.Clean(c.text(v)))
			}
		}
		rows = append(rows, row)
	}
	return csv.NewWriter(a.Out).WriteAll(rows)
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

func csvSeconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// csvFigure is a figure in seconds; empty where it is not known.
func csvFigure(f boot.Figure) string {
	if !f.Known {
		return ""
	}
	return csvSeconds(f.Value)
}

// itemColumns are those of list.
func itemColumns(l *visit.Visit) []csvColumn[item.Item] {
	return []csvColumn[item.Item]{
		{head: "id", text: func(it item.Item) string { return it.ID }},
		{head: "kind", text: func(it item.Item) string { return string(it.Kind) }},
		{head: "title", text: func(it item.Item) string { return it.Title }},
		{head: "state", text: func(it item.Item) string { return string(it.State) }},
		{head: "when", text: func(it item.Item) string { return string(it.When) }},
		{head: "fires", text: func(it item.Item) string { return it.Fires }},
		{head: "owner", text: func(it item.Item) string { return it.Owner }},
		{head: "maker", text: func(it item.Item) string { return it.Maker }},
		{head: "package", text: func(it item.Item) string { return it.Package }},
		{head: "version", text: func(it item.Item) string { return it.Version }},
		{head: "role", text: func(it item.Item) string { return it.Role }},
		{head: "advice", text: func(it item.Item) string { return string(it.Advice) }},
		{head: "reason", text: func(it item.Item) string { return it.Reason }},
		{head: "grade", text: func(it item.Item) string { return string(l.Cost(it).Grade) }},
		{head: "wait (s)", number: func(it item.Item) string {
			if c := l.Cost(it); c.Replayed {
				return csvSeconds(c.Wait.Lead().Saving.Median)
			}
			return ""
		}},
		{head: "processor time (s)", number: func(it item.Item) string {
			return csvFigure(l.Cost(it).CPU)
		}},
		{head: "own time (s)", number: func(it item.Item) string {
			if own, ok := l.OwnTime(it); ok {
				return csvSeconds(own.Median)
			}
			return ""
		}},
		{head: "command", text: func(it item.Item) string { return it.Command }},
		{head: "file", text: func(it item.Item) string { return it.File }},
		{head: "system", text: func(it item.Item) string { return fmt.Sprint(it.System) }},
		{head: "note", text: func(it item.Item) string { return it.Note }},
	}
}

// bootColumns are those of boots.
func bootColumns() []csvColumn[boot.Boot] {
	columns := []csvColumn[boot.Boot]{
		{head: "id", text: func(b boot.Boot) string { return b.ID }},
		{head: "began", text: began},
		{head: "usable (s)", number: func(b boot.Boot) string {
			return csvFigure(b.Usable().Figure)
		}},
		{head: "kind", text: func(b boot.Boot) string { return b.Usable().Kind }},
		{head: "login after ready (s)", number: func(b boot.Boot) string {
			return csvFigure(b.Usable().Waited)
		}},
		{head: "ready (s)", number: func(b boot.Boot) string { return csvFigure(b.Ready) }},
		{head: "settled from ready (s)", number: func(b boot.Boot) string {
			return csvFigure(b.Settled.FromReady)
		}},
		{head: "settled from login (s)", number: func(b boot.Boot) string {
			return csvFigure(b.Settled.FromLogin)
		}},
	}
	for _, name := range boot.PhaseNames {
		columns = append(columns, csvColumn[boot.Boot]{
			head:   name + " (s)",
			number: func(b boot.Boot) string { return csvFigure(b.Phase(name)) },
		})
	}
	return append(columns,
		csvColumn[boot.Boot]{head: "odd", text: odd},
		csvColumn[boot.Boot]{head: "simulated", text: isSimulated})
}

func began(b boot.Boot) string       { return b.Began.UTC().Format(time.RFC3339) }
func odd(b boot.Boot) string         { return strings.Join(b.Odd, "; ") }
func isSimulated(b boot.Boot) string { return fmt.Sprint(b.Simulated) }

// spanColumns are those of boots --spans.
var spanColumns = []csvColumn[boot.Span]{
	{head: "native", text: func(s boot.Span) string { return s.Native }},
	{head: "owner", text: func(s boot.Span) string { return s.Owner }},
	{head: "begin (s)", number: func(s boot.Span) string { return csvFigure(s.Begin) }},
	{head: "end (s)", number: func(s boot.Span) string { return csvFigure(s.End) }},
	{head: "processor time (s)", number: func(s boot.Span) string { return csvFigure(s.CPU) }},
	{head: "disk read (bytes)", number: func(s boot.Span) string {
		if !s.DiskRead.Known {
			return ""
		}
		return fmt.Sprint(s.DiskRead.Bytes)
	}},
	{head: "failed", text: func(s boot.Span) string { return fmt.Sprint(s.Failed) }},
}

// A sided boot is one of a comparison, with the side on which it stands.
type sided struct {
	boot.Boot
	side string
}

// sidedColumns are those of compare.
func sidedColumns() []csvColumn[sided] {
	columns := []csvColumn[sided]{
		{head: "side", text: func(b sided) string { return b.side }},
		{head: "id", text: func(b sided) string { return b.ID }},
		{head: "began", text: func(b sided) string { return began(b.Boot) }},
		{head: "usable (s)", number: func(b sided) string {
			return csvFigure(b.Usable().Figure)
		}},
		{head: "kind", text: func(b sided) string { return b.Usable().Kind }},
	}
	for _, m := range compare.Measures {
		unit, show := " (s)", func(n int64) string { return csvSeconds(time.Duration(n)) }
		if m.Bytes {
			unit, show = " (bytes)", func(n int64) string { return fmt.Sprint(n) }
		}
		columns = append(columns, csvColumn[sided]{
			head: m.Name + unit,
			number: func(b sided) string {
				if n, ok := m.Of(b.Boot); ok {
					return show(int64(n))
				}
				return ""
			},
		})
	}
	return append(columns,
		csvColumn[sided]{head: "left out since", text: func(b sided) string { return odd(b.Boot) }},
		csvColumn[sided]{head: "simulated", text: func(b sided) string {
			return isSimulated(b.Boot)
		}})
}

// compareCSV writes a line a boot, of both sides and left out.
func (a *app) compareCSV(c comparison) error {
	var all []sided
	for _, side := range []struct {
		name  string
		boots []boot.Boot
	}{
		{"before", c.Sides.Before},
		{"after", c.Sides.After},
		{"left out", c.Sides.LeftOut},
	} {
		for _, b := range side.boots {
			all = append(all, sided{b, side.name})
		}
	}
	return writeCSV(a, sidedColumns(), all)
}
