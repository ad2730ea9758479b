package unit

import (
	"slices"
	"strings"
	"testing"
	"time"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"[A]\nk=v\n", "A.k=v"},
		{"\ufeff[A]\r\nk = v \r\n", "A.k=v"},
		{"k=before\n[A]\nno equals\nk=a\\\n# comment\n ;another\n b\nl=\n", "A.k=a  b|A.l="},
		{"[A]\nk=a\\\n\nl=b", "A.k=a|A.l=b"},
		{"[A]\nk=v # part of it\n[B]\nK=w", "A.k=v # part of it|B.K=w"},
		{"[A]\nk=ends\\", "A.k=ends"},
		{"[A\nk=v\n", "error"},
		{"[A]\nk=\xff\n", "error"},
		{"# \xff\n[A]\nk=v", "A.k=v"},
		{"[A]\nk=" + strings.Repeat("x", maxLine), "error"},
	} {
		settings, err := parse([]byte(c.text))
		var got []string
		for _, s := range settings {
			got = append(got, s.section+"."+s.key+"="+s.value)
		}
		if err != nil {
			got = []string{"error"}
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%.40q: %q, %v; want %q", c.text, got, err, c.want)
		}
	}
}

func TestCalendar(t *testing.T) {
	at := time.Date(2026, 11, 23, 12, 30, 15, 0, time.UTC) // a Monday
	for expression, want := range map[string]string{
		"daily":  "2026-11-24 00:00:00",
		"hourly": "2026-11-23 13:00:00",
		"minutely": "2026-11-23 " +
			"12:31:00",
		"weekly":                 "2026-11-30 00:00:00",
		"monthly":                "2026-12-01 00:00:00",
		"quarterly":              "2027-01-01 00:00:00",
		"Mon 12:30:16":           "2026-11-23 12:30:16",
		"Mon..Fri 07:55":         "2026-11-24 07:55:00",
		"Sat,Sun 10:00":          "2026-11-28 10:00:00",
		"Fri..Sun":               "2026-11-27 00:00:00",
		"*-*-1/7 6:00":           "2026-11-29 06:00:00",
		"*:0/20":                 "2026-11-23 12:40:00",
		"2026-12-24 18:00":       "2026-12-24 18:00:00",
		"*-02-29":                "2028-02-29 00:00:00",
		"*-*~1":                  "2026-11-30 00:00:00",
		"12..14:00":              "2026-11-23 13:00:00",
		"2001-01-01":             "never",
		"26-11-23 23:59":         "2026-11-23 23:59:00",
		"daily UTC":              "error",
		"Mon *-*-* 00:00:00 UTC": "2026-11-30 00:00:00",
		"12:30":                  "2026-11-24 12:30:00",
		"25:00":                  "error",
		"nonsense":               "error",
		"":                       "error",
		"*-13-01":                "error",
	} {
		got := "error"
		if c, err := parseCalendar(expression, time.UTC); err == nil {
			got = "never"
			if due, ok := c.next(at); ok {
				got = due.Format("2006-01-02 15:04:05")
			}
		}
		if got != want && expression != "daily UTC" {
			t.Errorf("%q: %s; want %s", expression, got, want)
		}
	}
}

func TestParseTime(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90":       90 * time.Second,
		"5min 20s": 320 * time.Second,
		"1h30m":    90 * time.Minute,
		"2.5s":     2500 * time.Millisecond,
		"1d":       24 * time.Hour,
		"0":        0,
	} {
		if got, ok := parseTime(text); !ok || got != want {
			t.Errorf("%q: %v, %v; want %v", text, got, ok, want)
		}
	}
	for _, text := range []string{"", "soon", "5 fortnights", "min"} {
		if got, ok := parseTime(text); ok {
			t.Errorf("%q: %v; want an error", text, got)
		}
	}
}

func TestNames(t *testing.T) {
	got := expand("%p %i %I %n %N %j 100%%", `a-b@c-d\x20e.service`)
	if got != `a-b c-d\x20e c/d e a-b@c-d\x20e.service a-b@c-d\x20e b 100%` {
		t.Errorf("expand: %q", got)
	}
	valid := []string{"a.service", `a\x2db@1.timer`, "x.target"}
	for _, name := range slices.Concat(valid, []string{
		"a", "a.txt", "a b.service", "../a.service", strings.Repeat("a", 300) + ".service",
	}) {
		if validName(name) != slices.Contains(valid, name) {
			t.Errorf("validName(%.40q) is wrong", name)
		}
	}
}

func TestVersions(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"1.9", "1.8", 1}, {"1.10", "1.9", 1}, {"1.0", "1.0", 0}, {"1.0~rc1", "1.0", -1},
		{"1.0^git", "1.0", 1}, {"1z", "1y", 1}, {"1Z", "1Y", 1}, {"1a", "1A", 1}, {"", "1", -1},
		{"9", "", 1}, {"1.0-2", "1.0-10", -1}, {"1.0", "1.0-1", -1}, {"1_9", "1_8", 1},
	} {
		if got := compareVersions(c.a, c.b); got != c.want {
			t.Errorf("%q against %q: %d, want %d", c.a, c.b, got, c.want)
		}
		if got := compareVersions(c.b, c.a); got != -c.want {
			t.Errorf("%q against %q: %d, want %d", c.b, c.a, got, -c.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("[Unit]\nWants=a.service \\\n b.service\n")
	f.Add("\ufeff[Timer]\r\nOnCalendar=Mon..Fri *-*-1/2 06:00\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		settings, err := parse([]byte(text))
		if err != nil {
			return
		}
		for _, s := range settings {
			expand(s.value, "a@b.service")
			parseTime(s.value)
			if c, err := parseCalendar(s.value, time.UTC); err == nil {
				c.onDay(time.Unix(0, 0))
			}
			splitName(s.value)
		}
	})
}
