package forecast

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

// logins are boots of which only the login is known. They have programs of so
// many seconds of computing each, beside own work of the system, on two
// processors.
func logins(n int, own func(i int) float64, cpu ...float64) (all []boot.Boot) {
	for i := range n {
		b := boot.Boot{
			ID:         fmt.Sprint(i),
			Began:      time.Date(2026, 11, 1+i, 8, 0, 0, 0, time.UTC),
			Ready:      boot.Of(20*time.Second, boot.Log),
			Processors: 2,
			Logins:     []boot.Login{{User: "nora", Began: 15 * time.Second}},
		}
		total := own(i)
		for k, c := range cpu {
			b.Programs = append(b.Programs, boot.Program{
				Name: fmt.Sprint("p", k), Words: []string{fmt.Sprint("/p", k)}, Owner: "nora",
				PID: 10 + k, Parent: -1, Began: 20 * time.Second, CPU: seconds(c),
			})
			total += c
		}
		// all are long enough to keep both processors at work until the end
		b.Worked = boot.Of(20*time.Second+seconds(total/2), boot.Log)
		all = append(all, b)
	}
	return all
}

// TestALoginIsReplayed leaves programs out of logins whose end is known by
// hand, and has them wait.
func TestALoginIsReplayed(t *testing.T) {
	even := func(int) float64 { return 6 }
	replays, why := Prepare(logins(5, even, 6, 6, 6))
	if len(replays) != 5 || len(why) > 0 {
		t.Fatalf("%d replays, %v", len(replays), why)
	}
	near := func(what string, got, want time.Duration) {
		t.Helper()
		if (got - want).Abs() > 20*time.Millisecond {
			t.Errorf("%s: %v, want %v", what, got, want)
		}
	}
	f := Of(replays, Set{ProgramKey("/p0", "nora"): true})
	near("without one", f.Usable.Median, 3*time.Second)
	near("now", f.UsableNow, 32*time.Second)
	if !f.AtLeast || !f.Login || f.Kind != "login of nora" || f.Error > 0.001 ||
		!f.UsableShows {
		t.Errorf("%+v", f)
	}
	late := OfDelay(replays, Set{ProgramKey("/p0", "nora"): true}, time.Hour)
	near("an hour later", late.Usable.Median, 3*time.Second)
	if Bears(replays, Scenario{Out: Set{boot.Key{Native: "service"}: true}}) {
		t.Error("logins tell of a service")
	}
	if f := Of(replays, Set{ProgramKey("/p0", "ivo"): true}); f.Usable.Median != 0 {
		t.Errorf("somebody else's program: %+v", f.Usable)
	}
}

// TestLoginsThatTellNothing are too few, or too different, to forecast from.
func TestLoginsThatTellNothing(t *testing.T) {
	even := func(int) float64 { return 6 }
	rng := rand.New(rand.NewPCG(1, 1))
	uneven := func(int) float64 { return 6 + 30*rng.Float64() }
	computing := logins(5, even, 6, 6, 6)
	for i := range computing {
		computing[i].Worked.Value = 21 * time.Second
	}
	for want, boots := range map[string][]boot.Boot{
		"it takes 4 boots":            logins(3, even, 6, 6, 6),
		"% from what was measured":    logins(5, uneven, 6, 6, 6),
		"computed longer than until":  computing,
		"nothing is known of what wa": logins(5, even),
	} {
		replays, why := Prepare(boots)
		if len(replays) > 0 || len(why) == 0 || !strings.Contains(why[0].Error(), want) {
			t.Errorf("%s: %d replays, %v", want, len(replays), why)
		}
	}
}
