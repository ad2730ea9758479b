// Package guest finds the containers and virtual machines that daemons of a
// machine start by themselves. They are shown and never switched: whether they
// start is their daemon's to change.
package guest

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/shown"
	"calmdawn/internal/machine"
)

// Mechanism is the mechanism of items that are guests of a daemon.
const Mechanism = "guest"

const (
	maxText    = 1 << 20
	mostGuests = 2000 // of one daemon
)

// Guests are those of a machine.
type Guests struct {
	shown.Only
	root    *machine.Root
	daemon  shown.Daemon
	command func(unit string) string
}

// Read prepares the survey of a machine's guests. command is the launch line of
// a unit; empty where it is not known.
func Read(
	r *machine.Root,
	daemon shown.Daemon,
	command func(unit string) string,
) *Guests {
	only := shown.Only{Mechanism: Mechanism, Refusal: func(it item.Item) error {
		by, _, _ := strings.Cut(it.Native, "/")
		return fmt.Errorf("whether it starts is set up with %s, and changed there", by)
	}}
	return &Guests{Only: only, root: r, daemon: daemon, command: command}
}

// Survey returns the guests of all daemons that keep a file of each.
func (g *Guests) Survey() []item.Item {
	all := g.docker()
	all = append(all, g.linked("libvirt", "/etc/libvirt/qemu/autostart", "libvirtd.service",
		"virtqemud.service")...)
	all = append(all, g.linked("libvirt", "/etc/libvirt/lxc/autostart", "libvirtd.service",
		"virtlxcd.service")...)
	return append(all, g.lxc()...)
}

// item is a guest of a daemon that is one of some units. why says why it is not
// started; empty where the daemon starts it.
func (g *Guests) item(by, name, file, what, why string, units ...string) item.Item {
	it := item.Item{
		ID:      "service:" + by + "/" + name,
		Kind:    item.Service,
		Native:  by + "/" + name,
		Title:   name,
		When:    item.AtBoot,
		State:   item.On,
		Aside:   true,
		Command: what,
		File:    file,
		Why:     why,
	}
	if why != "" {
		it.State = item.Off
	} else {
		g.daemon.Under(&it, "starts", units...)
	}
	return it
}

// A Container is one of Docker.
type Container struct {
	Name string
	file string
	what string // its image
	why  string // why it is not started with the daemon; empty where it is
}

var dataRoot = regexp.MustCompile(`\s(?:--data-root|--graph|-g)[= ]("?)(/[^\s"]+)`)

// Containers are those of Docker, which keeps a folder of each below its data.
// command is the daemon's launch line. It fails where the place is not there or
// cannot be read.
func Containers(r *machine.Root, command string) (all []Container, err error) {
	data := "/var/lib/docker"
	text, err := r.ReadFile("/etc/docker/daemon.json", maxText)
	if err == nil {
		var set map[string]any
		if err := json.Unmarshal(text, &set); err != nil {
			return nil, err
		}
		for _, key := range []string{"graph", "data-root"} {
			if folder, ok := set[key].(string); ok {
				data = folder
			}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if m := dataRoot.FindStringSubmatch(command); m != nil {
		data = m[2]
	}
	folder := path.Join(data, "containers")
	entries, err := r.ReadDir(folder)
	for _, e := range entries[:min(mostGuests, len(entries))] {
		if e.Kind == machine.Folder {
			all = append(all, container(r, path.Join(folder, e.Name)))
		}
	}
	return all, err
}

// container reads the folder of one container, named by its id.
func container(r *machine.Root, folder string) Container {
	id := path.Base(folder)
	c := Container{Name: id[:min(12, len(id))], file: path.Join(folder, "hostconfig.json")}
	var set struct {
		Name                   string
		HasBeenManuallyStopped bool
		Config                 struct{ Image string }
	}
	var host struct {
		RestartPolicy struct{ Name string }
	}
	read := func(name string, into any) error {
		text, err := r.ReadFile(path.Join(folder, name), maxText)
		if err != nil {
			return err
		}
		return json.Unmarshal(text, into)
	}
	if err := read("config.v2.json", &set); err == nil {
		if name := strings.TrimPrefix(set.Name, "/"); name != "" {
			c.Name = name
		}
		c.what = set.Config.Image
	}
	if err := read("hostconfig.json", &host); err != nil {
		c.why = "how it is started cannot be read"
		return c
	}
	switch policy := host.RestartPolicy.Name; {
	case policy == "always":
	case policy == "unless-stopped" && set.HasBeenManuallyStopped:
		c.why = "somebody stopped it, and it stays so"
	case policy == "unless-stopped":
	default:
		c.why = "it starts only where somebody starts it"
	}
	return c
}

// docker are the containers of Docker.
func (g *Guests) docker() (all []item.Item) {
	const unit = "docker.service"
	found, err := Containers(g.root, g.command(unit))
	g.Skip("/var/lib/docker", err)
	for _, c := range found {
		all = append(all, g.item("docker", c.Name, c.file, c.what, c.why, unit))
	}
	return all
}

// linked are the guests that a daemon starts for a file of theirs in a folder.
func (g *Guests) linked(by, folder string, units ...string) (all []item.Item) {
	entries, err := g.root.ReadDir(folder)
	g.Skip(folder, err)
	for _, e := range entries[:min(mostGuests, len(entries))] {
		if name, ok := strings.CutSuffix(e.Name, ".xml"); ok {
			all = append(all, g.item(by, name, path.Join(folder, e.Name), "", "", units...))
		}
	}
	return all
}

var lxcAuto = regexp.MustCompile(`(?m)^\s*lxc\.start\.auto\s*=\s*(\S+)`)

// lxc are the containers of LXC, each with a file of settings.
func (g *Guests) lxc() (all []item.Item) {
	const folder = "/var/lib/lxc"
	entries, err := g.root.ReadDir(folder)
	g.Skip(folder, err)
	for _, e := range entries[:min(mostGuests, len(entries))] {
		file := path.Join(folder, e.Name, "config")
		text, err := g.root.ReadFile(file, maxText)
		if err != nil {
			continue
		}
		why := "it starts only where somebody starts it"
		if m := lxcAuto.FindSubmatch(text); m != nil && string(m[1]) == "1" {
			why = ""
		}
		all = append(all, g.item("lxc", e.Name, file, "", why, "lxc.service"))
	}
	return all
}

// databases are where daemons keep their guests in a database of their own.
var databases = []struct{ path, by string }{
	{"/var/lib/lxd/database", "LXD"},
	{"/var/snap/lxd/common/lxd/database", "LXD"},
	{"/var/lib/incus/database", "Incus"},
	{"/var/lib/containers/storage/db.sql", "Podman"},
	{"/var/lib/containers/storage/libpod/bolt_state.db", "Podman"},
}

// Remarks tell which daemons keep their guests where they are not looked at.
func (g *Guests) Remarks() (all []item.Unread) {
	for _, d := range databases {
		if _, err := g.root.Lstat(d.path); err == nil {
			all = append(all, item.Unread{Path: d.path, Reason: "which guests of " + d.by +
				" start by themselves stands in there, and is not looked at"})
		}
	}
	return all
}
