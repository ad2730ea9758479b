package say

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/demo"
	"calmdawn/internal/document"
	"calmdawn/internal/visit"
)

// TestFilesSayWhatDocumentsSay holds each column of a file of comma-separated
// values against the field of the JSON document that it is another form of.
func TestFilesSayWhatDocumentsSay(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir()) // whoever tests has notes of their own
	dir := t.TempDir()
	if err := demo.Make(dir, at); err != nil {
		t.Fatal(err)
	}
	l, err := visit.Site{Dir: dir, Now: func() time.Time { return at }}.Look()
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := l.ReadBoots(); err != nil {
		t.Fatal(err)
	}
	l.Rate(l.Items)
	facts := func(it item.Item) document.Facts {
		f := document.Facts{Cost: l.Cost(it)}
		f.Own, _ = l.OwnTime(it)
		return f
	}
	agree(t, ItemsCSV(l, l.Items),
		document.NewList(l.Survey, l.Items, 0, nil, facts).Items, map[string]string{
			"wait (s)":           "cost.wait.seconds",
			"processor time (s)": "cost.cpu.seconds",
			"own time (s)":       "own_time.median",
			"grade":              "cost.grade",
			"disk read (bytes)":  "cost.disk_read.bytes",
			"memory (bytes)":     "cost.memory.bytes",
			"after login (s)":    "cost.after_login.seconds",
			"work of":            "work_of",
		}, "note", "switched off", "work of", "processors now", "memory now (bytes)")
	phases := map[string]string{}
	for _, name := range []string{"firmware", "loader", "kernel", "initrd", "userspace"} {
		phases[name+" (s)"] = "phases." + name
	}
	of := map[string]string{
		"usable (s)":             "usable.value",
		"kind":                   "usable.kind",
		"login after ready (s)":  "usable.waited",
		"ready (s)":              "ready",
		"settled from ready (s)": "settled.from_ready",
		"settled from login (s)": "settled.from_login",
	}
	maps.Copy(of, phases)
	boots := document.NewBoots(l.Boots, nil, true).Boots
	agree(t, BootsCSV(l.Boots), boots, of, "odd")
	agree(t, SpansCSV(l.Boots[0].Spans), boots[0].Spans, map[string]string{
		"begin (s)": "begin", "end (s)": "end", "processor time (s)": "cpu",
		"disk read (bytes)": "disk_read",
	}, "owner", "disk read (bytes)")
}

// agree holds rows against documents; paths says where a column stands in one,
// if not under its own head. Of the demo machine some columns are empty.
func agree[T any](
	t *testing.T,
	rows [][]string,
	documents []T,
	paths map[string]string,
	empty ...string,
) {
	t.Helper()
	if len(rows) != len(documents)+1 || len(documents) == 0 {
		t.Fatalf("%d rows of %d documents", len(rows), len(documents))
	}
	filled := map[string]bool{}
	for n, d := range documents {
		raw, err := json.Marshal(d)
		if err != nil {
			t.Fatal(err)
		}
		var whole any
		if err := json.Unmarshal(raw, &whole); err != nil {
			t.Fatal(err)
		}
		for i, head := range rows[0] {
			path := head
			if other, ok := paths[head]; ok {
				path = other
			}
			value := whole
			for part := range strings.SplitSeq(path, ".") {
				fields, _ := value.(map[string]any)
				value = fields[part]
			}
			got := strings.TrimPrefix(rows[n+1][i], "'")
			if want, ok := value.(float64); ok {
				number, err := strconv.ParseFloat(got, 64)
				if err != nil || number-want > 0.001 || want-number > 0.001 {
					t.Errorf("row %d, %s: %q, and the document has %v", n, head, got, want)
				}
			} else if want := asText(value); got != want && (value != nil || got != "false") {
				t.Errorf("row %d, %s: %q, and the document has %q", n, head, got, want)
			}
			filled[head] = filled[head] || got != ""
		}
	}
	for _, head := range rows[0] {
		if filled[head] == slices.Contains(empty, head) {
			t.Errorf("%s is filled: %v", head, filled[head])
		}
	}
}

func asText(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case []any:
		var parts []string
		for _, part := range v {
			parts = append(parts, asText(part))
		}
		return strings.Join(parts, "; ")
	}
	return fmt.Sprint(value)
}

// TestSpreadsheetsRunNothing guards cells at every place at which one may
// begin.
func TestSpreadsheetsRunNothing(t *testing.T) {
	for text, want := range map[string]string{
		"":                 "",
		"plain text":       "plain text",
		"=1+1":             "'=1+1",
		"-x":               "'-x",
		" @SUM(A1)":        " '@SUM(A1)",
		"x;=1+1;y":         "x;'=1+1;y",
		"x; +1|-2":         "x; '+1|'-2",
		"＝1+1":             "'＝1+1",
		"a;＠b":             "a;'＠b",
		"/bin/x --a=b -c":  "/bin/x --a=b -c",
		"A=1 b-c@d, e = f": "A=1 b-c@d, e = f",
	} {
		if got := unrunnable(text); got != want {
			t.Errorf("%q: %q; want %q", text, got, want)
		}
	}
}
