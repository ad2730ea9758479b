package packages

import (
	"cmp"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"howett.net/plist"

	"calmdawn/internal/machine"
)

// apk reads the database of apk: records of one-letter fields, with F: a folder
// and R: a file in it. What somebody chose stands in the file world.
func (db *Database) apk(want wanted, owners map[string]Package) error {
	text, err := db.root.ReadFile("/lib/apk/db/installed", maxStatus)
	if err != nil {
		return err
	}
	world, _ := db.root.ReadFile("/etc/apk/world", maxList)
	f := newForest()
	f.marked = len(world) > 0
	chosen := map[string]bool{}
	for name := range strings.FieldsSeq(string(world)) {
		chosen[bareName(name)] = true
	}
	n, folder := &node{}, ""
	end := func() {
		if n.Name != "" {
			n.chosen = chosen[n.Name]
			f.add(n)
		}
		n, folder = &node{}, ""
	}
	found := map[string]place{} // by the paths that were asked for
	for line := range strings.Lines(string(text)) {
		key, value, _ := strings.Cut(strings.TrimRight(line, "\n"), ":")
		switch key {
		case "":
			end()
		case "P":
			n.Name = value
		case "V":
			n.Version = value
		case "T":
			n.Summary = value
		case "U":
			n.Maker = db.upstream("", "", value)
		case "m":
			_, address := person(value)
			n.Archive = db.archive("", address)
			if maker, _ := db.packer(value); n.Archive == "" && maker != "" {
				n.Maker = maker
			}
		case "D", "p":
			for name := range strings.FieldsSeq(value) {
				if key == "D" {
					n.needs = append(n.needs, bareName(name))
				} else {
					n.gives = append(n.gives, bareName(name))
				}
			}
		case "t":
			if n2, err := strconv.ParseInt(value, 10, 64); err == nil {
				n.Installed = time.Unix(n2, 0) // when it was built: it keeps no other date
			}
		case "F":
			folder = "/" + value
		case "R":
			if asked, ok := want[unmerge(path.Join(folder, value))]; ok {
				found[asked] = place{n.Name, Replaces}
				if strings.HasPrefix(asked, "/etc/") { // protected by itself, apk(8)
					found[asked] = place{n.Name, Asks}
				}
			}
		}
	}
	end()
	db.take(f, found, owners)
	return nil
}

// A place is where a path was found: in which package, and kept how.
type place struct {
	name  string
	keeps Keeps
}

// take settles a forest and hands out the packages of the paths found.
func (db *Database) take(f *forest, found map[string]place, owners map[string]Package) {
	f.settle(db.rules)
	for asked, at := range found {
		n := f.nodes[at.name]
		owned := n.Package
		owned.Keeps = at.keeps
		owners[asked] = owned
		db.guessed = db.guessed || n.Archive != "" && !f.marked
	}
}

// bareName is a dependency without the version that it takes.
func bareName(word string) string {
	if i := strings.IndexAny(word, "<>=~"); i >= 0 {
		word = word[:i]
	}
	return word
}

