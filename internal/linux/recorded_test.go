//go:build linux

package linux_test

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/testtree"
)

// TestFiguresOfRecordedBoots holds five boots of real machines, recorded in
// containers, against the figures that forecasts once made of them. They move
// only where how a forecast is made is meant to change; then CALMDAWN_KEEP=1
// writes them anew.
func TestFiguresOfRecordedBoots(t *testing.T) {
	const folder = "testdata/boots/"
	files, _ := filepath.Glob(folder + "*.json.gz")
	if len(files) != 5 {
		t.Fatalf("there are %d recorded boots", len(files))
	}
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".json.gz")
		t.Run(name, func(t *testing.T) {
			got := figures(t, label.Boots([]boot.Boot{readBoot(t, file)})[0])
			golden := folder + name + ".txt"
			if os.Getenv("CALMDAWN_KEEP") != "" {
				if err := os.WriteFile(golden, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(golden)
			if err != nil {
				t.Fatal(err)
			}
			if d := testtree.Diff(string(want), got); d != "" {
				t.Errorf("the figures moved:\n%s", d)
			}
		})
	}
}

func readBoot(t *testing.T, file string) (b boot.Boot) {
	t.Helper()
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err == nil {
		err = json.NewDecoder(z).Decode(&b)
	}
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// figures tells what a boot is found to be, what it consists of, and what it
// would be without each of its units.
func figures(t *testing.T, b boot.Boot) string {
	t.Helper()
	var out strings.Builder
	fmt.Fprintf(&out, "ready %v goal %s odd %q\n", b.Ready.Value, b.Goal, boot.Judge([]boot.Boot{b},
		nil)[0].Odd)
	for _, p := range boot.Explain(b) {
		fmt.Fprintf(&out, "part %s %v\n", p.Name, p.Took)
	}
	r, err := forecast.New(b)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(&out, "replay error %.6f of %+v\nunchanged ready %v settled %v\n", r.Error,
		r.Inputs, r.Unchanged().Ready, r.Unchanged().Settled)
	var lines []string
	for _, s := range b.Spans {
		out, stays := r.Without(forecast.Set{s.Key(): true})
		lines = append(lines, fmt.Sprintf("without %s@%s ready %v settled %v stays %v\n", s.Native,
			s.Owner, out.Ready, out.Settled, len(stays)))
	}
	slices.Sort(lines)
	return out.String() + strings.Join(lines, "")
}
