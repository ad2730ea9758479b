// Package packages tells which package brought a file of a Debian-style machine, who made it, and whether it belongs to
// the operating system itself: the dpkg database, deb-control(5), dpkg-query(1).
package packages

import (
	"bufio"
	"bytes"
	_ "embed"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/machine"
)

//go:embed origin.toml
var originRules []byte

// A Package is one installed package.
type Package struct {
	Name   string
	Maker  string // the maintainer's name, without the address
	System bool   // a part of the operating system
	Gone   bool   // removed, its configuration left behind
}

// A Database is the machine's package database.
type Database struct {
	root     *machine.Root
	packages map[string]Package
	os       string
	rules    rules
}

// rules tell the operating system's own packages from added ones.
type rules struct {
	Priorities []string `toml:"priorities"`
	Domains    []string `toml:"domains"`
}

const (
	statusFile = "/var/lib/dpkg/status"
	infoFolder = "/var/lib/dpkg/info"
	maxStatus  = 256 << 20
	maxList    = 64 << 20
)

// Read reads the database; a machine without one has an empty database. osID is the machine's ID of os-release(5).
func Read(r *machine.Root, osID string) (*Database, error) {
	db := &Database{root: r, packages: map[string]Package{}, os: osID}
	if err := toml.Unmarshal(originRules, &db.rules); err != nil {
		return nil, err
	}
	status, err := r.ReadFile(statusFile, maxStatus)
	if err != nil {
		return db, err
	}
	for len(status) > 0 {
		var stanza []byte
		stanza, status, _ = bytes.Cut(status, []byte("\n\n"))
		if p := db.parse(stanza); p.Name != "" {
			db.packages[p.Name] = p
		}
	}
	return db, nil
}

func (db *Database) parse(stanza []byte) Package {
	var p Package
	field := map[string]string{}
	for line := range bytes.Lines(stanza) {
		key, value, ok := bytes.Cut(line, []byte(":"))
		if ok && len(key) > 0 && key[0] != ' ' && key[0] != '\t' {
			field[string(key)] = string(bytes.TrimSpace(value))
		}
	}
	p.Name = field["Package"]
	name, address, _ := strings.Cut(field["Maintainer"], "<")
	p.Maker = strings.TrimSpace(name)
	address = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(address), ">"))
	_, domain, _ := strings.Cut(address, "@")
	p.System = field["Origin"] != "" && strings.EqualFold(field["Origin"], db.os) ||
		slices.Contains(db.rules.Priorities, field["Priority"]) ||
		slices.ContainsFunc(db.rules.Domains, func(d string) bool { return domain == d || strings.HasSuffix(domain, "."+d) })
	p.Gone = strings.HasSuffix(field["Status"], "config-files")
	return p
}

// Owners returns the packages of those of the given paths that one owns.
func (db *Database) Owners(paths []string) map[string]Package {
	wanted := map[string]string{}
	for _, p := range paths {
		wanted[unmerge(p)] = p
	}
	owners := map[string]Package{}
	entries, err := db.root.ReadDir(infoFolder)
	if err != nil {
		return owners
	}
	for _, e := range entries {
		file := path.Join(infoFolder, e.Name)
		switch path.Ext(e.Name) {
		case ".list", ".conffiles":
		default:
			continue
		}
		name, _, _ := strings.Cut(strings.TrimSuffix(e.Name, path.Ext(e.Name)), ":")
		text, err := db.root.ReadFile(file, maxList)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(bytes.NewReader(text))
		for lines.Scan() {
			if p, ok := wanted[string(unmergeBytes(lines.Bytes()))]; ok {
				owners[p] = db.packages[name]
			}
		}
	}
	return owners
}

// unmerge gives the paths of a machine with merged /usr one spelling, that without /usr.
func unmerge(p string) string { return string(unmergeBytes([]byte(p))) }

func unmergeBytes(p []byte) []byte {
	if rest, ok := bytes.CutPrefix(p, []byte("/usr")); ok {
		for _, top := range []string{"/lib/", "/bin/", "/sbin/", "/lib64/"} {
			if bytes.HasPrefix(rest, []byte(top)) {
				return rest
			}
		}
	}
	return p
}
