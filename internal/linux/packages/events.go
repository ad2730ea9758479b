package packages

import (
	"strings"
	"time"

	"calmdawn/internal/core/drift"
	"calmdawn/internal/machine"
)

const maxLog = 64 << 20

// Events are what the package manager wrote down that it did, from dpkg's log
// (dpkg(1)) or pacman's, as far as they go back. Their times are local ones;
// they are taken to be in the given zone.
func Events(r *machine.Root, zone *time.Location) []drift.Event {
	var all []drift.Event
	each := func(file string, line func(words []string) (drift.Event, bool)) {
		text, err := r.ReadFile(file, maxLog)
		if err != nil {
			return
		}
		for l := range strings.Lines(string(text)) {
			if e, ok := line(strings.Fields(l)); ok {
				all = append(all, e)
			}
		}
	}
	for _, file := range []string{"/var/log/dpkg.log.1", "/var/log/dpkg.log"} {
		// 2026-11-23 15:00:01 upgrade name:amd64 1.0 1.1
		each(file, func(w []string) (drift.Event, bool) {
			if len(w) < 6 {
				return drift.Event{}, false
			}
			done := map[string]string{
				"install": "installed",
				"upgrade": "upgraded",
				"remove":  "removed",
				"purge":   "removed",
			}[w[2]]
			at, err := time.ParseInLocation(time.DateTime, w[0]+" "+w[1], zone)
			name, _, _ := strings.Cut(w[3], ":")
			return drift.Event{
				At:      at,
				What:    done,
				Package: name,
				Version: w[5],
			}, err == nil && done != ""
		})
	}
	// [2026-11-23T15:00:01+0100] [ALPM] upgraded name (1.0 -> 1.1)
	each("/var/log/pacman.log", func(w []string) (drift.Event, bool) {
		if len(w) < 5 || w[1] != "[ALPM]" ||
			w[2] != "installed" && w[2] != "upgraded" && w[2] != "removed" {
			return drift.Event{}, false
		}
		at, err := time.Parse("[2006-01-02T15:04:05-0700]", w[0])
		return drift.Event{
			At:      at,
			What:    w[2],
			Package: w[3],
			Version: strings.Trim(w[len(w)-1], "()"),
		}, err == nil
	})
	return all
}
