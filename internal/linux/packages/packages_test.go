//go:build linux

package packages

import (
	"compress/gzip"
	"database/sql"
	"encoding/binary"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// TestOwners asks each database for the owner of a file. The rpm one was made
// by rpm itself, of one made-up package.
func TestOwners(t *testing.T) {
	packed, err := os.Open("testdata/rpmdb.sqlite.gz")
	if err != nil {
		t.Fatal(err)
	}
	unpacked, err := gzip.NewReader(packed)
	if err != nil {
		t.Fatal(err)
	}
	rpmdb, err := io.ReadAll(unpacked)
	if err != nil {
		t.Fatal(err)
	}
	const unit = "/usr/lib/systemd/system/domeview.service"
	dome := Package{
		Name:    "domeview",
		Keeps:   Replaces,
		Version: "3.2",
		Maker:   "Varnholt Domes",
		Summary: "Looks at the dome",
		Section: "Applications/Multimedia",
	}
	header := oneHeader(t, rpmdb)
	for name, c := range map[string]struct {
		files map[string]string
		path  string
		want  Package
	}{
		"dpkg": {
			map[string]string{
				"var/lib/dpkg/status": "Package: base\nStatus: install ok installed\n" +
					"Priority: required\n\nPackage: domeview\nStatus: install ok installed\n" +
					"Section: contrib/science\nMaintainer: Varnholt Domes <p@varnholt.example>\n" +
					"Version: 3.2\nDescription: Looks at the dome\n at length\n",
				"var/lib/dpkg/info/domeview.list": "/.\n/lib/systemd/system/domeview.service\n",
			},
			unit,
			Package{
				Name:    "domeview",
				Keeps:   Replaces,
				Version: "3.2",
				Maker:   "Varnholt Domes",
				Section: "science",
				Summary: "Looks at the dome",
			},
		},
		"dpkg, a part of the system": {map[string]string{
			"var/lib/dpkg/status": "Package: base\nMaintainer: Base <b@lists.debian.org>\n" +
				"Priority: optional\nStatus: deinstall ok config-files\n",
			"var/lib/dpkg/info/base:amd64.list": unit + "\n",
		}, unit, Package{Name: "base", Keeps: Replaces, Archive: "Debian GNU/Linux", System: true,
			Gone: true, Came: "a set that installers put in"}},
		"apk": {map[string]string{"lib/apk/db/installed": "P:other\nV:1\nF:usr/bin\nR:x\n\n" +
			"P:domeview\nV:3.2\nT:Looks at the dome\nm:Dome <d@varnholt.example>\n" +
			"F:usr/lib/systemd/system\nR:domeview.service\n"},
			unit, Package{Name: "domeview", Keeps: Replaces, Version: "3.2", Maker: "Dome",
				Summary: "Looks at the dome"}},
		"pacman": {
			map[string]string{
				"var/lib/pacman/local/domeview-3.2-1/desc": "%NAME%\ndomeview\n\n%VERSION%\n" +
					"3.2-1\n" +
					"\n%DESC%\nLooks at the dome\n\n%PACKAGER%\nA Person <a@archlinux.org>\n",
				"var/lib/pacman/local/domeview-3.2-1/files": "%FILES%\nusr/\n" +
					"usr/lib/systemd/system/domeview.service\n",
			},
			unit,
			Package{Name: "domeview", Keeps: Replaces, Version: "3.2-1",
				Archive: "Debian GNU/Linux", Summary: "Looks at the dome",
				Came: "somebody chose it"},
		},
		"rpm": {map[string]string{"var/lib/rpm/rpmdb.sqlite": string(rpmdb)}, unit, dome},
		"rpm, hashed pairs": {map[string]string{
			"var/lib/rpm/Packages": string(hashed(binary.LittleEndian, header)),
		}, unit, dome},
		"rpm, hashed pairs of a large computer": {map[string]string{
			"var/lib/rpm/Packages": string(hashed(binary.BigEndian, header)),
		}, unit, dome},
		"rpm, slots": {map[string]string{
			"usr/lib/sysimage/rpm/Packages.db": string(slotted(header)),
		}, unit, dome},
		"xbps": {
			map[string]string{
				"var/db/xbps/pkgdb-0.38.plist": plistOf("<key>domeview</key><dict>" +
					"<key>pkgver</key><string>domeview-3.2_1</string>" +
					"<key>short_desc</key><string>Looks at the dome</string>" +
					"<key>maintainer</key><string>A Person &lt;a@voidlinux.org&gt;</string>" +
					"<key>automatic-install</key><false/></dict>"),
				"var/db/xbps/.domeview-files.plist": plistOf("<key>files</key><array><dict>" +
					"<key>file</key><string>" + unit + "</string></dict></array>"),
			},
			unit,
			Package{Name: "domeview", Keeps: Replaces, Version: "3.2_1",
				Archive: "Debian GNU/Linux", Summary: "Looks at the dome",
				Came: "somebody chose it"},
		},
		"portage": {
			map[string]string{
				"var/db/pkg/sci-dome/domeview-3.2-r1/DESCRIPTION": "Looks at the dome\n",
				"var/db/pkg/sci-dome/domeview-3.2-r1/repository":  "gentoo\n",
				"var/db/pkg/sci-dome/domeview-3.2-r1/CONTENTS": "dir /usr\nobj " + unit +
					" 0123456789abcdef 1760000000\n",
				"var/lib/portage/world": "sci-dome/domeview\n",
			},
			unit,
			Package{Name: "sci-dome/domeview", Keeps: Replaces, Version: "3.2-r1",
				Archive: "Debian GNU/Linux", Summary: "Looks at the dome",
				Came: "somebody chose it"},
		},
		"portage, of every installation": {
			map[string]string{
				"var/db/pkg/sys-dome/base-1/repository":      "gentoo\n",
				"var/db/pkg/sys-dome/base-1/CONTENTS":        "obj " + unit + " 0 1\n",
				"var/db/repos/gentoo/profiles/base/packages": "# all\n*>=sys-dome/base-1\n",
			},
			unit,
			Package{Name: "sys-dome/base", Keeps: Replaces, Version: "1", System: true,
				Archive: "Debian GNU/Linux", Came: "every installation has it"},
		},
		"flatpak with metadata": {
			map[string]string{
				"var/lib/flatpak/app/org.example.Dome/current/active/export/share/metainfo/" +
					"org.example.Dome.metainfo.xml": "<component><summary xml:lang=\"de\">x" +
					"</summary><summary>Looks at the dome</summary><developer>" +
					"<name>Varnholt Domes</name></developer><releases>" +
					"<release version=\"3.2\"/></releases></component>",
			},
			"/var/lib/flatpak/app/org.example.Dome/current/dome",
			Package{Name: "flatpak org.example.Dome", Version: "3.2", Maker: "Varnholt Domes",
				Summary: "Looks at the dome"},
		},
		"snap with metadata": {
			map[string]string{
				"snap/dome/current/meta/snap.yaml": "name: dome\nversion: '3.2'\n" +
					"summary: Looks at the dome\n",
				"var/lib/snapd/assertions/asserts-v0/snap-declaration/16/abc/active,1": "type: " +
					"snap-declaration\nsnap-name: dome\npublisher-id: p1\n\nsigned\n",
				"var/lib/snapd/assertions/asserts-v0/account/p1/active": "type: account\n" +
					"display-name: Varnholt Domes\n\nsigned\n",
			},
			"/snap/dome/12/bin/dome",
			Package{Name: "snap dome", Version: "3.2", Maker: "Varnholt Domes",
				Summary: "Looks at the dome"},
		},
		"flatpak": {
			nil,
			"/var/lib/flatpak/app/org.example.Dome/current/dome",
			Package{Name: "flatpak org.example.Dome"},
		},
		"snap":   {nil, "/snap/dome/12/bin/dome", Package{Name: "snap dome"}},
		"nobody": {nil, unit, Package{}},
	} {
		r, err := machine.Open(testtree.Make(t, c.files))
		if err != nil {
			t.Fatal(err)
		}
		db, err := Read(r, OS{ID: "debian", Name: "Debian GNU/Linux"})
		if err != nil {
			t.Fatal(err)
		}
		got := db.Owners([]string{"", "/etc/passwd", c.path})[c.path]
		installed := got.Installed
		got.Installed = c.want.Installed
		if got != c.want || len(db.Unread()) > 0 {
			t.Errorf("%s: %+v, unread %v; want %+v", name, got, db.Unread(), c.want)
		}
		if all := Installs(r); strings.HasPrefix(name, "rpm") &&
			(installed.Year() < 2020 || len(all) != 1 || !all[0].Equal(installed)) {
			t.Errorf("%s: installed %v, all %v", name, installed, all)
		}
		r.Close()
	}
	for name, damaged := range map[string]string{
		"rpmdb.sqlite": "no database",
		"Packages":     "no pairs",
		"Packages.db":  "no slots",
	} {
		dir := testtree.Make(t, map[string]string{filepath.Join("var/lib/rpm", name): damaged})
		r, err := machine.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		db, _ := Read(r, OS{})
		if found := db.Owners([]string{unit}); len(found) > 0 || len(db.Unread()) != 1 {
			t.Errorf("%s: found %v, unread %v", name, found, db.Unread())
		}
		r.Close()
	}
}

func FuzzHeader(f *testing.F) {
	f.Add(
		[]byte(
			"\x00\x00\x00\x01\x00\x00\x00\x04\x00\x00\x03\xe8" +
				"\x00\x00\x00\x06\x00\x00\x00\x00\x00\x00\x00\x01dom\x00",
		),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		h, err := parseHeader(data)
		if err == nil {
			h.text(tagName)
			h.numbers(tagDirIndexes)
		}
	})
}

