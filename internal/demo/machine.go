// Package demo holds the demo machine. That is the visitor-desk computer of a
// made-up observatory, written into a folder as real unit files, autostart
// entries, crontabs and a package database.
package demo

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
)

//go:embed meridian.toml
var meridian []byte

// A manifest is what the demo machine consists of; meridian.toml explains the
// keys.
type manifest struct {
	Host     string            `toml:"host"`
	OS       map[string]string `toml:"os"`
	Users    []user            `toml:"users"`
	Packages []pkg             `toml:"package"`
}

type user struct {
	Name string `toml:"name"`
	UID  int    `toml:"uid"`
	Full string `toml:"full"`
}

type pkg struct {
	Name     string    `toml:"name"`
	Maker    string    `toml:"maker"`
	Section  string    `toml:"section"`
	Priority string    `toml:"priority"`
	Origin   bool      `toml:"origin"`
	Removed  bool      `toml:"removed"`
	Services []service `toml:"services"`
	Entries  []entry   `toml:"entries"`
	Crons    []cronjob `toml:"crons"`
	Timers   []timer   `toml:"timers"`
	Files    []file    `toml:"files"`
	Summary  string    `toml:"summary"`
}

// A timer is a timer unit with the service that it starts.
type timer struct {
	Name  string `toml:"name"` // without .timer
	Title string `toml:"title"`
	Run   string `toml:"run"`
	Times string `toml:"times"`
	User  bool   `toml:"user"` // of the users' service managers
}

// A file is put down as it is; a target makes it a link.
type file struct {
	Path   string `toml:"path"`
	Text   string `toml:"text"`
	Target string `toml:"target"`
	Run    bool   `toml:"run"` // executable
}

type service struct {
	Name     string    `toml:"name"`
	Title    string    `toml:"title"`
	Run      string    `toml:"run"`
	Type     string    `toml:"type"`
	After    []string  `toml:"after"`
	Before   []string  `toml:"before"`
	Wants    []string  `toml:"wants"`
	Requires []string  `toml:"requires"`
	WantedBy string    `toml:"wanted_by"`
	By       string    `toml:"by"`
	Dropin   string    `toml:"dropin"`
	Early    bool      `toml:"early"`
	Remain   bool      `toml:"remain"`
	Admin    bool      `toml:"admin"`
	Gone     bool      `toml:"gone"`
	Sim      []float64 `toml:"sim"`
}

type entry struct {
	Name      string   `toml:"name"`
	Title     string   `toml:"title"`
	Run       string   `toml:"run"`
	Installed string   `toml:"installed"`
	In        []string `toml:"in"`
	Hidden    bool     `toml:"hidden"`
	Gone      bool     `toml:"gone"`
	// what a simulated login has it do: seconds of computing, MB read and held
	Sim []float64 `toml:"sim"`
	// the same for single users
	For map[string][]float64 `toml:"for"`
}

type cronjob struct {
	Table     string `toml:"table"`
	UserTable string `toml:"user_table"`
	Comment   string `toml:"comment"`
	User      string `toml:"user"`
	Run       string `toml:"run"`
	Gone      bool   `toml:"gone"`
}

func load() (manifest, error) {
	var m manifest
	if err := toml.Unmarshal(meridian, &m); err != nil {
		return m, fmt.Errorf("the demo machine's description: %w", err)
	}
	return m, nil
}

// A builder writes the machine; the first error stops it.
type builder struct {
	dir       string
	installed time.Time // when all packages were
	err       error
	owned     []string // paths of the package at work
}

// Make writes the demo machine into dir, which must be missing or empty, with
// the log of five simulated boots on the mornings before now.
func Make(dir string, now time.Time) error {
	m, err := load()
	if err != nil {
		return err
	}
	if err := mustBeEmpty(dir); err != nil {
		return err
	}
	b := &builder{dir: dir, installed: now.AddDate(0, -3, 0)}
	b.frame(m)
	for _, p := range m.Packages {
		b.install(p, m)
	}
	b.desktop(m)
	b.hand(m)
	for days := 5; days > 0 && b.err == nil; days-- {
		_, b.err = Reboot(dir, Morning(now, -days), uint64(6-days))
	}
	return b.err
}

