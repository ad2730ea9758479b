package item

import "testing"

func TestSafeIDs(t *testing.T) {
	for raw, want := range map[string]string{
		"service:cue-feed.service":    "service:cue-feed.service",
		"task:/etc/cron.d/x#1a2b-2":   "task:/etc/cron.d/x#1a2b-2",
		"program:z$(touch PWN)":       "program:z%24%28touch%20PWN%29",
		"program:100%.desktop@maria":  "program:100%25.desktop@maria",
		`service:dev-disk\x2da.mount`: "service:dev-disk%5Cx2da.mount",
		"program:é\xff":               "program:%C3%A9%FF",
	} {
		got := SafeID(raw)
		if got != want || RawID(got) != raw || SafeID(RawID(got)) != got {
			t.Errorf("%q became %q, and %q again", raw, got, RawID(got))
		}
	}
	for _, none := range []string{
		"program:50%", "program:%zz", "program:%2e", "program:%41 b", "%é",
	} {
		if got := RawID(none); got != none {
			t.Errorf("%q is no id of ours, and became %q", none, got)
		}
	}
}

func FuzzSafeID(f *testing.F) {
	f.Add("program:a b%20")
	f.Fuzz(func(t *testing.T, raw string) {
		if got := RawID(SafeID(raw)); got != raw {
			t.Errorf("%q came back as %q", raw, got)
		}
	})
}

func TestModels(t *testing.T) {
	for _, c := range [][3]string{
		{"Tindle", "Bench 3", "Tindle Bench 3"},
		{"Tindle", "Tindle Bench 3", "Tindle Bench 3"},
		{"System manufacturer", "System Product Name", ""},
		{"Default string", "Bench 3", "Bench 3"},
		{" ", "", ""},
	} {
		if got := Model(c[0], c[1]); got != c[2] {
			t.Errorf("%q and %q make %q", c[0], c[1], got)
		}
	}
}
