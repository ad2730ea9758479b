package proposal

import (
	"strings"
	"testing"
	"time"
)

func TestWriteAndParse(t *testing.T) {
	p := Proposal{
		Machine: "meri'dian\x1b[31m\n",
		Made:    time.Date(2026, 11, 23, 15, 0, 0, 0, time.UTC),
		Decide: []Decision{
			{ID: "service:a.service", Do: Disable, Title: "A", Why: "since"},
			{ID: `task:/etc/cron.d/x#1"'`, Do: Delay, By: "5m", Note: "a\nnote"},
			{ID: "c", Do: Keep},
		},
	}
	text, err := Write(p)
	if err != nil {
		t.Fatal(err)
	}
	got, err := Parse(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if got.Machine != p.Machine || !got.Made.Equal(p.Made) || len(got.Decide) != 3 ||
		got.Decide[1].ID != p.Decide[1].ID || got.Decide[1].Note != "a\nnote" {
		t.Errorf("%+v", got)
	}
	if by, err := got.Decide[1].Later(); by != 5*time.Minute || err != nil {
		t.Error(by, err)
	}
}

// TestWhatIsWrongIsSaid edits a proposal as hands do, and damages it.
func TestWhatIsWrongIsSaid(t *testing.T) {
	const head = "format = 'calmdawn.proposal/1'\nmachine = 'm'\nmade = 2026-11-23T15:00:00Z\n"
	for text, want := range map[string]string{
		"": "the line format",
		"format = 'calmdawn.proposal/2'\nnew = 1\n": "use the one that wrote it",
		"format = 'other/1'\n":                      "it is not a proposal",
		head + "[[decide]]\nid = 'a'\ndo = 'dissable'\n": "entry 1, a: do is " +
			"\"dissable\"",
		head + "[[decide]]\nid = 'a'\ndo = 'keep'\nwhy = 'x'\n": "line 7: there is " +
			"nothing called \"decide.why\"",
		head + "[[decide]]\ndo = 'keep'\n":                              "names no item",
		head + "[[decide]]\nid = 'a'\ndo = 'delay'\nby = 'soon'\n":      "by is \"soon\"",
		head + "[[decide]]\nid = 'a'\ndo = 'disable'\nby = '1m'\n":      "by is \"1m\"",
		head + "[[decide]]\nid = 'a'\ndo = disable\n":                   "line 6, column",
		head + strings.Repeat("[[decide]]\nid = 'a'\ndo = 'keep'\n", 2): "decided twice",
		head + "[[decide]]\nid = 'a\ndo = 'keep'\n":                     "line 5",
		"\x00\x01\x02": "line 1",
		head + "# " + strings.Repeat("x", MaxSize): "larger than",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.80q: %v; want %q", text, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	text, _ := Write(Proposal{Machine: "m", Decide: []Decision{{ID: "a", Do: Delay, By: "5m"}}})
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Write(p)
		if err != nil {
			t.Fatal(err)
		}
		if q, err := Parse(again); err != nil || len(q.Decide) != len(p.Decide) {
			t.Fatalf("%v\n%s", err, again)
		}
	})
}
