package render

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/waits"
)

// Waits are drawn as a picture. It has one line along the time that people
// wait, the thicker the busier the machine was. Below it stands a card for each
// stretch.
type Waits waits.Waits

// The measures of such pictures, in points.
const (
	waitsHigh = 110.0 // of the line with its marks and its axis
	thickest  = 26.0
	thinnest  = 3.0
	cardGap   = 14.0
	cardLine  = 13.0
	cardHead  = 31.0
)

// A frame is how wide a picture is, in points, and what fits beside each other
// in it.
type frame struct {
	wide, side float64
	cards      int // in a row
	ticks      int // of an axis, about
	steps      int // of the line
}

// The frames: of a page, and of a telephone's.
var (
	broad  = frame{wide: 960, side: 34, cards: 4, ticks: 9, steps: 350}
	narrow = frame{wide: 280, side: 12, cards: 1, ticks: 4, steps: 140}
)

func (f Format) frame() frame {
	if f.Narrow {
		return narrow
	}
	return broad
}

// share is the part of one processor that something used between two moments.
func share(course []boot.Use, from, to time.Duration) float64 {
	if to <= from {
		return 0
	}
	return float64(boot.UsedBy(course, to)-boot.UsedBy(course, from)) / float64(to-from)
}

// WritePicture draws a boot, with a title and a line below it.
func (r Waits) WritePicture(w io.Writer, form Form, title, subtitle string) error {
	const top = 66.0
	high := r.high(broad)
	return draw(w, Format{Form: form, Palette: Light}, broad.wide, top+high+34, func(s canvas) {
		s.text(24, 30, 15, s.ink, bold, title)
		s.text(24, 48, 10, s.faint, regular, subtitle)
		r.draw(s, broad, top, r.End)
		waitsLegend(s, broad, 24, top+high+18)
	})
}

// WriteWaits draws boots one below the other, on the same axis, each with a
// title.
func WriteWaits(w io.Writer, format Format, titles []string, all []Waits) error {
	return writeWaits(w, format, titles, all, longestOf(all))
}

// WriteWaitsOf draws one of several boots, on the axis of all of them.
func WriteWaitsOf(w io.Writer, format Format, titles []string, all []Waits, i int) error {
	return writeWaits(w, format, titles[i:i+1], all[i:i+1], longestOf(all))
}

func longestOf(all []Waits) (end time.Duration) {
	for _, r := range all {
		end = max(end, r.End)
	}
	return end
}

func writeWaits(
	w io.Writer,
	format Format,
	titles []string,
	all []Waits,
	end time.Duration,
) error {
	const line = 15.0
	f := format.frame()
	left := f.side - 10
	above := 40.0
	if format.Narrow { // titles are folded
		above += 2 * line
	}
	high := 34.0
	if format.Narrow {
		high += 22
	}
	for _, r := range all {
		high += above + r.high(f)
	}
	return draw(w, format, f.wide, high, func(s canvas) {
		y := 0.0
		for i, r := range all {
			for n, part := range s.fold(12, f.wide-2*left, bold, titles[i]) {
				s.text(left, y+24+line*float64(n), 12, s.ink, bold, part)
			}
			r.draw(s, f, y+above, end)
			y += above + r.high(f)
		}
		waitsLegend(s, f, left, y+18)
	})
}

func (r Waits) high(f frame) float64 {
	high := waitsHigh
	for first := 0; first < len(r.Stretches); first += f.cards {
		high += r.cardRow(f, first) + cardGap
	}
	return high
}

// cardRow is how high the row of cards is that begins with a stretch.
func (r Waits) cardRow(f frame, first int) float64 {
	lines := 0
	for _, st := range r.Stretches[first:min(len(r.Stretches), first+f.cards)] {
		lines = max(lines, len(st.Beside)+min(1, st.More))
	}
	return cardHead + cardLine*float64(lines) + 6
}

