package packages

import (
	"encoding/xml"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// stores knows the files of application stores by where they stand.
func (db *Database) stores(want wanted, owners map[string]Package) error {
	for _, p := range want {
		parts := strings.Split(strings.TrimPrefix(path.Clean(p), "/"), "/")
		at := func(i int) string {
			if i < len(parts) {
				return parts[i]
			}
			return ""
		}
		name := ""
		switch {
		case at(0) == "snap" && at(1) == "bin":
			name, _, _ = strings.Cut(at(2), ".")
		case at(0) == "snap":
			name = at(1)
		case strings.HasPrefix(p, "/etc/systemd/system/snap."):
			name = strings.Split(path.Base(p), ".")[1]
		case strings.Contains(p, "/flatpak/app/"):
			_, rest, _ := strings.Cut(p, "/flatpak/app/")
			id, _, _ := strings.Cut(rest, "/")
			owners[p] = db.App("flatpak " + id)
			continue
		}
		if name != "" {
			owners[p] = db.App("snap " + name)
		}
	}
	return nil
}

// AppOf is the application that the program of an application store is to run,
// as a package's name; empty for other programs.
func AppOf(program string, words []string) string {
	if path.Base(program) != "flatpak" || len(words) == 0 || words[0] != "run" {
		return ""
	}
	for _, word := range words[1:] {
		if !strings.HasPrefix(word, "-") {
			return "flatpak " + word
		}
	}
	return ""
}

// App is the package of an application by its name, as [AppOf] gives it, with
// what its own metadata tell.
func (db *Database) App(name string) Package {
	if p, known := db.apps[name]; known {
		return p
	}
	p := Package{Name: name}
	store, id, _ := strings.Cut(name, " ")
	if id != "" && !strings.ContainsAny(id, "/\x00") && id != "." && id != ".." {
		if store == "flatpak" {
			db.flatpak(id, &p)
		} else {
			db.snap(id, &p)
		}
	}
	if db.apps == nil {
		db.apps = map[string]Package{}
	}
	db.apps[name] = p
	return p
}

// A metainfo is what an application says of itself, by the AppStream
// specification.
type metainfo struct {
	Summary []localised `xml:"summary"`
	// in files of before version 1.0
	DeveloperName []localised `xml:"developer_name"`
	Developer     struct {
		Name []localised `xml:"name"`
	} `xml:"developer"`
	Releases struct {
		Release []struct {
			Version string `xml:"version,attr"`
		} `xml:"release"`
	} `xml:"releases"`
}

type localised struct {
	Language string `xml:"lang,attr"`
	Text     string `xml:",chardata"`
}

// plain is the text that is in no language.
func plain(all []localised) string {
	for _, l := range all {
		if l.Language == "" {
			return strings.TrimSpace(l.Text)
		}
	}
	return ""
}

// flatpak reads what a Flatpak application brings of metadata, of the machine
// or of the first user who has it.
func (db *Database) flatpak(id string, p *Package) {
	bases := []string{"/var/lib/flatpak"}
	homes, _ := db.root.ReadDir("/home")
	for _, h := range homes {
		bases = append(bases, path.Join("/home", h.Name, ".local/share/flatpak"))
	}
	for _, base := range bases {
		active := path.Join(base, "app", id, "current/active")
		info, err := db.root.Stat(active)
		if err != nil {
			continue
		}
		p.Installed = info.ModTime
		for _, at := range []string{
			"metainfo/" + id + ".metainfo.xml", "appdata/" + id + ".appdata.xml",
		} {
			for _, share := range []string{"export/share", "files/share"} {
				text, err := db.root.ReadFile(path.Join(active, share, at), maxList)
				if err != nil {
					continue
				}
				var m metainfo
				if xml.Unmarshal(text, &m) != nil {
					continue
				}
				p.Summary = plain(m.Summary)
				if p.Maker = plain(m.Developer.Name); p.Maker == "" {
					p.Maker = plain(m.DeveloperName)
				}
				if len(m.Releases.Release) > 0 {
					p.Version = m.Releases.Release[0].Version
				}
				return
			}
		}
		return
	}
}

// snap reads what a snap brings of metadata, where it is mounted, and what its
// store has asserted of its publisher.
func (db *Database) snap(name string, p *Package) {
	if text, err := db.root.ReadFile(path.Join("/snap", name, "current/meta/snap.yaml"),
		maxList); err == nil {
		var m struct{ Version, Summary string }
		if yaml.Unmarshal(text, &m) == nil {
			p.Version, p.Summary = m.Version, m.Summary
		}
	}
	const asserted = "/var/lib/snapd/assertions/asserts-v0"
	id := ""
	for _, series := range db.names(path.Join(asserted, "snap-declaration")) {
		folder := path.Join(asserted, "snap-declaration", series)
		for _, of := range db.names(folder) {
			headers := db.headers(path.Join(folder, of))
			if headers["snap-name"] == name {
				id = headers["publisher-id"]
			}
		}
	}
	if id == "" || strings.Contains(id, "/") {
		return
	}
	account := db.headers(path.Join(asserted, "account", id))
	p.Maker = account["display-name"]
}

const mostAsserted = 5000

func (db *Database) names(folder string) (names []string) {
	entries, _ := db.root.ReadDir(folder)
	for _, e := range entries[:min(mostAsserted, len(entries))] {
		names = append(names, e.Name)
	}
	return names
}

// headers are those of the newest assertion in a folder. Its file is "active",
// or with its format behind a comma.
func (db *Database) headers(folder string) map[string]string {
	headers := map[string]string{}
	files := db.names(folder)
	slices.Sort(files)
	for _, file := range files {
		text, err := db.root.ReadFile(path.Join(folder, file), maxList)
		if err != nil || !strings.HasPrefix(file, "active") {
			continue
		}
		for line := range strings.Lines(string(text)) {
			key, value, ok := strings.Cut(strings.TrimRight(line, "\n"), ": ")
			if line == "\n" {
				break // the signature follows
			}
			if ok && !strings.HasPrefix(key, " ") {
				headers[key] = strings.TrimSpace(value)
			}
		}
	}
	return headers
}
