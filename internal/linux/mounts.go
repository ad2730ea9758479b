package linux

import (
	"path"
	"slices"
	"strings"

	"calmdawn/internal/machine"
)

// matters names the folders whose absence makes a survey look whole that is
// not.
var matters = []string{
	"/home", "/var", "/var/lib", "/var/log", "/var/spool", "/usr", "/usr/local", "/opt", "/etc",
	"/root", "/srv",
}

// Unmounted lists the folders that are file systems of their own by the
// machine's fstab(5) and are not mounted.
func Unmounted(r *machine.Root) []string {
	top, err := r.Stat("/")
	if err != nil {
		return nil
	}
	var missing []string
	if undeployed(r) {
		missing = append(missing, "/var")
	}
	for _, f := range fstab(r) {
		folder := f.folder
		if f.kind == "swap" || slices.Contains(strings.Split(f.options, ","), "noauto") {
			continue
		}
		of := func(m string) bool { return folder == m || path.Dir(folder) == m && m == "/home" }
		if !slices.ContainsFunc(matters, of) {
			continue
		}
		if info, err := r.Stat(folder); err != nil || info.Device == top.Device {
			missing = append(missing, folder)
		}
	}
	return missing
}
