package visit_test

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/demo"
	"calmdawn/internal/notebook"
	"calmdawn/internal/visit"
)

var now = time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)

// place is the demo machine, and nobody's notes.
func place(t *testing.T) visit.Site {
	t.Helper()
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", home)
	dir := filepath.Join(home, "meridian")
	if err := demo.Make(dir, now); err != nil {
		t.Fatal(err)
	}
	return visit.Site{Dir: dir, Now: func() time.Time { return now }, By: "maria"}
}

func look(t *testing.T, p visit.Site) *visit.Visit {
	t.Helper()
	v, err := p.Look()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { v.Close() })
	return v
}

// TestWordsMeanItems names items by all that is taken for one, and by what is
// refused.
func TestWordsMeanItems(t *testing.T) {
	p := place(t)
	listed := notebook.List{At: now.Add(-time.Hour)}
	p.Listed = func(string) (notebook.List, error) { return listed, nil }
	v := look(t, p)
	for _, it := range v.Items {
		listed.Rows = append(listed.Rows, notebook.Row{
			ID: it.ID, Title: it.Title, State: string(it.State),
		})
	}
	first := v.Items[0].ID
	for _, c := range []struct{ word, id, refused string }{
		{"service:star-index.service", "service:star-index.service", ""},
		{"star-index", "service:star-index.service", ""},
		{"STAR-INDEX", "service:star-index.service", ""},
		{"star-inde", "service:star-index.service", ""},
		{"1", first, ""},
		{"lanternfile.desktop@teo", "program:lanternfile.desktop@teo", ""},
		{"lanternfile", "", "may be any of"},
		{"star-idnex.service", "", "service:star-index.service"},
		{"100000", "", "not among them"},
		{"0", "", "not among them"},
		{"", "", "no item"},
	} {
		picked, err := v.Pick([]string{c.word})
		switch misuse := (*visit.Misuse)(nil); {
		case c.refused != "":
			if !errors.As(err, &misuse) || !strings.Contains(err.Error(), c.refused) {
				t.Errorf("%q: %v", c.word, err)
			}
		case err != nil || len(picked) != 1 || picked[0].ID != c.id:
			t.Errorf("%q became %v, %v", c.word, picked, err)
		}
	}
	several, err := v.Pick([]string{"1-3", "2", first})
	if err != nil || len(several) != 3 {
		t.Errorf("three rows, two of them twice, became %d items, %v", len(several), err)
	}
	listed.Rows[0].State = "delayed"
	if _, err := v.Pick([]string{"1"}); err == nil || !strings.Contains(err.Error(), "now") {
		t.Errorf("a row that is another by now: %v", err)
	}
	listed.At = now.Add(-48 * time.Hour)
	_, err = v.Pick([]string{"2"})
	if err == nil || !strings.Contains(err.Error(), "too long ago") {
		t.Errorf("a list of the day before yesterday: %v", err)
	}
}

// TestFiltersChoose asks for items by values of every kind.
func TestFiltersChoose(t *testing.T) {
	v := look(t, place(t))
	chosen := func(f visit.Filter) (ids []string) {
		t.Helper()
		if err := f.Check(); err != nil {
			t.Fatal(err)
		}
		for _, it := range v.Items {
			if f.Accepts(it) {
				ids = append(ids, it.ID)
			}
		}
		return ids
	}
	all := chosen(visit.Filter{})
	if len(all) != len(v.Items) || (&visit.Filter{All: true}).Chooses() {
		t.Errorf("no filter leaves %d of %d", len(all), len(v.Items))
	}
	spaced := chosen(visit.Filter{Advice: []string{"can go"}})
	hyphened := chosen(visit.Filter{Advice: []string{"can-go"}})
	if len(spaced) == 0 || !slices.Equal(spaced, hyphened) {
		t.Errorf("can go: %v; can-go: %v", spaced, hyphened)
	}
	either := chosen(visit.Filter{Kind: []string{"task", "program"}})
	for _, id := range either {
		if strings.HasPrefix(id, "service:") {
			t.Errorf("%s is neither", id)
		}
	}
	narrow := chosen(visit.Filter{
		Owner: []string{"teo"},
		Kind:  []string{"program"},
		Words: []string{"LANTERN"},
	})
	if !slices.Equal(narrow, []string{"program:lanternfile.desktop@teo"}) {
		t.Errorf("teo's lantern: %v", narrow)
	}
	if err := (&visit.Filter{State: []string{"gone"}}).Check(); err == nil {
		t.Error("a state that there is not is taken")
	}
}

