// Package account reads who can log in on a Linux machine, from its passwd(5)
// file.
package account

import (
	"path"
	"strconv"
	"strings"

	"calmdawn/internal/machine"
)

// A User is one account whose home stands on the machine.
type User struct {
	Name string
	UID  int
	GID  int
	Home string
	// Lingers is whether the user's service manager runs from the boot on,
	// loginctl(1).
	Lingers bool
	// NoLogin is the shell of an account with which nobody logs in, nologin(8);
	// empty where somebody can.
	NoLogin string
}

// Read returns the accounts whose home folder is there, and among them only
// those of people: root, and ids from 1000 on.
func Read(r *machine.Root) ([]User, error) {
	text, err := r.ReadFile("/etc/passwd", 4<<20)
	if err != nil {
		return nil, err
	}
	var users []User
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) < 7 || f[0] == "" {
			continue
		}
		uid, err1 := strconv.Atoi(f[2])
		gid, err2 := strconv.Atoi(f[3])
		const nobody = 65534
		if err1 != nil || err2 != nil || uid == nobody || uid != 0 && uid < 1000 {
			continue
		}
		u := User{Name: f[0], UID: uid, GID: gid, Home: path.Clean("/" + f[5])}
		if shell := path.Base(f[6]); shell == "nologin" || shell == "false" {
			u.NoLogin = f[6]
		}
		u.Lingers = r.IsFile(path.Join("/var/lib/systemd/linger", u.Name))
		if info, err := r.Stat(u.Home); err == nil && info.Kind == machine.Folder && u.Home != "/" {
			users = append(users, u)
		}
	}
	return users, nil
}
