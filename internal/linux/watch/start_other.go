//go:build !linux

package watch

import (
	"errors"
	"time"
)

func (start) Uptime() time.Duration { return 0 }

func (start) StartAgain() error { return errors.New("only Linux machines are guarded") }
