package render

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"
	"sync"
	"time"

	imagefont "golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"calmdawn/internal/core/timeline"
)

// A Palette is the colours of a picture. They differ in lightness too, so that
// they are told apart without colour, on paper and by everybody.
type Palette struct {
	ink, faint, hair, paper, working, waiting, unknown, behind, warning color.RGBA
}

// The palettes: for paper and bright screens, and for dark ones.
var (
	Light = Palette{
		ink:     rgb(0x22262b),
		faint:   rgb(0x6d747d),
		hair:    rgb(0xd8dbdf),
		paper:   rgb(0xffffff),
		working: rgb(0x1d4e89),
		waiting: rgb(0xb9cde3),
		unknown: rgb(0x6f94bf),
		behind:  rgb(0xe0a84a),
		warning: rgb(0xa82a2a),
	}
	Dark = Palette{
		ink:     rgb(0xe6e9ed),
		faint:   rgb(0x98a0aa),
		hair:    rgb(0x3a414a),
		paper:   rgb(0x1b1f24),
		working: rgb(0x8fbcef),
		waiting: rgb(0x34506f),
		unknown: rgb(0x5f87b5),
		behind:  rgb(0xd9a047),
		warning: rgb(0xf08a80),
	}
)

func rgb(n uint32) color.RGBA { return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 0xff} }

// Form is how a picture is written.
type Form string

// The forms of pictures.
const (
	PNG Form = "png"
	SVG Form = "svg"
)

// A canvas is a picture that is being drawn: points from the left and from the
// top.
type canvas struct {
	vg.Canvas
	Palette
	wide, high float64
}

// fonts are the two that pictures are written in.
var fonts = sync.OnceValue(func() *font.Cache {
	var all font.Collection
	for weight, data := range map[imagefont.Weight][]byte{
		imagefont.WeightNormal: goregular.TTF,
		imagefont.WeightBold:   gobold.TTF,
	} {
		parsed, err := opentype.Parse(data)
		if err != nil {
			panic("a font that is built in cannot be read: " + err.Error())
		}
		all = append(all, font.Face{
			Font: font.Font{Typeface: typeface, Variant: "Sans", Weight: weight},
			Face: parsed,
		})
	}
	return font.NewCache(all)
})

const typeface = "Go"

// A weight is how thick letters are.
type weight = imagefont.Weight

const (
	regular = imagefont.WeightNormal
	bold    = imagefont.WeightBold
)

func face(size float64, w weight) font.Face {
	f := font.Font{Typeface: typeface, Variant: "Sans", Weight: w}
	return fonts().Lookup(f, font.Length(size))
}

func (s canvas) text(x, y, size float64, c color.Color, w weight, text string) {
	s.SetColor(c)
	s.FillString(face(size, w), vg.Point{X: vg.Length(x), Y: vg.Length(s.high - y)}, Clean(text))
}

func (s canvas) width(size float64, w weight, text string) float64 {
	f := face(size, w)
	return float64(f.Width(text))
}

