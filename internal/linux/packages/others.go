package packages

import (
	"path"
	"strconv"
	"strings"
	"time"

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
			n.Maker = db.upstream("", value)
		case "m":
			_, address := person(value)
			n.Archive = db.archive("", address)
			if n.Archive == "" {
				n.Maker, _ = person(value)
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
		if n.Maker, _ = person(first("%PACKAGER%")); n.Archive != "" {
			n.Maker = db.upstream("", first("%URL%"))
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
