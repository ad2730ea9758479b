// Package hook finds what other programs call at some event: when the network
// changes, a device appears, somebody logs in, or a time has come. It is shown
// and never switched.
package hook

import (
	"crypto/sha256"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/linux/shown"
	"calmdawn/internal/machine"
)

// Mechanism is the mechanism of items that stand in hooks.
const Mechanism = "hook"

const (
	maxText = 1 << 20
	most    = 500 // of each kind
)

// Hooks are those of a machine.
type Hooks struct {
	shown.Only
	root   *machine.Root
	finder *launch.Finder
	daemon shown.Daemon
}

// Read prepares the survey of a machine's hooks.
func Read(r *machine.Root, finder *launch.Finder, daemon shown.Daemon) *Hooks {
	only := shown.Only{Mechanism: Mechanism, Refusal: func(it item.Item) error {
		return fmt.Errorf("it is called by what stands in %s, which is never edited; change that "+
			"by hand", it.File)
	}}
	return &Hooks{Only: only, root: r, finder: finder, daemon: daemon}
}

// Survey returns what the hooks of all kinds call.
func (h *Hooks) Survey() []item.Item {
	const network = "when the network changes"
	return slices.Concat(
		h.scripts("/etc/NetworkManager/dispatcher.d", network, "NetworkManager.service"),
		h.scripts("/usr/lib/NetworkManager/dispatcher.d", network, "NetworkManager.service"),
		h.scripts("/etc/network/if-up.d", network, "networking.service"),
		h.early(),
		h.rules(),
		h.logins(),
		h.jobs(),
	)
}

// item is what a hook in a file calls; file and line tell it apart.
func (h *Hooks) item(file, line string, words []string, fires string) item.Item {
	sum := sha256.Sum256([]byte(line))
	program := h.finder.Resolve(words, programPath)
	it := item.Item{
		ID:      fmt.Sprintf("task:hook%s#%x", file, sum[:2]),
		Kind:    item.Task,
		Native:  file + ": " + line,
		Title:   path.Base(words[0]),
		When:    item.Later,
		State:   item.On,
		Fires:   fires,
		Unsure:  true,
		Aside:   true,
		Command: strings.Join(words, " "),
		Program: program.Path,
		File:    file,
	}
	if program.Missing != "" {
		it.State, it.Why = item.Broken, program.Missing+" is not there"
	}
	return it
}

var programPath = []string{
	"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin",
}

func (h *Hooks) list(folder string) []machine.Entry {
	entries, err := h.root.ReadDir(folder)
	h.Skip(folder, err)
	return entries[:min(most, len(entries))]
}

func (h *Hooks) read(p string) string {
	text, err := h.root.ReadFile(p, maxText)
	h.Skip(p, err)
	return string(text)
}

// scripts are the programs in a folder that a daemon calls.
func (h *Hooks) scripts(folder, fires string, units ...string) (all []item.Item) {
	for _, e := range h.list(folder) {
		p := path.Join(folder, e.Name)
		info, err := h.root.Stat(p)
		if err != nil || info.Kind != machine.Regular || info.Mode&0o111 == 0 ||
			machine.Leftover(e.Name) {
			continue
		}
		it := h.item(p, e.Name, []string{p}, fires)
		h.daemon.Under(&it, "calls", units...)
		all = append(all, it)
	}
	return all
}

// early are the administrator's scripts that stand in the image which the
// kernel begins with, as it was built last.
func (h *Hooks) early() (all []item.Item) {
	const folder = "/etc/initramfs-tools/scripts"
	for _, stage := range h.list(folder) {
		for _, it := range h.scripts(path.Join(folder, stage.Name), "") {
			it.When, it.State, it.Because = item.AtBoot, item.On, []string{stage.Name, it.Native}
			it.Why = "it stands in the image that the kernel begins with, if that was built since"
			all = append(all, it)
		}
	}
	return all
}

