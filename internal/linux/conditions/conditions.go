// Package conditions looks at what else bears on how long a machine takes to
// boot: free disk space, memory, power, updates.
//
// It looks and says why each matters; it cleans and repairs nothing.
package conditions

import (
	_ "embed"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/unit"
	"calmdawn/internal/machine"
)

//go:embed conditions.toml
var data []byte

// rules are the bounds and texts, which are data.
type rules struct {
	LeastFree float64           `toml:"least_free"` // share of the system disk
	LeastIdle float64           `toml:"least_available_memory"`
	MuchTemp  float64           `toml:"much_temporary"` // bytes
	Indexers  []string          `toml:"indexers"`
	Why       map[string]string `toml:"why"`
}

// Failed is the condition that services of a boot failed.
func Failed(b boot.Boot) boot.Condition {
	var names []string
	for _, s := range b.Spans {
		if s.Failed && s.Owner == "" {
			names = append(names, s.Native)
		}
	}
	c := boot.Condition{
		Name:  "failed services",
		Value: "none in the last boot",
		Why:   load().Why["failed services"],
		When:  "last boot",
	}
	if len(names) > 0 {
		c.Value, c.Bad = strings.Join(names, ", "), true
	}
	return c
}

func load() (r rules) {
	if err := toml.Unmarshal(data, &r); err != nil {
		panic("conditions.toml, which is built in, cannot be read: " + err.Error())
	}
	return r
}

// A look at one machine.
type look struct {
	root *machine.Root
	rules
	when  string
	quick bool // what takes long is left out
	steps int  // of a walk through folders
	all   []boot.Condition
}

// Of returns the conditions of a machine as they are now. Of a mounted disk
// only what stands on it is known.
func Of(r *machine.Root) []boot.Condition {
	var running []string
	if r.Live() {
		running = processNames()
	}
	l := look{root: r, rules: load(), when: "now", steps: 100_000}
	return l.of(running)
}

// OfBoot returns the conditions of the boot that is running, without what takes
// long to find. running are the kernel's names of the processes.
func OfBoot(r *machine.Root, running []string) []boot.Condition {
	l := look{root: r, rules: load(), when: "this boot", quick: true, steps: 2000}
	return l.of(running)
}

func (l *look) of(running []string) []boot.Condition {
	if l.root.OwnDisk() {
		l.disk()
		l.diskKind()
	}
	if l.root.Live() {
		l.memory()
	}
	l.kernel()
	if !l.quick {
		l.order()
	}
	if l.root.Live() {
		l.power()
	}
	l.updates()
	l.temporary()
	if l.root.Live() {
		l.indexers(running)
	}
	return l.all
}

func (l *look) say(name string, bad bool, format string, values ...any) {
	l.all = append(l.all, boot.Condition{
		Name:  name,
		Value: fmt.Sprintf(format, values...),
		Why:   l.Why[name],
		Bad:   bad,
		When:  l.when,
	})
}

// order tells of services whose order is a circle.
func (l *look) order() {
	for _, circle := range unit.Circles(l.root) {
		l.say("order of services", true, "%d are in a circle, and one of them is left out at each "+
			"start; have it repaired: %s", len(circle), strings.Join(append(circle, circle[0]),
			" → "))
	}
}

// tell notes a value that is as it should be.
func (l *look) tell(name, format string, values ...any) {
	const bad = false
	l.say(name, bad, format, values...)
}

// mind notes a value that is worth a warning.
func (l *look) mind(name, format string, values ...any) {
	const bad = true
	l.say(name, bad, format, values...)
}

func (l *look) disk() {
	free, total, err := l.root.Space("/")
	if err != nil || total == 0 {
		return
	}
	share := float64(free) / float64(total)
	l.say("free disk space", share < l.LeastFree, "%.0f %% of %s", share*100, size(total))
}

// diskKind follows sysfs(5) from the device number of the root file system to
// the disk's queue.
func (l *look) diskKind() {
	info, err := l.root.Stat("/")
	if err != nil {
		return
	}
	major := info.Device>>8&0xfff | info.Device>>32&^0xfff
	minor := info.Device&0xff | info.Device>>12&^0xff
	device, err := filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", major, minor))
	for ; err == nil && strings.HasPrefix(device, "/sys/devices/"); device = path.Dir(device) {
		text, err := os.ReadFile(device + "/queue/rotational")
		if err != nil {
			continue
		}
		kind, bad := kindOf(device, strings.TrimSpace(string(text)))
		l.say("disk kind", bad, "%s (%s)", kind, path.Base(device))
		return
	}
}

// kindOf says what a disk is by the kernel's flag, which of a virtual one says
// nothing of what stands behind it.
func kindOf(device, rotating string) (kind string, bad bool) {
	for _, sign := range []string{"/virtio", "/vbd-", "/vmbus", "/hyperv"} {
		if strings.Contains(device, sign) {
			return "a virtual one", false
		}
	}
	if rotating == "1" {
		return "rotating", true
	}
	return "no rotating parts", false
}

func (l *look) memory() {
	text, err := l.root.ReadFile("/proc/meminfo", 64<<10)
	if err != nil {
		return
	}
	kb := map[string]float64{}
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) > 1 {
			kb[strings.TrimSuffix(f[0], ":")], _ = strconv.ParseFloat(f[1], 64)
		}
	}
	if total := kb["MemTotal"]; total > 0 {
		left := kb["MemAvailable"]
		l.say("memory in use", left < l.LeastIdle*total, "%s of %s",
			size(uint64((total-left)*1024)), size(uint64(total*1024)))
	}
	if total := kb["SwapTotal"]; total > 0 {
		used := total - kb["SwapFree"]
		l.say("swap in use", used > 0.1*total, "%s of %s", size(uint64(used*1024)),
			size(uint64(total*1024)))
	} else if _, told := kb["SwapTotal"]; told {
		l.tell("swap in use", "the machine has none")
	}
}

