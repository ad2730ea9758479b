package linux

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"calmdawn/internal/machine"
	"calmdawn/internal/shell"
)

// at is where the commands of [Within] mount a machine.
const at = "/mnt/machine"

// in a subvolume= a subvolume dir is the folder at which the disk is mounted on
// this computer. It is a clause with the commands below it; empty where there
// is no such machine.
func Within(r *machine.Root, dir string) string {
	if text := deployed(r, dir); text != "" {
		return text
	}
	entries, err := r.ReadDir("/")
	if err != nil {
		return ""
	}
	var found []string
	for _, e := range entries {
		if e.Kind == machine.Folder && readable(e.Name) && isMachine(r, "/"+e.Name) {
			found = append(found, "/"+e.Name)
		}
	}
	for _, above := range []string{"/@", ""} {
		if snapshot := lastSnapshot(r, above+"/.snapshots"); snapshot != "" {
			found = append([]string{snapshot}, found...) // what runs is one of these
		}
	}
	if len(found) == 0 {
		return ""
	}
	source := sourceOf(dir)
	commands := []string{
		shell.Command("mkdir", "-p", at), mountCommand("subvol="+found[0][1:], source, at),
	}
	for _, f := range fstabAt(r, found[0]) {
		if sub := option(f.options, "subvol"); f.kind == "btrfs" && sub != "" &&
			slices.Contains(matters, f.folder) {
			commands = append(commands, mountCommand("subvol="+strings.TrimPrefix(sub, "/"),
				source, at+f.folder))
		}
	}
	text := "the machine stands in a part of it, " + found[0][1:]
	if len(found) > 1 {
		var others []string
		for _, p := range found[1:min(len(found), 4)] {
			others = append(others, p[1:])
		}
		text += " (there are also " + strings.Join(others, ", ") + ")"
	}
	return text + "; mount that, and give " + at + ":\n" + strings.Join(commands, "\n")
}

// readable reports whether a name from a disk may stand in a sentence.
func readable(name string) bool {
	_, ok := shell.Word(name)
	return ok
}

// isMachine reports whether a folder holds a whole system, os-release(5).
func isMachine(r *machine.Root, folder string) bool {
	for _, p := range []string{"etc/os-release", "usr/lib/os-release"} {
		if _, err := r.Lstat(path.Join(folder, p)); err == nil {
			info, err := r.Stat(path.Join(folder, "etc"))
			return err == nil && info.Kind == machine.Folder
		}
	}
	return false
}

// lastSnapshot is the one with the highest number that holds a system.
func lastSnapshot(r *machine.Root, folder string) (last string) {
	entries, err := r.ReadDir(folder)
	if err != nil {
		return ""
	}
	most := -1
	for _, e := range entries {
		p := path.Join(folder, e.Name, "snapshot")
		if n, err := strconv.Atoi(e.Name); err == nil && n > most && isMachine(r, p) {
			most, last = n, p
		}
	}
	return last
}

// deployed finds deployments of images: ostree/deploy/NAME/deploy/SUM.N, with
// the /var that all of NAME's share beside them.
func deployed(r *machine.Root, dir string) string {
	const folder = "/ostree/deploy"
	names, err := r.ReadDir(folder)
	if err != nil {
		return ""
	}
	type deployment struct {
		path, shared string
		at           int64
	}
	var all []deployment
	for _, name := range names {
		sums, _ := r.ReadDir(path.Join(folder, name.Name, "deploy"))
		for _, sum := range sums {
			p := path.Join(folder, name.Name, "deploy", sum.Name)
			info, err := r.Lstat(p)
			if err == nil && info.Kind == machine.Folder && readable(p) && isMachine(r, p) {
				all = append(all, deployment{p, path.Join(folder, name.Name, "var"),
					info.ModTime.UnixNano()})
			}
		}
	}
	if len(all) == 0 {
		return ""
	}
	slices.SortFunc(all, func(a, b deployment) int { return int(min(1, max(-1, b.at-a.at))) })
	which := ""
	if len(all) > 1 {
		which = fmt.Sprintf(", the newest of %d", len(all))
	}
	text := fmt.Sprintf("the machine is a deployment of an image%s; mount it with the /var that "+
		"stands beside it, and give %s:", which, at)
	return strings.Join([]string{
		text,
		shell.Command("mkdir", "-p", at),
		shell.Command("mount", "--bind", filepath.Join(dir, all[0].path), at),
		shell.Command("mount", "--bind", filepath.Join(dir, all[0].shared), at+"/var"),
	}, "\n")
}

func mountCommand(options, source, folder string) string {
	return shell.Command("mount", "-o", options, source, folder)
}

// sourceOf is what is mounted at a folder of this computer, or above it.
func sourceOf(dir string) string {
	text, _ := os.ReadFile("/proc/self/mountinfo")
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "DEVICE"
	}
	longest, source := "", "DEVICE"
	for line := range strings.Lines(string(text)) {
		left, right, _ := strings.Cut(line, " - ")
		l, f := strings.Fields(left), strings.Fields(right)
		if len(l) < 5 || len(f) < 2 || !within(dir, l[4]) || len(l[4]) < len(longest) {
			continue
		}
		if longest, source = l[4], "DEVICE"; f[0] == "btrfs" {
			source = f[1]
		}
	}
	return source
}

// undeployed reports whether a machine is a deployment whose /var, which stands
// beside it, is not there.
func undeployed(r *machine.Root) bool {
	link, err := r.ReadLink("/ostree")
	if err != nil || link != "sysroot/ostree" {
		return false
	}
	_, err = r.Lstat("/var/lib")
	return err != nil
}
