//go:build linux && amd64

package stoptest

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// An Op is one writing system call, with all that is needed to make it again on
// another copy of the files.
type Op struct {
	Name  string // data, sync, or what it does to names and attributes
	Path  string // absolute
	Other string // where a rename leads, what a link says, an attribute's name
	Data  []byte
	Pos   int64 // where data goes, how long a file is cut, a time in nanoseconds
	Mode  uint32
	UID   int // as whom it was made, or who gets the file; -1 for unchanged
	GID   int
	Dir   bool
}

// Record runs a program to its end and returns its writing calls.
func Record(program string, args ...string) ([]Op, Result, error) {
	var ops []Op
	var wrong error
	r, err := follow(0, 0, func(tid int, regs *unix.PtraceRegs) {
		op, ok, err := decode(tid, regs)
		if wrong = errors.Join(wrong, err); ok {
			ops = append(ops, op)
		}
	}, program, args)
	return ops, r, errors.Join(err, wrong)
}

// A caller is the thread that makes a call.
type caller struct {
	tid int
	mem *os.File
	err error
}

func (c *caller) read(at uint64, n int) []byte {
	b := make([]byte, n)
	if _, err := c.mem.ReadAt(b, int64(at)); err != nil {
		c.err = errors.Join(c.err, err)
	}
	return b
}

func (c *caller) text(at uint64) string {
	var b []byte
	for len(b) < unix.PathMax && c.err == nil {
		next := c.read(at+uint64(len(b)), 1)
		if next[0] == 0 {
			break
		}
		b = append(b, next...)
	}
	return string(b)
}

func (c *caller) fd(n uint64) string {
	p, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/%d", c.tid, int32(n)))
	c.err = errors.Join(c.err, err)
	return p
}

// path makes the words of a call an absolute path.
func (c *caller) path(dir, at uint64) string {
	p := ""
	if at != 0 {
		p = c.text(at)
	}
	if rest, ok := strings.CutPrefix(p, "/proc/self/fd/"); ok {
		n, rest, _ := strings.Cut(rest, "/")
		folder, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/%s", c.tid, n))
		c.err = errors.Join(c.err, err)
		return filepath.Join(folder, rest)
	}
	switch {
	case filepath.IsAbs(p):
	case int32(dir) == unix.AT_FDCWD:
		cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", c.tid))
		c.err = errors.Join(c.err, err)
		p = filepath.Join(cwd, p)
	default:
		p = filepath.Join(c.fd(dir), p)
	}
	return filepath.Clean(p)
}

// as tells with whose file-system ids the thread works, proc_pid_status(5).
func (c *caller) as() (uid, gid int) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.tid))
	c.err = errors.Join(c.err, err)
	for line := range strings.Lines(string(text)) {
		var a, b, d int
		if strings.HasPrefix(line, "Uid:") {
			fmt.Sscanf(line, "Uid: %d %d %d %d", &a, &b, &d, &uid)
		}
		if strings.HasPrefix(line, "Gid:") {
			fmt.Sscanf(line, "Gid: %d %d %d %d", &a, &b, &d, &gid)
		}
	}
	return uid, gid
}

