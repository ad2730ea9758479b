package ring

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

const (
	// A measurement counts if others took less than this part of the
	// processors.
	quiet = 0.15
	// patience is how long a process waits in all for a quiet computer.
	patience = 3 * time.Minute
	tries    = 3
)

var (
	waiting sync.Mutex
	left    = patience
)

// Measure runs what measures a real machine, and is right only on a quiet
// computer. It waits for one, within the patience of the whole process, and
// tries again what failed. A failure counts only if the computer was quiet
// meanwhile. If it never was, the test is skipped as not measured, which make
// test tells at its end. What it proves is proven without a clock as well, see
// docs/testing.md. try is called from this goroutine, and calls its t from it;
// where it finds by itself that the computer was busy, it skips.
func Measure(t *testing.T, try func(t testing.TB)) {
	t.Helper()
	Needs(t, Middle)
	wrong := ""
	for n := 1; ; n++ {
		if others := await(); others >= quiet {
			notMeasured(t, "others took %.0f %% of the processors", 100*others)
		}
		before := now()
		faults, busy := attempt(t, try)
		others := before.others(now())
		if faults == "" {
			return
		}
		t.Logf("try %d, while others took %.0f %% of the processors: %s", n, 100*others, faults)
		if others < quiet && !busy {
			wrong = faults
		}
		switch {
		case n < tries:
		case wrong != "":
			t.Fatal(wrong)
		default:
			notMeasured(t, "in %d tries others took %.0f %% of the processors, in the last: %s", n,
				100*others, faults)
		}
	}
}

// attempted is a test whose failures do not count yet.
type attempted struct {
	testing.TB
	faults []string
	busy   bool // it skipped
}

// errOver is thrown where an attempt ends before its end.
var errOver = errors.New("this attempt is over")

func attempt(t testing.TB, try func(t testing.TB)) (faults string, busy bool) {
	a := &attempted{TB: t}
	defer func() {
		if thrown := recover(); thrown != nil && thrown != any(errOver) {
			panic(thrown)
		}
		faults, busy = strings.Join(a.faults, "\n"), a.busy
	}()
	try(a)
	return "", false
}

func (a *attempted) Errorf(format string, values ...any) {
	a.faults = append(a.faults, fmt.Sprintf(format, values...))
}
func (a *attempted) Error(values ...any) {
	a.faults = append(a.faults, strings.TrimSpace(fmt.Sprintln(values...)))
}
func (a *attempted) Fatalf(format string, values ...any) {
	a.Errorf(format, values...)
	panic(errOver)
}
func (a *attempted) Fatal(values ...any) {
	a.Error(values...)
	panic(errOver)
}
func (a *attempted) Fail()        { a.Error("it failed") }
func (a *attempted) FailNow()     { a.Fatal("it failed") }
func (a *attempted) Failed() bool { return len(a.faults) > 0 }
func (a *attempted) Skip(values ...any) {
	a.busy = true
	a.Fatal(values...)
}
func (a *attempted) Skipf(format string, values ...any) {
	a.busy = true
	a.Fatalf(format, values...)
}

// notMeasured skips a test and has that told at the end of all.
func notMeasured(t *testing.T, format string, values ...any) {
	t.Helper()
	why := strings.ReplaceAll(fmt.Sprintf(format, values...), "\n", "; ")
	if name := os.Getenv("CALMDAWN_NOT_MEASURED"); name != "" {
		f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o666)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(f, "not measured: %s: %s\n", t.Name(), why)
		f.Close()
	}
	t.Skip("not measured: " + why)
}

// await waits for a quiet computer as long as there is patience, and returns
// what part of the processors others take now.
func await() float64 {
	waiting.Lock()
	defer waiting.Unlock()
	for {
		const look = time.Second
		before := now()
		time.Sleep(look)
		others := before.others(now())
		if others < quiet || left <= 0 {
			return others
		}
		left -= look
	}
}

// A use is what the computer and this process have used of the processors.
type use struct {
	at         time.Time
	all, own   time.Duration
	processors int
}

// others is which part of the processors was used, until a later moment, by
// neither this process nor its children that have ended.
func (u use) others(later use) float64 {
	took := later.at.Sub(u.at) * time.Duration(max(1, later.processors))
	return max(0, float64(later.all-u.all-(later.own-u.own))/float64(max(1, took)))
}

// now reads /proc/stat, proc(5); nothing elsewhere.
func now() use {
	u := use{at: time.Now(), own: own()}
	text, _ := os.ReadFile("/proc/stat")
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		switch {
		case len(words) > 8 && words[0] == "cpu":
			for _, i := range []int{1, 2, 3, 6, 7, 8} { // all but idle and iowait; stolen too
				n, _ := strconv.ParseInt(words[i], 10, 64)
				u.all += time.Duration(n) * time.Second / 100
			}
		case strings.HasPrefix(line, "cpu"):
			u.processors++
		}
	}
	return u
}