// pacman reads the database of pacman: a folder a package, with the files desc
// and files of %KEY% and values.
func (db *Database) pacman(want wanted, owners map[string]Package) error {
	const local = "/var/lib/pacman/local"
	entries, err := db.root.ReadDir(local)
	if err != nil {
		return err
	}
	f := newForest()
	f.marked = true
	found := map[string]place{}
	for _, e := range entries {
		if e.Kind != machine.Folder {
			continue
		}
		desc, err := db.root.ReadFile(path.Join(local, e.Name, "desc"), maxList)
		if err != nil {
			continue
		}
		field, key := map[string][]string{}, ""
		for line := range strings.Lines(string(desc)) {
			line = strings.TrimSpace(line)
			switch {
			case strings.HasPrefix(line, "%"):
				key = line
			case line == "":
				key = ""
			case key != "":
				field[key] = append(field[key], line)
			}
		}
		first := func(key string) string {
			if len(field[key]) == 0 {
				return ""
			}
			return field[key][0]
		}
		_, address := person(first("%PACKAGER%"))
		n := &node{Package: Package{
			Name:    first("%NAME%"),
			Version: first("%VERSION%"),
			Summary: first("%DESC%"),
			Archive: db.archive("", address),
		}}
		if n.Maker, _ = db.packer(first("%PACKAGER%")); n.Archive != "" || n.Maker == "" {
			n.Maker = db.upstream("", "", first("%URL%"))
		}
		if s, err := strconv.ParseInt(first("%INSTALLDATE%"), 10, 64); err == nil {
			n.Installed = time.Unix(s, 0)
		}
		n.chosen = first("%REASON%") != "1" // 1: as a dependency
		for _, word := range field["%DEPENDS%"] {
			n.needs = append(n.needs, bareName(word))
		}
		for _, word := range field["%PROVIDES%"] {
			n.gives = append(n.gives, bareName(word))
		}
		if n.Name == "" {
			continue
		}
		f.add(n)
		files, _ := db.root.ReadFile(path.Join(local, e.Name, "files"), maxList)
		for line := range strings.Lines(string(files)) {
			// of those that are kept the sum stands behind the name
			file, _, kept := strings.Cut(strings.TrimSpace(line), "\t")
			if asked, ok := want[unmerge("/"+file)]; ok && kept {
				found[asked] = place{n.Name, Asks}
			} else if ok {
				found[asked] = place{n.Name, max(found[asked].keeps, Replaces)}
			}
		}
	}
	db.take(f, found, owners)
	return nil
}

// xbps reads the database of xbps: a property list of packages, and one of the
// files of each.
func (db *Database) xbps(want wanted, owners map[string]Package) error {
	const folder = "/var/db/xbps"
	entries, err := db.root.ReadDir(folder)
	if err != nil {
		return err
	}
	type entry struct {
		Version    string   `plist:"pkgver"`
		Summary    string   `plist:"short_desc"`
		Maintainer string   `plist:"maintainer"`
		Page       string   `plist:"homepage"`
		Installed  string   `plist:"install-date"`
		Dependency bool     `plist:"automatic-install"`
		Needs      []string `plist:"run_depends"`
		Gives      []string `plist:"provides"`
	}
	all := map[string]entry{}
	f := newForest()
	f.marked = true
	found := map[string]place{}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name, "pkgdb-") || path.Ext(e.Name) != ".plist" {
			continue
		}
		text, err := db.root.ReadFile(path.Join(folder, e.Name), maxStatus)
		if err != nil {
			return err
		}
		if _, err := plist.Unmarshal(text, &all); err != nil {
			return &machine.Refusal{
				Path: path.Join(folder, e.Name), Reason: "is no property list: " + err.Error(),
			}
		}
	}
	for name, e := range all {
		_, address := person(e.Maintainer)
		n := &node{Package: Package{
			Name:    name,
			Version: strings.TrimPrefix(e.Version, name+"-"),
			Summary: e.Summary,
			Archive: db.archive("", address),
			Maker:   db.upstream("", "", e.Page),
		}}
		n.chosen, n.needs, n.gives = !e.Dependency, bare(e.Needs), bare(e.Gives)
		n.Installed, _ = time.Parse("2006-01-02 15:04 MST", e.Installed)
		f.add(n)
		text, err := db.root.ReadFile(path.Join(folder, "."+name+"-files.plist"), maxStatus)
		if err != nil {
			continue
		}
		var files struct {
			Files []struct {
				File string `plist:"file"`
			} `plist:"files"`
			Kept []struct {
				File string `plist:"file"`
			} `plist:"conf_files"`
		}
		if _, err := plist.Unmarshal(text, &files); err != nil {
			continue
		}
		for _, file := range files.Files {
			if asked, ok := want[unmerge(path.Clean(file.File))]; ok {
				found[asked] = place{name, Replaces}
			}
		}
		for _, file := range files.Kept {
			if asked, ok := want[unmerge(path.Clean(file.File))]; ok {
				found[asked] = place{name, Asks}
			}
		}
	}
	db.take(f, found, owners)
	return nil
}

