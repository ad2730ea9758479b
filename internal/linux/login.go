package linux

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
)

// pamModule is the name of a module in a line of pam.conf(5).
var pamModule = regexp.MustCompile(`\bpam_([a-z0-9_]+)\.so\b`)

// loginServices are the services of modules that have other names; those of the
// rest are named like the module, or with a d behind it.
var loginServices = map[string]string{
	"sss": "sssd", "ldap": "nslcd", "oddjob_mkhomedir": "oddjobd", "nis": "ypbind",
}

// notNeeded are modules without whose services people still log in.
var notNeeded = []string{
	"fprintd", "gnome_keyring", "kwallet", "kwallet5", "mail", "motd", "ssh", "systemd", "u2f",
}

// login gives the services that names and passwords of people are asked of the
// trait of it, by nsswitch.conf(5) and pam.conf(5).
func (v *Inventory) login() {
	by := map[string]string{} // where a service is named
	note := func(module, file string) {
		if slices.Contains(notNeeded, module) {
			return
		}
		name := strings.ReplaceAll(module, "_", "-")
		if own, ok := loginServices[module]; ok {
			name = own
		}
		by[name] = file
	}
	const names = "/etc/nsswitch.conf"
	text, err := v.root.ReadFile(names, maxSetup)
	v.note(names, err)
	for line := range strings.Lines(string(text)) {
		what, sources, _ := strings.Cut(strings.TrimSpace(line), ":")
		if slices.Contains([]string{"passwd", "group", "shadow", "initgroups"}, what) {
			for _, source := range strings.Fields(sources) {
				note(source, names)
			}
		}
	}
	const pam = "/etc/pam.d"
	entries, err := v.root.ReadDir(pam)
	v.note(pam, err)
	for _, e := range entries {
		file := path.Join(pam, e.Name)
		text, err := v.root.ReadFile(file, maxSetup)
		v.note(file, err)
		for line := range strings.Lines(string(text)) {
			if m := pamModule.FindStringSubmatch(line); m != nil && line[0] != '#' {
				note(m[1], file)
			}
		}
	}
	for i := range v.Items {
		it := &v.Items[i]
		name, ok := strings.CutSuffix(it.Native, ".service")
		if !ok || it.Kind != item.Service {
			continue
		}
		file, named := by[name]
		if !named {
			file, named = by[strings.TrimSuffix(name, "d")]
		}
		if named {
			it.Traits = append(it.Traits, "logs people in: "+file+" names it")
		}
	}
}
