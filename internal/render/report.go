package render

import (
	"bytes"
	_ "embed"
	"encoding/base64"
	"html"
	"io"
	"regexp"
	"strings"
)

// A Report is a page for the customer, or a text for a ticket: an answer, and
// sections in the order of reading. Every text is plain; what a machine says
// may stand in it.
type Report struct {
	Title    string
	About    string // below the title: which machine, when, by whom
	Answer   string
	Remarks  []string // right below the answer
	Sections []Section
}

// A Section has a text, a list, pictures, a table, or several of them.
type Section struct {
	Title    string
	Part     bool // it opens a part of the page, of all sections until the next one
	Text     string
	List     []string
	Pictures []*Picture
	Table    *Sheet
}

// A Sheet is a table of a report.
type Sheet struct {
	Heads []string
	Right []bool // columns of figures, which stand at the right
	Rows  [][]Entry
	// Stacked is whether a narrow page shows each row as a list of its cells,
	// since they hold sentences.
	Stacked bool
}

// An Entry is one cell: a text, or a command to type.
type Entry struct {
	Text    string
	Below   string // what stands small below it
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

// A Picture stands in a report in two palettes, so that it suits dark screens
// and paper.
type Picture struct {
	Alt                     string // what it shows, for those who cannot see it
	light, dark             []byte
	narrowLight, narrowDark []byte
}

// NewPicture has a picture drawn in both palettes, for a page and for a
// telephone.
func NewPicture(alt string, draw func(io.Writer, Format) error) (*Picture, error) {
	p := &Picture{Alt: alt}
	for _, side := range []struct {
		to *[]byte
		Format
	}{
		{&p.light, Format{SVG, Light, false}},
		{&p.dark, Format{SVG, Dark, false}},
		{&p.narrowLight, Format{SVG, Light, true}},
		{&p.narrowDark, Format{SVG, Dark, true}},
	} {
		var b bytes.Buffer
		if err := draw(&b, side.Format); err != nil {
			return nil, err
		}
		*side.to = b.Bytes()
	}
	return p, nil
}

func (p *Picture) html(page *pageWriter) {
	for _, side := range []struct {
		class         string
		broad, narrow []byte
		alt           string
	}{{"light", p.light, p.narrowLight, p.Alt}, {"dark", p.dark, p.narrowDark, ""}} {
		page.WriteString(`<picture class="` + side.class + `"><source media="(max-width: 40rem)" ` +
			`srcset="` + inline(side.narrow) + `">`)
		page.tag(`<img src="`+inline(side.broad)+`" alt="`, side.alt, "\"></picture>\n")
	}
}

// inline is a picture as an address that holds it whole. It is shown as an
// image, in which no script would run.
func inline(svg []byte) string {
	return "data:image/svg+xml;base64," + base64.StdEncoding.EncodeToString(svg)
}

//go:embed report.css
var reportStyle string

// A pageWriter writes a page: every text that it is given is escaped, in
// elements and in attributes. Templates would do the same, and would make the
// whole program, which the recorder is too, a fifth larger.
type pageWriter struct{ strings.Builder }

func (p *pageWriter) tag(open, text, end string) {
	p.WriteString(open + html.EscapeString(Clean(text)) + end)
}

// WriteHTML writes the report as one page that needs nothing besides itself.
func (r Report) WriteHTML(w io.Writer) error {
	var p pageWriter
	p.WriteString(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy"
 content="default-src 'none'; style-src 'unsafe-inline'; img-src data:">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="color-scheme" content="light dark">
`)
	p.tag("<title>", r.Title, "</title>\n")
	p.WriteString("<style>\n" + reportStyle + "</style>\n</head>\n<body>\n<header>\n")
	p.tag("<h1>", r.Title, "</h1>\n")
	p.tag(`<p class="about">`, r.About, "</p>\n</header>\n<main>\n")
	p.tag(`<p class="answer">`, r.Answer, "</p>\n")
	for _, remark := range r.Remarks {
		p.tag("<p>", remark, "</p>\n")
	}
	for _, s := range r.Sections {
		open := "<section>\n<h2>"
		if s.Part {
			open = `<section class="part">` + "\n<h2>"
		}
		p.tag(open, s.Title, "</h2>\n")
		if s.Text != "" {
			p.tag("<p>", s.Text, "</p>\n")
		}
		if len(s.List) > 0 {
			p.WriteString("<ul>\n")
			for _, text := range s.List {
				p.tag("<li>", text, "</li>\n")
			}
			p.WriteString("</ul>\n")
		}
		for _, picture := range s.Pictures {
			picture.html(&p)
		}
		if s.Table != nil {
			s.Table.html(&p)
		}
		p.WriteString("</section>\n")
	}
	p.WriteString("</main>\n<footer>Written by Calm Dawn. The page holds all that it shows and " +
		"fetches nothing.</footer>\n</body>\n</html>\n")
	_, err := io.WriteString(w, p.String())
	return err
}

func (s *Sheet) html(p *pageWriter) {
	class := func(i int) string {
		if i < len(s.Right) && s.Right[i] {
			return ` class="figure"`
		}
		return ""
	}
	stacked := ""
	if s.Stacked {
		stacked = ` class="stacked"`
	}
	p.WriteString("<table" + stacked + ">\n<thead><tr>")
	for i, head := range s.Heads {
		p.tag("<th"+class(i)+">", head, "</th>")
	}
	p.WriteString("</tr></thead>\n<tbody>\n")
	for _, row := range s.Rows {
		p.WriteString("<tr>")
		for i, e := range row {
			open, end := "", ""
			switch {
			case e.Command:
				open, end = "<code>", "</code>"
			case e.Strong:
				open, end = "<strong>", "</strong>"
			}
			p.tag("<td"+class(i)+` data-head="`, s.Heads[i], `">`)
			p.tag(open, e.Text, end)
			if e.Below != "" {
				p.tag("<small>", e.Below, "</small>")
			}
			p.WriteString("</td>")
		}
		p.WriteString("</tr>\n")
	}
	p.WriteString("</tbody>\n</table>\n")
}

// marks are what has a meaning in Markdown, and what pages it is shown on may
// take for their own.
var marks = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "|", `\|`, "<",
	"&lt;", ">", "&gt;", "[", `\[`, "]", `\]`, "#", `\#`, "~", `\~`, "&", "&amp;", "\n", " ")

func markdown(text string) string {
	return links.ReplaceAllString(marks.Replace(Clean(text)), "$1<!-- -->$2")
}

// links are what pages make links of without being asked: addresses, and names
// of their users. A comment within breaks them, and is not copied along.
var links = regexp.MustCompile(`(?i)(https?:|ftp:|mailto:|www\.|@)([^\s<])`)

// WriteMarkdown writes the report as text with tables; it has no pictures.
func (r Report) WriteMarkdown(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# " + markdown(r.Title) + "\n\n" + markdown(r.About) + "\n\n**" +
		markdown(r.Answer) + "**\n")
	for _, remark := range r.Remarks {
		b.WriteString("\n" + markdown(remark) + "\n")
	}
	for _, s := range r.Sections {
		if s.Text == "" && s.Table == nil && len(s.List) == 0 {
			continue
		}
		if s.Part {
			b.WriteString("\n---\n")
		}
		b.WriteString("\n## " + markdown(s.Title) + "\n")
		if s.Text != "" {
			b.WriteString("\n" + markdown(s.Text) + "\n")
		}
		for i, text := range s.List {
			if i == 0 {
				b.WriteString("\n")
			}
			b.WriteString("- " + markdown(text) + "\n")
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
				text = "`" +
					strings.NewReplacer("`", "'", "|", `\|`, "\n", " ").Replace(Clean(e.Text)) + "`"
			case e.Strong && text != "":
				text = "**" + text + "**"
			}
			if e.Below != "" {
				text += " (" + markdown(e.Below) + ")"
			}
			b.WriteString(" " + text + " |")
		}
	}
	b.WriteString("\n")
}