// bare are names without the versions that they take, or have.
func bare(words []string) (names []string) {
	for _, word := range words {
		name := bareName(word)
		if i := strings.LastIndexByte(name, '-'); i > 0 && strings.Contains(name[i:], "_") {
			name = name[:i] // name-version_revision
		}
		names = append(names, name)
	}
	return names
}

// portage reads the database of portage: a folder a package below that of its
// category, with a file for each thing to be known. What somebody chose stands
// in the file world.
func (db *Database) portage(want wanted, owners map[string]Package) error {
	const folder = "/var/db/pkg"
	categories, err := db.root.ReadDir(folder)
	if err != nil {
		return err
	}
	world, _ := db.root.ReadFile("/var/lib/portage/world", maxList)
	chosen := map[string]bool{}
	for name := range strings.FieldsSeq(string(world)) {
		chosen[name] = true
	}
	f := newForest()
	f.marked = len(world) > 0
	found := map[string]place{}
	system := db.systemSet()
	for _, c := range categories {
		packages, err := db.root.ReadDir(path.Join(folder, c.Name))
		if err != nil {
			continue
		}
		for _, e := range packages {
			at := path.Join(folder, c.Name, e.Name)
			one := func(file string) string {
				text, _ := db.root.ReadFile(path.Join(at, file), maxList)
				return strings.TrimSpace(string(text))
			}
			short, version := withVersion(e.Name)
			name := c.Name + "/" + short
			n := &node{Package: Package{Name: name, Version: version, Summary: one("DESCRIPTION")}}
			n.chosen, n.root = chosen[name], system[name]
			page, _, _ := strings.Cut(one("HOMEPAGE"), " ")
			n.Maker = db.upstream("", "", page)
			if one("repository") == "gentoo" {
				n.Archive = cmp.Or(db.os.Name, db.os.ID)
			}
			if seconds, err := strconv.ParseInt(one("BUILD_TIME"), 10, 64); err == nil {
				n.Installed = time.Unix(seconds, 0)
			}
			for word := range strings.FieldsSeq(one("RDEPEND")) {
				if need := strings.TrimLeft(word, "<>=~!"); strings.Contains(need, "/") {
					need, _, _ = strings.Cut(need, ":")
					need, _, _ = strings.Cut(need, "[")
					need, _ = withVersion(need)
					n.needs = append(n.needs, need)
				}
			}
			f.add(n)
			for line := range strings.Lines(one("CONTENTS")) {
				words := strings.Fields(line)
				if len(words) < 4 || words[0] != "obj" {
					continue
				}
				file := strings.Join(words[1:len(words)-2], " ")
				if asked, ok := want[unmerge(file)]; ok {
					found[asked] = place{name, Replaces}
					if strings.HasPrefix(asked, "/etc/") { // CONFIG_PROTECT of make.conf(5)
						found[asked] = place{name, Asks}
					}
				}
			}
		}
	}
	db.take(f, found, owners)
	return nil
}

// systemSet has the packages that every installation has, by the profile of the
// distribution: lines with a star.
func (db *Database) systemSet() map[string]bool {
	set := map[string]bool{}
	for _, p := range []string{"/var/db/repos/gentoo", "/usr/portage"} {
		text, _ := db.root.ReadFile(path.Join(p, "profiles/base/packages"), maxList)
		for line := range strings.Lines(string(text)) {
			if name, ok := strings.CutPrefix(strings.TrimSpace(line), "*"); ok {
				name, _ = withVersion(strings.TrimLeft(name, "<>=~!"))
				set[name] = true
			}
		}
	}
	return set
}

// behindName is a version behind a name, by the package manager specification.
var behindName = regexp.MustCompile(`-(\d[\w.]*(?:_[a-z]+\d*)*(?:-r\d+)?)$`)

// withVersion parts a name from the version behind it; that is empty where
// there is none.
func withVersion(text string) (name, version string) {
	if m := behindName.FindStringSubmatchIndex(text); m != nil {
		return text[:m[0]], text[m[2]:m[3]]
	}
	return text, ""
}
