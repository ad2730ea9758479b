package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/machine"
)

const maxSetup = 1 << 20 // of a file that sets something up

// Uses tells what is in use of what services serve, as far as the disk knows:
// paired devices, printers, shares, containers, and who waits for the network.
// What may not be read is not told.
func (v *Inventory) Uses() advice.Uses {
	uses := advice.Uses{"network first": v.networkFirst()}
	for what, ask := range map[string]func() ([]string, error){
		"bluetooth":    v.paired,
		"modem":        v.mobileConnections,
		"printers":     v.printers,
		"shares":       v.shares,
		"exports":      v.exports,
		"containers":   v.containers,
		"fingerprints": func() ([]string, error) { return v.inside("/var/lib/fprint") },
	} {
		found, err := ask()
		switch {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
		case len(found) > 0:
			why := some(found) + " " + isOrAre[what][min(1, len(found)-1)]
			uses[what] = advice.Use{Any: true, Why: why}
		default:
			uses[what] = advice.Use{}
		}
	}
	if !v.has("/etc/NetworkManager/system-connections") {
		delete(uses, "modem") // other managers keep connections elsewhere
	}
	return uses
}

var isOrAre = map[string][2]string{
	"bluetooth":    {"is paired with it", "are paired with it"},
	"modem":        {"is a connection through a modem", "are connections through a modem"},
	"printers":     {"is set up as a printer", "are set up as printers"},
	"shares":       {"is shared", "are shared"},
	"exports":      {"is exported", "are exported"},
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
// up.
func (v *Inventory) networkFirst() advice.Use {
	var titles []string
	for _, it := range v.Items {
		if it.State.Launched() && slices.Contains(it.Traits, "network first") {
			titles = append(titles, it.Title)
		}
	}
	if len(titles) == 0 {
		return advice.Use{}
	}
	return advice.Use{Any: true, Why: "for " + some(titles)}
}

func (v *Inventory) has(p string) bool {
	_, err := v.root.Stat(p)
	return err == nil
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

// printers are the queues of printers.conf(5).
func (v *Inventory) printers() (all []string, err error) {
	text, err := v.root.ReadFile("/etc/cups/printers.conf", maxSetup)
	for line := range strings.Lines(string(text)) {
		for _, begin := range []string{"<Printer ", "<DefaultPrinter "} {
			if name, ok := strings.CutPrefix(line, begin); ok {
				all = append(all, strings.TrimSuffix(strings.TrimSpace(name), ">"))
			}
		}
	}
	return all, err
}

// shares are the folders of smb.conf(5) beyond those of the default setup.
func (v *Inventory) shares() (all []string, err error) {
	sections, err := v.sections("/etc/samba/smb.conf")
	return slices.DeleteFunc(sections, func(name string) bool {
		return slices.Contains([]string{"global", "homes", "printers", "print$"},
			strings.ToLower(name))
	}), err
}

// exports are the folders of exports(5).
func (v *Inventory) exports() (all []string, err error) {
	text, err := v.root.ReadFile("/etc/exports", maxSetup)
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) > 0 && !strings.HasPrefix(f[0], "#") {
			all = append(all, f[0])
		}
	}
	return all, err
}

// containers are those of the container engines: folders of theirs.
func (v *Inventory) containers() (all []string, err error) {
	for _, folder := range []string{
		"/var/lib/docker/containers", "/var/lib/lxc", "/var/lib/machines",
	} {
		names, wrong := v.inside(folder)
		if wrong != nil && !errors.Is(wrong, fs.ErrNotExist) {
			err = wrong
		}
		for _, name := range names {
			if !strings.HasPrefix(name, ".") {
				all = append(all, name[:min(12, len(name))])
			}
		}
	}
	return all, err
}
