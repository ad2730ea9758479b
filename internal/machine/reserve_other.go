//go:build !linux

package machine

import (
	"errors"
	"os"
)

// reserve is left to writing on these systems.
func reserve(*os.File, int64, int64) error { return errors.ErrUnsupported }
