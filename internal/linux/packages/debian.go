package packages

import (
	"bytes"
	"iter"
	"path"
	"slices"
	"strings"
)

// The database of dpkg: deb-control(5), dpkg-query(1).
const (
	statusFile = "/var/lib/dpkg/status"
	infoFolder = "/var/lib/dpkg/info"
	maxStatus  = 256 << 20
	maxList    = 64 << 20
)

// The marks of apt(8): which packages came by themselves.
const statesFile = "/var/lib/apt/extended_states"

func (db *Database) dpkg(want wanted, owners map[string]Package) error {
	status, err := db.root.ReadFile(statusFile, maxStatus)
	if err != nil {
		return err
	}
	f := newForest()
	came := db.automatic()
	f.marked = len(came) > 0
	pages, sources := map[string]string{}, map[string]string{}
	for stanza := range stanzas(status) {
		n, page, source := db.dpkgPackage(stanza)
		if n.Name == "" {
			continue
		}
		n.chosen = !came[n.Name]
		pages[n.Name], sources[n.Name] = page, source
		f.add(n)
	}
	db.askLists(f)
	f.settle(db.rules)
	entries, err := db.root.ReadDir(infoFolder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		ext := path.Ext(e.Name)
		if ext != ".list" && ext != ".conffiles" {
			continue
		}
		file := path.Join(infoFolder, e.Name)
		text, err := db.root.ReadFile(file, maxList)
		if err != nil {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimSuffix(e.Name, ext), ":")
		n, known := f.nodes[name]
		if !known {
			n = &node{Package: Package{Name: name}}
		}
		for len(text) > 0 {
			var line []byte
			line, text, _ = bytes.Cut(text, []byte("\n"))
			line = bytes.TrimPrefix(line, []byte("/usr"))
			asked, ok := want[string(line)]
			if !ok {
				asked, ok = want["/usr"+string(line)]
			}
			if _, taken := owners[asked]; !ok || taken {
				continue
			}
			if info, err := db.root.Stat(file); err == nil {
				n.Installed = info.ModTime
			}
			if n.Archive != "" || n.Maker == "" {
				n.Maker = db.upstream(name, sources[name], pages[name])
			}
			owned := n.Package
			owned.Keeps = Replaces
			if ext == ".conffiles" { // named like the list, and read before it
				owned.Keeps = Asks
			}
			owners[asked] = owned
			db.guessed = db.guessed || n.Archive != "" && !f.marked
		}
	}
	return nil
}

// stanzas parts a file in the form of deb-control(5).
func stanzas(text []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for len(text) > 0 {
			var stanza []byte
			stanza, text, _ = bytes.Cut(text, []byte("\n\n"))
			if !yield(stanza) {
				return
			}
		}
	}
}

// fields are the fields of a stanza that stand in one line.
func fields(stanza []byte) map[string]string {
	field := map[string]string{}
	for line := range bytes.Lines(stanza) {
		key, value, ok := bytes.Cut(line, []byte(":"))
		if ok && len(key) > 0 && key[0] != ' ' && key[0] != '\t' {
			field[string(key)] = string(bytes.TrimSpace(value))
		}
	}
	return field
}

// automatic are the packages that came by themselves.
func (db *Database) automatic() map[string]bool {
	text, err := db.root.ReadFile(statesFile, maxStatus)
	if err != nil {
		return nil
	}
	all := map[string]bool{}
	for stanza := range stanzas(text) {
		if field := fields(stanza); field["Auto-Installed"] == "1" {
			all[field["Package"]] = true
		}
	}
	return all
}

func (db *Database) dpkgPackage(stanza []byte) (n *node, page, source string) {
	field := fields(stanza)
	maker, address := db.packer(field["Maintainer"])
	_, section, found := strings.Cut(field["Section"], "/") // "non-free/misc"
	if !found {
		section = field["Section"]
	}
	n = &node{Package: Package{
		Name:    field["Package"],
		Version: field["Version"],
		Maker:   maker,
		Archive: db.archive(field["Origin"], address),
		Section: section,
		Summary: field["Description"],
		Gone:    strings.HasSuffix(field["Status"], "config-files"),
	}}
	n.root = field["Essential"] == "yes" || field["Protected"] == "yes" ||
		slices.Contains(db.rules.Priorities, field["Priority"])
	if n.root && n.Archive == "" {
		n.Archive = db.archive(db.os.ID, "")
	}
	for _, key := range []string{"Pre-Depends", "Depends", "Recommends"} {
		n.needs = append(n.needs, relations(field[key])...)
	}
	n.gives = relations(field["Provides"])
	return n, field["Homepage"], field["Source"]
}

// The package lists of apt(8), by archive.
const (
	listsFolder = "/var/lib/apt/lists"
	maxLists    = 256 << 20
)

// askLists looks for the packages of which the status does not tell where they
// are from. It looks in the lists of the distribution's archive, where they are
// kept.
func (db *Database) askLists(f *forest) {
	open := map[string]*node{}
	for name, n := range f.nodes {
		if n.Archive == "" {
			open[name] = n
		}
	}
	entries, err := db.root.ReadDir(listsFolder)
	if err != nil || len(open) == 0 {
		return
	}
	for _, release := range entries {
		text, err := db.root.ReadFile(path.Join(listsFolder, release.Name), 1<<20)
		prefix, signed := strings.CutSuffix(release.Name, "InRelease")
		if err != nil || !signed {
			continue
		}
		origin := ""
		for line := range bytes.Lines(text) {
			if value, ok := bytes.CutPrefix(line, []byte("Origin: ")); ok {
				origin = string(bytes.TrimSpace(value))
				break
			}
		}
		archive := db.archive(origin, "")
		for _, e := range entries {
			if archive == "" || !strings.HasPrefix(e.Name, prefix) ||
				!strings.HasSuffix(e.Name, "_Packages") {
				continue
			}
			text, err := db.root.ReadFile(path.Join(listsFolder, e.Name), maxLists)
			for err == nil && len(text) > 0 {
				var line []byte
				if _, text, _ = bytes.Cut(text, []byte("Package: ")); len(text) == 0 {
					break
				}
				line, text, _ = bytes.Cut(text, []byte("\n"))
				if n, ok := open[string(line)]; ok {
					n.Archive = archive
				}
			}
		}
	}
}

// relations are the packages that a field of relations names, alternatives too,
// without versions and architectures.
func relations(text string) (names []string) {
	either := func(c rune) bool { return c == ',' || c == '|' }
	for one := range strings.FieldsFuncSeq(text, either) {
		name, _, _ := strings.Cut(strings.TrimSpace(one), " ")
		name, _, _ = strings.Cut(name, ":")
		name, _, _ = strings.Cut(name, "(")
		if name != "" {
			names = append(names, name)
		}
	}
	return names
}
