package testtree

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

func owner(info fs.FileInfo) string {
	st := info.Sys().(*syscall.Stat_t)
	return fmt.Sprintf("%d:%d", st.Uid, st.Gid)
}

func xattrs(p string) string {
	buf := make([]byte, 64<<10)
	n, err := unix.Llistxattr(p, buf)
	if err != nil || n == 0 {
		return "-"
	}
	names := strings.Split(strings.TrimSuffix(string(buf[:n]), "\x00"), "\x00")
	slices.Sort(names)
	var all []string
	for _, name := range names {
		n, _ := unix.Lgetxattr(p, name, buf)
		all = append(all, fmt.Sprintf("%s=%x", name, buf[:max(0, n)]))
	}
	return strings.Join(all, ",")
}