// mustBeEmpty refuses a folder in which something is.
func mustBeEmpty(dir string) error {
	found, err := os.ReadDir(dir)
	switch {
	case err == nil && len(found) > 0:
		return fmt.Errorf("%s is not empty; give a folder that is not there yet", dir)
	case errors.Is(err, fs.ErrNotExist):
		return nil
	}
	return err
}

// Morning is when the visitor desk's computer is switched on, some days after
// the day of t: at about eight.
func Morning(t time.Time, days int) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d+days, 8, 0, 0, 0, t.Location()).Add(
		time.Duration((d+days+31)*37%11) * time.Minute,
	)
}

func (b *builder) at(p string) string { return filepath.Join(b.dir, filepath.FromSlash(p)) }

func (b *builder) file(p, text string, mode fs.FileMode) {
	if b.err == nil {
		b.err = os.MkdirAll(path.Dir(b.at(p)), 0o755)
	}
	if b.err == nil {
		b.err = os.WriteFile(b.at(p), []byte(text), mode)
	}
	b.owned = append(b.owned, p)
}

func (b *builder) link(p, target string) {
	if b.err == nil {
		b.err = os.MkdirAll(path.Dir(b.at(p)), 0o755)
	}
	if b.err == nil {
		b.err = os.Symlink(target, b.at(p))
	}
	b.owned = append(b.owned, p)
}

// machineID is the demo machine's id.
const machineID = "5a1c0ffee0ddba11ad0be5eeda571e55"

const (
	vendorUnits = "/usr/lib/systemd/system"
	adminUnits  = "/etc/systemd/system"
)

// targets are the goals of a boot, by the texts that order them and pull them
// in.
var targets = []struct{ name, title, text string }{
	{"graphical", "Graphical Interface", "Requires=multi-user.target\nAfter=multi-user.target"},
	{"multi-user", "Multi-User System", "Requires=basic.target\nAfter=basic.target\n" +
		"Wants=dbus.service polkit.service getty.target remote-fs.target"},
	{"basic", "Basic System", "Requires=sysinit.target\nAfter=sysinit.target\n" +
		"Wants=sockets.target timers.target"},
	{"sysinit", "System Initialization", "Wants=local-fs.target\nAfter=local-fs.target"},
	{"local-fs", "Local File Systems", ""},
	{"remote-fs", "Remote File Systems", "DefaultDependencies=no\nAfter=local-fs.target"},
	{"network", "Network", "After=NetworkManager.service"},
	{"network-online", "Network is Online", "After=network.target"},
	{"getty", "Login Prompts", ""},
	{"sockets", "Socket Units", ""},
	{"timers", "Timer Units", ""},
}

// frame writes what every machine has: names, accounts, folders, targets.
func (b *builder) frame(m manifest) {
	var release strings.Builder
	for _, key := range []string{"PRETTY_NAME", "NAME", "ID"} {
		fmt.Fprintf(&release, "%s=%q\n", key, m.OS[key])
	}
	b.file("/etc/os-release", release.String(), 0o644)
	b.file("/etc/hostname", m.Host+"\n", 0o644)
	b.file("/etc/machine-id", machineID+"\n", 0o444)
	passwd := "root:x:0:0:root:/root:/bin/bash\nmast:x:120:120:Weather " +
		"masts:/var/lib/mast:/usr/sbin/nologin\n"
	for _, u := range m.Users {
		passwd += fmt.Sprintf("%s:x:%d:%d:%s:/home/%s:/bin/bash\n", u.Name, u.UID, u.UID, u.Full,
			u.Name)
	}
	b.file("/etc/passwd", passwd, 0o644)
	b.file("/usr/share/xsessions/lark.desktop", "[Desktop Entry]\nName=Lark\nExec=lark-session\n"+
		"Type=Application\nDesktopNames=Lark\n", 0o644)
	for _, t := range targets {
		b.file(vendorUnits+"/"+t.name+".target",
			fmt.Sprintf("[Unit]\nDescription=%s\n%s\n", t.title, t.text), 0o644)
	}
	b.link(vendorUnits+"/default.target", "graphical.target")
	b.file("/usr/lib/systemd/user/default.target", "[Unit]\nDescription=Main User Target\n"+
		"Wants=timers.target\n", 0o644)
	b.file("/usr/lib/systemd/user/timers.target", "[Unit]\nDescription=Timers\n", 0o644)
	for _, folder := range []string{
		"/var/lib/dpkg/info", "/var/lib/bluetooth/00:11:22:33:44:55", "/var/log/journal",
		"/var/spool/cron/crontabs", "/root", "/proc", "/run", "/tmp",
	} {
		if b.err == nil {
			b.err = os.MkdirAll(b.at(folder), 0o755)
		}
	}
	b.owned = nil
}

