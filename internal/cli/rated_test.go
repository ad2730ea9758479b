package cli

import (
	"bytes"
	"testing"
	"time"

	"calmdawn/internal/demo"
	"calmdawn/internal/visit"
)

// TestCommandsRateWhatTheyAskFor counts for how many items the boots are
// replayed.
func TestCommandsRateWhatTheyAskFor(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Make(dir, time.Now()); err != nil {
		t.Fatal(err)
	}
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	rated := func(words ...string) int64 {
		t.Helper()
		before := visit.Rated()
		var out, err bytes.Buffer
		if code, _ := run(append([]string{"--root", dir}, words...), Streams{
			In: &bytes.Buffer{}, Out: &out, Err: &err, Width: 100,
		}); code != 0 {
			t.Fatalf("%v: exit %d\n%s", words, code, err.String())
		}
		return visit.Rated() - before
	}
	const one = "service:cue-update.service"
	for _, words := range [][]string{
		{"show", one}, {"forecast", one}, {"forecast", one, "--json"}, {"disable", one, "--yes"},
		{"undo", "--all", "--yes"}, {"boots"}, {"history"}, {"compare", "1-2", "3-5"},
	} {
		if n := rated(words...); n > 1 {
			t.Errorf("%v rated %d items", words, n)
		}
	}
	some, all := rated("list", "cue"), rated("list", "--all")
	if some == 0 || all < 80 || some > all/4 {
		t.Errorf("a list of some items rated %d, one of all items %d", some, all)
	}
	if again := rated("list", "--all", "--json"); again != all {
		t.Errorf("as a document a list rated %d items, on a screen %d", again, all)
	}
}
