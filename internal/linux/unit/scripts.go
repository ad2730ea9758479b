package unit

import (
	"maps"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/machine"
)

// What generators make of other files while the machine boots. Those are units
// for old init scripts and for rc.local, and links by presets at a first boot
// (systemd-sysv-generator(8), systemd-rc-local-generator(8),
// systemd.preset(5)).

const (
	scriptFolder = "/etc/init.d"
	rcService    = "rc-local.service"
)

// rcLocals are where the script of rc-local.service stands: the distribution
// decides, by the unit's condition.
var rcLocals = []string{"/etc/rc.local", "/etc/rc.d/rc.local"}

func isRCLocal(p string) bool { return slices.Contains(rcLocals, p) }

// runlevels are the folders whose S links launch a script, with the target that
// stands for each.
var runlevels = []struct{ folder, target string }{
	{"/etc/rc2.d", "multi-user.target"},
	{"/etc/rc3.d", "multi-user.target"},
	{"/etc/rc4.d", "multi-user.target"},
	{"/etc/rc5.d", "graphical.target"},
}

// addScripts adds a unit for each executable init script for which no native
// unit stands, and the pulls of its S links.
func (t *Tree) addScripts() {
	entries, err := t.list(scriptFolder)
	if err != nil {
		t.skip(scriptFolder, err)
		return
	}
	units, off := map[string]bool{}, t.generatorOff("systemd-sysv-generator")
	for _, e := range entries {
		name := scriptUnit(e.Name)
		p := path.Join(scriptFolder, e.Name)
		if _, native := t.files[name]; native || !validName(name) || len(t.names[name]) > 0 {
			continue
		}
		info, err := t.root.Stat(p)
		if err != nil || info.Kind != machine.Regular || info.Mode&0o111 == 0 {
			continue
		}
		t.files[name] = &file{path: p, entry: p, level: len(t.folders), script: true}
		if off != "" {
			t.files[name].hidden = "no unit is made of it: its generator is masked by " + off
		}
		units[name] = true
	}
	for _, level := range runlevels {
		links, err := t.list(level.folder)
		if err != nil {
			t.skip(level.folder, err)
			continue
		}
		for _, e := range links {
			if len(e.Name) < 4 || e.Name[0] != 'S' {
				continue
			}
			// The link's own name behind its number tells the script, whatever
			// it leads to.
			p := path.Join(level.folder, e.Name)
			if name := scriptUnit(e.Name[3:]); units[name] {
				t.addPull(level.target, &pull{
					name:   name,
					folder: level.target + ".wants",
					paths:  []string{p},
				})
			}
		}
	}
}

// scriptUnit is the name of the unit that is made of a script.
func scriptUnit(script string) string { return strings.TrimSuffix(script, ".sh") + ".service" }

// scriptSettings makes the settings that the generator makes of a script's
// header.
func (t *Tree) scriptSettings(p string) []setting {
	settings := []setting{
		{"Service", "Type", "forking"},
		{"Service", "ExecStart", p + " start"},
		{"Service", "RemainAfterExit", "yes"},
	}
	text, err := t.root.ReadFile(p, maxText)
	if err != nil {
		t.skip(p, err)
		return settings
	}
	inside := false
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "### ") {
			inside = strings.Contains(line, "BEGIN INIT INFO")
		}
		key, value, ok := strings.Cut(strings.TrimLeft(line, "# "), ":")
		if !inside || !ok {
			continue
		}
		switch value = strings.TrimSpace(value); key {
		case "Short-Description":
			settings = append(settings, setting{"Unit", "Description", value})
		case "Required-Start":
			for _, word := range strings.Fields(value) {
				if word == "$network" {
					settings = append(settings, setting{"Unit", "Wants", "network-online.target"})
				} else if !strings.HasPrefix(word, "$") {
					settings = append(settings, setting{"Unit", "After", word + ".service"})
				}
			}
		}
	}
	return settings
}

// addRCLocal adds the pull of rc-local.service where its script can be
// executed.
func (t *Tree) addRCLocal() {
	if t.files[rcService] == nil {
		return
	}
	script := rcLocals[0]
	for _, p := range rcLocals {
		if slices.Contains(t.load(rcService).list("Unit", "ConditionFileIsExecutable"), p) {
			script = p
		}
	}
	if real, err := t.root.Resolve(script); err == nil && isRCLocal(real) {
		script = real // one is a link to the other
	}
	info, err := t.root.Stat(script)
	if err != nil || info.Kind != machine.Regular {
		return
	}
	p := &pull{
		name:   rcService,
		folder: "multi-user.target.wants",
		paths:  []string{script},
	}
	if info.Mode&0o111 == 0 {
		p.hidden, p.paths = true, []string{script, script}
	}
	if off := t.generatorOff("systemd-rc-local-generator"); off != "" {
		p.hidden, p.paths = true, []string{off, script}
	}
	t.addPull("multi-user.target", p)
}

