package main

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// removal says what stays behind. It is called before the program goes: by
// dpkg with the word remove, by rpm with the number of versions left.
const removal = `#!/bin/sh
case "$1" in
remove | 0) /usr/bin/calmdawn leaving || : ;;
esac
exit 0
`

// installedAt is where packages of a kind put a file of the archive; empty for
// none.
func installedAt(p, kind string) string {
	dir, name := filepath.Split(p)
	switch {
	case p == "calmdawn":
		return "/usr/bin/calmdawn"
	case dir == "man/":
		return "/usr/share/man/man" + name[len(name)-1:] + "/" + name + ".gz"
	case name == "calmdawn.bash":
		return "/usr/share/bash-completion/completions/calmdawn"
	case name == "calmdawn.zsh" && kind == "rpm":
		return "/usr/share/zsh/site-functions/_calmdawn"
	case name == "calmdawn.zsh":
		return "/usr/share/zsh/vendor-completions/_calmdawn"
	case name == "calmdawn.fish":
		return "/usr/share/fish/vendor_completions.d/calmdawn.fish"
	case dir == "completions/":
		return ""
	case name == "NOTICES.txt":
		return "/usr/share/doc/calmdawn/copyright"
	}
	return "/usr/share/doc/calmdawn/" + p
}

// packages are the Debian and the RPM package of a program.
func (c *checkout) packages(p *program, t target, all []file) (made []file, err error) {
	work, err := os.MkdirTemp("", "calmdawn-package-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(work)
	script := filepath.Join(work, "removal")
	if err := os.WriteFile(script, []byte(removal), 0o755); err != nil {
		return nil, err
	}
	for _, kind := range []string{"deb", "rpm"} {
		contents, err := c.contents(work, kind, all)
		if err != nil {
			return nil, err
		}
		info := nfpm.WithDefaults(&nfpm.Info{
			Name: "calmdawn", Arch: t.processor, Platform: "linux", Version: p.version,
			Section: "admin", Priority: "optional", MTime: c.date,
			Maintainer: "Calm Dawn <calmdawn@localhost>",
			License:    "see /usr/share/doc/calmdawn/copyright",
			Description: "what a machine launches at boot and login\n" +
				"It inventories programs, services and scheduled tasks, rates what each costs,\n" +
				"switches unneeded ones off in a way that can always be taken back, and\n" +
				"compares real boots before and after.",
			Overridables: nfpm.Overridables{
				Contents: contents,
				Scripts:  nfpm.Scripts{PreRemove: script},
				RPM:      nfpm.RPM{BuildHost: "localhost"},
			},
		})
		packager, err := nfpm.Get(kind)
		if err != nil {
			return nil, err
		}
		if err := nfpm.PrepareForPackager(info, kind); err != nil {
			return nil, err
		}
		var b bytes.Buffer
		if err := packager.Package(info, &b); err != nil {
			return nil, fmt.Errorf("%s: %w", kind, err)
		}
		made = append(made, file{packager.ConventionalFileName(info), b.Bytes(), 0o644})
	}
	return made, nil
}

// shared are folders that a machine may have from others or not: whoever is the
// last to use them takes them away.
var shared = []string{
	"/usr/share/bash-completion", "/usr/share/bash-completion/completions",
	"/usr/share/doc/calmdawn", "/usr/share/doc/calmdawn/docs",
	"/usr/share/fish", "/usr/share/fish/vendor_completions.d", "/usr/share/zsh",
	"/usr/share/man/man5", "/usr/share/man/man7",
}

// contents are the files of a package of a kind, written to a folder.
func (c *checkout) contents(work, kind string, all []file) (list files.Contents, err error) {
	as := func(mode os.FileMode) *files.ContentFileInfo {
		return &files.ContentFileInfo{Owner: "root", Group: "root", Mode: mode, MTime: c.date}
	}
	folders := append(slices.Clone(shared), map[string]string{
		"deb": "/usr/share/zsh/vendor-completions", "rpm": "/usr/share/zsh/site-functions",
	}[kind])
	for _, dir := range folders {
		list = append(list, &files.Content{
			Destination: dir, Type: files.TypeDir, FileInfo: as(0o755),
		})
	}
	for i, f := range all {
		to := installedAt(f.path, kind)
		if to == "" {
			continue
		}
		if strings.HasSuffix(to, ".gz") {
			if f.data, err = squeezed(f.data); err != nil {
				return nil, err
			}
		}
		from := filepath.Join(work, fmt.Sprint(kind, i))
		if err := os.WriteFile(from, f.data, f.mode); err != nil {
			return nil, err
		}
		list = append(list, &files.Content{Source: from, Destination: to, FileInfo: as(f.mode)})
	}
	return list, nil
}

// squeezed is packed without a name and a time.
func squeezed(data []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err = w.Close()
	return b.Bytes(), err
}
