package demo

import (
	"os"
	"path/filepath"
	"time"
)

// clockFile stands in a demo machine that was restarted. Its modification time
// is what the machine's clock showed then.
const clockFile = ".demo-clock"

// Clock is what the clock of the machine in dir shows, where this computer's
// shows now. A demo machine that was restarted may be days ahead; any other
// machine goes by this computer.
func Clock(dir string, now time.Time) time.Time {
	if dir == "" {
		return now
	}
	// Most machines have no such file: nothing else of theirs is opened then.
	info, err := os.Lstat(filepath.Join(dir, clockFile))
	if err != nil || !info.Mode().IsRegular() || !info.ModTime().After(now) ||
		!Is(dir) && !IsTill(dir) {
		return now
	}
	return info.ModTime()
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
// began at the given instant. It puts a file of its own into dir.
func SetClock(dir string, began time.Time) error {
	const later = 30 * time.Minute
	file := filepath.Join(dir, clockFile)
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		return err
	}
	return os.Chtimes(file, time.Time{}, began.Add(later))
}
