package packages

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	_ "modernc.org/sqlite" // the driver "sqlite"

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

// rpmBook opens the database of rpm where it is SQLite. The caller calls
// release.
func rpmBook(r *machine.Root) (book *sql.DB, file string, release func(), err error) {
	folder := "/usr/lib/sysimage/rpm"
	if !r.IsFile(path.Join(folder, "rpmdb.sqlite")) {
		folder = "/var/lib/rpm"
	}
	file = path.Join(folder, "rpmdb.sqlite")
	info, err := r.Lstat(file)
	if err != nil || info.Kind != machine.Regular {
		for _, older := range []string{"Packages", "Packages.db"} {
			if r.IsFile(path.Join(folder, older)) {
				err = &machine.Refusal{Path: path.Join(folder, older), Reason: "is a package " +
					"database in a form that is not read"}
			}
		}
		return nil, file, nil, err
	}
	book, release, err = openBook(r, folder, "rpmdb.sqlite")
	return book, file, release, err
}

// openBook opens another program's SQLite file, and nothing that it names. The
// caller calls release.
func openBook(r *machine.Root, folder, name string) (book *sql.DB, release func(), err error) {
	if !r.IsFile(path.Join(folder, name)) {
		return nil, nil, fs.ErrNotExist
	}
	dir, end, err := r.Handle(folder)
	if err != nil {
		return nil, nil, err
	}
	book, err = sql.Open("sqlite",
		"file:"+dir+"/"+name+"?mode=ro&immutable=1&_pragma=trusted_schema(off)")
	if err != nil {
		end()
		return nil, nil, err
	}
	return book, func() { book.Close(); end() }, nil
}

// rpm reads the database of rpm: a header a package, in the binary form of
// package files.
func (db *Database) rpm(want wanted, owners map[string]Package) error {
	book, file, release, err := rpmBook(db.root)
	if err != nil || book == nil {
		return err
	}
	defer release()
	rows, err := book.Query("SELECT blob FROM Packages")
	if err != nil {
		return &machine.Refusal{Path: file, Reason: "cannot be read: " + err.Error()}
	}
	defer rows.Close()
	f := newForest()
	reasons := db.rpmReasons()
	f.marked = len(reasons) > 0
	found := map[string]place{}
	for rows.Next() {
		var blob []byte
		if err := rows.Scan(&blob); err != nil {
			return &machine.Refusal{Path: file, Reason: "cannot be read: " + err.Error()}
		}
		h, err := parseHeader(blob)
		if err != nil {
			return &machine.Refusal{
				Path:   file,
				Reason: "holds a package that cannot be read: " + err.Error(),
			}
		}
		n := db.rpmPackage(h)
		why := reasons[n.Name]
		n.chosen, n.root = why == byUser, why == byGroup && n.Archive != ""
		f.add(n)
		h.owns(want, func(asked string, keeps Keeps) { found[asked] = place{n.Name, keeps} })
	}
	db.take(f, found, owners)
	return rows.Err()
}

// Why a package is there, as the package manager remembers it.
const (
	byItself = iota + 1
	byUser
	byGroup // of what an installer puts in as a whole
)

// rpmReasons reads why packages were installed, by their names: from the file
// of the newer package manager, or the history of the older one. It is empty
// where neither is there.
func (db *Database) rpmReasons() map[string]int {
	reasons := map[string]int{}
	text, err := db.root.ReadFile("/usr/lib/sysimage/libdnf5/packages.toml", maxList)
	if err == nil {
		var file struct {
			Packages map[string]struct {
				Reason string `toml:"reason"`
			} `toml:"packages"`
		}
		if toml.Unmarshal(text, &file) == nil {
			for name, p := range file.Packages {
				name = strings.TrimSuffix(name, path.Ext(name)) // its architecture
				reasons[name] = map[string]int{
					"Dependency":      byItself,
					"Weak Dependency": byItself,
					"Group":           byGroup,
				}[p.Reason]
				if reasons[name] == 0 {
					reasons[name] = byUser
				}
			}
		}
		return reasons
	}
	book, release, err := openBook(db.root, "/var/lib/dnf", "history.sqlite")
	if err != nil {
		return nil
	}
	defer release()
	rows, err := book.Query("SELECT r.name, t.reason FROM trans_item t JOIN rpm r " +
		"ON r.item_id = t.item_id ORDER BY t.id")
	if err != nil {
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var why int
		if rows.Scan(&name, &why) != nil {
			continue
		}
		// 1 dependency, 2 user, 4 weak dependency, 5 group
		reasons[name] = map[int]int{1: byItself, 4: byItself, 5: byGroup}[why]
		if reasons[name] == 0 {
			reasons[name] = byUser
		}
	}
	return reasons
}

