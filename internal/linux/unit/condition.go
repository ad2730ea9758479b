package unit

import (
	"path"
	"strings"

	"calmdawn/internal/machine"
)

// A truth is what can be said of a condition from the disk alone.
type truth int

const (
	unknown truth = iota
	holds
	fails
	broken // the service manager cannot read it
)

func (t truth) not() truth {
	switch t {
	case holds:
		return fails
	case fails:
		return holds
	}
	return unknown
}

func truthOf(b bool) truth {
	if b {
		return holds
	}
	return fails
}

// A verdict is the outcome of all of a unit's conditions, or of its assertions.
type verdict struct {
	truth
	because string   // the condition that decides, where they fail
	open    []string // those that cannot be judged here
}

// judge weighs the settings that begin with kind, "Condition" or "Assert": all
// have to hold, and of those marked with "|" one at least, systemd.unit(5). An
// empty value resets all before it.
func (t *Tree) judge(u *unit, kind string) verdict {
	var active []setting
	for _, s := range u.settings {
		if s.section != "Unit" || !strings.HasPrefix(s.key, kind) {
			continue
		}
		if s.value == "" {
			active = nil
			continue
		}
		active = append(active, setting{s.section, s.key, expand(s.value, u.name, u.more...)})
	}
	all := verdict{truth: holds}
	if len(active) == 0 {
		return all
	}
	alternatives, met, open := 0, false, false
	last := ""
	for _, s := range active {
		value, alternative := strings.CutPrefix(s.value, "|")
		value, negated := strings.CutPrefix(value, "!")
		is := t.condition(strings.TrimPrefix(s.key, kind), strings.TrimSpace(value))
		switch {
		case is == broken: // it does not hold, negated neither
			is = fails
		case negated:
			is = is.not()
		}
		text := s.key + "=" + s.value
		if is == unknown {
			all.open = append(all.open, text)
		}
		switch {
		case alternative:
			alternatives++
			met = met || is == holds
			open = open || is == unknown
			last = text
		case is == fails && all.because == "":
			all.because = text
		}
	}
	if alternatives > 0 && !met && !open && all.because == "" {
		all.because = last
	}
	switch {
	case all.because != "":
		all.truth = fails
	case len(all.open) > 0 && !(alternatives == len(active) && met):
		all.truth = unknown
	}
	return all
}

// passing names the folders whose content at the next boot the disk does not
// tell.
var passing = []string{"/run", "/proc", "/sys", "/dev", "/tmp", "/var/run"}

// condition judges one condition from the disk; what is relative, or unknown to
// the service manager, it ignores.
func (t *Tree) condition(name, value string) truth {
	switch name {
	case "FirstBoot":
		return truthOf(t.firstBoot() == (value == "yes" || value == "true" || value == "1" ||
			value == "on"))
	case "Host":
		return t.isHost(value)
	case "OSRelease":
		return isRelease(t.facts.release, value)
	case "User":
		return t.isUser(value)
	case "Group":
		return t.inGroup(value)
	case "PathExists",
		"PathExistsGlob",
		"PathIsDirectory",
		"PathIsSymbolicLink",
		"PathIsReadWrite",
		"PathIsMountPoint",
		"DirectoryNotEmpty",
		"FileNotEmpty",
		"FileIsExecutable":
	case "Architecture",
		"Firmware",
		"Virtualization",
		"KernelCommandLine",
		"KernelVersion",
		"Credential",
		"Environment",
		"Security",
		"Capability",
		"ACPower",
		"NeedsUpdate",
		"ControlGroupController",
		"Memory",
		"CPUs",
		"CPUFeature",
		"MemoryPressure",
		"CPUPressure",
		"IOPressure",
		"PathIsEncrypted",
		"Version":
		return unknown
	default:
		return holds
	}
	if strings.Contains(value, "%") {
		return unknown // a specifier that only the running manager knows
	}
	if !path.IsAbs(value) {
		return holds
	}
	for _, folder := range passing {
		if value == folder || strings.HasPrefix(value, folder+"/") {
			return unknown
		}
	}
	switch name {
	case "PathIsReadWrite", "PathIsMountPoint":
		return unknown
	case "PathExistsGlob":
		return truthOf(t.glob(value))
	case "PathIsSymbolicLink":
		info, err := t.root.Lstat(value)
		return truthOf(err == nil && info.Kind == machine.Symlink)
	}
	info, err := t.root.Stat(value)
	if err != nil {
		return fails
	}
	switch name {
	case "PathIsDirectory":
		return truthOf(info.Kind == machine.Folder)
	case "DirectoryNotEmpty":
		entries, err := t.list(value)
		return truthOf(err == nil && len(entries) > 0)
	case "FileNotEmpty":
		return truthOf(info.Kind == machine.Regular && info.Size > 0)
	case "FileIsExecutable":
		return truthOf(info.Kind == machine.Regular && info.Mode&0o111 != 0)
	}
	return holds
}

// glob reports whether a pattern of glob(7) fits some path.
func (t *Tree) glob(pattern string) bool {
	at := []string{"/"}
	for part := range strings.SplitSeq(strings.Trim(path.Clean(pattern), "/"), "/") {
		var next []string
		for _, folder := range at {
			if !strings.ContainsAny(part, "*?[") {
				if _, err := t.root.Stat(path.Join(folder, part)); err == nil {
					next = append(next, path.Join(folder, part))
				}
				continue
			}
			entries, err := t.list(folder)
			if err != nil {
				continue
			}
			for _, e := range entries {
				hidden := strings.HasPrefix(e.Name, ".") && !strings.HasPrefix(part, ".")
				if ok, err := path.Match(part, e.Name); ok && err == nil && !hidden {
					next = append(next, path.Join(folder, e.Name))
				}
			}
		}
		at = next
	}
	return len(at) > 0
}
