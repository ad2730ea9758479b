// Package registry opens the registry of a Windows disk: the machine's hives,
// those of its users, and what names and variables in them stand for.
package registry

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
)

// CurrentVersion is where most of what is launched stands in SOFTWARE, and in a
// user's hive below Software; CurrentNT where what is older stands.
const (
	CurrentVersion = `Microsoft\Windows\CurrentVersion`
	CurrentNT      = `Microsoft\Windows NT\CurrentVersion`
)

// A Registry is that of one machine. Close it after use; keys of it are of no
// use any more then.
type Registry struct {
	*Disk
	Windows  string // the system's folder, inside the machine: "/Windows"
	Drive    string // the letter that the disk has there: "C:"
	System   Key    // the key above all of it; nil where it cannot be read, as Software
	Software Key
	// Set is the control set of the next boot: "ControlSet001". Other is that
	// of the last one, where it is another.
	Set, Other string
	Users      []*User
	Unread     []item.Unread
	Notes      []item.Unread // what is to be known of what was read

	files []*os.File
	hives map[string]string // their files, by how addresses begin
	vars  map[string]string
}

// A User is one profile.
type User struct {
	Name    string // the last part of the profile's folder
	SID     string // empty for the profile that new users get
	Profile string // its folder inside the machine; empty where it is missing
	home    string // what Windows calls that
	Hive    Key    // the key above all of it; nil where it cannot be read
	Classes Key    // what is registered for the user alone
	Dark    bool   // that is there, and cannot be read
	Account Account
	// Server is where a server keeps the profile too, which the next login may
	// take from there; empty where none does.
	Server string
	vars   map[string]string
}

// An Account says whose a profile is.
type Account int

// The kinds of account.
const (
	Person Account = iota
	System         // one of the operating system's own
	New            // what every new user gets
)

// FindConfig returns the folder of the machine's hives; an error where there is
// none.
func FindConfig(d *Disk) (string, error) {
	dir, err := d.Find(`Windows\System32\config`)
	if err != nil {
		return "", err
	}
	_, err = d.Find(path.Join(dir, "SYSTEM"))
	return dir, err
}

