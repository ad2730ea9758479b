//go:build !linux

package watch

import (
	"errors"
	"time"
)

type clock struct{ behind time.Duration }

func startClock() (clock, error) {
	return clock{}, errors.New("the recorder watches Linux machines only")
}

func (clock) now() time.Duration { return 0 }

func (clock) sleep(d time.Duration) { time.Sleep(d) }

func ownProcessorTime() time.Duration { return 0 }

func rootDevice() (string, bool) { return "", false }
