package render

import (
	"bytes"
	_ "embed"
	"encoding/base64"
	"html/template"
	"io"
	"strings"
)

// A Report is a page for the customer, or a text for a ticket: an answer, and sections in the order of reading. Every text is plain; what a
// machine says may stand in it.
type Report struct {
	Title    string
	About    string // below the title: which machine, when, by whom
	Answer   string
	Remarks  []string // right below the answer
	Sections []Section
}

// A Section has a text, a picture, a table, or several of them.
type Section struct {
	Title   string
	Text    string
	Picture *Picture
	Table   *Sheet
}

// A Sheet is a table of a report.
type Sheet struct {
	Heads []string
	Right []bool // columns of figures, which stand at the right
	Rows  [][]Entry
}

// An Entry is one cell: a text, or a command to type.
type Entry struct {
	Text    string
	Command bool
	Strong  bool
}

// Texts makes entries of texts.
func Texts(texts ...string) []Entry {
	var all []Entry
	for _, t := range texts {
		all = append(all, Entry{Text: t})
	}
	return all
}

// A Picture stands in a report in two palettes, so that it suits dark screens and paper.
type Picture struct {
	Alt         string // what it shows, for those who cannot see it
	light, dark []byte
}

// NewPicture has a picture drawn in both palettes.
func NewPicture(alt string, draw func(io.Writer, Form, Palette) error) (*Picture, error) {
	p := &Picture{Alt: alt}
	for _, side := range []struct {
		to      *[]byte
		colours Palette
	}{{&p.light, Light}, {&p.dark, Dark}} {
		var b bytes.Buffer
		if err := draw(&b, SVG, side.colours); err != nil {
			return nil, err
		}
		*side.to = b.Bytes()
	}
	return p, nil
}

// Light and Dark are the picture as an address that holds it whole. It is shown as an image, in which no script would run.
func (p *Picture) Light() template.URL { return inline(p.light) }

// Dark is the picture for dark screens.
func (p *Picture) Dark() template.URL { return inline(p.dark) }

func inline(svg []byte) template.URL {
	return template.URL("data:image/svg+xml;base64," + base64.StdEncoding.EncodeToString(svg))
}

//go:embed report.html
var reportPage string

var page = template.Must(template.New("report").Funcs(template.FuncMap{
	"clean": Clean,
	"right": func(s *Sheet, column int) bool { return column < len(s.Right) && s.Right[column] },
}).Parse(reportPage))

// WriteHTML writes the report as one page that needs nothing besides itself.
func (r Report) WriteHTML(w io.Writer) error { return page.Execute(w, r) }

// marks are what has a meaning in Markdown, and what pages it is shown on may take for their own.
var marks = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "|", `\|`, "<", "&lt;", ">", "&gt;", "[", `\[`, "]", `\]`, "#", `\#`, "~", `\~`, "&", "&amp;", "\n", " ")

func markdown(text string) string { return marks.Replace(Clean(text)) }

// WriteMarkdown writes the report as text with tables; it has no pictures.
func (r Report) WriteMarkdown(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# " + markdown(r.Title) + "\n\n" + markdown(r.About) + "\n\n**" + markdown(r.Answer) + "**\n")
	for _, remark := range r.Remarks {
		b.WriteString("\n" + markdown(remark) + "\n")
	}
	for _, s := range r.Sections {
		if s.Text == "" && s.Table == nil {
			continue
		}
		b.WriteString("\n## " + markdown(s.Title) + "\n")
		if s.Text != "" {
			b.WriteString("\n" + markdown(s.Text) + "\n")
		}
		if s.Table != nil {
			s.Table.markdown(&b)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func (s *Sheet) markdown(b *strings.Builder) {
	b.WriteString("\n|")
	for _, head := range s.Heads {
		b.WriteString(" " + markdown(head) + " |")
	}
	b.WriteString("\n|")
	for i := range s.Heads {
		if i < len(s.Right) && s.Right[i] {
			b.WriteString(" ---: |")
		} else {
			b.WriteString(" --- |")
		}
	}
	for _, row := range s.Rows {
		b.WriteString("\n|")
		for _, e := range row {
			text := markdown(e.Text)
			switch {
			case e.Command:
				text = "`" + strings.NewReplacer("`", "'", "|", `\|`, "\n", " ").Replace(Clean(e.Text)) + "`"
			case e.Strong && text != "":
				text = "**" + text + "**"
			}
			b.WriteString(" " + text + " |")
		}
	}
	b.WriteString("\n")
}