func (l *look) kernel() {
	if l.root.Live() {
		if text, err := l.root.ReadFile("/proc/sys/kernel/osrelease", 4096); err == nil {
			l.tell("kernel", "%s", strings.TrimSpace(string(text)))
		}
		return
	}
	folders, err := l.root.ReadDir("/lib/modules")
	if err != nil || len(folders) == 0 {
		return
	}
	var names []string
	for _, e := range folders {
		names = append(names, e.Name)
	}
	l.tell("kernel", "installed: %s", strings.Join(names, ", "))
}

// power reads the processors' governor and what the machine is fed by.
func (l *look) power() {
	const frequency = "/sys/devices/system/cpu/cpu0/cpufreq/"
	if text, err := os.ReadFile(frequency + "scaling_governor"); err == nil {
		governor := strings.TrimSpace(string(text))
		driver, _ := os.ReadFile(frequency + "scaling_driver")
		l.say("processor governor", slow(governor, strings.TrimSpace(string(driver))), "%s",
			governor)
	}
	supplies, _ := filepath.Glob("/sys/class/power_supply/*/type")
	mains, battery := "", false
	for _, file := range supplies {
		text, _ := os.ReadFile(file)
		switch strings.TrimSpace(string(text)) {
		case "Mains":
			online, _ := os.ReadFile(path.Dir(file) + "/online")
			mains = strings.TrimSpace(string(online))
		case "Battery":
			battery = true
		}
	}
	switch {
	case mains == "0" && battery:
		l.mind("power source", "battery")
	case mains == "1":
		l.tell("power source", "mains")
	}
}

// slow reports whether a governor keeps the clock low. With a driver that lets
// the processor choose its clock by itself, powersave is the usual one, and
// does not (admin-guide/pm/intel_pstate, amd-pstate, of the kernel).
func slow(governor, driver string) bool {
	itself := driver == "intel_pstate" || strings.HasPrefix(driver, "amd-pstate-epp") ||
		strings.HasPrefix(driver, "amd_pstate_epp")
	return governor == "powersave" && !itself
}

// updates looks for what a package manager left undone. That is entries of its
// status that are neither installed nor gone, and updates that wait for the
// next boot.
func (l *look) updates() {
	half := 0
	if left, err := l.root.ReadDir("/var/lib/dpkg/updates"); err == nil && len(left) > 0 {
		half = 1
	}
	if !l.quick {
		text, _ := l.root.ReadFile("/var/lib/dpkg/status", 128<<20)
		for line := range strings.Lines(string(text)) {
			if words, ok := strings.CutPrefix(line, "Status: "); ok {
				f := strings.Fields(words)
				if len(f) == 3 &&
					!slices.Contains([]string{"installed", "config-files", "not-installed"}, f[2]) {
					half++
				}
			}
		}
	}
	if half > 0 {
		l.mind("updates", "half installed: %d", half)
		return
	}
	for _, p := range []string{
		"/system-update",
		"/etc/system-update",
		"/var/run/reboot-required",
		"/var/lib/PackageKit/prepared-update",
	} {
		if _, err := l.root.Lstat(p); err == nil {
			l.mind("updates", "the next boot is to install some, or finish them (%s)", p)
			return
		}
	}
	l.tell("updates", "none half installed, none waiting for a boot")
}

// temporary sums the folders for temporary files, as far as a bounded walk
// comes.
func (l *look) temporary() {
	type place struct {
		folder string
		device uint64
	}
	var queue []place
	for _, folder := range []string{"/tmp", "/var/tmp"} {
		if info, err := l.root.Stat(folder); err == nil {
			queue = append(queue, place{folder, info.Device})
		}
	}
	entries, sum := 0, int64(0)
	for ; len(queue) > 0 && entries < l.steps; queue = queue[1:] {
		list, err := l.root.ReadDir(queue[0].folder)
		if err != nil {
			continue
		}
		for _, e := range list {
			entries++
			p := path.Join(queue[0].folder, e.Name)
			info, err := l.root.Lstat(p)
			switch {
			case err != nil || info.Device != queue[0].device:
			case info.Kind == machine.Folder:
				queue = append(queue, place{p, info.Device})
			case info.Kind == machine.Regular:
				sum += info.Size
			}
		}
	}
	lead := ""
	if len(queue) > 0 {
		lead = "more than "
	}
	l.say("temporary files", float64(sum) > l.MuchTemp, "%s%s", lead, size(uint64(sum)))
}

// processNames are the kernel's names of the processes of the running machine.
func processNames() (names []string) {
	processes, _ := filepath.Glob("/proc/[0-9]*")
	for _, p := range processes {
		if name, err := os.ReadFile(p + "/comm"); err == nil {
			names = append(names, strings.TrimSpace(string(name)))
		}
	}
	return names
}

// indexers looks for processes that go through all files.
func (l *look) indexers(running []string) {
	var found []string
	for _, name := range running {
		if slices.Contains(l.Indexers, name) && !slices.Contains(found, name) {
			found = append(found, name)
		}
	}
	if len(found) > 0 {
		l.mind("indexing", "%s runs", strings.Join(found, ", "))
		return
	}
	l.tell("indexing", "none of the known indexers runs")
}

// size shows bytes for people.
func size(n uint64) string {
	units := []string{"B", "kB", "MB", "GB", "TB"}
	v, i := float64(n), 0
	for ; v >= 1000 && i < len(units)-1; i++ {
		v /= 1000
	}
	if v < 10 && i > 1 {
		return fmt.Sprintf("%.1f %s", v, units[i])
	}
	return fmt.Sprintf("%.0f %s", v, units[i])
}