// TestWhatBelongsToTheSystem asks databases of each kind which packages are
// parts of the operating system, and how the others came.
func TestWhatBelongsToTheSystem(t *testing.T) {
	const mail = "Maintainer: Packers <p@lists.debian.org>\n"
	stanza := func(name, more string) string {
		return "Package: " + name + "\nStatus: install ok installed\n" + more + "\n"
	}
	dpkg := stanza("init", "Essential: yes\nPriority: required\nPre-Depends: bus (>= 1)\n"+mail) +
		stanza("bus", mail) +
		stanza("task-light-desktop", mail+"Depends: desk\nRecommends: indexer | other, printd\n") +
		stanza("desk", mail) + stanza("indexer", mail) +
		stanza("printd", mail+"Homepage: https://www.printd.example/x\nProvides: print-system\n") +
		stanza("database", mail+"Section: database\nDepends: database-common, bus\n"+
			"Homepage: https://github.com/some/one\n") +
		stanza("database-common", mail+"Section: database\n") +
		stanza("toolkit", mail+"Section: libs\n") +
		stanza("till", "Maintainer: Pellin Ticketworks <p@pellin.example>\nDepends: tillhelp\n") +
		stanza("tillhelp", "Maintainer: A Packer <a@mail.example>\n") +
		stanza("alone", "Maintainer: A Person <person@gmail.com>\n"+
			"Homepage: https://docs.alone.example/\n") +
		stanza("wireclient", mail+"Source: wire\nHomepage: https://wire.example/client\n")
	auto := ""
	for _, name := range []string{"bus", "desk", "indexer", "printd", "database-common", "toolkit",
		"tillhelp"} {
		auto += "Package: " + name + "\nAuto-Installed: 1\n\n"
	}
	files := map[string]string{"var/lib/dpkg/status": dpkg,
		"usr/share/doc/indexer/copyright":    "Format: x\nUpstream-Name: Index Works\n\nFiles: *\n",
		"usr/share/doc/wireclient/copyright": "Format: x\nUpstream-Name: pointd\n\nFiles: *\n"}
	var paths []string
	for _, name := range []string{"init", "bus", "desk", "indexer", "printd", "database",
		"database-common", "toolkit", "till", "tillhelp", "alone", "wireclient"} {
		files["var/lib/dpkg/info/"+name+".list"] = "/opt/" + name + "\n"
		paths = append(paths, "/opt/"+name)
	}
	ask := func(os OS, more map[string]string) (map[string]Package, bool) {
		all := map[string]string{}
		for _, of := range []map[string]string{files, more} {
			for p, text := range of {
				all[p] = text
			}
		}
		r, err := machine.Open(testtree.Make(t, all))
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		db, err := Read(r, os)
		if err != nil {
			t.Fatal(err)
		}
		owners := map[string]Package{}
		for p, of := range db.Owners(paths) {
			owners[p[len("/opt/"):]] = of
		}
		return owners, db.Guessed()
	}
	debian := OS{ID: "debian", Name: "Debian GNU/Linux"}
	check := func(what string, owners map[string]Package, want map[string]string) {
		t.Helper()
		for name, came := range want {
			p, system := owners[name], came[0] == '!'
			if p.System != system || p.Came != came[1:] {
				t.Errorf("%s: %s: %+v; want %s", what, name, p, came)
			}
		}
	}
	marked, guessed := ask(debian, map[string]string{"var/lib/apt/extended_states": auto})
	check("marked", marked, map[string]string{
		"init": "!every installation has it", "bus": "!came with init",
		"desk": "!came with task-light-desktop", "indexer": "!came with task-light-desktop",
		"database": ".somebody chose it", "database-common": ".came with database",
		"toolkit": ".", "till": ".somebody chose it", "tillhelp": ".came with till",
	})
	if guessed || marked["indexer"].Maker != "Index Works" || marked["database"].Maker != "" ||
		marked["printd"].Maker != "printd.example" ||
		marked["till"].Maker != "Pellin Ticketworks" ||
		marked["alone"].Maker != "alone.example" || marked["wireclient"].Maker != "wire.example" {
		t.Errorf("guessed %v, makers %+v", guessed, marked)
	}
	bare, guessed := ask(debian, nil)
	check("not marked", bare, map[string]string{
		"bus": "!came with init", "indexer": "!came with task-light-desktop", "database": ".",
		"database-common": ".", "toolkit": "!filed under libs", "till": ".",
	})
	if !guessed {
		t.Error("that nothing is on record of what was chosen is not said")
	}
	lists := map[string]string{
		"var/lib/apt/lists/h_dists_x_InRelease":                    "Suite: x\nOrigin: Debian\n",
		"var/lib/apt/lists/h_dists_x_main_binary-amd64_Packages":   "Package: tillhelp\n",
		"var/lib/apt/lists/other_dists_y_InRelease":                "Origin: Pellin\n",
		"var/lib/apt/lists/other_dists_y_main_binary-any_Packages": "Package: till\n",
	}
	if listed, _ := ask(debian, lists); listed["tillhelp"].Archive == "" ||
		listed["till"].Archive != "" {
		t.Errorf("by the archive's lists: %+v, %+v", listed["tillhelp"], listed["till"])
	}

	paths = []string{"/opt/x", "/opt/y", "/opt/z"}
	pac := map[string]string{}
	for name, text := range map[string]string{
		"base": "%DEPENDS%\nx>=1\n", "x": "%REASON%\n1\n", "y": "%DEPENDS%\nzz\n",
		"z": "%REASON%\n1\n\n%PROVIDES%\nzz=2\n",
	} {
		pac["var/lib/pacman/local/"+name+"-1/desc"] = "%NAME%\n" + name + "\n\n" +
			"%PACKAGER%\nA <a@archlinux.org>\n\n" + text
		pac["var/lib/pacman/local/"+name+"-1/files"] = "%FILES%\nopt/" + name + "\n"
	}
	by, _ := ask(OS{ID: "arch"}, pac)
	same := map[string]string{"x": "!came with base", "y": ".somebody chose it",
		"z": ".came with y"}
	check("pacman", by, same)
	apk := "P:alpine-base\nm:A <a@alpinelinux.org>\nD:x>1\n\n" +
		"P:x\nm:A <a@alpinelinux.org>\nF:opt\nR:x\n\n" +
		"P:y\nm:A <a@alpinelinux.org>\nD:so:zz\nF:opt\nR:y\n\n" +
		"P:z\nm:A <a@alpinelinux.org>\np:so:zz=1\nF:opt\nR:z\n"
	by, _ = ask(OS{ID: "alpine"}, map[string]string{
		"lib/apk/db/installed": apk, "etc/apk/world": "alpine-base\ny\n"})
	same["x"] = "!came with alpine-base"
	check("apk", by, same)
}

