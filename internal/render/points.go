package render

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"time"

	"gonum.org/v1/plot/vg"
)

// A Side says on which side of a comparison a boot is.
type Side int

// The places of a boot.
const (
	Beside Side = iota // in no comparison
	Before
	After
	LeftOut // odd
)

// A Point is one boot in a plot of many.
type Point struct {
	At    time.Time
	Value time.Duration
	Side  Side
}

// A Points is a plot of boots, one after the other, with the changes between
// them.
type Points struct {
	What    string  // the figure: "ready"
	All     []Point // in the order of time
	Changes []Moment
	// Medians of both sides, 0 where there is none.
	Before, After time.Duration
	// Shift is by how much the sides differ, which the text beside the plot
	// says too. Low and High are its bounds, both 0 where there are none.
	Shift, Low, High time.Duration
}

// A Moment is something that happened between boots.
type Moment struct {
	At   time.Time
	Name string
}

// WritePicture draws the plot. Points of the two sides differ in form, so that
// they are told apart without colour. A narrow one leaves the shift in words to
// the text beside it.
func (p Points) WritePicture(w io.Writer, f Format) error {
	wide, high := 720.0, 290.0
	if f.Narrow {
		wide, high = narrow.wide, 260
	}
	return draw(w, f, wide, high, func(s canvas) { p.draw(s, f.Narrow) })
}

func (p Points) draw(s canvas, slim bool) {
	left, right, top, bottom, ticks := 52.0, s.wide-112, 48.0, s.high-52, 9
	if slim {
		left, right, ticks = 38, s.wide-30, 5
	}
	most := time.Duration(0)
	for _, pt := range p.All {
		most = max(most, pt.Value)
	}
	most = max(most, p.Before+p.High) + most/12
	y := func(d time.Duration) float64 {
		return bottom - (bottom-top)*float64(d)/float64(max(1, most))
	}
	step := (right - left) / float64(max(1, len(p.All)))
	x := func(i int) float64 { return left + step*(float64(i)+0.5) }

	for d := time.Duration(0); d <= most; d += tick(most, ticks) {
		s.line(left, y(d), right, y(d), 0.5, s.hair)
		s.text(left-8-s.width(9, regular, axisLabel(d)), y(d)+3, 9, s.faint, regular, axisLabel(d))
	}
	caption := "Each point is one boot, oldest first: the time until " + p.What
	if slim {
		caption = "The time until " + p.What
	}
	s.text(left, 18, 10, s.faint, regular, s.shorten(10, s.wide-left-4, regular, caption))
	p.drawChanges(s, left, top, bottom, step)
	for _, side := range []struct {
		place  Side
		median time.Duration
	}{{Before, p.Before}, {After, p.After}} {
		first, last := -1, -1
		for i, pt := range p.All {
			if pt.Side == side.place {
				if first < 0 {
					first = i
				}
				last = i
			}
		}
		if first >= 0 && side.median > 0 {
			s.line(x(first)-step*0.4, y(side.median), x(last)+step*0.4, y(side.median), 1.4,
				s.colourOf(side.place))
		}
	}
	size := math.Min(5, math.Max(2.2, step/4))
	for i, pt := range p.All {
		s.mark(x(i), y(pt.Value), size, pt.Side)
	}
	p.drawDays(s, x, bottom)
	p.drawShift(s, y, right+14, slim)
	p.drawLegend(s, left, slim)
}

// drawLegend says what the marks mean that are in the picture.
func (p Points) drawLegend(s canvas, left float64, slim bool) {
	at, below := left, 10.0
	if slim {
		below = 23
	}
	entry := func(wide float64, text string, draw func(x, y float64)) {
		if at+wide+s.width(9, regular, text) > s.wide {
			at, below = left, below-13
		}
		draw(at, s.high-below-3)
		s.text(at+wide, s.high-below, 9, s.ink, regular, text)
		at += wide + 21 + 1.1*s.width(9, regular, text)
	}
	for _, e := range []struct {
		place Side
		text  string
	}{
		{Before, "before"},
		{After, "after"},
		{Beside, "earlier or other"},
		{LeftOut, "left out: odd"},
	} {
		if p.has(e.place) {
			entry(15, e.text, func(x, y float64) { s.mark(x+5, y, 4, e.place) })
		}
	}
	entry(24, "median", func(x, y float64) { s.line(x, y, x+18, y, 1.4, s.ink) })
	if p.Before == 0 || p.After == 0 {
		return
	}
	entry(14, "shift", func(x, y float64) {
		s.line(x+4, y-5, x+4, y+5, 1.2, s.ink)
		s.line(x, y-5, x+8, y-5, 1.2, s.ink)
		s.line(x, y+5, x+8, y+5, 1.2, s.ink)
	})
	if p.Low != 0 || p.High != 0 {
		entry(12, "where it ends, 95 % sure", func(x, y float64) {
			s.box(x, y-5, 5, 10, s.waiting)
			s.line(x, y-5, x+5, y-5, 0.8, s.working)
			s.line(x, y+5, x+5, y+5, 0.8, s.working)
		})
	}
}

