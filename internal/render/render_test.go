package render

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/waits"
)

const sec = time.Second

func TestFigures(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Duration(-800 * time.Millisecond), "0.8 s"},
		{Duration(59*sec + 949*time.Millisecond), "59.9 s"},
		{Duration(59*sec + 960*time.Millisecond), "1 min 0 s"},
		{Duration(108 * sec), "1 min 48 s"},
		{Duration(time.Hour - 400*time.Millisecond), "1 h 0 min"},
		{Duration(125 * time.Minute), "2 h 5 min"},
		{Seconds(61 * sec), "61.0 s"},
		{Millis(400 * time.Microsecond), "0.4 ms"},
		{Millis(250 * time.Millisecond), "250 ms"},
		{Millis(90 * sec), "1 min 30 s"},
		{Bytes(999), "999 B"},
		{Bytes(320_000_000), "320 MB"},
		{Bytes(4_100_000), "4.1 MB"},
		{Bytes(4_100_000_000), "4.1 GB"},
	} {
		if c.got != c.want {
			t.Errorf("%q; want %q", c.got, c.want)
		}
	}
}

func TestWhatAMachineSaysIsCleaned(t *testing.T) {
	for text, want := range map[string]string{
		"plain":                   "plain",
		"a\x1b[31mred":            "a?[31mred",
		"two\nlines\tapart":       "two lines apart",
		"right\u202eleft":         "right?left",
		"none\u200bseen":          "none?seen",
		"bad\xffbyte":             "bad?byte",
		"\u0085next":              "?next",
		strings.Repeat("x", 3000): strings.Repeat("x", 2000) + "…",
	} {
		if got := Clean(text); got != want {
			t.Errorf("%.40q is shown as %.40q", text, got)
		}
	}
}

// screen is one of a width, without colour; what it shows comes back.
func screen(width int, utf8 bool, show func(*Screen)) string {
	var b strings.Builder
	const colour = false
	show(NewScreen(&b, width, colour, utf8))
	return b.String()
}

func TestATableFitsItsScreen(t *testing.T) {
	columns := []Column{
		{Title: "TITLE", Flex: 6},
		{Title: "SECOND", Right: true, Keep: 2},
		{Title: "FIRST", Keep: 1},
		{Title: "ID"},
	}
	rows := [][]Cell{
		{C("a long title of an item"), C("1"), C("goes"), C("service:x.service")},
		{C("short"), C("22"), C("goes too"), C("service:y.service")},
	}
	for width, want := range map[int]string{
		0: "TITLE                    SECOND  FIRST     ID\n" +
			"a long title of an item       1  goes      service:x.service\n" +
			"short                        22  goes too  service:y.service\n",
		52: "TITLE            SECOND  FIRST     ID\n" +
			"a long title o…       1  goes      service:x.service\n" +
			"short                22  goes too  service:y.service\n",
		42: "TITLE            SECOND  ID\n" +
			"a long title o…       1  service:x.service\n" +
			"short                22  service:y.service\n",
		30: "TITLE        ID\n" +
			"a long tit…  service:x.service\n" +
			"short        service:y.service\n",
		10: "TITLE   ID\n" +
			"a lon…  service:x.service\n" +
			"short   service:y.service\n", // an id is never cut
	} {
		got := screen(width, true, func(s *Screen) { s.Table(columns, rows) })
		if got != want {
			t.Errorf("at %d columns:\n%s\nwant\n%s", width, got, want)
		}
	}
}

func TestTextIsFolded(t *testing.T) {
	say := func(s *Screen) { s.Wrap(2, "one two three four five %s", "six") }
	if got := screen(16, true, say); got != "one two three\n  four five six\n" {
		t.Errorf("%q", got)
	}
	if got := screen(0, true, say); got != "one two three four five six\n" {
		t.Errorf("a pipe got %q", got)
	}
	ascii := screen(0, false, func(s *Screen) { s.Line("a → b … é ±") })
	if ascii != "a -> b ... ? +/-\n" {
		t.Errorf("where the locale has no more: %q", ascii)
	}
}

