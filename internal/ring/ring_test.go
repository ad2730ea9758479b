package ring

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestAttempts has tries fail in every way that a test can.
func TestAttempts(t *testing.T) {
	for want, try := range map[string]func(t testing.TB){
		"":                     func(testing.TB) {},
		"one 1\ntwo":           func(t testing.TB) { t.Errorf("one %d", 1); t.Error("two") },
		"at once":              func(t testing.TB) { t.Fatal("at", "once"); t.Error("never") },
		"at 1":                 func(t testing.TB) { t.Fatalf("at %d", 1); t.Error("never") },
		"it failed\nit failed": func(t testing.TB) { t.Fail(); t.FailNow() },
		"it is known to, so far": func(t testing.TB) {
			if t.Error("it is known to, so far"); !t.Failed() {
				t.Error("it is not")
			}
		},
	} {
		if got, busy := attempt(t, try); got != want || busy {
			t.Errorf("%q, busy %v; want %q", got, busy, want)
		}
	}
	got, busy := attempt(t, func(t testing.TB) { t.Skipf("%d others", 2); t.Error("never") })
	if got != "2 others" || !busy {
		t.Errorf("%q, busy %v", got, busy)
	}
}

// TestOthers tells what others use of the processors from what this process
// does.
func TestOthers(t *testing.T) {
	from := use{at: time.Unix(0, 0), processors: 2}
	to := use{at: time.Unix(2, 0), all: 3 * time.Second, own: time.Second, processors: 2}
	if got := from.others(to); got != 0.5 {
		t.Errorf("others took %v", got)
	}
	to.own = 4 * time.Second // its children's time is told when they have ended
	if got := from.others(to); got != 0 {
		t.Errorf("others took %v", got)
	}
}

// TestWhatIsNotMeasuredIsKept has a test give up.
func TestWhatIsNotMeasuredIsKept(t *testing.T) {
	kept := filepath.Join(t.TempDir(), "kept")
	t.Setenv("CALMDAWN_NOT_MEASURED", kept)
	if !t.Run("given up", func(t *testing.T) { notMeasured(t, "busy\nas %s", "ever") }) {
		t.Error("it failed")
	}
	text, err := os.ReadFile(kept)
	if err != nil || strings.TrimSpace(string(text)) != "not measured: "+t.Name()+
		"/given_up: busy; as ever" {
		t.Errorf("%q, %v", text, err)
	}
}
