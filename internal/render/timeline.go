package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/timeline"
)

// A Timeline is drawn as text and as a picture.
type Timeline timeline.Timeline

// The signs of a row, from waiting to working.
const (
	signHeld    = '·' // waiting to be started
	signUnknown = '━' // starting; whether it worked or waited nobody measured
	signWaits   = '─' // starting, and waiting for something
	signPart    = '▒' // working now and then
	signWorks   = '█' // working
	signAfter   = '░' // started, and working on in the background
)

// Legend explains the signs of rows.
const Legend = "· waits to be started   ─ started, waits   ▒ works now and then   █ works   ░ " +
	"works on in the background   ━ not measured which"

// share is the part of one processor that something used between two moments.
func share(course []boot.Use, from, to time.Duration) float64 {
	if to <= from {
		return 0
	}
	return float64(boot.UsedBy(course, to)-boot.UsedBy(course, from)) / float64(to-from)
}

// Chart draws a row in so many columns.
func (t Timeline) Chart(row timeline.Row, columns int) string {
	var b strings.Builder
	step := t.End / time.Duration(max(1, columns))
	for i := range columns {
		from, to := time.Duration(i)*step, time.Duration(i+1)*step
		starting := to > row.Begin && (from < row.End || row.Begin >= from)
		used := 0.0
		if len(row.Work) > 0 {
			used = share(row.Work, max(from, row.Begin), max(to, row.Begin))
		}
		switch {
		case starting && len(row.Work) == 0:
			b.WriteRune(signUnknown)
		case starting && used >= 0.5:
			b.WriteRune(signWorks)
		case starting && used >= 0.1:
			b.WriteRune(signPart)
		case starting:
			b.WriteRune(signWaits)
		case from >= row.End && used >= 0.05:
			b.WriteRune(signAfter)
		case to > row.Held && from < row.Begin:
			b.WriteRune(signHeld)
		default:
			b.WriteByte(' ')
		}
	}
	return strings.TrimRight(b.String(), " ")
}

// BusyLine draws how busy the machine was, from nothing to all processors: a
// digit for each tenth.
func (t Timeline) BusyLine(columns int) string {
	var b strings.Builder
	step := t.End / time.Duration(max(1, columns))
	for i := range columns {
		from, to := time.Duration(i)*step, time.Duration(i+1)*step
		if len(t.Busy) == 0 || to <= t.Busy[0].At {
			b.WriteByte(' ') // before the first sample
			continue
		}
		tenths := int(10*share(t.Busy, max(from, t.Busy[0].At),
			to)/float64(max(1, t.Processors)) + 0.5)
		if tenths <= 0 {
			b.WriteRune('·')
			continue
		}
		b.WriteString(fmt.Sprint(min(9, tenths)))
	}
	return strings.TrimRight(b.String(), " ")
}

// MarkLine draws the moments with names.
func (t Timeline) MarkLine(columns int) string {
	line := []rune(strings.Repeat(" ", columns+16))
	end := 0
	for _, m := range t.Marks {
		at := min(columns-1, int(float64(m.At)/float64(t.End)*float64(columns)))
		text := []rune("▲ " + m.Name)
		// the name stands before its sign where there is no room behind
		if at+len(text) > columns && at-len(text)+1 >= end {
			copy(line[at-len(text)+1:], []rune(m.Name+" ▲"))
			end = at + 2
			continue
		}
		if at < end {
			at = end
		}
		if at+len(text) <= len(line) {
			copy(line[at:], text)
			end = at + len(text) + 1
		}
	}
	return strings.TrimRight(string(line), " ")
}

// Axis draws the begin and the end of the axis.
func (t Timeline) Axis(columns int) string {
	end := Seconds(t.End)
	return "0 s" + strings.Repeat(" ", max(1, columns-3-len(end))) + end
}

// PhaseBar draws the phases of a boot as letters, each the first of its phase's
// name: longest is the length of a full bar. What came after ready until the
// machine had settled is shown as s.
func (s *Screen) PhaseBar(b boot.Boot, longest time.Duration, columns int) string {
	if longest <= 0 {
		return ""
	}
	var bar strings.Builder
	at, drawn := time.Duration(0), 0
	add := func(letter string, took time.Duration) {
		at += took
		// each phase has a letter
		end := min(columns, max(drawn+1, int(float64(at)/float64(longest)*float64(columns)+0.5)))
		bar.WriteString(strings.Repeat(letter, max(0, end-drawn)))
		drawn = max(drawn, end)
	}
	early := time.Duration(0)
	for _, name := range boot.PhaseNames[:4] {
		if p := b.Phase(name); p.Known {
			add(name[:1], p.Value)
			if slices.Contains(boot.EarlyPhases, name) {
				early += p.Value
			}
		}
	}
	if b.Ready.Known {
		add("u", b.Ready.Value-early)
	}
	if b.Settled.FromReady.Known {
		add("s", b.Settled.FromReady.Value)
	}
	return bar.String()
}
