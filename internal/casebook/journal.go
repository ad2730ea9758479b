package casebook

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"modernc.org/sqlite"
)

// maxCopy bounds what is copied of a casebook, in bytes.
const maxCopy = 1 << 30

// isHot reports whether SQLite refused to read because a transaction was left
// half written, which only a writer may roll back (SQLITE_READONLY_ROLLBACK,
// sqlite.org/rescode.html).
func isHot(err error) bool {
	const readOnlyRollback = 776
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code() == readOnlyRollback
}

func (at place) journal() string { return at.file + "-journal" }

// journalSize is the size of the rollback journal in bytes; negative without
// one.
func (at place) journalSize() int64 {
	info, err := os.Lstat(at.journal())
	if err != nil {
		return -1
	}
	return info.Size()
}

// checkJournal refuses a rollback journal that names a further file. SQLite
// would remove that one, wherever it is, and no casebook of ours has such a
// journal (sqlite.org/fileformat2.html, "super-journal").
func (at place) checkJournal() error {
	f, err := os.Open(at.journal())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	magic := []byte{0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7}
	tail := make([]byte, len(magic))
	info, err := f.Stat()
	if err != nil || info.Size() < 512 {
		return err
	}
	if _, err := f.ReadAt(tail, info.Size()-int64(len(tail))); err != nil {
		return err
	}
	if bytes.Equal(tail, magic) {
		return fmt.Errorf("the casebook %s is not opened: what was left half written in it names "+
			"a further file, as no calmdawn does", at.where)
	}
	return nil
}

// copy makes a private copy of the casebook and its journal, which goes when
// it is released.
func (at place) copy() (place, error) {
	dir, err := os.MkdirTemp("", "calmdawn-casebook-") // 0700
	if err != nil {
		return at, err
	}
	copied := place{
		file:    filepath.Join(dir, Name),
		where:   at.where,
		outside: true,
		release: func() error { return os.RemoveAll(dir) },
	}
	const tries = 3
	for try := range tries {
		size := at.journalSize()
		err = errors.Join(copyFile(at.journal(), copied.journal()), copyFile(at.file, copied.file))
		if err == nil && at.journalSize() == size {
			return copied, nil
		}
		if err == nil && try == tries-1 {
			err = errors.New("it is being written at this moment; call again")
		}
	}
	copied.release()
	return at, err
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(in, maxCopy+1))
	if err == nil && n > maxCopy {
		err = fmt.Errorf("it is larger than %d bytes", maxCopy)
	}
	return errors.Join(err, out.Close())
}
