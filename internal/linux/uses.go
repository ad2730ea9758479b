package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/guest"
	"calmdawn/internal/machine"
)

const maxSetup = 1 << 20 // of a file that sets something up

// Uses tells what is in use of what services serve, as far as the disk knows.
// That is paired devices, printers, shares, containers, and who waits for the
// network. That nothing is in use is told only where the place that would hold
// it is there, was read, and is empty. What is absent or elsewhere is not told.
func (v *Inventory) Uses() advice.Uses {
	uses := advice.Uses{}
	for what, ask := range map[string]func() ([]string, error){
		"bluetooth":     v.paired,
		"modem":         v.mobileConnections,
		"printers":      v.printers,
		"shares":        v.shares,
		"exports":       v.exports,
		"containers":    v.containers,
		"cluster":       v.cluster,
		"fingerprints":  func() ([]string, error) { return v.inside("/var/lib/fprint") },
		"network first": v.networkFirst,
	} {
		found, err := ask()
		switch {
		case len(found) > 0:
			why := some(found) + " " + isOrAre[what][min(1, len(found)-1)]
			if what == "network first" {
				why = "for " + some(found)
			}
			uses[what] = advice.Use{Any: true, Why: why}
		case err == nil:
			uses[what] = advice.Use{}
		}
	}
	if uses["cluster"].Any { // what its containers are is decided elsewhere
		uses["containers"] = uses["cluster"]
	}
	if v.inDomain() {
		uses["shares"] = advice.Use{Any: true, Why: "this machine is one of a domain"}
	}
	return uses
}

// errUntold: whether anything is in use stands where we do not look.
var errUntold = errors.New("what is in use cannot be told")

var isOrAre = map[string][2]string{
	"bluetooth":    {"is paired with it", "are paired with it"},
	"modem":        {"is a connection through a modem", "are connections through a modem"},
	"printers":     {"is set up as a printer", "are set up as printers"},
	"shares":       {"is shared", "are shared"},
	"exports":      {"is exported", "are exported"},
	"cluster":      {"is a node of a cluster", "are nodes of a cluster"},
	"containers":   {"is a container of this machine", "are containers of this machine"},
	"fingerprints": {"has a fingerprint on record", "have fingerprints on record"},
}

// some names the first few, and how many more there are.
func some(names []string) string {
	const most = 3
	if n := len(names) - most; n > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), n)
	}
	if n := len(names) - 1; n > 0 {
		return strings.Join(names[:n], ", ") + " and " + names[n]
	}
	return names[0]
}

// networkFirst are the launched items that are started only when the network is
// up, and the file systems that are mounted through it.
func (v *Inventory) networkFirst() (titles []string, err error) {
	for _, it := range v.Items {
		if it.State.Launched() && slices.Contains(it.Traits, "network first") {
			titles = append(titles, it.Title)
		}
	}
	for _, f := range fstab(v.root) {
		options := strings.Split(f.options, ",")
		if strings.HasPrefix(f.kind, "nfs") || f.kind == "cifs" || f.kind == "smb3" ||
			slices.Contains(options, "_netdev") {
			titles = append(titles, f.folder)
		}
	}
	for _, u := range v.Unread {
		if u.Kind == item.Gap || strings.Contains(u.Path, "/systemd/") || u.Path == "/etc/fstab" {
			err = errUntold // it may hold one that waits
		}
	}
	return titles, err
}

// inside are the names in a folder.
func (v *Inventory) inside(folder string) (names []string, err error) {
	entries, err := v.root.ReadDir(folder)
	for _, e := range entries {
		names = append(names, e.Name)
	}
	return names, err
}

// paired are the wireless devices that the machine knows: a folder each, named
// by its address, below that of the adapter.
func (v *Inventory) paired() (all []string, err error) {
	const folder = "/var/lib/bluetooth"
	adapters, err := v.inside(folder)
	for _, a := range adapters {
		devices, wrong := v.root.ReadDir(path.Join(folder, a))
		if wrong != nil && strings.Count(a, ":") == 5 {
			err = wrong
		}
		for _, d := range devices {
			if d.Kind == machine.Folder && strings.Count(d.Name, ":") == 5 {
				all = append(all, d.Name)
			}
		}
	}
	return all, err
}

// sections are the names in brackets of a file, in order.
func (v *Inventory) sections(p string) (names []string, err error) {
	text, err := v.root.ReadFile(p, maxSetup)
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "[") &&
			strings.HasSuffix(line, "]") {
			names = append(names, line[1:len(line)-1])
		}
	}
	return names, err
}

// mobileConnections are the network manager's connections through a modem.
// Those of other managers are kept elsewhere.
func (v *Inventory) mobileConnections() (all []string, err error) {
	const folder = "/etc/NetworkManager/system-connections"
	files, err := v.inside(folder)
	for _, name := range files {
		sections, wrong := v.sections(path.Join(folder, name))
		if wrong != nil {
			err = wrong
		}
		if slices.Contains(sections, "gsm") || slices.Contains(sections, "cdma") {
			all = append(all, strings.TrimSuffix(name, path.Ext(name)))
		}
	}
	return all, err
}

