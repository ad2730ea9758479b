package demo

import (
	"os"
	"path/filepath"
	"time"
)

// clockFile stands in a demo machine that was restarted. It holds by how much
// the machine's clock is ahead of the computer's, as [time.Duration] writes it.
const clockFile = ".demo-clock"

// Clock is what the clock of the machine in dir shows, where this computer's
// shows now. A demo machine that was restarted may be days ahead; any other
// machine goes by this computer.
func Clock(dir string, now time.Time) time.Time {
	if dir == "" {
		return now
	}
	// Most machines have no such file: nothing else of theirs is opened then.
	file := filepath.Join(dir, clockFile)
	info, err := os.Lstat(file)
	if err != nil || !info.Mode().IsRegular() || info.Size() > 40 || !Is(dir) && !IsTill(dir) {
		return now
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return now
	}
	ahead, err := time.ParseDuration(string(text))
	if err != nil || ahead < 0 {
		return now
	}
	return now.Add(ahead)
}

// NextBoot is when a demo machine is restarted, whose last boot began at last:
// now, or the next morning if it has been on since.
func NextBoot(last, now time.Time) time.Time {
	const day = 6 * time.Hour // of a desk, at the least
	if now.Sub(last) >= day {
		return now
	}
	return Morning(last, 1)
}

// SetClock has the clock of the demo machine in dir go on behind a boot that
// began at the given instant. now is what this computer's shows. It puts a file
// of its own into dir.
func SetClock(dir string, began, now time.Time) error {
	const later = 30 * time.Minute
	ahead := max(0, began.Add(later).Sub(now))
	return os.WriteFile(filepath.Join(dir, clockFile), []byte(ahead.String()), 0o644)
}
