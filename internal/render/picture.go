package render

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
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

// A Format is how a picture is written and drawn: narrow for a telephone.
type Format struct {
	Form    Form
	Palette Palette
	Narrow  bool
}

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
func (s canvas) shorten(size, wide float64, w weight, text string) string {
	if s.width(size, w, text) <= wide {
		return text
	}
	runes := []rune(text)
	for len(runes) > 1 && s.width(size, w, string(runes)+"…") > wide {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

// fold breaks a text into lines that fit.
func (s canvas) fold(size, wide float64, w weight, text string) (lines []string) {
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && s.width(size, w, line+" "+word) > wide {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimSpace(line + " " + word)
	}
	return append(lines, line)
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
func draw(w io.Writer, f Format, wide, high float64, on func(canvas)) error {
	p := f.Palette
	switch f.Form {
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
	return fmt.Errorf("no picture can be written as %q; png and svg can", f.Form)
}

// tick is the distance of the lines of an axis, of which there are at most as
// many, and one more. It is 1, 2 or 5 of some unit.
func tick(end time.Duration, most int) time.Duration {
	unit := time.Millisecond
	for {
		for _, n := range []time.Duration{1, 2, 5} {
			if end/(n*unit) <= time.Duration(most) {
				return n * unit
			}
		}
		unit *= 10
	}
}

func axisLabel(d time.Duration) string {
	return strings.TrimSuffix(fmt.Sprintf("%.1f", d.Seconds()), ".0") + " s"
}