// launched reports whether an item of the machine of a name is launched.
func (v *Inventory) launched(native string) bool {
	return slices.ContainsFunc(v.Items, func(it item.Item) bool {
		return it.Native == native && it.Owner == "" && it.State.Launched()
	})
}

// printers are the queues of printers.conf(5), which is written with the first
// of them. Where printers are found by themselves none need be set up.
func (v *Inventory) printers() (all []string, err error) {
	const folder = "/etc/cups"
	_, err = v.inside(folder)
	if v.launched("cups-browsed.service") || v.launched("avahi-daemon.service") {
		err = errUntold
	}
	files, wrong := v.root.ReadFile(folder+"/cups-files.conf", maxSetup)
	if m := setUpIn.FindSubmatch(files); m != nil && string(m[1]) != folder ||
		wrong != nil && !errors.Is(wrong, fs.ErrNotExist) {
		err = errUntold
	}
	text, wrong := v.root.ReadFile(folder+"/printers.conf", maxSetup)
	if wrong != nil && !errors.Is(wrong, fs.ErrNotExist) {
		err = wrong
	}
	for line := range strings.Lines(string(text)) {
		for _, begin := range []string{"<Printer ", "<DefaultPrinter "} {
			if name, ok := strings.CutPrefix(line, begin); ok {
				all = append(all, strings.TrimSuffix(strings.TrimSpace(name), ">"))
			}
		}
	}
	return all, err
}

// setUpIn is the folder of the print server's set-up, cups-files.conf(5).
var setUpIn = regexp.MustCompile(`(?mi)^\s*ServerRoot\s+(\S+)`)

// More of smb.conf(5) than its sections: membership of a domain, and what has
// shares be found in other places.
var (
	member   = regexp.MustCompile(`(?mi)^\s*security\s*=\s*(ads|domain)\s*$`)
	director = regexp.MustCompile(`(?mi)^\s*server role\s*=.*domain`)
	further  = regexp.MustCompile(`(?mi)^\s*(include\s*=|config backend\s*=\s*registry|` +
		`registry shares\s*=\s*(yes|true|1)|config file\s*=)`)
)

const smbConf = "/etc/samba/smb.conf"

// inDomain reports whether people of a domain reach the machine.
func (v *Inventory) inDomain() bool {
	text, _ := v.root.ReadFile(smbConf, maxSetup)
	return member.Match(text) || director.Match(text)
}

// shares are the folders of smb.conf(5), and those that users share by
// themselves. That of all homes is nobody's in particular: it is not told.
func (v *Inventory) shares() (all []string, err error) {
	text, err := v.root.ReadFile(smbConf, maxSetup)
	if err != nil {
		return nil, err
	}
	sections, err := v.sections(smbConf)
	for _, name := range sections {
		switch strings.ToLower(name) {
		case "homes":
			err = errUntold
		case "global", "printers", "print$":
		default:
			all = append(all, name)
		}
	}
	users, wrong := v.inside("/var/lib/samba/usershares")
	all = append(all, users...)
	if wrong != nil && !errors.Is(wrong, fs.ErrNotExist) || further.Match(text) {
		err = errUntold
	}
	return all, err
}

// exports are the folders of exports(5).
func (v *Inventory) exports() (all []string, err error) {
	files := []string{"/etc/exports"}
	more, err := v.inside("/etc/exports.d")
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	for _, name := range more {
		if strings.HasSuffix(name, ".exports") {
			files = append(files, path.Join("/etc/exports.d", name))
		}
	}
	for _, file := range files {
		text, wrong := v.root.ReadFile(file, maxSetup)
		if wrong != nil {
			err = wrong
		}
		for line := range strings.Lines(string(text)) {
			if f := strings.Fields(line); len(f) > 0 && !strings.HasPrefix(f[0], "#") {
				all = append(all, f[0])
			}
		}
	}
	return all, err
}

// containers are those of Docker.
func (v *Inventory) containers() (names []string, err error) {
	found, err := guest.Containers(v.root, v.commandOf("docker.service"))
	for _, c := range found {
		names = append(names, c.Name)
	}
	return names, err
}

// commandOf is the launch line of a unit of the machine.
func (v *Inventory) commandOf(unit string) string {
	for _, it := range v.Items {
		if it.Native == unit && it.Owner == "" {
			return it.Command
		}
	}
	return ""
}

// cluster names this machine where it works as one of several.
func (v *Inventory) cluster() ([]string, error) {
	for _, folder := range []string{
		"/var/lib/kubelet/pods", "/var/lib/rancher/k3s", "/var/lib/rancher/rke2",
		"/var/lib/docker/swarm/state.json", "/etc/kubernetes/kubelet.conf",
	} {
		if _, err := v.root.Lstat(folder); err == nil {
			return []string{"this machine"}, nil
		}
	}
	for _, name := range []string{
		"kubelet.service", "k3s.service", "k3s-agent.service", "rke2-server.service",
		"rke2-agent.service", "snap.microk8s.daemon-kubelite.service",
	} {
		if v.launched(name) {
			return []string{"this machine"}, nil
		}
	}
	return nil, errUntold // there are more ways than these
}
