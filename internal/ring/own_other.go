//go:build !linux

package ring

import "time"

func own() time.Duration { return 0 }
