// Package ownfile writes what is the technician's own on this computer:
// reports, proposals, notes, pictures, a casebook that is kept elsewhere. They
// may tell private things of a machine, so nobody else can read them, and no
// link is followed to where they are written.
package ownfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Write makes file anew, whole or not at all, with mode 0600. What write gives
// is on the disk when it returns.
func Write(file string, write func(io.Writer) error) error {
	if _, err := plain(file); err != nil {
		return err
	}
	folder := filepath.Dir(file)
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return fmt.Errorf("there is no folder %s; make it first, or choose another", folder)
	}
	temp, err := os.CreateTemp(folder, ".calmdawn-*.tmp") // 0600, and never one that is there
	if err != nil {
		return fmt.Errorf("nothing can be made in the folder %s; choose another", folder)
	}
	defer os.Remove(temp.Name()) // gone already where all went well
	if err := errors.Join(write(temp), temp.Sync(), temp.Close()); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	return os.Rename(temp.Name(), file)
}

// Secure makes an empty file with mode 0600, or takes the rights of all others
// to one that is there. It reports whether others may read it all the same,
// since its file system keeps no modes, or it is somebody else's.
func Secure(file string) (exposed bool, err error) {
	if _, err := plain(file); err != nil {
		return false, err
	}
	// what stands there by now may be something else
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|nothingElse, 0o600)
	if err != nil {
		return false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return false, err
	}
	if !info.Mode().IsRegular() {
		return false, fmt.Errorf("%s is there already, and is not a regular file; choose "+
			"another", file)
	}
	if info.Mode().Perm()&0o077 == 0 {
		return false, nil
	}
	if err := f.Chmod(0o600); err != nil {
		return true, nil
	}
	info, err = f.Stat()
	return err == nil && info.Mode().Perm()&0o077 != 0, err
}

// maxText bounds what of somebody's own settings and notes is read.
const maxText = 8 << 20

// Read reads a plain file of somebody's own; it waits for nothing that may
// stand there instead.
func Read(file string) ([]byte, error) {
	f, err := os.OpenFile(file, os.O_RDONLY|notWaiting, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is not a file", file)
	case info.Size() > maxText:
		return nil, fmt.Errorf("%s has over 8 MiB", file)
	}
	return io.ReadAll(io.LimitReader(f, maxText))
}

// plain reports whether file is there; anything but a file is an error.
func plain(file string) (there bool, err error) {
	info, err := os.Lstat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err != nil:
		return false, err
	case info.Mode()&fs.ModeSymlink != 0:
		return true, fmt.Errorf("%s is a link, and is not followed; give the file itself", file)
	case !info.Mode().IsRegular():
		return true, fmt.Errorf("%s is there already, and is not a regular file; choose "+
			"another", file)
	}
	return true, nil
}
