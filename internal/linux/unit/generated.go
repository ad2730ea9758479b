package unit

import (
	"slices"
	"strings"

	"calmdawn/internal/core/item"
)

// Where generators put what they make as a boot begins, systemd.generator(7).
// The third folder, generator.late, holds what they make of old scripts, which
// are read themselves.
const (
	generated      = "/run/systemd/generator"
	generatedEarly = "/run/systemd/generator.early" // stronger than adminFolder
)

// running is the tree of the running machine, where t is that of its disk. The
// next boot makes the same units anew, unless what they are made of changes.
func (src *Source) running(t *Tree) *Tree {
	weaker := slices.Index(systemPath, "/usr/local/lib/systemd/system")
	stronger := slices.Index(systemPath, adminFolder)
	r := src.system(slices.Concat(systemPath[:stronger], []string{generatedEarly},
		systemPath[stronger:weaker], []string{generated}, systemPath[weaker:]))
	r.disk = t
	return r
}

// tables are where lines and scripts stand that are items themselves.
var tables = []string{"/etc/cron", "/etc/anacrontab", "/var/spool/", scriptFolder + "/"}

// isListed reports whether a generated unit was made of what is an item itself,
// by SourcePath= of systemd.unit(5).
func (u *unit) isListed() bool {
	source := u.last("Unit", "SourcePath")
	return u.file != nil && isGenerated(u.file.path) &&
		slices.ContainsFunc(tables, func(p string) bool { return strings.HasPrefix(source, p) })
}

func isGenerated(p string) bool {
	return strings.HasPrefix(p, generated+"/") || isEarly(p)
}

func isEarly(p string) bool { return strings.HasPrefix(p, generatedEarly+"/") }

// isMade reports whether an item is one only for what generators made.
func (t *Tree) isMade(it item.Item) bool {
	if t.disk == nil {
		return false
	}
	if isGenerated(it.File) {
		return true
	}
	for _, p := range t.pulledAs[it.Native] {
		if p.hidden && slices.ContainsFunc(p.paths, isGenerated) {
			return true
		}
	}
	_, on := t.reachAny()[it.Native]
	_, lasts := t.disk.reachAny()[it.Native]
	return on && !lasts
}
