package packages

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"calmdawn/internal/machine"
)

// rpmFolders are where rpm keeps its database, and the forms that it has had.
var (
	rpmFolders = []string{"/usr/lib/sysimage/rpm", "/var/lib/rpm"}
	rpmForms   = []string{"rpmdb.sqlite", "Packages.db", "Packages"}
)

// rpmFile finds rpm's database: its folder, and its name there. An error is
// [fs.ErrNotExist] where none is.
func rpmFile(r *machine.Root) (folder, name string, err error) {
	for _, name := range rpmForms {
		for _, folder := range rpmFolders {
			p := path.Join(folder, name)
			if info, err := r.Lstat(p); err == nil && info.Kind == machine.Regular {
				return folder, name, nil
			}
		}
	}
	return "", "", fs.ErrNotExist
}

// rpmHeaders calls each with the headers in rpm's database, in no order.
func rpmHeaders(r *machine.Root, each func(header) error) error {
	folder, name, err := rpmFile(r)
	if err != nil {
		return err
	}
	parsed := func(blob []byte) error {
		h, err := parseHeader(blob)
		if err != nil {
			return fmt.Errorf("it holds a package that cannot be read: %w", err)
		}
		return each(h)
	}
	if name == rpmForms[0] {
		err = sqliteHeaders(r, folder, name, parsed)
	} else {
		err = olderHeaders(r, path.Join(folder, name), parsed)
	}
	if err != nil {
		return &machine.Refusal{Path: path.Join(folder, name), Reason: "cannot be read: " +
			machine.Reason(err)}
	}
	return nil
}

func sqliteHeaders(r *machine.Root, folder, name string, each func([]byte) error) error {
	book, release, err := openBook(r, folder, name)
	if err != nil {
		return err
	}
	defer release()
	rows, err := book.Query("SELECT blob FROM Packages")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var blob []byte
		if err := rows.Scan(&blob); err != nil {
			return err
		}
		if err := each(blob); err != nil {
			return err
		}
	}
	return rows.Err()
}

func olderHeaders(r *machine.Root, p string, each func([]byte) error) error {
	f, err := r.OpenFile(p)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if path.Base(p) == "Packages" {
		return hashValues(f, info.Size(), each)
	}
	return slotBlobs(f, info.Size(), each)
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
	f := newForest()
	reasons := db.rpmReasons()
	f.marked = len(reasons) > 0
	found := map[string]place{}
	err := rpmHeaders(db.root, func(h header) error {
		n := db.rpmPackage(h)
		why := reasons[n.Name]
		n.chosen, n.root = why == byUser, why == byGroup && n.Archive != ""
		f.add(n)
		h.owns(want, func(asked string, keeps Keeps) { found[asked] = place{n.Name, keeps} })
		return nil
	})
	if err == nil {
		db.take(f, found, owners)
	}
	return err
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
// Where the database has none, each package's header tells.
func rpmInstalls(r *machine.Root) (all []time.Time) {
	folder, name, err := rpmFile(r)
	if err != nil {
		return nil
	}
	if name != rpmForms[0] {
		_ = rpmHeaders(r, func(h header) error { // what cannot be read tells no time
			if s := h.numbers(tagInstallTime); len(s) > 0 {
				all = append(all, time.Unix(int64(s[0]), 0))
			}
			return nil
		})
		return all
	}
	book, release, err := openBook(r, folder, name)
	if err != nil {
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
		n.Maker = db.upstream("", "", h.text(tagURL))
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
