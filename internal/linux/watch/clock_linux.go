package watch

import (
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// A clock tells the kernel's time since the boot began, as the service
// manager's clocks do (CLOCK_MONOTONIC, clock_gettime(2)).
type clock struct {
	start  time.Time
	offset time.Duration
	// by how much it is behind the clock that counts sleep, which processes'
	// begins are told by
	behind time.Duration
}

func startClock() (clock, error) {
	var mono, total unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &mono); err != nil {
		return clock{}, fmt.Errorf("the kernel's clock cannot be read: %w", err)
	}
	c := clock{start: time.Now(), offset: time.Duration(mono.Nano())}
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &total) == nil {
		c.behind = time.Duration(total.Nano() - mono.Nano())
	}
	return c, nil
}

func (c clock) now() time.Duration { return c.offset + time.Since(c.start) }

// sleep sleeps in the kernel, until a signal comes: Go's own timers cost twice
// the processor time, ten times a second.
func (clock) sleep(d time.Duration) {
	pause := unix.NsecToTimespec(int64(d))
	_ = unix.Nanosleep(&pause, nil)
}

func ownProcessorTime() time.Duration {
	var use unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &use) != nil {
		return 0
	}
	return time.Duration(use.Utime.Nano() + use.Stime.Nano())
}

// rootDevice is the number of the device that the system stands on, as in
// /sys/dev/block; some file systems have none of their own.
func rootDevice() (string, bool) {
	var at unix.Stat_t
	if unix.Stat("/", &at) != nil || unix.Major(uint64(at.Dev)) == 0 {
		return "", false
	}
	return fmt.Sprintf("%d:%d", unix.Major(uint64(at.Dev)), unix.Minor(uint64(at.Dev))), true
}
