// Package packages tells which package brought a file of a machine, who made
// it, and whether it belongs to the operating system itself. It reads the
// databases of dpkg, rpm, apk and pacman, and knows the folders of flatpak and
// snap.
package packages

import (
	_ "embed"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

//go:embed origin.toml
var originRules []byte

// A Package is one installed package.
type Package struct {
	Name    string
	Version string
	// who made it, without an address: the vendor, or the project behind a
	// package of the archive
	Maker     string
	Archive   string // the distribution from whose archive it is; empty for others
	Came      string // how it came, as a clause; empty where that is not on record
	Section   string // what the archive files it under; empty where it does not
	Summary   string // one line
	Installed time.Time
	System    bool  // a part of the operating system
	Keeps     Keeps // what an update makes of the file that was asked for
	Gone      bool  // removed, its configuration left behind
}

// Keeps is what the package manager does with a file that somebody changed,
// when it installs a newer package.
type Keeps int

// What can become of a changed file.
const (
	KeepsUnknown Keeps = iota
	Replaces           // it is written anew
	Asks               // it stays, or the person is asked: it is configuration
)

// A Database is the machine's package databases.
type Database struct {
	root  *machine.Root
	os    OS
	rules rules
	// owned lists what each database found; asked for, it tells the owners of
	// paths.
	readers []func(wanted wanted, owners map[string]Package) error
	unread  []item.Unread
	guessed bool
	apps    map[string]Package // of stores, by their names
}

// An OS is how the machine names its operating system, os-release(5).
type OS struct{ ID, Name string }

// rules tell the operating system's own packages from added ones.
type rules struct {
	Priorities []string `toml:"priorities"`
	Domains    []string `toml:"domains"`
	Sets       []string `toml:"sets"`
	Sections   []string `toml:"sections"`
	Forges     []string `toml:"forges"`
	Mail       []string `toml:"mail"`
}

// wanted maps the spelling of a path in databases to the path that was asked
// for.
type wanted map[string]string

// Read opens the databases of a machine; one without any has an empty database.
func Read(r *machine.Root, os OS) (*Database, error) {
	db := &Database{root: r, os: os}
	if err := toml.Unmarshal(originRules, &db.rules); err != nil {
		return nil, err
	}
	db.readers = []func(wanted, map[string]Package) error{
		db.dpkg, db.apk, db.pacman, db.rpm, db.xbps, db.portage, db.stores,
	}
	return db, nil
}

// Owners returns the packages of those of the given paths that one owns.
func (db *Database) Owners(paths []string) map[string]Package {
	want := wanted{}
	for _, p := range paths {
		if p != "" {
			want[unmerge(p)] = p
		}
	}
	owners := map[string]Package{}
	for _, read := range db.readers {
		if err := read(want, owners); err != nil && !errors.Is(err, fs.ErrNotExist) {
			var refusal *machine.Refusal
			where := "the package database"
			if errors.As(err, &refusal) {
				where = refusal.Path
			}
			db.unread = append(db.unread, machine.Unread(where, err))
		}
	}
	return owners
}

// Installs returns when packages were installed or updated last, where the
// database tells: that of apk keeps no dates.
func Installs(r *machine.Root) []time.Time {
	all := rpmInstalls(r)
	for folder, suffix := range map[string]string{
		infoFolder:              ".list",
		"/var/lib/pacman/local": "",
	} {
		entries, err := r.ReadDir(folder)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if !strings.HasSuffix(e.Name, suffix) {
				continue
			}
			if info, err := r.Lstat(path.Join(folder, e.Name)); err == nil {
				all = append(all, info.ModTime)
			}
		}
	}
	return all
}

// Guessed reports, after Owners, that a database does not tell which packages
// somebody chose. What is a part of the operating system then goes by priority,
// section and the sets of installers.
func (db *Database) Guessed() bool { return db.guessed }

// Unread names the databases that could not be read.
func (db *Database) Unread() []item.Unread { return db.unread }

// packer is a person that may be a maker: nobody whose address says that it is
// their own.
func (db *Database) packer(text string) (name, address string) {
	name, address = person(text)
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	if slices.Contains(db.rules.Mail, domain) {
		name = ""
	}
	return name, address
}

// person parts "Name <address>".
func person(text string) (name, address string) {
	name, address, _ = strings.Cut(text, "<")
	return strings.TrimSpace(name), strings.TrimSuffix(strings.TrimSpace(address), ">")
}

// unmerge gives the paths of a machine with merged /usr one spelling, that
// without /usr.
func unmerge(p string) string {
	if rest, ok := strings.CutPrefix(p, "/usr"); ok {
		for _, top := range []string{"/lib/", "/bin/", "/sbin/", "/lib64/"} {
			if strings.HasPrefix(rest, top) {
				return rest
			}
		}
	}
	return p
}
