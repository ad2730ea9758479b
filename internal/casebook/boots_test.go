package casebook

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

// TestAVastRecordCanBeRead keeps a boot whose programs have courses beyond all
// bounds.
func TestAVastRecordCanBeRead(t *testing.T) {
	b := boot.Boot{ID: strings.Repeat("a", 32), Began: time.Unix(1e9, 0).UTC()}
	course := make([]boot.Use, 600)
	for i := range course {
		course[i] = boot.Use{At: time.Duration(i) * time.Second, CPU: time.Duration(1e9 + i)}
	}
	for i := range 2000 {
		b.Programs = append(b.Programs, boot.Program{
			Name: "a", Words: slices.Repeat([]string{strings.Repeat("x", 250)}, 4),
			CPU: time.Duration(i), Course: course,
		})
	}
	text, err := bounded(b)
	if err != nil || len(text) > maxBoot {
		t.Fatalf("%d bytes, %v", len(text), err)
	}
	var got boot.Boot
	if err := json.Unmarshal(text, &got); err != nil {
		t.Fatal(err)
	}
	kept := 0
	for i, p := range got.Programs {
		if len(p.Course) > 0 {
			kept++
		}
		if p.Name != "a" || i >= 1900 && len(p.Course) == 0 {
			t.Errorf("program %d lost its course", i)
		}
	}
	if kept != 100 || len(got.Notes) != 1 || len(b.Programs[0].Course) == 0 {
		t.Errorf("%d courses are kept; notes %q", kept, got.Notes)
	}
}