// TestWhyPackagesOfRpmAreThere reads what both generations of the package
// manager above rpm remember: a list, and a history of which the last word
// counts.
func TestWhyPackagesOfRpmAreThere(t *testing.T) {
	file := filepath.Join(t.TempDir(), "history.sqlite")
	book, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{
		"CREATE TABLE rpm (item_id INTEGER, name TEXT)",
		"CREATE TABLE trans_item (id INTEGER, item_id INTEGER, reason INTEGER)",
		"INSERT INTO rpm VALUES (1, 'dome'), (2, 'domelib'), (3, 'desk'), (4, 'domelib')",
		"INSERT INTO trans_item VALUES (1, 1, 2), (2, 2, 2), (3, 3, 5), (4, 4, 1)",
	} {
		if _, err := book.Exec(line); err != nil {
			t.Fatal(err)
		}
	}
	book.Close()
	history, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	const list = "version = '1.1'\n[packages]\n'dome.x86_64' = {reason = 'User'}\n" +
		"'domelib.noarch' = {reason = 'Weak Dependency'}\n'desk.x86_64' = {reason = 'Group'}\n"
	want := map[string]int{"dome": byUser, "domelib": byItself, "desk": byGroup}
	for name, files := range map[string]map[string]string{
		"history": {"var/lib/dnf/history.sqlite": string(history)},
		"list": {"usr/lib/sysimage/libdnf5/packages.toml": list,
			"var/lib/dnf/history.sqlite": "no database"},
		"neither": {"var/lib/dnf/history.sqlite": "no database"},
	} {
		r, err := machine.Open(testtree.Make(t, files))
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		got := (&Database{root: r}).rpmReasons()
		if name != "neither" && !maps.Equal(got, want) || name == "neither" && len(got) > 0 {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// TestWhatUpdatesKeep tells configuration from what is written anew.
func TestWhatUpdatesKeep(t *testing.T) {
	const kept, anew = "/etc/xdg/autostart/a.desktop", "/etc/xdg/autostart/b.desktop"
	for name, files := range map[string]map[string]string{
		"dpkg": {
			"var/lib/dpkg/status":           "Package: a\nStatus: install ok installed\n",
			"var/lib/dpkg/info/a.list":      kept + "\n" + anew + "\n",
			"var/lib/dpkg/info/a.conffiles": kept + "\n",
		},
		"pacman": {
			"var/lib/pacman/local/a-1/desc": "%NAME%\na\n",
			"var/lib/pacman/local/a-1/files": "%FILES%\n" + kept[1:] + "\n" + anew[1:] +
				"\n\n%BACKUP%\n" + kept[1:] + "\t0123abcd\n",
		},
	} {
		r, err := machine.Open(testtree.Make(t, files))
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		db, err := Read(r, OS{})
		if err != nil {
			t.Fatal(err)
		}
		got := db.Owners([]string{kept, anew})
		if got[kept].Keeps != Asks || got[anew].Keeps != Replaces {
			t.Errorf("%s: %d and %d", name, got[kept].Keeps, got[anew].Keeps)
		}
	}
	// the flags of a header, of files in one folder
	h := headerOf(map[uint32][]string{
		tagDirNames: {"/etc/xdg/autostart/"}, tagBaseNames: {"a.desktop", "b.desktop", "c.desktop"},
	}, map[uint32][]uint32{
		tagDirIndexes: {0, 0, 0}, tagFileFlags: {isConfig | noReplace, isConfig, 0},
	})
	var all []Keeps
	h.owns(wanted{kept: kept, anew: anew, "/etc/xdg/autostart/c.desktop": "c"},
		func(_ string, keeps Keeps) { all = append(all, keeps) })
	if !slices.Equal(all, []Keeps{Asks, Replaces, Replaces}) {
		t.Errorf("rpm: %v", all)
	}
}

// headerOf is a header of some texts and numbers.
func headerOf(texts map[uint32][]string, numbers map[uint32][]uint32) header {
	h := header{index: map[uint32][3]uint32{}}
	for tag, all := range texts {
		h.index[tag] = [3]uint32{8, uint32(len(h.data)), uint32(len(all))}
		h.data = append(h.data, strings.Join(all, "\x00")+"\x00"...)
	}
	for tag, all := range numbers {
		h.index[tag] = [3]uint32{4, uint32(len(h.data)), uint32(len(all))}
		for _, n := range all {
			h.data = binary.BigEndian.AppendUint32(h.data, n)
		}
	}
	return h
}

func TestApplicationsOfStores(t *testing.T) {
	for line, want := range map[string]string{
		"/usr/bin/flatpak run --branch=stable org.example.Dome --tray": "flatpak org.example.Dome",
		"/usr/bin/flatpak update":                                      "",
		"/usr/bin/flatpak run --x":                                     "",
		"/usr/bin/dome run org.example.Dome":                           "",
	} {
		words := strings.Fields(line)
		if got := AppOf(words[0], words[1:]); got != want {
			t.Errorf("%s: %q", line, got)
		}
	}
}

// plistOf is a property list that is a dictionary.
func plistOf(inside string) string {
	return `<?xml version="1.0"?><plist version="1.0"><dict>` + inside + "</dict></plist>"
}
