package unit

import (
	"debug/elf"
	"path"
	"strconv"
	"strings"

	"calmdawn/internal/linux/identity"
)

// known are the letters of all specifiers, systemd.unit(5); with another one a
// value is refused.
const known = "aAbBcCdDEfgGhHiIjJlLmMnNopPqrRsStTuUvVwWyY%"

// facts are what a machine says of itself.
type facts struct {
	release      map[string]string // os-release(5)
	host         string            // empty where the disk does not tell it
	id           string            // machine-id(5); empty where it has none yet
	architecture string            // in the words of systemd.unit(5); empty where not known
	groups       map[string]int    // their numbers by name
	members      map[string][]string
}

func (src *Source) readFacts() {
	src.facts = facts{
		release:      identity.Release(src.root),
		host:         identity.Hostname(src.root),
		id:           identity.MachineID(src.root),
		architecture: src.architecture(),
	}
	if strings.Contains(src.facts.host, "?") { // it is made up at the boot
		src.facts.host = ""
	}
	src.facts.groups, src.facts.members = src.groups()
}

// specifiers are those that a machine's disk tells, and are the same for all
// units of a service manager, as pairs of specifier and value.
func (t *Tree) specifiers() []string {
	release := t.facts.release
	user, uid, group, gid, home := "root", 0, "root", 0, "/root"
	runtime, state, cache, log, config := "/run", "/var/lib", "/var/cache", "/var/log", "/etc"
	if t.owner.Name != "" {
		user, uid, gid, home = t.owner.Name, t.owner.UID, t.owner.GID, t.owner.Home
		group = t.groupName(gid)
		runtime = "/run/user/" + strconv.Itoa(uid)
		config = path.Join(home, ".config")
		state, cache = config, path.Join(home, ".cache")
		log = path.Join(config, "log")
	}
	pairs := []string{
		"%u", user, "%U", strconv.Itoa(uid), "%g", group, "%G", strconv.Itoa(gid), "%h", home,
		"%t", runtime, "%S", state, "%C", cache, "%L", log, "%E", config,
		"%T", "/tmp", "%V", "/var/tmp",
		"%o", release["ID"], "%w", release["VERSION_ID"], "%B", release["BUILD_ID"],
		"%W", release["VARIANT_ID"], "%M", release["IMAGE_ID"], "%A", release["IMAGE_VERSION"],
	}
	if host := t.facts.host; host != "" {
		short, _, _ := strings.Cut(host, ".")
		pairs = append(pairs, "%H", host, "%l", short)
	}
	if t.facts.id != "" {
		pairs = append(pairs, "%m", t.facts.id)
	}
	if t.facts.architecture != "" {
		pairs = append(pairs, "%a", t.facts.architecture)
	}
	return pairs
}

// expand replaces the specifiers of systemd.unit(5) that stand for the unit's
// own name, and those that are given as pairs; others are left.
func expand(s, name string, more ...string) string {
	if !strings.Contains(s, "%") {
		return s
	}
	n := splitName(name)
	j := n.prefix[strings.LastIndex(n.prefix, "-")+1:]
	own := []string{"%%", "%", "%n", name, "%N", strings.TrimSuffix(name, "."+n.suffix),
		"%p", n.prefix, "%P", unescape(n.prefix), "%i", n.instance, "%I", unescape(n.instance),
		"%j", j, "%J", unescape(j)}
	return strings.NewReplacer(append(own, more...)...).Replace(s)
}

// specified reports whether every specifier in a text is one that there is.
func specified(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] != '%' || i+1 == len(s) {
			continue
		}
		i++
		letter := s[i] >= 'a' && s[i] <= 'z' || s[i] >= 'A' && s[i] <= 'Z' ||
			s[i] >= '0' && s[i] <= '9'
		if letter && strings.IndexByte(known, s[i]) < 0 {
			return false
		}
	}
	return true
}

// architecture is that of the service manager's program, in the words of
// systemd.unit(5); empty where it cannot be told.
func (src *Source) architecture() string {
	for _, p := range []string{"/usr/lib/systemd/systemd", "/lib/systemd/systemd"} {
		f, err := src.root.OpenFile(p)
		if err != nil {
			continue
		}
		defer f.Close()
		program, err := elf.NewFile(f)
		if err != nil {
			return ""
		}
		return map[elf.Machine]string{
			elf.EM_X86_64: "x86-64", elf.EM_386: "x86", elf.EM_AARCH64: "arm64",
			elf.EM_ARM: "arm", elf.EM_RISCV: "riscv64", elf.EM_S390: "s390x",
			elf.EM_PPC64: "ppc64-le", elf.EM_LOONGARCH: "loongarch64",
		}[program.Machine]
	}
	return ""
}

// groups reads group(5): the numbers of groups by name, and who is in each
// besides those whose own it is.
func (src *Source) groups() (numbers map[string]int, members map[string][]string) {
	numbers, members = map[string]int{}, map[string][]string{}
	text, err := src.root.ReadFile("/etc/group", maxText)
	if err != nil {
		return numbers, members
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) < 4 {
			continue
		}
		if n, err := strconv.Atoi(f[2]); err == nil {
			numbers[f[0]], members[f[0]] = n, strings.Split(f[3], ",")
		}
	}
	return numbers, members
}

func (src *Source) groupName(gid int) string {
	for name, n := range src.facts.groups {
		if n == gid {
			return name
		}
	}
	return strconv.Itoa(gid)
}
