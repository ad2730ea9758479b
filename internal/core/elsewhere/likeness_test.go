package elsewhere

import (
	"os"
	"strings"
	"testing"

	"calmdawn/internal/core/item"
)

// TestPairs holds what is the same on two machines against what people say.
func TestPairs(t *testing.T) {
	text, err := os.ReadFile("testdata/pairs.txt")
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			lines = append(lines, line)
		}
	}
	families := map[string]int{}
	for ; len(lines) >= 3; lines = lines[3:] {
		head := strings.Fields(lines[0])
		one, two := likenessIn(head, lines[1]), likenessIn(head, lines[2])
		if same := one.Key() == two.Key(); same != (head[0] == "same") {
			t.Errorf("%v: %q and %q", head, one, two)
		}
		families[head[1]]++
	}
	if len(lines) > 0 || families["linux"]+families["windows"] < 60 || families["windows"] < 20 {
		t.Errorf("%v pairs, and the rest %q", families, lines)
	}
}

func likenessIn(head []string, line string) Likeness {
	parts := append(strings.Split(line, "|"), "", "", "")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return LikenessOf(head[1], item.Item{
		Kind: item.Kind(head[2]), Native: parts[0], Owner: parts[1], Maker: parts[2],
		Archive: parts[3],
	})
}

// TestNoNameIsLost: what is taken out leaves something to know an item by.
func TestNoNameIsLost(t *testing.T) {
	for _, native := range []string{
		"1.2.3", "{11111111-2222-4333-8444-555555555555}", `C:\Users\nora`, "/home/maria", "é",
	} {
		for _, family := range []string{"linux", "windows"} {
			if l := LikenessOf(family, item.Item{Native: native}); l.Name == "" || l.Name == "~" {
				t.Errorf("%q has no name on %s", native, family)
			}
		}
	}
}

func BenchmarkLikeness(b *testing.B) {
	it := item.Item{
		Kind: item.Task, Native: "/etc/cron.d/rings: @reboot root /opt/rings/bin/warm-up",
		Maker: "Halloway Exhibits",
	}
	for b.Loop() {
		LikenessOf("linux", it).Key()
	}
}