// draw puts them below a top, on an axis that goes on to an end.
func (r Waits) draw(s canvas, f frame, top float64, end time.Duration) {
	left, right := f.side, f.wide-f.side
	at := func(d time.Duration) float64 {
		return left + (right-left)*math.Min(1, math.Max(0, float64(d)/float64(max(1, end))))
	}
	middle := top + 54
	for i, st := range r.Stretches {
		c := s.working
		if i%2 == 1 {
			c = s.unknown
		}
		if st.Failed {
			c = s.warning
		}
		r.ribbon(s, f, st, at, middle, c)
		if number := fmt.Sprint(i + 1); at(st.To)-at(st.From) > 16 {
			x := (at(st.From) + at(st.To)) / 2
			s.text(x-s.width(9, bold, number)/2, middle-thickest/2-5, 9, c, bold, number)
		}
	}
	var beyond [3]float64 // how far labels reach in each of their rows
	for i, m := range r.Marks {
		x := at(m.At)
		label := fmt.Sprintf("%s %s", m.Name, Seconds(m.At))
		if m.Name == "login" {
			label = m.Name
			if r.LeftOut > 0 {
				label = fmt.Sprintf("login, %s later", Duration(r.LeftOut))
			}
		}
		wide := s.width(9, bold, label)
		from := math.Min(x+4, right-wide)
		row := 0
		for row < len(beyond)-1 && from < beyond[row] {
			row++
		}
		beyond[row] = from + wide + 6
		s.line(x, top-9+float64(i%2)*11, x, middle+thickest/2+6, 1, s.ink, 3, 2)
		s.text(from, top-2+11*float64(row), 9, s.ink, bold, label)
	}
	for d := time.Duration(0); d <= end; d += tick(end, f.ticks) {
		s.line(at(d), middle+thickest/2+8, at(d), middle+thickest/2+12, 0.6, s.faint)
		label := axisLabel(d)
		s.text(at(d)-s.width(8, regular, label)/2, middle+thickest/2+23, 8, s.faint, regular, label)
	}
	y := top + waitsHigh
	for first := 0; first < len(r.Stretches); first += f.cards {
		for i := first; i < min(len(r.Stretches), first+f.cards); i++ {
			r.card(s, f, i, y)
		}
		y += r.cardRow(f, first) + cardGap
	}
}

// ribbon draws a stretch of the line: as thick as the machine was busy, and
// thin where nobody measured it.
func (r Waits) ribbon(
	s canvas,
	f frame,
	st waits.Stretch,
	at func(time.Duration) float64,
	middle float64,
	c color.Color,
) {
	step := max(r.End/time.Duration(f.steps), time.Millisecond)
	for from := st.From; from < st.To; from += step {
		to := min(st.To, from+step)
		thick := thinnest
		if n := len(r.Busy); n > 0 && to > r.Busy[0].At {
			part := share(r.Busy, max(from, r.Busy[0].At), to) / float64(max(1, r.Processors))
			thick += (thickest - thinnest) * math.Min(1, part)
		}
		s.box(at(from), middle-thick/2, at(to)-at(from)+0.7, thick, c)
	}
}

// card tells of one stretch: what was waited for, for how long, and what worked
// beside it.
func (r Waits) card(s canvas, f frame, i int, y float64) {
	wide := (f.wide - 2*f.side - cardGap*float64(f.cards-1)) / float64(f.cards)
	x := f.side + float64(i%f.cards)*(wide+cardGap)
	st := r.Stretches[i]
	c := s.ink
	if st.Failed {
		c = s.warning
	}
	s.line(x, y, x+wide, y, 0.8, s.faint)
	number := fmt.Sprintf("%d  ", i+1)
	s.text(x, y+13, 10, s.faint, bold, number)
	indent := s.width(10, bold, number)
	s.text(x+indent, y+13, 10, c, bold, s.shorten(11.5, wide-indent-4, bold, st.Label))
	part := 100 * float64(st.Took()) / float64(max(1, r.End))
	s.text(x, y+26, 9, s.ink, regular, fmt.Sprintf("%s, %.0f %%", Duration(st.Took()), part))
	most := time.Duration(1)
	for _, b := range st.Beside {
		most = max(most, b.CPU.Value)
	}
	const figures = 40.0
	for n, b := range st.Beside {
		at := y + cardHead + cardLine*float64(n) + 8
		used := ""
		if b.CPU.Known {
			used = Seconds(b.CPU.Value)
			bar := (wide - figures - 90) * 0.5 * float64(b.CPU.Value) / float64(most)
			s.box(x+wide-figures-4-bar, at-6, bar, 5, s.waiting)
		}
		s.text(x, at, 9, s.ink, regular, s.shorten(9, wide-figures-60, regular, b.Label))
		s.text(x+wide-s.width(9, regular, used), at, 9, s.ink, regular, used)
	}
	if st.More > 0 {
		at := y + cardHead + cardLine*float64(len(st.Beside)) + 8
		s.text(x, at, 9, s.faint, regular, fmt.Sprintf("and %d more", st.More))
	}
}

func waitsLegend(s canvas, f frame, x, y float64) {
	for i, thick := range []float64{thinnest, 10, thickest - 8} {
		s.box(x+float64(i)*9, y-4-thick/2, 9, thick, s.working)
	}
	const text = "the thicker, the busier all processors were. Cards: what was waited for, and " +
		"what worked meanwhile, in seconds of processor time."
	for n, part := range s.fold(9, f.wide-x-34-f.side, regular, text) {
		s.text(x+34, y+11*float64(n), 9, s.ink, regular, part)
	}
}
