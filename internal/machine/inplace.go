package machine

import (
	"errors"
	"os"
	"syscall"
)

// An InPlace is a regular file that is written where it stands. So it keeps its
// identity and all that its file system knows of it. It is for stores: what
// they keep in files of their own. Close it after use.
type InPlace struct {
	file *os.File
	root *Root
	path string
	size int64
}

// OpenInPlace opens the file at p for reading and writing. The folder of p must
// be free of links, as those of edits are.
func (r *Root) OpenInPlace(p string) (*InPlace, error) {
	f := &InPlace{root: r, path: p}
	err := r.at(p, "", func(at place) error {
		info, err := at.dir.stat(at.name)
		if err != nil {
			return named("stat", p, err)
		}
		if info.Kind != Regular {
			return notEdited(p, info.Kind)
		}
		f.size = info.Size
		f.file, err = at.dir.open(at.name, os.O_RDWR)
		return named("open", p, err)
	})
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Close closes the file.
func (f *InPlace) Close() error { return f.file.Close() }

func (f *InPlace) step(op string, n int, do func() error) error {
	if err := f.root.hook(op, f.path, int64(n)); err != nil {
		return err
	}
	return named(op, f.path, do())
}

// ReadAt reads bytes of the file, as [io.ReaderAt] says.
func (f *InPlace) ReadAt(data []byte, at int64) (int, error) { return f.file.ReadAt(data, at) }

// WriteAt writes bytes of the file, as [io.WriterAt] says.
func (f *InPlace) WriteAt(data []byte, at int64) (n int, err error) {
	err = f.step("write", len(data), func() error {
		n, err = f.file.WriteAt(data, at)
		return err
	})
	return n, err
}

// Sync returns when what was written is on the disk.
func (f *InPlace) Sync() error { return f.step("sync", 0, f.file.Sync) }

// Truncate cuts the file after so many bytes.
func (f *InPlace) Truncate(size int64) error {
	return f.step("write", 0, func() error { return f.file.Truncate(size) })
}

// Reserve makes the file at least so many bytes long, with room on the disk for
// them. Where there is none, it stays as long as it was.
func (f *InPlace) Reserve(size int64) error {
	if size <= f.size {
		return nil
	}
	err := f.step("write", int(size-f.size), func() error {
		err := reserve(f.file, f.size, size-f.size)
		if !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, syscall.ENOSYS) {
			return err
		}
		_, err = f.file.WriteAt(make([]byte, size-f.size), f.size)
		if err == nil {
			err = f.file.Sync() // some find out only then
		}
		return err
	})
	if err != nil {
		// a write that found no room may have made it longer
		return errors.Join(err, f.file.Truncate(f.size))
	}
	f.size = size
	return nil
}
