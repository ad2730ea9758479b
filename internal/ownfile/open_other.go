//go:build !unix

package ownfile

import "os"

const notWaiting, nothingElse = 0, 0

// Open opens a file for reading; who owns it is not told by a number here.
func Open(file, _ string) (*os.File, error) { return os.Open(file) }
