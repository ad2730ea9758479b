package packages

import (
	"bytes"
	"path"
	"strings"
)

// The database of dpkg: deb-control(5), dpkg-query(1).
const (
	statusFile = "/var/lib/dpkg/status"
	infoFolder = "/var/lib/dpkg/info"
	maxStatus  = 256 << 20
	maxList    = 64 << 20
)

func (db *Database) dpkg(want wanted, owners map[string]Package) error {
	status, err := db.root.ReadFile(statusFile, maxStatus)
	if err != nil {
		return err
	}
	packages := map[string]Package{}
	for len(status) > 0 {
		var stanza []byte
		stanza, status, _ = bytes.Cut(status, []byte("\n\n"))
		if p := db.dpkgPackage(stanza); p.Name != "" {
			packages[p.Name] = p
		}
	}
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
			p := packages[name]
			if info, err := db.root.Stat(file); err == nil {
				p.Installed = info.ModTime
			}
			owners[asked] = p
		}
	}
	return nil
}

func (db *Database) dpkgPackage(stanza []byte) Package {
	field := map[string]string{}
	for line := range bytes.Lines(stanza) {
		key, value, ok := bytes.Cut(line, []byte(":"))
		if ok && len(key) > 0 && key[0] != ' ' && key[0] != '\t' {
			field[string(key)] = string(bytes.TrimSpace(value))
		}
	}
	maker, address := person(field["Maintainer"])
	_, section, found := strings.Cut(field["Section"], "/") // "non-free/misc"
	if !found {
		section = field["Section"]
	}
	return Package{
		Name:    field["Package"],
		Version: field["Version"],
		Maker:   maker,
		Section: section,
		Summary: field["Description"],
		System:  db.isSystem(field["Origin"], address, field["Priority"]),
		Gone:    strings.HasSuffix(field["Status"], "config-files"),
	}
}
