package watch

import (
	"errors"
	"time"

	"golang.org/x/sys/unix"
)

// Uptime is the kernel's clock.
func (start) Uptime() time.Duration {
	var now unix.Timespec
	if unix.ClockGettime(unix.CLOCK_MONOTONIC, &now) != nil {
		return 0
	}
	return time.Duration(now.Nano())
}

// StartAgain has the service manager read its files anew and start its goal
// again, by the signals that systemd(1) names. So early in a start there is no
// bus to ask over.
func (start) StartAgain() error {
	// SIGRTMIN+0 of the C library that the service manager is built with
	const enterDefault = unix.Signal(34)
	return errors.Join(unix.Kill(1, unix.SIGHUP), unix.Kill(1, enterDefault))
}
