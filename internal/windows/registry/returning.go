package registry

import (
	"path"
	"strings"
)

// Waiting are the signs that updates are to be put in, as a word or two each:
// the next start may change things back.
func (reg *Registry) Waiting() (all []string) {
	const servicing = `SOFTWARE\` + CurrentVersion + `\Component Based Servicing`
	if reg.Machine(servicing + `\RebootPending`).There {
		all = append(all, "parts of the system")
	}
	const update = `SOFTWARE\` + CurrentVersion + `\WindowsUpdate\Auto Update`
	if reg.Machine(update + `\RebootRequired`).There {
		all = append(all, "an update")
	}
	if _, err := reg.Find(`Windows\WinSxS\pending.xml`); err == nil && len(all) == 0 {
		all = append(all, "parts of the system")
	}
	manager := reg.Machine(`SYSTEM\CurrentControlSet\Control\Session Manager`)
	if v, ok := reg.Value(manager, "PendingFileRenameOperations"); ok {
		if names, _ := v.Texts(); len(names) > 0 {
			all = append(all, "files to be replaced")
		}
	}
	return all
}

// Returning are sentences on what may change back what is edited, by how the
// addresses begin that it is about. Those are all of them, or those of a user.
func (reg *Registry) Returning() map[string]string {
	all := map[string]string{}
	if updates := reg.Waiting(); len(updates) > 0 {
		all["HK"] = "Updates wait to be put in (" + strings.Join(updates, ", ") + "): the next " +
			"start may change things back."
	}
	for _, u := range reg.Users {
		if server := u.Server; server != "" {
			all[u.root()] = "A server keeps the profile " + path.Base(u.Profile) + " too (" +
				server + "): the next login may change things back."
		}
	}
	return all
}
