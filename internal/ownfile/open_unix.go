//go:build unix

package ownfile

import (
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"syscall"
)

const (
	notWaiting = syscall.O_NONBLOCK
	// nothingElse opens no link, and waits for nothing
	nothingElse = syscall.O_NOFOLLOW | notWaiting
)

// Open opens a plain file of the user with the given number for reading. It
// follows no link, and waits for nothing that the file may be instead.
func Open(file, uid string) (*os.File, error) {
	f, err := os.OpenFile(file, os.O_RDONLY|nothingElse, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil {
		st, ok := info.Sys().(*syscall.Stat_t)
		if !info.Mode().IsRegular() || !ok || strconv.Itoa(int(st.Uid)) != uid {
			err = &fs.PathError{Op: "open", Path: file,
				Err: fmt.Errorf("it is not a plain file of user %s", uid)}
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