// rpmInstalls reads the index of install times: a time of four bytes a package.
func rpmInstalls(r *machine.Root) (all []time.Time) {
	book, _, release, err := rpmBook(r)
	if err != nil || book == nil {
		return nil
	}
	defer release()
	rows, err := book.Query("SELECT key FROM Installtid")
	if err != nil {
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var key []byte
		if rows.Scan(&key) == nil && len(key) == 4 {
			all = append(all, time.Unix(int64(binary.LittleEndian.Uint32(key)), 0))
		}
	}
	return all
}

// Tags of a header.
const (
	tagName        = 1000
	tagVersion     = 1001
	tagSummary     = 1004
	tagInstallTime = 1008
	tagVendor      = 1011
	tagFileFlags   = 1037
	tagGroup       = 1016
	tagURL         = 1020
	tagProvides    = 1047
	tagRequires    = 1049
	tagDirIndexes  = 1116
	tagBaseNames   = 1117
	tagDirNames    = 1118
	tagRecommends  = 5046
)

func (db *Database) rpmPackage(h header) *node {
	n := &node{Package: Package{
		Name:    h.text(tagName),
		Version: h.text(tagVersion),
		Summary: h.text(tagSummary),
		Maker:   h.text(tagVendor),
		Section: h.text(tagGroup),
	}}
	if n.Archive = db.archive(n.Maker, ""); n.Archive != "" {
		n.Maker = db.upstream("", h.text(tagURL))
	}
	if s := h.numbers(tagInstallTime); len(s) > 0 {
		n.Installed = time.Unix(int64(s[0]), 0)
	}
	n.needs = append(h.texts(tagRequires), h.texts(tagRecommends)...)
	n.gives = h.texts(tagProvides)
	return n
}

// Flags of a file.
const (
	isConfig  = 1 << 0
	noReplace = 1 << 4
)

// owns calls found for each of the paths asked for that the package owns.
func (h header) owns(want wanted, found func(asked string, keeps Keeps)) {
	flags := h.numbers(tagFileFlags)
	folders, names := h.texts(tagDirNames), h.texts(tagBaseNames)
	for i, folder := range h.numbers(tagDirIndexes) {
		if i >= len(names) || int(folder) >= len(folders) {
			break
		}
		if asked, ok := want[unmerge(folders[folder]+names[i])]; ok {
			keeps := Replaces
			if i < len(flags) && flags[i]&(isConfig|noReplace) == isConfig|noReplace {
				keeps = Asks
			}
			found(asked, keeps)
		}
	}
}

// A header is an rpm header: an index of tags, and the data they point into.
type header struct {
	index map[uint32][3]uint32 // type, offset, count
	data  []byte
}

func parseHeader(b []byte) (header, error) {
	be := binary.BigEndian
	h := header{index: map[uint32][3]uint32{}}
	if len(b) < 8 {
		return h, errors.New("it is too short")
	}
	entries, size := be.Uint32(b), be.Uint32(b[4:])
	if uint64(entries)*16+uint64(size)+8 > uint64(len(b)) {
		return h, errors.New("its sizes do not fit")
	}
	h.data = b[8+entries*16:][:size]
	for i := range entries {
		e := b[8+i*16:]
		h.index[be.Uint32(e)] = [3]uint32{be.Uint32(e[4:]), be.Uint32(e[8:]), be.Uint32(e[12:])}
	}
	return h, nil
}

// texts returns the strings of a tag.
func (h header) texts(tag uint32) []string {
	e, ok := h.index[tag]
	if !ok || e[1] > uint32(len(h.data)) {
		return nil
	}
	rest := string(h.data[e[1]:])
	var all []string
	for range min(e[2], 1<<20) {
		text, after, ended := strings.Cut(rest, "\x00")
		if !ended {
			break
		}
		all = append(all, text)
		rest = after
	}
	return all
}

func (h header) text(tag uint32) string {
	if all := h.texts(tag); len(all) > 0 {
		return all[0]
	}
	return ""
}

// numbers returns the 32-bit numbers of a tag.
func (h header) numbers(tag uint32) []uint32 {
	e, ok := h.index[tag]
	if !ok || uint64(e[1])+4*uint64(e[2]) > uint64(len(h.data)) {
		return nil
	}
	var all []uint32
	for i := range e[2] {
		all = append(all, binary.BigEndian.Uint32(h.data[e[1]+4*i:]))
	}
	return all
}
