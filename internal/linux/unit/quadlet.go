package unit

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"calmdawn/internal/machine"
)

// Files of which podman's generator makes units as the machine boots, or as
// somebody logs in: podman-systemd.unit(5).

// made are the kinds of such files, by their endings, with what stands behind
// the name of their unit.
var made = map[string]string{".container": "", ".kube": "", ".pod": "-pod"}

// quadletFolders are where the files stand, the strongest first. Those of a
// user's manager are below the home, and for the user's number.
func (t *Tree) quadletFolders() []string {
	if t.owner.Name == "" {
		return []string{"/etc/containers/systemd", "/usr/share/containers/systemd"}
	}
	return []string{
		path.Join(t.owner.Home, ".config/containers/systemd"),
		path.Join("/etc/containers/systemd/users", strconv.Itoa(t.owner.UID)),
		"/etc/containers/systemd/users", "/usr/share/containers/systemd/users",
	}
}

// addQuadlets adds the units that the generator makes, and what their [Install]
// sections pull in. One that stands under that name already is stronger.
func (t *Tree) addQuadlets() {
	off := t.quadletsOff()
	var fresh []string
	for _, folder := range t.quadletFolders() {
		entries, err := t.list(folder)
		if err != nil {
			t.skip(folder, err)
			continue
		}
		for _, e := range entries {
			kind := path.Ext(e.Name)
			behind, is := made[kind]
			p := path.Join(folder, e.Name)
			name := strings.TrimSuffix(e.Name, kind) + behind + ".service"
			if !is || e.Kind == machine.Folder || !validName(name) || t.files[name] != nil {
				continue
			}
			t.files[name] = &file{path: p, entry: p, level: len(t.folders), made: kind, hidden: off}
			fresh = append(fresh, name)
		}
	}
	for _, name := range fresh {
		t.pullQuadlet(name)
	}
}

// pullQuadlet adds what the [Install] section of a file has its unit pulled in
// by.
func (t *Tree) pullQuadlet(name string) {
	f := t.files[name]
	settings, _ := t.quadletSettings(f)
	u := &unit{name: name, settings: settings, own: len(settings), more: t.more}
	if n := splitName(name); n.isTemplate() {
		instance := u.last("Install", "DefaultInstance")
		if instance == "" {
			return
		}
		name = n.withInstance(instance)
	}
	keys := map[string]string{"WantedBy": ".wants", "RequiredBy": ".requires"}
	if t.readsUpholds() {
		keys["UpheldBy"] = ".upholds"
	}
	for key, folder := range keys {
		for _, puller := range u.unitNames("Install", key) {
			in := puller + folder
			if i := slices.IndexFunc(t.pulledAs[name], func(p *pull) bool {
				return p.folder == in
			}); i >= 0 { // somebody's link is stronger, one that hides it too
				p := t.pulledAs[name][i]
				p.paths = append(p.paths, f.path)
				continue
			}
			t.addPull(puller, &pull{name: name, folder: in, paths: []string{f.path}})
		}
	}
}

// isQuadlet reports whether a path is one of a file of which a unit is made.
func isQuadlet(p string) bool {
	_, is := made[path.Ext(p)]
	return is
}

// quadletsOff says why no unit is made of such files; empty where units are.
func (t *Tree) quadletsOff() string {
	kind := "system"
	if t.owner.Name != "" {
		kind = "user"
	}
	name := "podman-" + kind + "-generator"
	for _, folder := range generatorFolders {
		p := path.Join(strings.Replace(folder, "system-", kind+"-", 1), name)
		info, err := t.root.Stat(p)
		switch {
		case err != nil:
			if _, err := t.root.Lstat(p); err == nil {
				return "no unit is made of it: its generator is masked by " + p
			}
		case info.Null || info.Size == 0 || info.Mode&0o111 == 0:
			return "no unit is made of it: its generator is masked by " + p
		default:
			return ""
		}
	}
	return "no unit is made of it: this machine does not have podman's generator"
}

// quadletSettings are the settings of a unit that is made of a file, with the
// drop-ins beside that. The sections of units are taken over as they are.
func (t *Tree) quadletSettings(f *file) (settings []setting, refused string) {
	texts := []string{f.path}
	folder := path.Base(f.entry) + ".d"
	for _, at := range t.quadletFolders() {
		entries, _ := t.list(path.Join(at, folder))
		for _, e := range entries {
			if strings.HasSuffix(e.Name, ".conf") && e.Name[0] != '.' {
				texts = append(texts, path.Join(at, folder, e.Name))
			}
		}
	}
	slices.SortStableFunc(texts[1:], func(a, b string) int {
		return strings.Compare(path.Base(a), path.Base(b))
	})
	what := ""
	for _, p := range texts {
		text := t.text(p)
		if text.err != nil {
			return settings, p + ": " + machine.Reason(text.err)
		}
		for _, s := range text.settings {
			switch {
			case s.section == "Container" && s.key == "Image",
				s.section == "Kube" && s.key == "Yaml":
				what = s.value
			}
			settings = append(settings, s)
		}
	}
	name := strings.TrimSuffix(path.Base(f.entry), f.made)
	line := map[string]string{
		".container": "run " + what, ".kube": "kube play " + what, ".pod": "pod start " + name,
	}[f.made]
	if what == "" && f.made != ".pod" {
		return settings, "no unit is made of it: it names no image"
	}
	kind := "notify"
	if f.made == ".pod" {
		kind = "forking"
	}
	made := []setting{
		{"Unit", "Description", strings.TrimPrefix(f.made, ".") + " " + name},
		{"Service", "Type", kind},
		{"Service", "ExecStart", "/usr/bin/podman " + line},
	}
	return slices.Concat(made, settings), ""
}