// TestNothingIsRatedUnasked looks at the machine with its boots, and proposes.
func TestNothingIsRatedUnasked(t *testing.T) {
	v := look(t, place(t))
	if err := v.ReadBoots(); err != nil {
		t.Fatal(err)
	}
	star, ok := v.Lookup("service:star-index.service")
	if !ok || v.SetOf(star) == nil {
		t.Fatal("the star index has no start")
	}
	wait := v.Cost(star).Wait
	if !wait.Shows || wait.Saving.Median <= 0 {
		t.Errorf("it costs %+v", wait)
	}
	proposed, left := v.Propose()
	seen := map[string]bool{}
	for _, one := range proposed {
		if seen[one.ID] || one.Protected != "" || one.Do == "" {
			t.Errorf("%s is proposed twice, or protected, or for nothing: %+v", one.ID, one)
		}
		seen[one.ID] = true
	}
	if !seen[star.ID] {
		t.Error("the star index is not proposed")
	}
	// what is not among them is told, and so is what is to be cleaned up
	for _, out := range left {
		for _, id := range out.IDs {
			if seen[id] || out.Why == "" {
				t.Errorf("%s stands in the proposal, and is left out: %s", id, out.Why)
			}
			seen[id] = true
		}
	}
	for _, it := range v.Items {
		if !seen[it.ID] {
			t.Errorf("nothing is said of %s, which is %s: %s", it.ID, it.State, it.Advice)
		}
	}
	if !slices.ContainsFunc(proposed, func(p visit.Proposed) bool {
		return p.Advice == item.CleanUp && p.Do == proposal.Disable
	}) {
		t.Error("nothing that is broken is proposed to go")
	}
}

// TestOldIDsAreTaken has an item and a note from before ids were made safe.
func TestOldIDsAreTaken(t *testing.T) {
	p := place(t)
	const raw, safe = "program:z a.desktop@teo", "program:z%20a.desktop@teo"
	for file, text := range map[string]string{
		p.Dir + "/home/teo/.config/autostart/z a.desktop": "[Desktop Entry]\n" +
			"Type=Application\nName=Z\nExec=/usr/bin/true\n",
		os.Getenv("XDG_CONFIG_HOME") + "/calmdawn/notes.toml": "[[note]]\n" +
			"item = '" + raw + "'\ntext = 'ask first'\n",
	} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755),
			os.WriteFile(file, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	v := look(t, p)
	for _, id := range []string{raw, safe} {
		if it, ok := v.Lookup(id); !ok || it.ID != safe || it.Note != "ask first" {
			t.Errorf("%q became %+v", id, it)
		}
	}
}

// TestWhatIsAdvisedCanBeDone: nothing is advised to wait that cannot be
// delayed, and what starts at another time waits already.
func TestWhatIsAdvisedCanBeDone(t *testing.T) {
	v := look(t, place(t))
	waits := 0
	for _, it := range v.Items {
		if it.Advice == item.CanWait && it.State != item.Delayed {
			waits++
			if err := v.MayTurn(it, item.Delayed); err != nil {
				t.Errorf("%s is advised to wait: %v", it.ID, err)
			}
		}
	}
	if waits < 10 {
		t.Errorf("only %d things can wait", waits)
	}
	for id, want := range map[string]item.Advice{
		"service:cups.service":   item.LookUp, // another unit's own text pulls it in
		"task:larder-push.timer": item.Keep,
	} {
		if it, _ := v.Lookup(id); it.Advice != want ||
			!strings.Contains(it.Reason, "; it ") || !strings.Contains(it.Reason, " (role ") {
			t.Errorf("%s: %q, %q", id, it.Advice, it.Reason)
		}
	}
}
