package testtree

import (
	"runtime"
	"testing"
)

// Twice has something with no fault, with n and with 2n faults be surveyed. It
// tells of them in a line or four each at most. It takes about twice as much
// memory for twice as many. prepare returns the survey, which returns how many
// lines it tells.
func Twice(t *testing.T, n int, prepare func(n int) (survey func() (told int))) {
	t.Helper()
	allocated := func(n int) float64 {
		survey := prepare(n)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		told := survey()
		runtime.ReadMemStats(&after)
		if told > 4*n+20 {
			t.Errorf("%d faults are told in %d lines", n, told)
		}
		return float64(after.TotalAlloc - before.TotalAlloc)
	}
	none, once, twice := allocated(0), allocated(n), allocated(2*n)
	if of := (twice - none) / max(once-none, 1<<20); of > 2.7 {
		t.Errorf("%.1f times the memory for twice as many: %.0f, %.0f, %.0f kB", of, none/1e3,
			once/1e3, twice/1e3)
	}
}