// shorten cuts a text to fit.
func (s canvas) shorten(size, wide float64, text string) string {
	if s.width(size, regular, text) <= wide {
		return text
	}
	runes := []rune(text)
	for len(runes) > 1 && s.width(size, regular, string(runes)+"…") > wide {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

func (s canvas) box(x, y, w, h float64, c color.Color) {
	if w <= 0 {
		return
	}
	var p vg.Path
	p.Move(vg.Point{X: vg.Length(x), Y: vg.Length(s.high - y)})
	p.Line(vg.Point{X: vg.Length(x + w), Y: vg.Length(s.high - y)})
	p.Line(vg.Point{X: vg.Length(x + w), Y: vg.Length(s.high - y - h)})
	p.Line(vg.Point{X: vg.Length(x), Y: vg.Length(s.high - y - h)})
	p.Close()
	s.SetColor(c)
	s.Fill(p)
}

func (s canvas) line(x1, y1, x2, y2, thick float64, c color.Color, dash ...vg.Length) {
	var p vg.Path
	p.Move(vg.Point{X: vg.Length(x1), Y: vg.Length(s.high - y1)})
	p.Line(vg.Point{X: vg.Length(x2), Y: vg.Length(s.high - y2)})
	s.SetColor(c)
	s.SetLineWidth(vg.Length(thick))
	s.SetLineDash(dash, 0)
	s.Stroke(p)
	s.SetLineDash(nil, 0)
}

// draw makes a canvas of a size in points, has it drawn on, and writes it.
func draw(w io.Writer, form Form, p Palette, wide, high float64, on func(canvas)) error {
	switch form {
	case PNG:
		c := vgimg.PngCanvas{
			Canvas: vgimg.NewWith(vgimg.UseWH(vg.Length(wide), vg.Length(high)), vgimg.UseDPI(144),
				vgimg.UseBackgroundColor(p.paper)),
		}
		on(canvas{c, p, wide, high})
		_, err := c.WriteTo(w)
		return err
	case SVG:
		c := vgsvg.NewWith(vgsvg.UseWH(vg.Length(wide), vg.Length(high)), vgsvg.EmbedFonts(false))
		s := canvas{c, p, wide, high}
		s.box(0, 0, wide, high, s.paper)
		on(s)
		var page bytes.Buffer
		if _, err := c.WriteTo(&page); err != nil {
			return err
		}
		// Who looks at it may not have our font.
		_, err := w.Write(bytes.ReplaceAll(page.Bytes(), []byte("font-family:"+typeface+";"),
			[]byte("font-family:"+typeface+",Helvetica,Arial,sans-serif;")))
		return err
	}
	return fmt.Errorf("no picture can be written as %q; png and svg can", form)
}

// The measures of timelines, in points.
const (
	timelineWide  = 960.0
	timelineLeft  = 250.0
	timelineRight = 40.0
	timelineTop   = 74.0
	rowHigh       = 15.0
	groupHigh     = 24.0
	busyHigh      = 92.0 // with the axis below it
)

func (t Timeline) high() float64 {
	high := busyHigh
	for _, g := range t.Groups {
		high += groupHigh + rowHigh*float64(len(g.Rows))
	}
	return high
}

// WritePicture draws a timeline as a picture, with a title and a line below it.
func (t Timeline) WritePicture(w io.Writer, form Form, title, subtitle string) error {
	return draw(w, form, Light, timelineWide, timelineTop+t.high()+48, func(s canvas) {
		s.text(24, 30, 15, s.ink, bold, title)
		s.text(24, 48, 10, s.faint, regular, subtitle)
		t.draw(s, timelineTop)
		legend(s, 24, timelineTop+t.high()+24)
	})
}

// WriteTimelines draws timelines one above the other, on the same axis, each
// with a title.
func WriteTimelines(w io.Writer, form Form, p Palette, titles []string, all []Timeline) error {
	const above = 52.0
	high, end := 40.0, time.Duration(0)
	for _, t := range all {
		high += above + t.high()
		end = max(end, t.End)
	}
	return draw(w, form, p, timelineWide, high, func(s canvas) {
		y := 0.0
		for i, t := range all {
			t.End = end
			s.text(24, y+22, 12, s.ink, bold, titles[i])
			t.draw(s, y+above)
			y += above + t.high()
		}
		legend(s, 24, y+20)
	})
}

// draw puts a timeline below a top.
func (t Timeline) draw(s canvas, top float64) {
	left, right := timelineLeft, timelineWide-timelineRight
	at := func(d time.Duration) float64 {
		return left + (right-left)*math.Min(1, math.Max(0, float64(d)/float64(max(1, t.End))))
	}
	y := top
	bottom := top + t.high() - busyHigh
	for d := time.Duration(0); d <= t.End; d += tick(t.End) {
		s.line(at(d), top, at(d), bottom+54, 0.5, s.hair)
		label := axisLabel(d)
		s.text(at(d)-s.width(8, regular, label)/2, bottom+66, 8, s.faint, regular, label)
	}
	for _, g := range t.Groups {
		y += groupHigh - 6
		s.text(24, y, 10, s.ink, bold, s.shorten(10, right-24, g.Title))
		y += 6
		for _, row := range g.Rows {
			t.drawRow(s, row, at, left, y, rowHigh)
			y += rowHigh
		}
	}
	t.drawBusy(s, at, left, y+14, 40)
	for i, m := range t.Marks {
		s.line(at(m.At), top-4, at(m.At), bottom+54, 1.2, s.ink, 4, 2)
		label := fmt.Sprintf("%s %s", m.Name, Seconds(m.At))
		x := math.Min(at(m.At)+4, right-s.width(9, bold, label))
		s.text(x, top-8-float64(i%2)*10, 9, s.ink, bold, label)
	}
}

func (t Timeline) drawRow(
	s canvas,
	row timeline.Row,
	at func(time.Duration) float64,
	left, y, high float64,
) {
	c := s.ink
	if row.Failed {
		c = s.warning
	}
	w := regular
	if row.Path {
		w = bold
	}
	indent := 32 + 12*math.Min(6, float64(row.Depth))
	s.text(indent, y+high-5, 9, c, w, s.shorten(9, left-indent-10, row.Label))
	if row.Held < row.Begin {
		s.line(at(row.Held), y+high/2, at(row.Begin), y+high/2, 0.8, s.faint, 1, 2.5)
	}
	bar, h := y+3, high-6
	if len(row.Work) == 0 {
		s.box(at(row.Begin), bar, math.Max(1.5, at(row.End)-at(row.Begin)), h, s.unknown)
		return
	}
	s.box(at(row.Begin), bar, math.Max(1.5, at(row.End)-at(row.Begin)), h, s.waiting)
	step := max(t.End/400, time.Millisecond)
	for from := row.Begin; from < t.End; from += step {
		used := share(row.Work, from, from+step)
		switch {
		case used < 0.05:
		case from < row.End:
			grown := h * math.Min(1, used)
			s.box(at(from), bar+h-grown, at(min(row.End, from+step))-at(from), grown, s.working)
		default:
			grown := h * math.Min(1, used)
			s.box(at(from), bar+h-grown, at(from+step)-at(from), grown, s.behind)
		}
	}
}

// drawBusy draws what the whole machine used of all its processors.
func (t Timeline) drawBusy(s canvas, at func(time.Duration) float64, left, y, high float64) {
	label := "use of all processors"
	if len(t.Busy) == 0 {
		label += ": not measured"
	}
	s.text(24, y+high/2+3, 9, s.ink, regular, label)
	s.line(at(0), y+high, at(t.End), y+high, 0.6, s.faint)
	if len(t.Busy) == 0 {
		return
	}
	step := max(t.End/300, time.Millisecond)
	for from := t.Busy[0].At; from < t.End; from += step {
		part := math.Min(1, share(t.Busy, from, from+step)/float64(max(1, t.Processors)))
		s.box(at(from), y+high*(1-part), at(from+step)-at(from), high*part, s.faint)
	}
}

func legend(s canvas, x, y float64) {
	const other = 1.12 // who looks at it may have a wider font than ours
	for _, e := range []struct {
		c    color.Color
		text string
	}{{s.working, "works"}, {s.waiting, "started, waits"}, {s.behind, "works on in the " +
		"background"}, {s.unknown, "not measured which"}} {
		s.box(x, y-8, 14, 9, e.c)
		s.text(x+19, y, 9, s.ink, regular, e.text)
		x += 40 + other*s.width(9, regular, e.text)
	}
	s.line(x, y-4, x+16, y-4, 0.8, s.faint, 1, 2.5)
	s.text(x+21, y, 9, s.ink, regular, "waits to be started")
	x += 42 + other*s.width(9, regular, "waits to be started")
	s.text(x, y, 9, s.ink, bold, "bold")
	s.text(x+other*s.width(9, bold, "bold "), y, 9, s.ink, regular, ": ready waited for it")
}

// tick is the distance of the lines of an axis: 1, 2 or 5 of some unit, about
// eight lines.
func tick(end time.Duration) time.Duration {
	unit := time.Millisecond
	for {
		for _, n := range []time.Duration{1, 2, 5} {
			if end/(n*unit) <= 9 {
				return n * unit
			}
		}
		unit *= 10
	}
}

func axisLabel(d time.Duration) string {
	return strings.TrimSuffix(fmt.Sprintf("%.1f", d.Seconds()), ".0") + " s"
}
