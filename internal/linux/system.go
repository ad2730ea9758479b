package linux

import (
	"fmt"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// frozen says why no change of the machine would hold; empty where one does.
func frozen(r *machine.Root) string {
	if by := startedBy(r); by != "" {
		return "it is started by " + by + ", which is not read yet"
	}
	if r.Live() {
		mounts, _ := os.ReadFile("/proc/self/mountinfo")
		return passing(string(mounts), r.IsFile("/run/systemd/container"))
	}
	for _, f := range fstab(r) {
		if f.kind == "overlay" && (f.folder == "/" || f.folder == "/etc") {
			return "its /etc/fstab lays another layer over " + f.folder + " at each boot, in " +
				"which a change made here would not be seen: change the running machine"
		}
	}
	return ""
}

// passing says why a change of the running machine may be gone at its next
// boot, from proc_pid_mountinfo(5). /etc or /var is kept in memory. Or it is on
// an overlay whose upper layer is, or may be. A container's own is its host's
// matter.
func passing(mounts string, container bool) string {
	type mount struct{ at, kind, options string }
	var all []mount
	for line := range strings.Lines(mounts) {
		left, right, ok := strings.Cut(line, " - ")
		l, rest := strings.Fields(left), strings.Fields(right)
		if ok && len(l) > 4 && len(rest) > 2 {
			all = append(all, mount{l[4], rest[0], rest[2]})
		}
	}
	const gone = ", so a change would be gone at its next boot"
	inMemory := func(kind string) bool { return kind == "tmpfs" || kind == "ramfs" }
	for _, folder := range []string{"/etc", "/var"} {
		var over mount // what the folder is on; of several at one place the last is seen
		for _, m := range all {
			if within(folder, m.at) && len(m.at) >= len(over.at) {
				over = m
			}
		}
		switch {
		case inMemory(over.kind):
			return over.at + " is kept in memory alone" + gone
		case over.kind == "overlay" && !container:
			upper, below := option(over.options, "upperdir"), mount{}
			for _, m := range all {
				if m.at != "/" && within(upper, m.at) && len(m.at) >= len(below.at) {
					below = m
				}
			}
			switch {
			case upper == "":
				return over.at + " is an overlay without a layer that keeps changes" + gone
			case inMemory(below.kind):
				return "what is written to " + over.at + " is kept in memory alone" + gone
			case below.at == "" && over.at == "/":
				return over.at + " is an overlay, and whether its upper layer is kept in " +
					"memory cannot be told: a change may be gone at its next boot"
			}
		}
	}
	return ""
}

// option is the value of one of the options of a mount.
func option(options, name string) string {
	for part := range strings.SplitSeq(options, ",") {
		if value, ok := strings.CutPrefix(part, name+"="); ok {
			return value
		}
	}
	return ""
}

func within(p, folder string) bool {
	return p == folder || strings.HasPrefix(p, strings.TrimSuffix(folder, "/")+"/")
}

var initWord = regexp.MustCompile(`(?m)^[^#\n]*\binit=(/[^\s"']+)`)

// startedBy names what starts the machine's services, where that is seen not to
// be systemd; empty where it is, or nothing tells.
func startedBy(r *machine.Root) string {
	if r.Live() {
		if info, err := r.Stat("/run/systemd/system"); err == nil && info.Kind == machine.Folder {
			return "" // sd_booted(3)
		}
	}
	if r.IsFile("/etc/NIXOS") {
		return ""
	}
	first := "/sbin/init"
	for _, p := range []string{"/etc/default/grub", "/etc/kernel/cmdline", "/boot/cmdline.txt"} {
		text, _ := r.ReadFile(p, maxSetup)
		if m := initWord.FindSubmatch(text); m != nil {
			first = string(m[1])
		}
	}
	real, err := r.Resolve(first)
	if err != nil {
		return ""
	}
	table, _ := r.ReadFile("/etc/inittab", maxSetup)
	switch name := path.Base(real); {
	case strings.HasPrefix(name, "systemd"):
		return ""
	case strings.HasPrefix(name, "openrc"), strings.Contains(string(table), "openrc"):
		return "OpenRC"
	case strings.HasPrefix(name, "runit"):
		return "runit"
	case strings.HasPrefix(name, "s6"):
		return "s6"
	case strings.HasPrefix(name, "dinit"):
		return "dinit"
	case len(table) > 0 && (name == "init" || name == "busybox"):
		return "the scripts of /etc/inittab"
	}
	return ""
}

// A mounted is a line of fstab(5).
type mounted struct{ folder, kind, options string }

// fstab are the file systems that the machine mounts at its boots.
func fstab(r *machine.Root) []mounted { return fstabAt(r, "/") }

func fstabAt(r *machine.Root, top string) (all []mounted) {
	text, err := r.ReadFile(path.Join(top, "etc/fstab"), maxSetup)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		f := append(strings.Fields(line), "", "")
		if len(f) < 5 || strings.HasPrefix(f[0], "#") {
			continue
		}
		all = append(all, mounted{path.Clean(strings.ReplaceAll(f[1], `\040`, " ")), f[2], f[3]})
	}
	return all
}

// kept are the folders in which what the administrator sets up stays; below
// others stands what packages, images and generators bring.
var kept = []string{"/etc", "/var", "/usr/local", "/opt", "/srv", "/root", "/home"}

// unkept refuses edits of the machine that links lead out of the folders in
// which they would stay, as into a store of packages. Another generation of it
// knows nothing of them, and it is verified.
func unkept(edits []change.Edit) error {
	for _, e := range edits {
		in := func(folder string) bool { return within(e.Path, folder) }
		if e.Home == "" && change.Scheme(e.Path) == "" && !slices.ContainsFunc(kept, in) {
			return fmt.Errorf("it would change %s, which is not the administrator's: the "+
				"machine's own configuration sets this up; change it there", e.Path)
		}
	}
	return nil
}
