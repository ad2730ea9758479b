// Package windowstest makes disks of Windows machines, for tests only.
package windowstest

import (
	"maps"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/testtree"
	"calmdawn/internal/windows/hive"
)

// A Disk is one that is made: its hives, and its other files.
type Disk struct {
	System, Software *write.Key
	Users            map[string]*write.Key // by the names of profiles
	Files            map[string]string     // as [testtree.Make] takes them
}

// At is when everything was written.
var At = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

const (
	current = `Microsoft\Windows\CurrentVersion`
	nt      = `Microsoft\Windows NT\CurrentVersion`
	set     = `ControlSet001`
)

// New is a disk with two users and nothing that is launched.
func New() *Disk {
	d := &Disk{
		System:   &write.Key{Name: "ROOT"},
		Software: &write.Key{Name: "ROOT"},
		Users:    map[string]*write.Key{},
		Files: map[string]string{
			"Windows/System32/svchost.exe":  "",
			"Windows/System32/userinit.exe": "",
			"Windows/explorer.exe":          "",
			"ProgramData/":                  "",
		},
	}
	d.System.At("Select").Set(write.Counted("Current", 1), write.Counted("Default", 1),
		write.Counted("LastKnownGood", 1))
	d.System.At(set + `\Control\ComputerName\ComputerName`).Set(
		write.Texted("ComputerName", hive.String, "ORCHARD"))
	d.System.At(set + `\Services`)
	d.Software.At(nt).Set(write.Texted("SystemRoot", hive.String, `C:\Windows`),
		write.Texted("CurrentBuild", hive.String, "19045"),
		write.Texted("CurrentVersion", hive.String, "6.3"))
	d.Software.At(`Microsoft\Cryptography`).Set(
		write.Texted("MachineGuid", hive.String, "6F1D2C3B-0000-4000-8000-0123456789AB"))
	for end, name := range map[string]string{"1001": "isolde", "1002": "branko"} {
		d.Profile("S-1-5-21-1-2-3-"+end, `C:\Users\`+name)
		d.Users[name] = &write.Key{Name: "ROOT"}
	}
	return d
}

// Profile names the folder of a user's profile.
func (d *Disk) Profile(sid, dir string) {
	d.Software.At(nt + `\ProfileList\` + sid).Set(
		write.Texted("ProfileImagePath", hive.Expand, dir))
}

// Grows is a text in which names of variables stand.
func Grows(name, text string) write.Datum { return write.Texted(name, hive.Expand, text) }

// Service adds a service, or more of one.
func (d *Disk) Service(name string, values ...write.Datum) *write.Key {
	return d.System.At(set + `\Services\` + name).Set(values...)
}

// Auto are the values of a service of its own that starts by itself.
func Auto(image string) []write.Datum {
	return []write.Datum{
		write.Counted("Type", 0x10), write.Counted("Start", 2),
		write.Texted("ImagePath", hive.Expand, image),
	}
}

// Run is the key of a list of the machine, or of a user.
func (d *Disk) Run(user, list string) *write.Key {
	if user == "" {
		return d.Software.At(current + `\` + list)
	}
	return d.Users[user].At(`Software\` + current + `\` + list)
}

// Make writes the disk into a folder.
func (d *Disk) Make(t testing.TB) string {
	t.Helper()
	files := maps.Clone(d.Files)
	const config = "Windows/System32/config/"
	write := func(p string, n *write.Key) {
		if _, there := files[p]; !there {
			files[p] = string(write.Hive(n, 5, p, At))
		}
	}
	write(config+"SYSTEM", d.System)
	write(config+"SOFTWARE", d.Software)
	for name, n := range d.Users {
		write("Users/"+name+"/NTUSER.DAT", n)
	}
	return testtree.Make(t, files)
}
