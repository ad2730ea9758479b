package guard

import (
	"errors"
	"time"

	"golang.org/x/sys/unix"
)

// uptime is the kernel's clock.
func (running) uptime() time.Duration {
	var now unix.Timespec
	if unix.ClockGettime(unix.CLOCK_MONOTONIC, &now) != nil {
		return 0
	}
	return time.Duration(now.Nano())
}

// startAgain has the service manager read its files anew and start its goal
// again, by the signals that systemd(1) names; so early in a start there is no
// bus to ask over.
func (running) startAgain() error {
	// SIGRTMIN+0 of the C library that the service manager is built with
	const enterDefault = unix.Signal(34)
	return errors.Join(unix.Kill(1, unix.SIGHUP), unix.Kill(1, enterDefault))
}
