//go:build linux

package packages

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
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
		}, unit, Package{Name: "base", Maker: "Base", System: true, Gone: true}},
		"apk": {map[string]string{"lib/apk/db/installed": "P:other\nV:1\nF:usr/bin\nR:x\n\n" +
			"P:domeview\nV:3.2\nT:Looks at the dome\nm:Dome <d@varnholt.example>\n" +
			"F:usr/lib/systemd/system\nR:domeview.service\n"},
			unit, Package{Name: "domeview", Version: "3.2", Maker: "Dome", Summary: "Looks at " +
				"the dome"}},
		"pacman": {
			map[string]string{
				"var/lib/pacman/local/domeview-3.2-1/desc": "%NAME%\ndomeview\n\n%VERSION%\n" +
					"3.2-1\n" +
					"\n%DESC%\nLooks at the dome\n\n%PACKAGER%\nA Person <a@archlinux.org>\n",
				"var/lib/pacman/local/domeview-3.2-1/files": "%FILES%\nusr/\n" +
					"usr/lib/systemd/system/domeview.service\n",
			},
			unit,
			Package{Name: "domeview", Version: "3.2-1", Maker: "A Person", Summary: "Looks at " +
				"the dome", System: true},
		},
		"rpm": {map[string]string{"var/lib/rpm/rpmdb.sqlite": string(rpmdb)}, unit,
			Package{
				Name:    "domeview",
				Version: "3.2",
				Maker:   "Varnholt Domes",
				Summary: "Looks at the dome",
				Section: "Applications/Multimedia",
			}},
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
		if all := Installs(r); name == "rpm" &&
			(installed.Year() < 2020 || len(all) != 1 || !all[0].Equal(installed)) {
			t.Errorf("rpm: installed %v, all %v", installed, all)
		}
		r.Close()
	}
	for name, damaged := range map[string]string{
		"rpmdb.sqlite": "no database",
		"Packages":     "an older form",
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
