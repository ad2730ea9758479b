package linux

import (
	"path"
	"slices"
	"strings"

	"calmdawn/internal/linux/account"
	"calmdawn/internal/machine"
)

// mostHomes bounds how many folders are looked at for homes of people whom
// /etc/passwd does not name.
const mostHomes = 500

// strangers notes the homes of people whom another computer's directory names,
// and those that are kept encrypted and are not open. What they launch is
// missing.
func (v *Inventory) strangers(users []account.User) {
	known := func(p string) bool {
		return slices.ContainsFunc(users, func(u account.User) bool {
			return u.Home == p || strings.HasPrefix(u.Home, p+"/")
		})
	}
	looked := 0
	var look func(folder string, depth int)
	look = func(folder string, depth int) {
		entries, err := v.root.ReadDir(folder)
		if err != nil {
			return
		}
		for _, e := range entries {
			p := path.Join(folder, e.Name)
			for _, end := range []string{".home", ".homedir"} { // systemd-homed.service(8)
				name, ok := strings.CutSuffix(e.Name, end)
				if ok && depth == 0 && !known(path.Join(folder, name)) {
					v.gap(p, "is a home that is not open; what it launches is missing from the "+
						"list")
				}
			}
			if looked++; looked > mostHomes || e.Kind != machine.Folder || e.Name[0] == '.' {
				continue
			}
			info, err := v.root.Lstat(p)
			switch {
			case err != nil || known(p):
			case info.UID >= 1000 && v.lived(p):
				v.gap(p, "is the home of somebody whom /etc/passwd does not name; what it "+
					"launches is missing from the list")
			case info.UID < 1000 && depth == 0: // a domain's
				look(p, depth+1)
			}
		}
	}
	look("/home", 0)
	for _, u := range users {
		// an encrypted home that is not open holds a note on how to open it
		note := path.Join(u.Home, "Access-Your-Private-Data.desktop")
		if _, err := v.root.Lstat(note); err == nil {
			v.gap(u.Home, "is encrypted and not open; what it launches is missing from the list")
		}
	}
}

// lived reports whether a folder holds what somebody's sessions leave.
func (v *Inventory) lived(home string) bool {
	for _, name := range []string{".config", ".profile", ".bashrc", ".bash_profile"} {
		if _, err := v.root.Lstat(path.Join(home, name)); err == nil {
			return true
		}
	}
	return false
}