func (p Points) has(place Side) bool {
	for _, pt := range p.All {
		if pt.Side == place {
			return true
		}
	}
	return false
}

// drawChanges marks where between the boots changes were made; those with no
// boot between them share a line.
func (p Points) drawChanges(s canvas, left, top, bottom, step float64) {
	names := map[int]string{}
	var places []int
	for _, c := range p.Changes {
		n := 0
		for n < len(p.All) && p.All[n].At.Before(c.At) {
			n++
		}
		if names[n] == "" {
			names[n] = c.Name
			places = append(places, n)
		} else {
			names[n] += ", " + c.Name
		}
	}
	for i, n := range places {
		x := left + step*float64(n)
		s.line(x, top-12, x, bottom, 1, s.ink, 4, 3)
		label := s.shorten(9, math.Min(220, s.wide/2), regular, names[n])
		s.text(math.Min(x+4, s.wide-s.width(9, bold, label)-8), top-15+float64(i%2)*11, 9,
			s.ink, bold, label)
	}
}

// drawDays writes the day below the first boot of each, where there is room.
func (p Points) drawDays(s canvas, x func(int) float64, bottom float64) {
	day, until := "", 0.0
	for i, pt := range p.All {
		d := pt.At.Local().Format("2 Jan")
		if d == day {
			continue
		}
		day = d
		if at := x(i) - 6; at >= until {
			s.text(at, bottom+16, 9, s.faint, regular, d)
			until = at + s.width(9, regular, d) + 8
		}
	}
}

// drawShift draws by how much the sides differ, and how sure that is.
func (p Points) drawShift(s canvas, y func(time.Duration) float64, x float64, slim bool) {
	if p.Before == 0 || p.After == 0 {
		return
	}
	moved := func(by time.Duration) float64 { return y(max(0, p.Before+by)) }
	s.line(x, y(p.Before), x, moved(p.Shift), 1.2, s.ink)
	for _, at := range []float64{y(p.Before), moved(p.Shift)} {
		s.line(x-4, at, x+4, at, 1.2, s.ink)
	}
	between := (y(p.Before) + moved(p.Shift)) / 2
	if !slim {
		s.text(x+22, between-12, 9, s.ink, bold, "shift "+signedSeconds(p.Shift))
	}
	if p.Low == 0 && p.High == 0 {
		return
	}
	s.box(x+9, moved(p.High), 5, moved(p.Low)-moved(p.High), s.waiting)
	s.line(x+9, moved(p.High), x+14, moved(p.High), 0.8, s.working)
	s.line(x+9, moved(p.Low), x+14, moved(p.Low), 0.8, s.working)
	if slim {
		return
	}
	s.text(x+22, between, 8, s.faint, regular, "95 % sure:")
	s.text(x+22, between+10, 8, s.faint, regular,
		fmt.Sprintf("%+.1f to %s", p.Low.Seconds(), signedSeconds(p.High)))
}

func signedSeconds(d time.Duration) string { return fmt.Sprintf("%+.1f s", d.Seconds()) }

func (s canvas) colourOf(p Side) color.Color {
	switch p {
	case Before:
		return s.behind
	case After:
		return s.working
	case LeftOut:
		return s.warning
	}
	return s.faint
}

// mark draws a boot: a disc before, a square after, a cross where it is left
// out, a ring otherwise.
func (s canvas) mark(x, y, r float64, place Side) {
	c := s.colourOf(place)
	switch place {
	case After:
		s.box(x-r, y-r, 2*r, 2*r, c)
		return
	case LeftOut:
		s.line(x-r, y-r, x+r, y+r, 1.2, c)
		s.line(x-r, y+r, x+r, y-r, 1.2, c)
		return
	}
	var ring vg.Path
	centre := vg.Point{X: vg.Length(x), Y: vg.Length(s.high - y)}
	ring.Move(vg.Point{X: centre.X + vg.Length(r), Y: centre.Y})
	ring.Arc(centre, vg.Length(r), 0, 2*math.Pi)
	ring.Close()
	s.SetColor(c)
	if place == Before {
		s.Fill(ring)
		return
	}
	s.SetLineWidth(1)
	s.Stroke(ring)
}
