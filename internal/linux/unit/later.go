package unit

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/machine"
)

// Clauses on when units are started that the boot's own goal does not pull in.
const (
	whenDevice  = "when its device is there"
	whenSession = "when its session starts"
	whenRented  = "at a boot, where the machine finds who set it up"
)

// cloudTarget is what the generator of rented machines pulls in.
const cloudTarget = "cloud-init.target"

// rulesFolders hold the rules of devices, the strongest first, udev(7).
var rulesFolders = []string{
	"/etc/udev/rules.d", "/usr/local/lib/udev/rules.d", "/usr/lib/udev/rules.d",
	"/lib/udev/rules.d",
}

// wants matches where a rule has a device want units, systemd.device(5).
var wants = regexp.MustCompile(`ENV\{SYSTEMD_(USER_)?WANTS\}\s*\+?=\s*"([^"]*)"`)

const maxRules = 1 << 20 // of one file of rules

// readDevices notes the units that rules have devices want. Names that are made
// of the device are not known before it is there.
func (src *Source) readDevices() {
	src.devices = map[bool][]string{}
	seen := map[string]bool{} // a file hides those of its name in weaker folders
	var real []string
	for _, folder := range rulesFolders {
		at, err := src.root.Resolve(folder)
		if err != nil || slices.Contains(real, at) {
			continue
		}
		real = append(real, at)
		entries, err := src.root.ReadDir(at)
		if err != nil {
			src.skip(at, err)
		}
		for _, e := range entries {
			if !strings.HasSuffix(e.Name, ".rules") || seen[e.Name] {
				continue
			}
			seen[e.Name] = true
			text, err := src.root.ReadFile(path.Join(at, e.Name), maxRules)
			if err != nil && e.Target != "/dev/null" {
				src.skip(path.Join(at, e.Name), err)
			}
			src.readRules(string(text))
		}
	}
}

// readRules notes the units that one file of rules has devices want.
func (src *Source) readRules(text string) {
	for line := range strings.Lines(strings.ReplaceAll(text, "\\\n", " ")) {
		if strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		for _, m := range wants.FindAllStringSubmatch(line, -1) {
			for name := range strings.FieldsSeq(m[2]) {
				if !strings.ContainsAny(name, "$%") && validName(name) {
					user := m[1] != ""
					src.devices[user] = append(src.devices[user], name)
				}
			}
		}
	}
}

// addLater notes what starts units beside the goals: devices, the sessions that
// people log in to, and the generator of rented machines.
func (t *Tree) addLater(desktop bool) {
	t.later = map[string]string{}
	for _, name := range t.devices[t.owner.Name != ""] {
		t.later[name] = whenDevice
	}
	if t.owner.Name == "" {
		if t.rented() {
			t.later[cloudTarget] = whenRented
		}
		return
	}
	const session = "graphical-session.target"
	for puller := range t.pulls {
		u := t.load(puller)
		if desktop && splitName(puller).suffix == "target" && u.file != nil &&
			slices.Contains(u.unitNames("Unit", "BindsTo", "Requires"), session) {
			t.later[puller] = whenSession
		}
	}
}

// rented reports whether the generator is there that sets up rented machines,
// and nothing on the disk stops it.
func (t *Tree) rented() bool {
	if t.root.IsFile("/etc/cloud/cloud-init.disabled") {
		return false
	}
	for _, p := range []string{"/etc/default/grub", "/etc/kernel/cmdline"} {
		text, _ := t.root.ReadFile(p, maxRules)
		if strings.Contains(string(text), "cloud-init=disabled") {
			return false
		}
	}
	for _, folder := range []string{"/usr/lib", "/lib"} {
		generator := folder + "/systemd/system-generators/cloud-init-generator"
		if info, err := t.root.Stat(generator); err == nil && info.Kind == machine.Regular {
			return true
		}
	}
	return false
}

// reachAny walks from the goals, and from what is started beside them.
func (t *Tree) reachAny() reached {
	roots := slices.Sorted(maps.Keys(t.later))
	return t.reach(append(slices.Clone(t.goals), roots...)...)
}

// startedBy says when a unit is started that only [Tree.reachAny] reaches.
func (t *Tree) startedBy(name string, any reached) string {
	chain := any.chain(name)
	for root, when := range t.later {
		if t.load(root).name == chain[0] {
			return when
		}
	}
	return ""
}
