package testtree

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

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
