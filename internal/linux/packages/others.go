package packages

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"path"
	"strconv"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"calmdawn/internal/machine"
)

// apk reads the database of apk: records of one-letter fields, with F: a folder
// and R: a file in it.
func (db *Database) apk(want wanted, owners map[string]Package) error {
	text, err := db.root.ReadFile("/lib/apk/db/installed", maxStatus)
	if err != nil {
		return err
	}
	var p Package
	folder := ""
	for line := range strings.Lines(string(text)) {
		key, value, _ := strings.Cut(strings.TrimRight(line, "\n"), ":")
		switch key {
		case "":
			p, folder = Package{}, ""
		case "P":
			p.Name = value
		case "V":
			p.Version = value
		case "T":
			p.Summary = value
		case "m":
			maker, address := person(value)
			p.Maker, p.System = maker, p.System || db.isSystem("", address, "")
		case "t":
			if n, err := strconv.ParseInt(value, 10, 64); err == nil {
				p.Installed = time.Unix(n, 0) // when it was built: the database keeps no other date
			}
		case "F":
			folder = "/" + value
		case "R":
			if asked, ok := want[unmerge(path.Join(folder, value))]; ok {
				owners[asked] = p
			}
		}
	}
	return nil
}

// pacman reads the database of pacman: a folder a package, with the files desc
// and files of %KEY% and values.
func (db *Database) pacman(want wanted, owners map[string]Package) error {
	const local = "/var/lib/pacman/local"
	entries, err := db.root.ReadDir(local)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Kind != machine.Folder {
			continue
		}
		files, err := db.root.ReadFile(path.Join(local, e.Name, "files"), maxList)
		if err != nil {
			continue
		}
		var owned []string
		for line := range strings.Lines(string(files)) {
			if asked, ok := want[unmerge("/"+strings.TrimSpace(line))]; ok {
				owned = append(owned, asked)
			}
		}
		if len(owned) == 0 {
			continue
		}
		desc, err := db.root.ReadFile(path.Join(local, e.Name, "desc"), maxList)
		if err != nil {
			return err
		}
		field, key := map[string]string{}, ""
		for line := range strings.Lines(string(desc)) {
			line = strings.TrimSpace(line)
			switch {
			case strings.HasPrefix(line, "%"):
				key = line
			case key != "":
				field[key], key = line, ""
			}
		}
		maker, address := person(field["%PACKAGER%"])
		p := Package{
			Name:    field["%NAME%"],
			Version: field["%VERSION%"],
			Summary: field["%DESC%"],
			Maker:   maker,
			System:  db.isSystem("", address, ""),
		}
		if n, err := strconv.ParseInt(field["%INSTALLDATE%"], 10, 64); err == nil {
			p.Installed = time.Unix(n, 0)
		}
		for _, asked := range owned {
			owners[asked] = p
		}
	}
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
	dir, end, err := r.Handle(folder)
	if err != nil {
		return nil, file, nil, err
	}
	book, err = sql.Open("sqlite",
		"file:"+dir+"/rpmdb.sqlite?mode=ro&immutable=1&_pragma=trusted_schema(off)")
	if err != nil {
		end()
		return nil, file, nil, err
	}
	return book, file, func() { book.Close(); end() }, nil
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
		db.rpmPackage(h, want, owners)
	}
	return rows.Err()
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
	tagGroup       = 1016
	tagDirIndexes  = 1116
	tagBaseNames   = 1117
	tagDirNames    = 1118
)

func (db *Database) rpmPackage(h header, want wanted, owners map[string]Package) {
	folders, names := h.texts(tagDirNames), h.texts(tagBaseNames)
	for i, folder := range h.numbers(tagDirIndexes) {
		if i >= len(names) || int(folder) >= len(folders) {
			break
		}
		asked, ok := want[unmerge(folders[folder]+names[i])]
		if !ok {
			continue
		}
		p := Package{
			Name:    h.text(tagName),
			Version: h.text(tagVersion),
			Summary: h.text(tagSummary),
			Maker:   h.text(tagVendor),
			Section: h.text(tagGroup),
		}
		p.System = db.isSystem(p.Maker, "", "")
		if n := h.numbers(tagInstallTime); len(n) > 0 {
			p.Installed = time.Unix(int64(n[0]), 0)
		}
		owners[asked] = p
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
