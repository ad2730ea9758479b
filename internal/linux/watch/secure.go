package watch

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"calmdawn/internal/machine"
)

// othersMayWrite refuses paths in folders, or in folders above them, that
// anybody but root may write into. The machine's next boot runs as root what
// stands there. A group may where it has no members, as Debian's staff.
func othersMayWrite(r *machine.Root, paths ...string) error {
	top, err := r.Stat("/")
	if err != nil {
		return err
	}
	for _, p := range paths {
		for at := path.Dir(p); ; at = path.Dir(at) {
			resolved, err := r.Resolve(at)
			if errors.Is(err, fs.ErrNotExist) {
				continue // it is made, as root's
			} else if err != nil {
				return err
			}
			for above := resolved; ; above = path.Dir(above) {
				info, err := r.Stat(above)
				if err != nil {
					return err
				}
				if why := writers(r, info, top.UID); why != "" {
					return fmt.Errorf("%s %s, and what stands there would run as root; set it "+
						"right, then try again", above, why)
				}
				if above == "/" {
					break
				}
			}
			if at == "/" {
				break
			}
		}
	}
	return nil
}

// writers says who but root may write into a folder; empty for nobody. In a
// folder that is no real disk its owner stands for root.
func writers(r *machine.Root, info machine.Info, root int) string {
	const group, others = 0o020, 0o002
	switch {
	case info.UID != 0 && info.UID != root:
		return fmt.Sprintf("belongs to user %d", info.UID)
	case info.Mode&others != 0:
		return "may be written by everybody"
	case info.Mode&group != 0 && hasMembers(r, info.GID):
		return fmt.Sprintf("may be written by group %d, which has members", info.GID)
	}
	return ""
}

// hasMembers reports whether anybody but root is in a group, group(5) and
// passwd(5). Where that cannot be read somebody is.
func hasMembers(r *machine.Root, gid int) bool {
	const most = 4 << 20
	number := strconv.Itoa(gid)
	groups, err1 := r.ReadFile("/etc/group", most)
	users, err2 := r.ReadFile("/etc/passwd", most)
	if err1 != nil || err2 != nil {
		return true
	}
	for line := range strings.Lines(string(groups)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) > 3 && f[2] == number && f[3] != "" && f[3] != "root" {
			return true
		}
	}
	for line := range strings.Lines(string(users)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) > 3 && f[3] == number && f[2] != "0" {
			return true
		}
	}
	return false
}