var generatorFolders = []string{
	"/etc/systemd/system-generators",
	"/usr/local/lib/systemd/system-generators",
	"/usr/lib/systemd/system-generators",
	"/lib/systemd/system-generators",
}

// generatorOff returns what masks a generator, systemd.generator(7); empty
// where it runs.
func (t *Tree) generatorOff(name string) string {
	for _, folder := range generatorFolders {
		p := path.Join(folder, name)
		if _, err := t.root.Lstat(p); err != nil {
			continue
		}
		info, err := t.root.Stat(p)
		if err != nil || info.Null || info.Size == 0 || info.Mode&0o111 == 0 {
			return p
		}
		return ""
	}
	return ""
}

var presetFolders = []string{
	"/etc/systemd/system-preset",
	"/usr/local/lib/systemd/system-preset",
	"/usr/lib/systemd/system-preset",
	"/lib/systemd/system-preset",
}

// A preset is one rule of a preset file.
type preset struct {
	enable    bool
	pattern   string
	instances []string
}

// applyPresets adds, for a machine that boots for the first time, the links of
// all units that the presets enable. Without a rule a unit is enabled.
func (t *Tree) applyPresets() {
	if !t.firstBoot() {
		return
	}
	rules := t.presets()
	var enabled []string
	for _, name := range slices.Sorted(maps.Keys(t.files)) {
		u := t.load(name)
		if u.file != nil && u.hidden == "" && u.name == name && !u.file.script &&
			u.file.made == "" {
			enabled = append(enabled, decide(rules, u)...)
		}
	}
	for i := 0; i < len(enabled); i++ { // it grows by what is enabled with others
		for _, also := range t.load(enabled[i]).unitNames("Install", "Also") {
			if !slices.Contains(enabled, also) && t.files[also] != nil {
				enabled = append(enabled, also)
			}
		}
	}
	for _, name := range enabled {
		t.enable(name)
	}
	t.cache = map[string]*unit{} // names mean others now
	t.forgetReached()
}

// enable adds the links and the other names of a unit's [Install] section.
func (t *Tree) enable(name string) {
	u := t.load(name)
	if u.file == nil || u.hidden != "" {
		return
	}
	keys := map[string]string{"WantedBy": ".wants", "RequiredBy": ".requires"}
	if t.readsUpholds() {
		keys["UpheldBy"] = ".upholds"
	}
	for key, folder := range keys {
		for _, puller := range u.unitNames("Install", key) {
			t.addPull(puller, &pull{
				name:   name,
				folder: puller + folder,
				paths:  []string{u.file.path},
			})
		}
	}
	for _, alias := range u.unitNames("Install", "Alias") {
		entry := path.Join(adminFolder, alias)
		there := t.files[alias]
		if alias == name || !validName(alias) || there != nil && there.entry == entry {
			continue // the first who takes a name has it
		}
		t.files[alias] = &file{path: u.file.path, entry: entry, alias: name}
		t.names[name] = append(t.names[name], alias)
	}
}

func (t *Tree) presets() []preset {
	files := map[string]string{} // the strongest of a name
	var names []string
	for _, folder := range presetFolders {
		entries, err := t.list(folder)
		if err != nil {
			t.skip(folder, err)
			continue
		}
		for _, e := range entries {
			if _, seen := files[e.Name]; strings.HasSuffix(e.Name, ".preset") && !seen {
				files[e.Name] = path.Join(folder, e.Name)
				names = append(names, e.Name)
			}
		}
	}
	slices.Sort(names)
	var rules []preset
	for _, name := range names {
		text, err := t.root.ReadFile(files[name], maxText)
		if err != nil {
			t.skip(files[name], err)
			continue
		}
		for line := range strings.Lines(string(text)) {
			words := strings.Fields(line)
			if len(words) >= 2 && (words[0] == "enable" || words[0] == "disable") {
				rules = append(rules, preset{words[0] == "enable", words[1], words[2:]})
			}
		}
	}
	return rules
}

// decide returns the names under which a unit is enabled: none, its own, or
// instances of a template.
func decide(rules []preset, u *unit) []string {
	n := splitName(u.name)
	for _, rule := range rules {
		if ok, err := path.Match(rule.pattern, u.name); err != nil || !ok {
			continue
		}
		if !rule.enable {
			return nil
		}
		if n.isTemplate() && len(rule.instances) > 0 {
			var names []string
			for _, instance := range rule.instances {
				names = append(names, n.withInstance(instance))
			}
			return names
		}
		break
	}
	if !n.isTemplate() {
		return []string{u.name}
	}
	if instance := u.last("Install", "DefaultInstance"); instance != "" {
		return []string{n.withInstance(instance)}
	}
	return nil
}