var (
	rulesFolders = []string{"/etc/udev/rules.d", "/usr/lib/udev/rules.d", "/lib/udev/rules.d"}
	// a program that a rule of udev(7) has called
	runs = regexp.MustCompile(`RUN(?:\{program\})?\s*\+?=\s*"([^"]+)"`)
)

// rules are the programs that rules of devices have called.
func (h *Hooks) rules() (all []item.Item) {
	seen, folders := map[string]bool{}, map[string]bool{}
	for _, folder := range rulesFolders {
		if real, err := h.root.Resolve(folder); err != nil || folders[real] {
			continue
		} else {
			folders[real] = true
		}
		for _, e := range h.list(folder) {
			if !strings.HasSuffix(e.Name, ".rules") || seen[e.Name] {
				continue // a file hides those of its name in weaker folders
			}
			seen[e.Name] = true
			p := path.Join(folder, e.Name)
			for line := range strings.Lines(strings.ReplaceAll(h.read(p), "\\\n", " ")) {
				if strings.HasPrefix(strings.TrimSpace(line), "#") {
					continue
				}
				for _, m := range runs.FindAllStringSubmatch(line, -1) {
					words := launch.Shell(m[1])
					if len(words) == 0 || strings.ContainsAny(words[0], "$%") || len(all) == most {
						continue
					}
					if !path.IsAbs(words[0]) { // it is looked up beside the device manager
						words[0] = path.Join("/usr/lib/udev", words[0])
					}
					it := h.item(p, m[1], words, "when its device is there")
					it.Because = []string{"devices", p}
					all = append(all, it)
				}
			}
		}
	}
	return unlike(all)
}

// unlike are items without those that have the id of an earlier one.
func unlike(all []item.Item) (some []item.Item) {
	seen := map[string]bool{}
	for _, it := range all {
		if !seen[it.ID] {
			seen[it.ID] = true
			some = append(some, it)
		}
	}
	return some
}

// logins are the programs that pam_exec(8) calls in sessions.
func (h *Hooks) logins() (all []item.Item) {
	const folder = "/etc/pam.d"
	for _, e := range h.list(folder) {
		p := path.Join(folder, e.Name)
		for line := range strings.Lines(h.read(p)) {
			kind, rest, ok := strings.Cut(strings.TrimSpace(line), "pam_exec.so")
			words := strings.Fields(rest)
			if !ok || !strings.HasPrefix(strings.TrimPrefix(kind, "-"), "session") {
				continue
			}
			for len(words) > 0 && !strings.HasPrefix(words[0], "/") { // its options
				words = words[1:]
			}
			if len(words) == 0 {
				continue
			}
			it := h.item(p, strings.TrimSpace(line), words, "")
			it.When, it.Because = item.AtLogin, []string{"login", p}
			all = append(all, it)
		}
	}
	return unlike(all)
}

// jobs are those of at(1). The name of a file has the queue, a number, and the
// minute since 1970 in which it runs.
func (h *Hooks) jobs() (all []item.Item) {
	for _, folder := range []string{
		"/var/spool/cron/atjobs", "/var/spool/at", "/var/spool/atjobs",
	} {
		for _, e := range h.list(folder) {
			if len(e.Name) != 14 || e.Kind != machine.Regular {
				continue
			}
			minute, err := strconv.ParseInt(e.Name[6:], 16, 64)
			if err != nil {
				continue
			}
			p := path.Join(folder, e.Name)
			line := lastLine(h.read(p))
			words := launch.Shell(line)
			if len(words) == 0 {
				continue
			}
			at := time.Unix(minute*60, 0).UTC()
			it := h.item(p, line, words, "on "+at.Format("2 Jan 2006, 15:04 UTC"))
			h.daemon.Under(&it, "calls", "atd.service")
			all = append(all, it)
		}
	}
	return all
}

// lastLine is the last line of a job that is no end of its text: what was asked
// for. What stands before it sets the job up.
func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	for _, line := range slices.Backward(lines) {
		line = strings.TrimSpace(line)
		if line != "" && !strings.HasPrefix(line, "marcinDELIMITER") && line != "}" {
			return line
		}
	}
	return ""
}