// example is a boot of ten seconds, with a name that would be a script.
func example() Waits {
	return Waits{
		Name:       "usable",
		End:        10 * sec,
		Processors: 1,
		LeftOut:    3 * sec,
		Busy: []boot.Use{
			{At: 0},
			{At: 5 * sec, CPU: 5 * sec},
			{At: 10 * sec, CPU: 5 * sec},
		},
		Marks: []waits.Mark{{Name: "ready", At: 8 * sec}, {Name: "login", At: 8 * sec},
			{Name: "usable", At: 10 * sec}},
		Stretches: []waits.Stretch{
			{Label: "kernel", To: 2 * sec},
			{Label: "<script>alert(1)</script>", From: 2 * sec, To: 8 * sec, Failed: true, More: 3,
				Beside: []waits.Beside{
					{Label: "a & b", CPU: boot.Of(sec, boot.Recorder)}, {Label: "c"}}},
			{Label: "the login of maria", From: 8 * sec, To: 10 * sec},
		},
	}
}

func TestPicturesCanBeRead(t *testing.T) {
	for _, form := range []Form{PNG, SVG} {
		var b bytes.Buffer
		if err := example().WritePicture(&b, form, "a <title>", "below"); err != nil {
			t.Fatal(err)
		}
		if form == PNG {
			if _, err := png.Decode(&b); err != nil {
				t.Error(err)
			}
			continue
		}
		d := xml.NewDecoder(&b)
		for {
			token, err := d.Token()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			if e, ok := token.(xml.StartElement); ok && e.Name.Local == "script" {
				t.Error("a name became a script")
			}
		}
	}
}

// TestAReportEscapesWhatItIsTold puts hostile words into every place.
func TestAReportEscapesWhatItIsTold(t *testing.T) {
	const evil = `<img src=x onerror=alert(1)> | "q" & 'x' [a](javascript:b)`
	picture, err := NewPicture(evil, func(w io.Writer, f Format) error {
		return WriteWaits(w, f, []string{evil}, []Waits{example()})
	})
	if err != nil {
		t.Fatal(err)
	}
	r := Report{
		Title:   evil,
		About:   evil,
		Answer:  evil,
		Remarks: []string{evil},
		Sections: []Section{{
			Title:    evil,
			Text:     evil,
			Pictures: []*Picture{picture},
			Table: &Sheet{
				Heads: []string{evil, "N"},
				Right: []bool{false, true},
				Rows: [][]Entry{{
					{Text: evil, Below: evil},
					{Text: evil, Command: true},
				}},
			},
		}},
	}
	var page, ticket strings.Builder
	if err := r.WriteHTML(&page); err != nil {
		t.Fatal(err)
	}
	if err := r.WriteMarkdown(&ticket); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(page.String(), "<img src=x") || strings.Contains(page.String(), `"q"`) {
		t.Error("a word became a part of the page")
	}
	if n := strings.Count(page.String(), "&lt;img src=x"); n < 8 {
		t.Errorf("it is shown in %d places only", n)
	}
	for line := range strings.Lines(ticket.String()) {
		cells := strings.Count(strings.ReplaceAll(line, `\|`, ""), "|")
		if strings.HasPrefix(line, "|") && cells != 3 {
			t.Errorf("a word became a cell of its own: %s", line)
		}
		if strings.Contains(line, "<img") && !strings.Contains(line, "`") {
			t.Errorf("a word became a part of the text: %s", line)
		}
	}
}

// TestTicketsLinkNothing: a page that shows Markdown makes links of addresses,
// and calls users by their names.
func TestTicketsLinkNothing(t *testing.T) {
	r := Report{Title: "see https://example.org/x, www.example.org, @maria or maria@example.org"}
	var ticket strings.Builder
	if err := r.WriteMarkdown(&ticket); err != nil {
		t.Fatal(err)
	}
	text := ticket.String()
	for _, part := range []string{"https://", "www.e", "@m", "@e"} {
		if strings.Contains(text, part) {
			t.Errorf("%q stands there whole:\n%s", part, text)
		}
	}
	if strings.ReplaceAll(text, "<!-- -->", "") == text {
		t.Errorf("nothing was broken:\n%s", text)
	}
}
