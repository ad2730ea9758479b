package unit

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/item"
)

// timerPrefix begins the ids of timers.
const timerPrefix = "task:"

// A firing is when a timer that is armed at the boot goes off.
type firing struct {
	never string    // why it never does; empty otherwise
	when  item.When // boot: at once; later: some time after
	words string    // for people
}

var timerKeys = []string{
	"OnActiveSec", "OnBootSec", "OnStartupSec", "OnUnitActiveSec", "OnUnitInactiveSec",
	"OnCalendar",
}

// settingsOf returns the times of a timer; an empty value of any of them resets
// all, systemd.timer(5).
func (u *unit) timerSettings() map[string][]string {
	found := map[string][]string{}
	for _, s := range u.settings {
		if s.section != "Timer" || !slices.Contains(timerKeys, s.key) {
			continue
		}
		if s.value == "" {
			found = map[string][]string{}
			continue
		}
		found[s.key] = append(found[s.key], s.value)
	}
	return found
}

// activates returns the unit that a timer, path or socket starts.
func (t *Tree) activates(u *unit) *unit {
	n := splitName(u.name)
	name := strings.TrimSuffix(u.name, "."+n.suffix) + ".service"
	for _, key := range []string{"Service", "Unit"} {
		if named := u.last(strings.ToUpper(n.suffix[:1])+n.suffix[1:], key); named != "" {
			name = named
		}
	}
	return t.load(name)
}

// fires works out when a timer goes off after the next boot.
func (t *Tree) fires(u *unit, got reached) firing {
	target := t.activates(u)
	times := u.timerSettings()
	switch {
	case target.file == nil:
		return firing{never: target.name + ", which it would start, is not there"}
	case target.hidden != "":
		return firing{never: target.name + ", which it would start, is " + target.hidden}
	case len(times) == 0:
		return firing{never: "it has no time set"}
	}
	var words []string
	soonest := time.Duration(-1)
	for _, key := range []string{"OnActiveSec", "OnBootSec", "OnStartupSec"} {
		for _, value := range times[key] {
			d, ok := parseTime(value)
			if !ok {
				continue
			}
			if soonest < 0 || d < soonest {
				soonest = d
			}
			words = append(words, fmt.Sprintf("%s after the boot", value))
		}
	}
	f := firing{when: item.Later}
	if soonest == 0 {
		f.when, words = item.AtBoot, []string{"at once, at the boot"}
	}
	calendarDue := false
	var wrong []string // what the service manager ignores
	for _, value := range times["OnCalendar"] {
		c, err := parseCalendar(value, t.now.Location())
		if err != nil {
			wrong = append(wrong, value)
			continue
		}
		if stamp, ok := t.stamp(u); ok {
			if due, ever := c.next(stamp); ever && !due.After(t.now) {
				f.when, calendarDue = item.AtBoot, true
				words = append(words,
					"at the boot, to catch up what was missed since "+stamp.Format("2 Jan 2006"))
			}
		}
		if due, ever := c.next(t.now); ever {
			calendarDue = true
			words = append(words, value+", next "+due.Format("2 Jan 2006 15:04"))
		}
	}
	again := slices.Concat(times["OnUnitActiveSec"], times["OnUnitInactiveSec"])
	_, runs := got[target.name]
	for _, value := range again {
		words = append(words, "every "+value)
	}
	if soonest < 0 && !calendarDue && !(len(again) > 0 && runs) {
		if len(again) > 0 {
			return firing{never: "it counts from a run of " + target.name + ", and nothing else " +
				"starts that"}
		}
		if len(wrong) > 0 && len(wrong) == len(times["OnCalendar"]) {
			return firing{never: fmt.Sprintf("the service manager does not know its time: %s",
				strings.Join(wrong, "; "))}
		}
		return firing{never: "its time is past"}
	}
	f.words = strings.Join(words, "; ")
	return f
}

// stamp is when a timer that catches up went off last; false where it does not,
// or never did.
func (t *Tree) stamp(u *unit) (time.Time, bool) {
	if !isTrue(u.last("Timer", "Persistent")) {
		return time.Time{}, false
	}
	folder := "/var/lib/systemd/timers"
	if t.owner.Name != "" {
		folder = path.Join(t.owner.Home, ".local/share/systemd/timers")
	}
	info, err := t.root.Stat(path.Join(folder, "stamp-"+u.name))
	return info.ModTime.In(t.now.Location()), err == nil
}

// parseTime reads a time span, systemd.time(7): "5min 20s", "1h", plain
// seconds.
func parseTime(text string) (time.Duration, bool) {
	units := map[string]time.Duration{
		"":        time.Second,
		"s":       time.Second,
		"sec":     time.Second,
		"second":  time.Second,
		"seconds": time.Second,
		"ms":      time.Millisecond,
		"msec":    time.Millisecond,
		"us":      time.Microsecond,
		"usec":    time.Microsecond,
		"m":       time.Minute,
		"min":     time.Minute,
		"minute":  time.Minute,
		"minutes": time.Minute,
		"h":       time.Hour,
		"hr":      time.Hour,
		"hour":    time.Hour,
		"hours":   time.Hour,
		"d":       24 * time.Hour,
		"day":     24 * time.Hour,
		"days":    24 * time.Hour,
		"w":       168 * time.Hour,
		"week":    168 * time.Hour,
		"weeks":   168 * time.Hour,
		"M":       730*time.Hour + 29*time.Minute,
		"month":   730*time.Hour + 29*time.Minute,
		"months":  730*time.Hour + 29*time.Minute,
		"y":       8766 * time.Hour,
		"year":    8766 * time.Hour,
		"years":   8766 * time.Hour,
	}
	var sum time.Duration
	rest := strings.TrimSpace(text)
	for rest != "" {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789."))
		n, err := strconv.ParseFloat(rest[:digits], 64)
		if err != nil {
			return 0, false
		}
		rest = strings.TrimLeft(rest[digits:], " ")
		letters := len(rest) - len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyzM"))
		unit, ok := units[rest[:letters]]
		if !ok {
			return 0, false
		}
		sum += time.Duration(n * float64(unit))
		rest = strings.TrimLeft(rest[letters:], " ")
	}
	return sum, text != ""
}
