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
	text, err := r.ReadFile("/etc/fstab", 1<<20)
	if err != nil {
		return nil
	}
	top, err := r.Stat("/")
	if err != nil {
		return nil
	}
	var missing []string
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 3 || strings.HasPrefix(f[0], "#") || f[2] == "swap" {
			continue
		}
		if len(f) > 3 && slices.Contains(strings.Split(f[3], ","), "noauto") {
			continue
		}
		folder := path.Clean(strings.ReplaceAll(f[1], `\040`, " "))
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
