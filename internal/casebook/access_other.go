//go:build !linux

package casebook

import "os"

// mayWrite reports why we may not write to a file or folder of this computer,
// as far as can be told without trying.
func mayWrite(p string) error {
	_, err := os.Stat(p)
	return err
}
