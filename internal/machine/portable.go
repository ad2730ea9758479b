package machine

import (
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
)

// A portable resolves paths on every operating system, over [os.Root], which
// lets no link lead out. Links of the machine's own, absolute ones too, are
// followed here, so that they stay inside.
type portable struct {
	root *os.Root
	hook func(name, path string, n int64) error
}

// openPortable opens a folder as a machine's root. Hook is called before each
// operation.
func openPortable(dir string, hook func(string, string, int64) error) (*portable, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &portable{root, hook}, nil
}

// walk resolves p, one name at a time, and returns the path free of links,
// without the leading "/", with what stands there. The last name's link is
// followed only if that is wished.
func (r *portable) walk(p string, follow bool) (string, fs.FileInfo, error) {
	p = clean(p)
	if err := r.hook("open", p, 0); err != nil {
		return "", nil, err
	}
	if strings.IndexByte(p, 0) >= 0 {
		return "", nil, &Refusal{p, "the name holds a NUL byte"}
	}
	var trail []string
	at := func() string { return cmp.Or(strings.Join(trail, "/"), ".") }
	todo := strings.Split(p, "/")
	for links := 0; len(todo) > 0; {
		name := todo[0]
		todo = todo[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			trail = trail[:max(0, len(trail)-1)]
			continue
		}
		info, err := r.root.Lstat(path.Join(at(), name))
		if err != nil {
			return "", nil, r.named("open", p, err)
		}
		last := strings.Join(todo, "") == ""
		if info.Mode()&fs.ModeSymlink == 0 || last && !follow {
			if !last && !info.IsDir() {
				return "", nil, &fs.PathError{Op: "open", Path: p, Err: syscall.ENOTDIR}
			}
			trail = append(trail, name)
			continue
		}
		target, err := r.root.Readlink(path.Join(at(), name))
		if err != nil {
			return "", nil, r.named("open", p, err)
		}
		if links++; links > maxLinks {
			return "", nil, &Refusal{p, "its links lead in a circle"}
		}
		if strings.HasPrefix(target, "/") {
			trail = nil
		}
		todo = append(strings.Split(target, "/"), todo...)
	}
	info, err := r.root.Lstat(at())
	return at(), info, r.named("open", p, err)
}

// named has an error tell the machine's path.
func (r *portable) named(op, p string, err error) error {
	if err == nil {
		return nil
	}
	if inner, ok := err.(*fs.PathError); ok {
		err = inner.Err
	}
	return &fs.PathError{Op: op, Path: p, Err: err}
}

func (r *portable) stat(p string, follow bool) (Info, error) {
	_, info, err := r.walk(p, follow)
	if err != nil {
		return Info{}, err
	}
	return infoFrom(info), nil
}

func (r *portable) resolve(p string) (string, error) {
	rel, _, err := r.walk(p, true)
	if err != nil {
		return "", err
	}
	return path.Join("/", rel), nil
}

func (r *portable) readLink(p string) (string, error) {
	rel, _, err := r.walk(p, false)
	if err != nil {
		return "", err
	}
	target, err := r.root.Readlink(rel)
	return target, r.named("readlink", p, err)
}

// openFile opens the regular file at p; anything else is a *Refusal, and was
// not opened.
func (r *portable) openFile(p string) (*os.File, error) {
	rel, info, err := r.walk(p, true)
	if err != nil {
		return nil, err
	}
	if kind := kindOf(info.Mode()); kind != Regular {
		return nil, &Refusal{p, "is " + kind.String() + " where a file is expected; not opened"}
	}
	f, err := r.root.OpenFile(rel, os.O_RDONLY|nonBlocking, 0)
	if err != nil {
		return nil, r.named("open", p, err)
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, &Refusal{p, "was swapped while it was opened"}
	}
	return f, nil
}

func (r *portable) readFile(p string, limit int64) ([]byte, error) {
	f, err := r.openFile(p)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, r.named("read", p, err)
	}
	tooLong := &Refusal{
		p,
		fmt.Sprintf("is larger than the %d bytes that are read of such a file", limit),
	}
	if info.Size() > limit {
		return nil, tooLong
	}
	if err := r.hook("read", p, info.Size()); err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, tooLong
	}
	return data, r.named("read", p, err)
}

func (r *portable) readDir(p string) ([]Entry, error) {
	rel, info, err := r.walk(p, true)
	if err != nil {
		return nil, err
	}
	if kind := kindOf(info.Mode()); kind != Folder {
		return nil, &Refusal{p, "is " + kind.String() + " where a folder is expected; not opened"}
	}
	if err := r.hook("list", p, 0); err != nil {
		return nil, err
	}
	f, err := r.root.Open(rel)
	if err != nil {
		return nil, r.named("list", p, err)
	}
	defer f.Close()
	found, err := f.ReadDir(MaxEntries + 1)
	if len(found) > MaxEntries {
		return nil, &Refusal{p, fmt.Sprintf("holds more than %d names", MaxEntries)}
	}
	if err != nil && err != io.EOF {
		return nil, r.named("list", p, err)
	}
	entries := make([]Entry, 0, len(found))
	for _, e := range found {
		entry := Entry{Name: e.Name(), Kind: kindOf(e.Type())}
		if entry.Kind == Symlink { // empty where it cannot be read
			entry.Target, _ = r.root.Readlink(path.Join(rel, e.Name()))
		}
		entries = append(entries, entry)
	}
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, nil
}

func kindOf(m fs.FileMode) Kind {
	switch {
	case m.IsRegular():
		return Regular
	case m.IsDir():
		return Folder
	case m&fs.ModeSymlink != 0:
		return Symlink
	case m&fs.ModeNamedPipe != 0:
		return FIFO
	case m&fs.ModeSocket != 0:
		return Socket
	}
	return Device
}
