// Package identity reads what a Linux machine says of itself: its name, its id
// and its operating system's release.
package identity

import (
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// Hostname is the machine's name, hostname(5); empty where it has none.
func Hostname(r *machine.Root) string {
	text, err := r.ReadFile("/etc/hostname", 4096)
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return line
		}
	}
	return ""
}

// MachineID is the machine's id, machine-id(5); empty where it has none yet.
func MachineID(r *machine.Root) string {
	text, err := r.ReadFile("/etc/machine-id", 4096)
	id := strings.TrimSpace(string(text))
	if err != nil || id == "uninitialized" {
		return ""
	}
	return id
}

// Release are the fields of os-release(5).
func Release(r *machine.Root) map[string]string {
	values := map[string]string{}
	for _, p := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		text, err := r.ReadFile(p, 64<<10)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			key, value, ok := strings.Cut(strings.TrimSpace(line), "=")
			if ok && !strings.HasPrefix(key, "#") {
				values[key] = strings.Trim(value, `"'`)
			}
		}
		break
	}
	return values
}

// Computer is the model and the id of the running machine's computer. They are
// from the tables of its firmware (SMBIOS, by sysfs) or its device tree. What
// they do not tell is empty.
func Computer(r *machine.Root) (model, id string) {
	field := func(path string) string {
		text, err := r.ReadFile(path, 4096)
		if err != nil {
			return ""
		}
		return strings.Trim(string(text), "\x00 \n")
	}
	const tables = "/sys/class/dmi/id/"
	model = item.Model(field(tables+"sys_vendor"), field(tables+"product_name"))
	if model == "" {
		model = field("/proc/device-tree/model")
	}
	return model, strings.ToLower(field(tables + "product_uuid"))
}
