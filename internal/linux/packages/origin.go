package packages

import (
	"cmp"
	"io/fs"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
)

// A node is an installed package among those that need each other.
type node struct {
	Package
	root   bool     // every installation has it, or an installer put it in as a whole
	chosen bool     // somebody asked for it by name
	needs  []string // packages, or what packages provide; recommended ones too
	gives  []string // what it provides besides its name
}

// A forest is all packages of one database.
type forest struct {
	nodes map[string]*node
	// marked: the database remembers which packages were chosen
	marked bool
	givers map[string][]string
}

func newForest() *forest {
	return &forest{nodes: map[string]*node{}, givers: map[string][]string{}}
}

func (f *forest) add(n *node) {
	f.nodes[n.Name] = n
	for _, given := range n.gives {
		f.givers[given] = append(f.givers[given], n.Name)
	}
}

// reach calls seen for each package that is needed by those given, directly or
// not, the nearest first. It is given the one that each was reached from. pass
// says which packages are gone through.
func (f *forest) reach(from []string, pass func(n *node) bool, seen func(n *node, by string)) {
	type step struct{ name, by string }
	known := map[string]bool{}
	var queue []step
	for _, name := range from {
		known[name] = true
		queue = append(queue, step{name, name})
	}
	for ; len(queue) > 0; queue = queue[1:] {
		at := queue[0]
		for _, need := range f.nodes[at.name].needs {
			names := f.givers[need]
			if _, ok := f.nodes[need]; ok {
				names = []string{need}
			}
			for _, name := range names {
				n := f.nodes[name]
				if known[name] || !pass(n) {
					continue
				}
				known[name] = true
				seen(n, at.by)
				queue = append(queue, step{name, at.by})
			}
		}
	}
}

// adopt counts those packages as the archive's that came by themselves because
// one of the archive needs them: it needs none of others.
func (f *forest) adopt() {
	var known []string
	archive := ""
	for _, name := range slices.Sorted(maps.Keys(f.nodes)) {
		if n := f.nodes[name]; n.Archive != "" {
			known, archive = append(known, name), n.Archive
		}
	}
	f.reach(known, func(n *node) bool { return !f.marked || !n.chosen }, func(n *node, _ string) {
		n.Archive = archive
	})
}

// settle tells of each package whether it is a part of the operating system,
// and how it came.
func (f *forest) settle(rules rules) {
	f.adopt()
	names := slices.Sorted(maps.Keys(f.nodes))
	var roots, chosen []string
	for _, name := range names {
		n := f.nodes[name]
		set := slices.ContainsFunc(rules.Sets, func(pattern string) bool {
			ok, err := path.Match(pattern, name)
			return ok && err == nil
		})
		if n.Archive != "" && (n.root || set) {
			n.System, n.Came = true, "every installation has it"
			if !n.root {
				n.Came = "a set that installers put in"
			}
			roots = append(roots, name)
		}
	}
	f.reach(roots, func(n *node) bool { return !f.marked || !n.chosen }, func(n *node, by string) {
		n.System, n.Came = true, "came with "+by
	})
	for _, name := range names {
		n := f.nodes[name]
		if !n.System && !f.marked && n.Archive != "" &&
			slices.Contains(rules.Sections, n.Section) {
			n.System, n.Came = true, "filed under "+n.Section
		}
		if !n.System && f.marked && n.chosen {
			n.Came = "somebody chose it"
			chosen = append(chosen, name)
		}
	}
	f.reach(chosen, func(n *node) bool { return !n.System && !n.chosen }, func(n *node, by string) {
		n.Came = "came with " + by
	})
}

// archive is the name of the distribution whose archive a package is from. The
// database tells it by the origin, and by who packed it. It is empty for
// others.
func (db *Database) archive(origin, address string) string {
	origin = strings.ToLower(origin)
	ours := func(name string) bool {
		return name != "" && strings.Contains(origin, strings.ToLower(name))
	}
	_, domain, _ := strings.Cut(strings.ToLower(strings.Trim(address, "<> ")), "@")
	if ours(db.os.ID) || ours(db.os.Name) || slices.ContainsFunc(db.rules.Domains,
		func(d string) bool { return domain == d || strings.HasSuffix(domain, "."+d) }) {
		return cmp.Or(db.os.Name, db.os.ID, domain)
	}
	return ""
}

const (
	maxCopyright = 64 << 10
	longestMaker = 40
)

// upstream is who made a package of the archive, where that is plain. It is the
// name in its copyright file (the Debian form of it), or the host of its home
// page; else empty. Who packed it made it not. The source is the package's
// field of that name, empty where it is the package's own.
func (db *Database) upstream(name, source, page string) string {
	var text []byte
	err := fs.ErrNotExist
	if name != "" {
		text, err = db.root.ReadFile(path.Join("/usr/share/doc", name, "copyright"), maxCopyright)
	}
	if err == nil {
		for line := range strings.Lines(string(text)) {
			value, ok := strings.CutPrefix(line, "Upstream-Name:")
			value = strings.TrimSpace(value)
			if ok && value != "" && len(value) <= longestMaker &&
				!strings.Contains(value, "/") && !another(value, name, source, page) {
				return value
			}
			if strings.TrimSpace(line) == "" {
				break // the names stand in the first paragraph
			}
		}
	}
	u, err := url.Parse(page)
	if err != nil {
		return ""
	}
	host := strings.ToLower(u.Hostname())
	if slices.ContainsFunc(db.rules.Forges, func(f string) bool {
		return host == f || strings.HasSuffix(host, "."+f)
	}) {
		return ""
	}
	for _, general := range []string{"www.", "wiki.", "projects.", "docs."} {
		host = strings.TrimPrefix(host, general)
	}
	return host
}

// another reports whether an upstream name is that of another program, which
// the same sources hold: "hostapd" for wpasupplicant. It is written as
// packages are, and resembles nothing that the package is called by.
func another(name string, called ...string) bool {
	if strings.ToLower(name) != name || strings.ContainsAny(name, " .") {
		return false
	}
	return !slices.ContainsFunc(called, func(text string) bool {
		text = strings.ToLower(text)
		return text != "" && (strings.Contains(text, name) || strings.Contains(name, text))
	})
}
