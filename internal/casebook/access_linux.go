package casebook

import "golang.org/x/sys/unix"

// mayWrite reports why we may not write to a file or folder of this computer.
func mayWrite(p string) error { return unix.Access(p, unix.W_OK) }
