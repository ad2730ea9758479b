//go:build !linux

package guard

import (
	"errors"
	"time"
)

func uptime() time.Duration { return 0 }

func startAgain() error { return errors.New("only Linux machines are guarded") }
