//go:build linux

package boottest_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
)

// entrySession launches the autostart entries as a session does that makes no
// units of them. Each is launched by a child of its own, which becomes the
// program.
const entrySession = `cat /etc/xdg/autostart/*.desktop | while read -r line; do
	case "$line" in Exec=*) eval "${line#Exec=} </dev/null >/dev/null 2>&1 &" ;; esac
done
exec sleep 1000
`

// entries are launch lines with what stands behind them: the files of a
// machine, and which of them writes down what it used.
func entries() map[string]string {
	// work uses so many milliseconds and writes down what it and its children,
	// and what it was before, have used
	work := func(name string, ms int, end string) string {
		return fmt.Sprintf("#!/bin/sh\n/usr/bin/burn %d\ntimes > /share/%s\n%s\n", ms, name, end)
	}
	const rest = "exec sleep 1000"
	files := map[string]string{
		"usr/lib/lantern/double": work("double", 300, rest),
		"usr/bin/double":         "#!/bin/sh\n( /usr/lib/lantern/double & ) &\n",
		"usr/bin/plain":          work("plain", 200, rest),
		"usr/bin/by-env":         work("by-env", 150, rest),
		"usr/bin/by-shell":       work("by-shell", 150, rest),
		"usr/bin/own-session":    work("own-session", 200, rest),
		"usr/bin/brief":          work("brief", 100, "exit 0"),
		"usr/lib/lantern/bell":   work("$1", 250, rest),
		"usr/bin/bell":           "#!/bin/sh\nexec /usr/lib/lantern/bell bell-$2\n",
	}
	lines := map[string]string{
		"double": "/usr/bin/double", "plain": "plain",
		"by-env": "env DESK=1 /usr/bin/by-env", "by-shell": "sh -c '/usr/bin/by-shell'",
		"own-session": "setsid /usr/bin/own-session", "brief": "/usr/bin/brief",
		"bell-east": "/usr/bin/bell --at east", "bell-west": "/usr/bin/bell --at west",
	}
	for _, ms := range []int{0, 5, 50, 2000} {
		name := fmt.Sprintf("after-%d", ms)
		files["usr/lib/lantern/"+name] = work(name, 200, rest)
		first := ""
		if ms > 0 {
			first = fmt.Sprintf("/usr/bin/burn %d\n", ms)
		}
		files["usr/bin/"+name] = "#!/bin/sh\n" + first + "exec /usr/lib/lantern/" + name + "\n"
		lines[name] = "/usr/bin/" + name
	}
	for name, line := range lines {
		files["etc/xdg/autostart/"+name+".desktop"] = "[Desktop Entry]\nType=Application\nName=" +
			name + "\nExec=" + line + "\n"
	}
	return files
}

// TestEveryEntryIsFound logs in where programs are launched in every way that
// hides them: behind wrappers that end at once, by shells, by forks. What each
// used is on record, as the kernel accounts for it, and is shown as its item's.
// Where the kernel tells the recorder nothing, what lasts is found by looking.
// CALMDAWN_LOGINS says how often.
func TestEveryEntryIsFound(t *testing.T) {
	logins := 1
	if n, err := strconv.Atoi(os.Getenv("CALMDAWN_LOGINS")); err == nil {
		logins = n
	}
	m := newSeat(t, entrySession, entries())
	for name := range entries() {
		if strings.HasPrefix(name, "usr/lib/lantern/") {
			ok(t, os.Chmod(m.Dir+"/"+name, 0o755))
		}
	}
	m.Install(t, burner(t))
	p := program(t)
	calm(t, p, m, "recorder", "on", "--yes", "--boots", "1000")
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	names := slices.DeleteFunc(slices.Sorted(maps.Keys(entries())), func(file string) bool {
		return !strings.HasSuffix(file, ".desktop")
	})
	for i, file := range names {
		names[i] = strings.TrimSuffix(strings.TrimPrefix(file, "etc/xdg/autostart/"), ".desktop")
	}
	// wrong says what of some entries is not on record after a login
	wrong := func(names []string) (all []string) {
		m.Boot(t)
		books := recorded(t, r)
		b := books[len(books)-1]
		t.Logf("%d programs, not attributed %v; the recorder used %v in %v, %d bytes",
			len(b.Programs), b.Rest.Value, b.Recording.CPU,
			b.Recording.Ended-b.Recording.Began, b.Recording.Memory)
		for _, name := range names {
			line := boot.Line{Program: "/usr/bin/" + name}
			if at, ok := strings.CutPrefix(name, "bell-"); ok {
				line = boot.Line{Program: "/usr/bin/bell", Args: []string{"--at", at}}
				for _, other := range []string{"east", "west"} {
					if other != at {
						line.Others = [][]string{{"--at", other}}
					}
				}
			}
			use, want := b.LineUse(line, "maria"), times(t, m.Shared(t, name))
			if !use.Ran || (use.CPU-want).Abs() > max(want/10, 50*time.Millisecond) {
				all = append(all, fmt.Sprintf("%s: %+v; the kernel accounted for %v", name, use,
					want))
			}
		}
		return all
	}
	for range logins {
		// A virtual processor that stands still for some milliseconds hides a
		// wrapper of one.
		ring.Measure(t, func(t testing.TB) {
			for _, fault := range wrong(names) {
				t.Error(fault)
			}
		})
	}
	// Rated is what is fit to be compared, and that depends on what else runs.
	ring.Measure(t, func(t testing.TB) {
		all := boot.Judge(recorded(t, r), nil)
		if len(boot.Fit(all, 1)) == 0 && slices.ContainsFunc(all[len(all)-1].Odd, crowded) {
			m.Boot(t) // for the next try
			t.Skip("others on this computer took too much in each boot")
		}
		var list struct {
			Items []struct {
				ID   string
				Cost *struct {
					CPU *struct{ Seconds float64 }
				}
			}
		}
		text := calm(t, p, m, "list", "--all", "--json")
		ok(t, json.Unmarshal([]byte(text), &list))
		rated := 0
		for _, it := range list.Items {
			name := strings.TrimSuffix(strings.TrimPrefix(it.ID, "program:"), ".desktop")
			if slices.Contains(names, name) {
				if rated++; it.Cost == nil || it.Cost.CPU == nil {
					t.Errorf("%s has no cost", it.ID)
				}
			}
		}
		if rated != len(names) {
			t.Errorf("%d of %d entries are listed", rated, len(names))
		}
	})
	m.Deaf = true
	ring.Measure(t, func(t testing.TB) {
		for _, fault := range wrong([]string{"plain", "by-env", "by-shell", "own-session",
			"after-2000"}) {
			t.Errorf("by looking alone, %s", fault)
		}
	})
}