// Open opens the registry of a disk. It fails where there is none; hives that
// cannot be read are in Unread, and what stands in them is not there.
func Open(r *machine.Root) (*Registry, error) {
	reg := &Registry{Disk: NewDisk(r), Drive: "C:", hives: map[string]string{}}
	config, err := FindConfig(reg.Disk)
	if err != nil {
		return nil, err
	}
	reg.Windows = path.Dir(path.Dir(config))
	machines := func(name string) Key {
		h, err := reg.open(config, name)
		if err != nil {
			reg.unread(path.Join(config, name), err)
		}
		return h
	}
	reg.System, reg.Software = machines("SYSTEM"), machines("SOFTWARE")
	reg.hiveFile(`HKLM\SYSTEM`, config, "SYSTEM")
	reg.hiveFile(`HKLM\SOFTWARE`, config, "SOFTWARE")
	if reg.System != nil {
		reg.chooseSet()
	}
	if v, ok := reg.Text(reg.Machine(`SOFTWARE\`+CurrentNT), "SystemRoot"); ok && len(v) > 2 &&
		v[1] == ':' {
		reg.Drive = strings.ToUpper(v[:2])
	}
	reg.readUsers(config)
	return reg, nil
}

// Close closes the hives.
func (reg *Registry) Close() {
	for _, f := range reg.files {
		f.Close()
	}
	reg.files = nil
}

func (reg *Registry) unread(p string, err error) {
	reg.Unread = append(reg.Unread, machine.Unread(p, err))
}

// maxLog bounds a log that is replayed, in bytes.
const maxLog = 64 << 20

// open opens a hive of a folder, with its logs.
func (reg *Registry) open(dir, name string) (Key, error) {
	p, err := reg.Find(path.Join(dir, name))
	if err != nil {
		return nil, err
	}
	info, err := reg.Root.Stat(p)
	if err != nil {
		return nil, err
	}
	f, err := reg.Root.OpenFile(p)
	if err != nil {
		return nil, err
	}
	reg.files = append(reg.files, f)
	logs, unread := logsOf(reg.Root, p)
	for at, err := range unread {
		reg.unread(at, err)
	}
	h, err := hive.Open(f, info.Size, logs...)
	if err != nil {
		return nil, &machine.Refusal{Path: p, Reason: "is not a readable registry: " +
			err.Error()}
	}
	for _, note := range h.Notes {
		reg.Notes = append(reg.Notes, item.Unread{Path: p, Reason: note})
	}
	return hiveKey{h.Root()}, nil
}

// logsOf are the logs beside a hive, and those that cannot be read.
func logsOf(r *machine.Root, hive string) (logs [][]byte, unread map[string]error) {
	unread = map[string]error{}
	for _, end := range []string{".LOG1", ".LOG2", ".LOG"} {
		at, err := NewDisk(r).Find(hive + end)
		if err != nil {
			continue
		}
		log, err := r.ReadFile(at, maxLog)
		if err != nil {
			unread[at] = err
			continue
		}
		logs = append(logs, log)
	}
	return logs, unread
}

// Whole reports whether both hives of the machine can be read.
func (reg *Registry) Whole() bool { return reg.System != nil && reg.Software != nil }

// chooseSet takes the control set that the next boot uses.
func (reg *Registry) chooseSet() {
	choice, err := reg.System.Key("Select")
	number := func(name string) uint64 {
		v, _ := choice.Value(name)
		n, _ := v.Number()
		return n
	}
	next, last := uint64(1), uint64(1)
	if err == nil {
		last = number("Current")
		next = cmp.Or(number("Default"), last, 1)
	}
	name := func(n uint64) string { return fmt.Sprintf("ControlSet%03d", n) }
	reg.Set = name(next)
	if _, err := reg.System.Key(reg.Set); err != nil {
		reg.Unread = append(reg.Unread, item.Unread{
			Path:   path.Join(reg.Windows, "System32/config/SYSTEM"),
			Reason: reg.Set + ", which the next boot is to use, is missing in it",
		})
	}
	if last != 0 && last != next {
		reg.Other = name(last)
	}
}

// A Place is a key with how it is called: what could not be read of it is named
// once, in Unread.
type Place struct {
	Key   Key    // nil where it is not There
	Name  string // "HKLM\SOFTWARE\…"
	There bool

	address string // the same as addresses have it, for whoever looks
}

// Machine returns the key at a path of the machine's part of the registry, that
// begins with SOFTWARE or SYSTEM. SYSTEM\CurrentControlSet is that of the next
// boot.
func (reg *Registry) Machine(p string) Place {
	name, rest, _ := strings.Cut(p, `\`)
	h := reg.Software
	if hive.Same(name, "SYSTEM") {
		h = reg.System
		if first, more, _ := strings.Cut(rest, `\`); hive.Same(first, "CurrentControlSet") {
			rest = strings.TrimSuffix(reg.Set+`\`+more, `\`)
		}
	}
	address := `HKLM\` + strings.ToUpper(name) + `\` + rest
	return reg.at(Place{Name: `HKLM\` + p, address: address}, h, rest)
}

// Of returns the key at a path of a user's part of the registry.
func (reg *Registry) Of(u *User, p string) Place {
	return reg.at(Place{Name: `HKCU\` + p, address: u.root() + `\` + p}, u.Hive, p)
}

// root begins the addresses of what a user has.
func (u *User) root() string { return `HKU\` + cmp.Or(u.SID, "Default") }

// ClassesOf returns the key at a path of what is registered for a user alone.
func (reg *Registry) ClassesOf(u *User, p string) Place {
	place := Place{Name: `HKCU\Software\Classes\` + p, address: u.root() + `_Classes\` + p}
	return reg.at(place, u.Classes, p)
}

// Below returns a key below another one, by a path.
func (reg *Registry) Below(p Place, rest string) Place {
	place := Place{Name: p.Name + `\` + rest, address: p.address + `\` + rest}
	if !p.There {
		return place
	}
	return reg.key(place, p.Key, rest)
}

func (reg *Registry) at(place Place, h Key, rest string) Place {
	if h == nil {
		return place
	}
	return reg.key(place, h, rest)
}

func (reg *Registry) key(place Place, from Key, rest string) Place {
	if rest == "" {
		place.Key, place.There = from, true
		return place
	}
	k, err := from.Key(strings.Split(rest, `\`)...)
	switch {
	case err == nil:
		place.Key, place.There = k, true
	case !errors.Is(err, hive.ErrNone):
		reg.damaged(place.Name, err)
	}
	return place
}

// damaged names a key of which something cannot be read.
func (reg *Registry) damaged(name string, err error) {
	first, _, _ := strings.Cut(err.Error(), "\n")
	u := item.Unread{Path: name, Reason: "damaged " + first}
	if !slices.Contains(reg.Unread, u) {
		reg.Unread = append(reg.Unread, u)
	}
}

// Keys are the keys below a place.
func (reg *Registry) Keys(p Place) (all []Place) {
	if !p.There {
		return nil
	}
	keys, err := p.Key.Keys()
	if err != nil {
		reg.damaged(p.Name, err)
	}
	for _, k := range keys {
		place := reg.Below(Place{Name: p.Name, address: p.address}, k.Name())
		place.Key, place.There = k, true
		all = append(all, place)
	}
	return all
}

// Values are the values of a place.
func (reg *Registry) Values(p Place) []hive.Value {
	if !p.There {
		return nil
	}
	values, err := p.Key.Values()
	if err != nil {
		reg.damaged(p.Name, err)
	}
	return values
}

// Value is a value of a place; false where there is none.
func (reg *Registry) Value(p Place, name string) (hive.Value, bool) {
	if !p.There {
		return hive.Value{}, false
	}
	v, err := p.Key.Value(name)
	if err != nil && !errors.Is(err, hive.ErrNone) {
		reg.damaged(p.Name, err)
	}
	return v, err == nil
}

// Text is a value of a place as a text.
func (reg *Registry) Text(p Place, name string) (string, bool) {
	v, ok := reg.Value(p, name)
	if !ok {
		return "", false
	}
	return v.Text()
}

// Number is a value of a place as a number.
func (reg *Registry) Number(p Place, name string) (uint64, bool) {
	v, ok := reg.Value(p, name)
	if !ok {
		return 0, false
	}
	return v.Number()
}

// readUsers reads the list of profiles, and the one that new users get.
func (reg *Registry) readUsers(config string) {
	list := reg.Machine(`SOFTWARE\` + CurrentNT + `\ProfileList`)
	taken := map[string]bool{}
	for _, k := range reg.Keys(list) {
		if strings.HasSuffix(strings.ToLower(k.Key.Name()), ".bak") {
			reg.Notes = append(reg.Notes, item.Unread{
				Path:   k.Name,
				Reason: "is a profile that Windows could not load; nobody logs in with it",
			})
			continue
		}
		image, ok := reg.Text(k, "ProfileImagePath")
		if !ok || image == "" {
			reg.Unread = append(reg.Unread, item.Unread{
				Path: k.Name, Reason: "names no folder of a profile",
			})
			continue
		}
		u := &User{SID: k.Key.Name(), Name: lastPart(image)}
		u.Server, _ = reg.Text(k, "CentralProfile")
		if ofSystem(u.SID) {
			u.Account = System
		}
		reg.openUser(u, image, config)
		taken[hive.Upper(u.Profile)] = true
		reg.Users = append(reg.Users, u)
	}
	fresh, ok := reg.Text(list, "Default")
	if !ok {
		fresh = `%SystemDrive%\Users\Default`
	}
	u := &User{Name: lastPart(fresh), Account: New}
	if reg.openUser(u, fresh, config); u.Profile != "" {
		taken[hive.Upper(u.Profile)] = true
		reg.Users = append(reg.Users, u)
	}
	reg.strays(taken)
}

// ofSystem reports whether an account is no person's. Such are the system's
// own, those that services have by their names, pools of web servers, and
// virtual machines. Such is too what draws the screen and the fonts ([MS-DTYP]
// 2.4.2.4).
func ofSystem(sid string) bool {
	if slices.Contains([]string{"S-1-5-18", "S-1-5-19", "S-1-5-20"}, sid) {
		return true
	}
	return slices.ContainsFunc([]string{"80", "82", "83", "90", "96"}, func(kind string) bool {
		return strings.HasPrefix(sid, "S-1-5-"+kind+"-")
	})
}

// Away lists the folders of people's profiles that are named on this disk and
// are not there.
func (reg *Registry) Away() (folders []string) {
	for _, u := range reg.Users {
		if p, _, ok := reg.Local(u.home); ok && u.Account == Person && u.Profile == "" {
			folders = append(folders, strings.ReplaceAll(p, `\`, "/"))
		}
	}
	return folders
}

// strays names folders of profiles that no key is for.
func (reg *Registry) strays(taken map[string]bool) {
	if reg.Software == nil {
		return // whose they are is not known
	}
	users, err := reg.Find("Users")
	if err != nil {
		return
	}
	entries, err := reg.Root.ReadDir(users)
	if err != nil {
		reg.unread(users, err)
		return
	}
	for _, e := range entries {
		p := path.Join(users, e.Name)
		if e.Kind != machine.Folder || taken[hive.Upper(p)] {
			continue
		}
		if _, err := reg.Find(path.Join(p, "NTUSER.DAT")); err == nil {
			reg.Notes = append(reg.Notes, item.Unread{
				Path:   p,
				Reason: "is a profile that no user has any more; it launches nothing",
			})
		}
	}
}

func lastPart(p string) string {
	p = strings.TrimRight(p, `\/`)
	return p[strings.LastIndexAny(p, `\/`)+1:]
}

// openUser finds a profile's folder and opens its hive.
func (reg *Registry) openUser(u *User, image, config string) {
	var err error
	if u.SID == "S-1-5-18" { // the system's own is kept with the machine's
		if u.Hive, err = reg.open(config, "DEFAULT"); err != nil {
			reg.unread(path.Join(config, "DEFAULT"), err)
		}
		reg.hiveFile(u.root(), config, "DEFAULT")
		return
	}
	u.home = strings.TrimRight(reg.Expand(image, nil), `\`)
	p, letter, ok := reg.Local(u.home)
	if !ok {
		reg.Unread = append(reg.Unread, item.Unread{
			Path:   image,
			Reason: "the profile of " + u.Name + " is on another disk (" + letter + ")",
		})
		return
	}
	at := strings.ReplaceAll(p, `\`, "/")
	if found, err := reg.Find(p); err == nil {
		u.Profile, at = found, found
	}
	const classes = "AppData/Local/Microsoft/Windows"
	if u.Classes, err = reg.open(path.Join(at, classes), "UsrClass.dat"); err != nil &&
		!errors.Is(err, fs.ErrNotExist) {
		reg.unread(path.Join(at, classes, "UsrClass.dat"), err)
		u.Dark = true
	}
	reg.hiveFile(u.root()+"_Classes", path.Join(at, classes), "UsrClass.dat")
	reg.hiveFile(u.root(), at, "NTUSER.DAT")
	u.Hive, err = reg.open(at, "NTUSER.DAT")
	if err != nil && (u.Account == Person || !errors.Is(err, fs.ErrNotExist)) {
		reg.unread(path.Join(at, "NTUSER.DAT"), err)
	}
}

// Local is the path without its letter of what Windows calls by an absolute
// path. It is false where that is on another disk, or another computer, with
// its letter or name.
func (reg *Registry) Local(p string) (rest, letter string, ok bool) {
	p = strings.ReplaceAll(p, "/", `\`)
	for _, prefix := range []string{`\??\`, `\\?\`, `\\.\`} {
		p = strings.TrimPrefix(p, prefix)
	}
	switch {
	case len(p) >= 2 && p[1] == ':' && strings.EqualFold(p[:2], reg.Drive):
		return p[2:], "", true
	case len(p) >= 2 && p[1] == ':':
		return "", strings.ToUpper(p[:2]), false
	case strings.HasPrefix(p, `\\`):
		name, _, _ := strings.Cut(p[2:], `\`)
		return "", `\\` + name, false
	}
	return p, "", true
}

// Outside is a path inside the machine as Windows calls it.
func (reg *Registry) Outside(p string) string {
	return reg.Drive + strings.ReplaceAll(p, "/", `\`)
}
