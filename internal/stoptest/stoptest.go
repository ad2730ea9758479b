//go:build linux && amd64

// Package stoptest runs a program and kills it before a chosen one of its
// writing system calls, counted over all its threads. Only tests use it.
//
// The program is started through the test's own binary, which puts a filter
// (seccomp(2)) in place that has the kernel stop at writing calls alone. It is
// followed with ptrace(2). So the same number stops at the same call, and a run
// takes little longer than without.
package stoptest

import (
	"fmt"
	"os"
	"runtime"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// launch names the variable by which the test's binary knows that it is to
// launch a program.
const launch = "CALMDAWN_STOPTEST_LAUNCH"

// Launch has to be called first in TestMain. Where the process was started by
// [Run], it does not return.
func Launch() {
	if os.Getenv(launch) == "" {
		return
	}
	runtime.LockOSThread()
	err := filter()
	if err == nil {
		err = syscall.Exec(os.Args[1], os.Args[1:], os.Environ())
	}
	fmt.Fprintln(os.Stderr, "stoptest:", err)
	os.Exit(127)
}

// A Result is what became of a run.
type Result struct {
	Calls   int            // writing system calls, the one before which it was stopped included
	Stopped bool           // the signal was sent
	Code    int            // exit status; of one that did not exit by itself 0
	Signal  syscall.Signal // that ended it
	Last    string         // the last writing call
	Output  string         // both streams
}

// Run runs a program and sends it a signal, SIGKILL to stop it, before its nth
// writing system call; 0 lets it end. Runs may be made in parallel.
func Run(n int, sig syscall.Signal, program string, args ...string) (Result, error) {
	return follow(n, sig, nil, program, args)
}

// follow shows each writing call to see before it is made, where that is given.
func follow(
	n int,
	sig syscall.Signal,
	see func(tid int, regs *unix.PtraceRegs),
	program string,
	args []string,
) (Result, error) {
	type ended struct {
		Result
		err error
	}
	done := make(chan ended)
	go func() {
		runtime.LockOSThread() // it traces, and ends with its goroutine
		r, err := run(n, sig, see, program, args)
		done <- ended{r, err}
	}()
	e := <-done
	return e.Result, e.err
}

func run(
	n int,
	sig syscall.Signal,
	see func(int, *unix.PtraceRegs),
	program string,
	args []string,
) (r Result, err error) {
	out, err := os.CreateTemp("", "stoptest-")
	if err != nil {
		return r, err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	null, err := os.Open(os.DevNull)
	if err != nil {
		return r, err
	}
	defer null.Close()
	leader, err := syscall.ForkExec("/proc/self/exe", append([]string{
		"stoptest",
		program,
	}, args...), &syscall.ProcAttr{
		Env:   append(os.Environ(), launch+"=1"),
		Files: []uintptr{null.Fd(), out.Fd(), out.Fd()},
		Sys:   &syscall.SysProcAttr{Ptrace: true, Setpgid: true},
	})
	if err != nil {
		return r, err
	}
	const options = unix.PTRACE_O_TRACECLONE | unix.PTRACE_O_TRACEFORK | unix.PTRACE_O_TRACEVFORK |
		unix.PTRACE_O_TRACEEXEC | unix.PTRACE_O_TRACESECCOMP | unix.PTRACE_O_EXITKILL
	prepared := false
	for {
		var st unix.WaitStatus
		pid, err := unix.Wait4(-leader, &st, unix.WALL|unix.WNOTHREAD, nil)
		switch {
		case err == unix.EINTR:
			continue
		case err == unix.ECHILD:
			text, err := os.ReadFile(out.Name())
			r.Output = string(text)
			return r, err
		case err != nil:
			return r, fmt.Errorf("wait4: %w", err)
		case st.Exited() && pid == leader:
			r.Code = st.ExitStatus()
			continue
		case st.Signaled() && pid == leader:
			r.Signal = st.Signal()
			continue
		case !st.Stopped():
			continue
		}
		if !prepared {
			prepared = true
			if err := unix.PtraceSetOptions(pid, options); err != nil {
				return r, err
			}
		}
		deliver := 0
		switch got := st.StopSignal(); {
		case got == unix.SIGTRAP && st.TrapCause() == unix.PTRACE_EVENT_SECCOMP:
			var regs unix.PtraceRegs
			if unix.PtraceGetRegs(pid, &regs) != nil {
				break
			}
			name, writes := call(pid, &regs)
			if !writes || r.Stopped && sig == unix.SIGKILL {
				break
			}
			if see != nil {
				see(pid, &regs)
			}
			r.Calls, r.Last = r.Calls+1, name
			if r.Calls == n {
				r.Stopped = true
				_ = unix.Kill(leader, sig)
			}
			if r.Stopped && sig == unix.SIGKILL {
				continue
			}
		case got == unix.SIGTRAP, got == unix.SIGSTOP:
		default:
			deliver = int(got)
		}
		_ = unix.PtraceCont(pid, deliver) // one that was killed meanwhile says so itself
	}
}

// call names the system call that a thread is about to make. It tells whether
// that writes to a file. The runtime wakes itself up by writing to what is
// none.
func call(pid int, regs *unix.PtraceRegs) (name string, writes bool) {
	for _, w := range writing {
		if uint64(w.number) != regs.Orig_rax {
			continue
		}
		if w.number == unix.SYS_WRITE {
			if regs.Rdi <= 2 {
				return "", false
			}
			target, _ := os.Readlink(fmt.Sprintf("/proc/%d/fd/%d", pid, regs.Rdi))
			return w.name + " " + target, strings.HasPrefix(target, "/")
		}
		return w.name, true
	}
	return "", false
}

// writing are the system calls that change files; of some only those with one
// of the given flags in an argument.
var writing = []struct {
	name     string
	number   uint32
	argument int
	flags    uint32
}{
	{"open", unix.SYS_OPEN, 1, unix.O_CREAT | unix.O_TRUNC},
	{"openat", unix.SYS_OPENAT, 2, unix.O_CREAT | unix.O_TRUNC},
	{name: "write", number: unix.SYS_WRITE},
	{name: "pwrite", number: unix.SYS_PWRITE64},
	{name: "ftruncate", number: unix.SYS_FTRUNCATE},
	{name: "fallocate", number: unix.SYS_FALLOCATE},
	{name: "copy_file_range", number: unix.SYS_COPY_FILE_RANGE},
	{name: "fsync", number: unix.SYS_FSYNC},
	{name: "fdatasync", number: unix.SYS_FDATASYNC},
	{name: "unlink", number: unix.SYS_UNLINK},
	{name: "unlinkat", number: unix.SYS_UNLINKAT},
	{name: "rename", number: unix.SYS_RENAME},
	{name: "renameat", number: unix.SYS_RENAMEAT},
	{name: "renameat2", number: unix.SYS_RENAMEAT2},
	{name: "symlinkat", number: unix.SYS_SYMLINKAT},
	{name: "linkat", number: unix.SYS_LINKAT},
	{name: "mkdir", number: unix.SYS_MKDIR},
	{name: "mkdirat", number: unix.SYS_MKDIRAT},
	{name: "rmdir", number: unix.SYS_RMDIR},
	{name: "fchmod", number: unix.SYS_FCHMOD},
	{name: "fchmodat", number: unix.SYS_FCHMODAT},
	{name: "chmod", number: unix.SYS_CHMOD},
	{name: "fchown", number: unix.SYS_FCHOWN},
	{name: "fchownat", number: unix.SYS_FCHOWNAT},
	{name: "utimensat", number: unix.SYS_UTIMENSAT},
	{name: "lsetxattr", number: unix.SYS_LSETXATTR},
	{name: "fsetxattr", number: unix.SYS_FSETXATTR},
	{name: "lremovexattr", number: unix.SYS_LREMOVEXATTR},
}

// filter has the kernel tell the tracer of writing system calls, of this thread
// and what comes of it. It is bpf(4) in its classic form, over struct
// seccomp_data.
func filter() error {
	const (
		load  = unix.BPF_LD | unix.BPF_W | unix.BPF_ABS
		equal = unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K
		set   = unix.BPF_JMP | unix.BPF_JSET | unix.BPF_K
		give  = unix.BPF_RET | unix.BPF_K
	)
	argument := func(n int) uint32 { return uint32(16 + 8*n) }
	program := []unix.SockFilter{{Code: load, K: 0}}
	for _, w := range writing {
		if w.flags == 0 {
			program = append(program, unix.SockFilter{Code: equal, Jf: 1, K: w.number},
				unix.SockFilter{Code: give, K: unix.SECCOMP_RET_TRACE})
			continue
		}
		program = append(program, unix.SockFilter{Code: equal, Jf: 4, K: w.number},
			unix.SockFilter{Code: load, K: argument(w.argument)},
			unix.SockFilter{Code: set, Jf: 1, K: w.flags},
			unix.SockFilter{Code: give, K: unix.SECCOMP_RET_TRACE},
			unix.SockFilter{Code: give, K: unix.SECCOMP_RET_ALLOW})
	}
	program = append(program, unix.SockFilter{Code: give, K: unix.SECCOMP_RET_ALLOW})
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	code := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	return unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER,
		uintptr(unsafe.Pointer(&code)), 0, 0)
}