// install writes a package's files and its record in the package database.
func (b *builder) install(p pkg, m manifest) {
	b.owned = nil
	for _, s := range p.Services {
		b.service(s)
	}
	for _, e := range p.Entries {
		b.entry(e)
	}
	for _, c := range p.Crons {
		b.cron(c)
	}
	for _, t := range p.Timers {
		b.timer(t)
	}
	for _, f := range p.Files {
		mode := fs.FileMode(0o644)
		if f.Run {
			mode = 0o755
		}
		if f.Target != "" {
			b.link(f.Path, f.Target)
		} else {
			b.file(f.Path, f.Text, mode)
		}
	}
	if p.Name == "" {
		return
	}
	status := "install ok installed"
	if p.Removed {
		status = "deinstall ok config-files"
	}
	record := fmt.Sprintf("Package: %s\nStatus: %s\n", p.Name, status)
	maker := p.Maker
	if maker == "" {
		maker = "Larkfield Base Team"
		record += "Origin: " + m.OS["ID"] + "\n"
	}
	priority, section := p.Priority, p.Section
	if priority == "" {
		priority = "optional"
	}
	if section == "" {
		section = "misc"
	}
	if p.Summary != "" {
		record += "Description: " + p.Summary + "\n"
	}
	record += fmt.Sprintf("Priority: %s\nSection: %s\nMaintainer: %s <packages@example.invalid>\n"+
		"Version: 1.0\n\n", priority, section, maker)
	b.add("/var/lib/dpkg/status", record)
	list, kept := "/.\n", "" // what it owns, and what of it is configuration
	for _, owned := range b.owned {
		admin := strings.HasPrefix(owned, "/etc/systemd/system/") &&
			strings.Contains(owned, ".wants/")
		if !admin && !strings.HasPrefix(owned, "/home/") &&
			!strings.HasPrefix(owned, "/var/spool/") {
			list += owned + "\n"
			if strings.HasPrefix(owned, "/etc/") {
				kept += owned + "\n"
			}
		}
	}
	index := "/var/lib/dpkg/info/" + p.Name
	b.file(index+".list", list, 0o644)
	if kept != "" {
		b.file(index+".conffiles", kept, 0o644)
	}
	for _, ext := range []string{".list", ".conffiles"} {
		// their time is when the package was installed
		if b.err == nil && (ext == ".list" || kept != "") {
			b.err = os.Chtimes(b.at(index+ext), b.installed, b.installed)
		}
	}
}

// desktop writes down that the distribution's packages came with its desktop.
func (b *builder) desktop(m manifest) {
	var parts []string
	marks := ""
	for _, p := range m.Packages {
		if p.Maker == "" && p.Name != "" {
			parts = append(parts, p.Name)
			marks += fmt.Sprintf("Package: %s\nArchitecture: amd64\nAuto-Installed: 1\n\n", p.Name)
		}
	}
	b.add("/var/lib/dpkg/status", fmt.Sprintf("Package: task-%s-desktop\n"+
		"Status: install ok installed\nOrigin: %s\nPriority: optional\nSection: tasks\n"+
		"Maintainer: Larkfield Base Team <packages@example.invalid>\nVersion: 1.0\n"+
		"Depends: %s\n\n", m.OS["ID"], m.OS["ID"], strings.Join(parts, ", ")))
	b.file("/var/lib/apt/extended_states", marks, 0o644)
}

func (b *builder) add(p, text string) {
	if b.err != nil {
		return
	}
	f, err := os.OpenFile(b.at(p), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		_, err = f.WriteString(text)
		err = errors.Join(err, f.Close())
	}
	b.err = err
}

// program installs a stand-in for a program.
func (b *builder) program(run, installed string, gone bool) {
	p, _, _ := strings.Cut(run, " ")
	if installed != "" {
		p = installed
	}
	if gone || !path.IsAbs(p) {
		return
	}
	if _, err := os.Lstat(b.at(p)); err != nil {
		b.file(p, "#!/bin/sh\n# Stands in for a program of the demo machine.\n", 0o755)
	}
}