// decode reads a call that is about to be made; false for one that changes
// nothing.
func decode(tid int, r *unix.PtraceRegs) (op Op, ok bool, err error) {
	mem, err := os.Open(fmt.Sprintf("/proc/%d/mem", tid))
	if err != nil {
		return op, false, err
	}
	defer mem.Close()
	c := &caller{tid: tid, mem: mem}
	cwd := uint64(0xffffffffffffff9c) // AT_FDCWD
	opened := func(p string, flags uint64, mode uint64) Op {
		_, missing := os.Lstat(p)
		o := Op{Name: "truncate", Path: p}
		if missing != nil {
			o = Op{Name: "create", Path: p, Mode: uint32(mode)}
			o.UID, o.GID = c.as()
		} else if flags&unix.O_TRUNC == 0 {
			o.Name = ""
		}
		return o
	}
	made := func(o Op) Op { o.UID, o.GID = c.as(); return o }
	switch r.Orig_rax {
	case unix.SYS_OPEN:
		op = opened(c.path(cwd, r.Rdi), r.Rsi, r.Rdx)
	case unix.SYS_OPENAT:
		op = opened(c.path(r.Rdi, r.Rsi), r.Rdx, r.R10)
	case unix.SYS_WRITE:
		var pos int64
		info, err := os.ReadFile(fmt.Sprintf("/proc/%d/fdinfo/%d", tid, r.Rdi))
		c.err = errors.Join(c.err, err)
		fmt.Sscanf(string(info), "pos: %d", &pos)
		op = Op{Name: "data", Path: c.fd(r.Rdi), Data: c.read(r.Rsi, int(r.Rdx)), Pos: pos}
	case unix.SYS_PWRITE64:
		op = Op{Name: "data", Path: c.fd(r.Rdi), Data: c.read(r.Rsi, int(r.Rdx)), Pos: int64(r.R10)}
	case unix.SYS_FTRUNCATE:
		op = Op{Name: "truncate", Path: c.fd(r.Rdi), Pos: int64(r.Rsi)}
	case unix.SYS_FSYNC, unix.SYS_FDATASYNC:
		op = Op{Name: "sync", Path: c.fd(r.Rdi)}
	case unix.SYS_UNLINK:
		op = Op{Name: "remove", Path: c.path(cwd, r.Rdi)}
	case unix.SYS_UNLINKAT:
		op = Op{Name: "remove", Path: c.path(r.Rdi, r.Rsi), Dir: r.Rdx&unix.AT_REMOVEDIR != 0}
	case unix.SYS_RMDIR:
		op = Op{Name: "remove", Path: c.path(cwd, r.Rdi), Dir: true}
	case unix.SYS_RENAME:
		op = Op{Name: "rename", Path: c.path(cwd, r.Rdi), Other: c.path(cwd, r.Rsi)}
	case unix.SYS_RENAMEAT, unix.SYS_RENAMEAT2:
		op = Op{Name: "rename", Path: c.path(r.Rdi, r.Rsi), Other: c.path(r.Rdx, r.R10)}
	case unix.SYS_SYMLINKAT:
		op = made(Op{Name: "symlink", Path: c.path(r.Rsi, r.Rdx), Other: c.text(r.Rdi)})
	case unix.SYS_MKDIR:
		op = made(Op{Name: "mkdir", Path: c.path(cwd, r.Rdi), Mode: uint32(r.Rsi)})
	case unix.SYS_MKDIRAT:
		op = made(Op{Name: "mkdir", Path: c.path(r.Rdi, r.Rsi), Mode: uint32(r.Rdx)})
	case unix.SYS_FCHMOD:
		op = Op{Name: "chmod", Path: c.fd(r.Rdi), Mode: uint32(r.Rsi)}
	case unix.SYS_CHMOD:
		op = Op{Name: "chmod", Path: c.path(cwd, r.Rdi), Mode: uint32(r.Rsi)}
	case unix.SYS_FCHMODAT:
		op = Op{Name: "chmod", Path: c.path(r.Rdi, r.Rsi), Mode: uint32(r.Rdx)}
	case unix.SYS_FCHOWN:
		op = Op{Name: "chown", Path: c.fd(r.Rdi), UID: int(int32(r.Rsi)), GID: int(int32(r.Rdx))}
	case unix.SYS_FCHOWNAT:
		op = Op{
			Name: "chown",
			Path: c.path(r.Rdi, r.Rsi),
			UID:  int(int32(r.Rdx)),
			GID:  int(int32(r.R10)),
		}
	case unix.SYS_UTIMENSAT:
		var times [4]int64
		_ = binary.Read(bytes.NewReader(c.read(r.Rdx, 32)), binary.LittleEndian, &times)
		op = Op{Name: "time", Path: c.path(r.Rdi, r.Rsi), Pos: times[2]*1e9 + times[3]}
	case unix.SYS_LSETXATTR:
		op = Op{
			Name:  "xattr",
			Path:  c.path(cwd, r.Rdi),
			Other: c.text(r.Rsi),
			Data:  c.read(r.Rdx, int(r.R10)),
		}
	case unix.SYS_LREMOVEXATTR:
		op = Op{Name: "unxattr", Path: c.path(cwd, r.Rdi), Other: c.text(r.Rsi)}
	default:
		return op, false, fmt.Errorf("system call %d is not understood", r.Orig_rax)
	}
	return op, op.Name != "" && !strings.HasSuffix(op.Path, " (deleted)"), c.err
}

// Make makes the call again on a copy of the files, where one that fails now
// has failed then.
func (o Op) Make() error {
	var err error
	switch o.Name {
	case "sync":
	case "create":
		if err = ignore(syscall.Mknod(o.Path, unix.S_IFREG|o.Mode, 0)); err == nil {
			err = os.Lchown(o.Path, o.UID, o.GID)
		}
	case "data":
		var f *os.File
		if f, err = os.OpenFile(o.Path, os.O_WRONLY, 0); err == nil {
			_, err = f.WriteAt(o.Data, o.Pos)
			err = errors.Join(err, f.Close())
		}
	case "truncate":
		err = os.Truncate(o.Path, o.Pos)
	case "remove":
		if o.Dir {
			err = unix.Rmdir(o.Path)
		} else {
			err = unix.Unlink(o.Path)
		}
	case "rename":
		err = os.Rename(o.Path, o.Other)
	case "symlink":
		if err = os.Symlink(o.Other, o.Path); err == nil {
			err = os.Lchown(o.Path, o.UID, o.GID)
		}
	case "mkdir":
		if err = os.Mkdir(o.Path, os.FileMode(o.Mode)); err == nil {
			err = os.Lchown(o.Path, o.UID, o.GID)
		}
	case "chmod":
		err = unix.Chmod(o.Path, o.Mode)
	case "chown":
		err = os.Lchown(o.Path, o.UID, o.GID)
	case "time":
		times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, unix.NsecToTimespec(o.Pos)}
		err = unix.UtimesNanoAt(unix.AT_FDCWD, o.Path, times, unix.AT_SYMLINK_NOFOLLOW)
	case "xattr":
		err = unix.Lsetxattr(o.Path, o.Other, o.Data, 0)
	case "unxattr":
		err = unix.Lremovexattr(o.Path, o.Other)
	}
	return err
}

func ignore(err error) error {
	if errors.Is(err, os.ErrExist) {
		return nil
	}
	return err
}
