//go:build linux

package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheCustomersPart reads what stands in a report before the part for
// whoever looks after the machine.
func TestTheCustomersPart(t *testing.T) {
	dir := demoMachine(t)
	on := "--root " + dir + " "
	file := filepath.Join(t.TempDir(), "r.md")
	parts := func(words string) (customer, colleague string) {
		t.Helper()
		says(t, on+"report --replace "+words+" "+file, 0)
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		customer, colleague, ok := strings.Cut(string(text), "\n## For whoever looks after")
		if !ok {
			t.Fatalf("one part only:\n%s", text)
		}
		return customer, colleague
	}
	if first, _ := parts(""); !strings.Contains(first, "Nothing was changed") {
		t.Errorf("of an untouched machine:\n%s", first)
	}
	says(t, on+"apply --best --yes", 0)
	says(t, on+"disable --yes service:palisade-news.service program:handrail-panel.desktop", 0)
	says(t, on+"delay --yes service:lanternfile-crawl.service", 0)
	says(t, on+"undo last --yes", 0)
	says(t, "demo reboot "+dir+" --times 6", 0)
	first, rest := parts("--by Harbour --contact Mole4")
	for _, want := range []string{
		"usable", "sooner than before", "It took 3 min", "now it takes",
		"These start later, when one has been able to work for a while: Lanternfile sync",
		"no longer start by themselves: Cue update helper, Palisade news and offers, Handrail",
		"Cue update helper: newer versions are no longer looked for",
		"can be taken back, exactly as it was. Tell Harbour", "Mole4",
	} {
		if !strings.Contains(first, want) {
			t.Errorf("the customer does not read %q:\n%s", want, first)
		}
	}
	for _, not := range []string{"undo ", "kernel", "Lanternfile folder crawl", "Mann", "|"} {
		if strings.Contains(first, not) {
			t.Errorf("the customer reads %q:\n%s", not, first)
		}
	}
	for _, want := range []string{"| 1-5 |", "undo 1-5", "no difference shows in these: firmware"} {
		if !strings.Contains(rest, want) {
			t.Errorf("the colleague does not read %q:\n%s", want, rest)
		}
	}
}