func (b *builder) service(s service) {
	wantedBy := s.WantedBy
	if wantedBy == "" {
		wantedBy = "multi-user.target"
	}
	folder := vendorUnits
	if s.Admin {
		folder = adminUnits
	}
	text := s.Name
	if at := strings.Index(s.Name, "@"); at >= 0 {
		text = s.Name[:at] + "@.service"
	}
	if s.Run != "" {
		b.program(s.Run, "", s.Gone)
		b.file(path.Join(folder, text), s.text(wantedBy), 0o644)
	}
	if s.Dropin != "" {
		b.file(path.Join(adminUnits, s.Name+".d", "site.conf"), s.Dropin, 0o644)
	}
	switch s.By {
	case "enabled", "dangling":
		b.link(path.Join(adminUnits, wantedBy+".wants", s.Name), path.Join(folder, text))
	case "vendor":
		b.link(path.Join(vendorUnits, wantedBy+".wants", s.Name), "../"+text)
	}
}

func (s service) text(wantedBy string) string {
	var t strings.Builder
	fmt.Fprintf(&t, "[Unit]\nDescription=%s\n", s.Title)
	if s.Early {
		t.WriteString("DefaultDependencies=no\n")
	}
	for _, dep := range []struct {
		key   string
		names []string
	}{{"After", s.After}, {"Before", s.Before}, {"Wants", s.Wants}, {"Requires", s.Requires}} {
		if len(dep.names) > 0 {
			fmt.Fprintf(&t, "%s=%s\n", dep.key, strings.Join(dep.names, " "))
		}
	}
	fmt.Fprintf(&t, "\n[Service]\nType=%s\nExecStart=%s\n", s.Type, s.Run)
	if s.Remain {
		t.WriteString("RemainAfterExit=yes\n")
	}
	if s.By == "enabled" || s.By == "off" {
		fmt.Fprintf(&t, "\n[Install]\nWantedBy=%s\n", wantedBy)
	}
	return t.String()
}

func (b *builder) timer(t timer) {
	b.program(t.Run, "", false)
	vendor, admin, goal := vendorUnits, adminUnits, "timers.target"
	if t.User {
		vendor, admin = "/usr/lib/systemd/user", "/etc/systemd/user"
	}
	b.file(path.Join(vendor, t.Name+".service"), fmt.Sprintf("[Unit]\nDescription=%s\n\n"+
		"[Service]\nType=oneshot\nExecStart=%s\n", t.Title, t.Run), 0o644)
	b.file(path.Join(vendor, t.Name+".timer"), fmt.Sprintf("[Unit]\nDescription=%s, by the "+
		"clock\n\n[Timer]\n%s\n\n[Install]\nWantedBy=%s\n", t.Title, t.Times, goal), 0o644)
	b.link(path.Join(admin, goal+".wants", t.Name+".timer"), path.Join(vendor, t.Name+".timer"))
}

func (b *builder) entry(e entry) {
	b.program(e.Run, e.Installed, e.Gone)
	text := fmt.Sprintf("[Desktop Entry]\nType=Application\nName=%s\nExec=%s\n", e.Title, e.Run)
	if e.Hidden {
		text += "Hidden=true\n"
	}
	if len(e.In) == 0 {
		b.file("/etc/xdg/autostart/"+e.Name, text, 0o644)
	}
	for _, name := range e.In {
		b.file("/home/"+name+"/.config/autostart/"+e.Name, text, 0o644)
	}
}

func (b *builder) cron(c cronjob) {
	b.program(c.Run, "", c.Gone)
	if c.UserTable != "" {
		b.file("/var/spool/cron/crontabs/"+c.UserTable,
			fmt.Sprintf("# %s\n@reboot %s\n", c.Comment, c.Run), 0o600)
		return
	}
	b.file("/etc/cron.d/"+c.Table, fmt.Sprintf("# %s\n@reboot %s %s\n", c.Comment, c.User, c.Run),
		0o644)
}

// hand gives the users what is theirs, where we may.
func (b *builder) hand(m manifest) {
	if b.err != nil || os.Geteuid() != 0 {
		return
	}
	for _, u := range m.Users {
		give := func(p string, _ fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return errors.Join(err, os.Lchown(p, u.UID, u.UID))
		}
		b.err = errors.Join(b.err, filepath.WalkDir(b.at("/home/"+u.Name), give),
			filepath.WalkDir(b.at("/var/spool/cron/crontabs/"+u.Name), give))
	}
}
