package manager

import (
	"net"
	"runtime"
	"time"

	"golang.org/x/sys/unix"
)

// dialAs connects to a socket with the user's ids: the other side sees those
// that this thread has at that moment.
func dialAs(path string, uid, gid int) (net.Conn, error) {
	runtime.LockOSThread()
	if unix.Geteuid() != uid {
		const keep = ^uintptr(0)
		if _, _, errno := unix.RawSyscall(unix.SYS_SETRESGID, keep, uintptr(gid),
			keep); errno != 0 {
			runtime.UnlockOSThread()
			return nil, errno
		}
		if _, _, errno := unix.RawSyscall(unix.SYS_SETRESUID, keep, uintptr(uid),
			keep); errno != 0 {
			return nil, errno // the thread stays locked and ends with its goroutine
		}
		defer func() {
			_, _, e1 := unix.RawSyscall(unix.SYS_SETRESUID, keep, 0, keep)
			_, _, e2 := unix.RawSyscall(unix.SYS_SETRESGID, keep, 0, keep)
			if e1 == 0 && e2 == 0 {
				runtime.UnlockOSThread()
			}
		}()
	} else {
		defer runtime.UnlockOSThread()
	}
	return net.DialTimeout("unix", path, 2*time.Second)
}
