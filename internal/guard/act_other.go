//go:build !linux

package guard

import (
	"errors"
	"time"
)

func (running) uptime() time.Duration { return 0 }

func (running) startAgain() error { return errors.New("only Linux machines are guarded") }
