package watch

import (
	"bytes"
	"os"
	"runtime"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/linux/activity"
)

// counters are those of the whole machine, in proc(5).
type counters struct {
	stat, vmstat activity.Counter
	// of what the system stands on; none where that is no disk of its own
	disk activity.Counter
	// the machine is a container: the kernel's counters are those of the
	// computer around it
	contained bool
	allowed   map[string]bool
	buf       [16 << 10]byte
}

func openCounters() counters {
	c := counters{
		allowed: allowedProcessors(),
		stat:    activity.OpenCounter("/proc/stat"),
		vmstat:  activity.OpenCounter("/proc/vmstat"),
	}
	text, _ := os.ReadFile("/run/systemd/container")
	environ, _ := os.ReadFile("/proc/1/environ")
	c.contained = len(text) > 0 || bytes.HasPrefix(environ, []byte("container=")) ||
		bytes.Contains(environ, []byte("\x00container="))
	if device, ok := rootDevice(); ok && !c.contained {
		c.disk = activity.OpenCounter("/sys/dev/block/" + device + "/stat")
	}
	return c
}

func (c *counters) close() {
	c.stat.Close()
	c.vmstat.Close()
	c.disk.Close()
}

// paged is how many bytes the machine has read from its disks.
func (c *counters) paged() (int64, bool) {
	_, rest, ok := bytes.Cut(c.vmstat.Read(c.buf[:]), []byte("\npgpgin "))
	digits, _, _ := bytes.Cut(rest, []byte("\n"))
	kb, err := strconv.ParseInt(string(digits), 10, 50)
	return kb << 10, ok && err == nil
}

// diskBusy is how long the system's disk has been at work: "io_ticks" of the
// kernel's Documentation/block/stat.
func (c *counters) diskBusy() time.Duration {
	words := strings.Fields(string(c.disk.Read(c.buf[:])))
	if len(words) < 10 {
		return 0
	}
	ms, _ := strconv.ParseInt(words[9], 10, 50)
	return time.Duration(ms) * time.Millisecond
}

// foreign is how much processor time others on the same computer have taken so
// far, of those processors that this machine may use. That is what the
// hypervisor gave to others. In a container it is what runs beside it. own is
// what this machine's processes have used.
func (c *counters) foreign(own time.Duration) (time.Duration, bool) {
	stolen, busy, found := time.Duration(0), time.Duration(0), false
	// cpu0 user nice system idle iowait irq softirq steal …
	for line := range bytes.Lines(c.stat.Read(c.buf[:])) {
		if !bytes.HasPrefix(line, []byte("cpu")) {
			break
		}
		words := strings.Fields(string(line))
		if len(words) < 9 || !c.allowed[strings.TrimPrefix(words[0], "cpu")] {
			continue
		}
		value := func(i int) time.Duration {
			n, _ := strconv.ParseInt(words[i], 10, 50)
			return time.Duration(n) * time.Second / 100
		}
		found = true
		stolen += value(8)
		busy += value(1) + value(2) + value(3) + value(6) + value(7)
	}
	if !c.contained {
		return stolen, found
	}
	return max(0, stolen+busy-own), found
}

// allowedProcessors reads the numbers of the processors that this machine may
// use, proc(5).
func allowedProcessors() map[string]bool {
	allowed := map[string]bool{}
	text, _ := os.ReadFile("/proc/self/status")
	for line := range strings.Lines(string(text)) {
		list, ok := strings.CutPrefix(line, "Cpus_allowed_list:")
		if !ok {
			continue
		}
		for part := range strings.SplitSeq(strings.TrimSpace(list), ",") {
			first, last, ranged := strings.Cut(part, "-")
			from, _ := strconv.Atoi(first)
			to, err := strconv.Atoi(last)
			if !ranged || err != nil {
				to = from
			}
			for n := from; n <= min(to, 1<<12); n++ {
				allowed[strconv.Itoa(n)] = true
			}
		}
	}
	return allowed
}

func (c *counters) processors() int { return runtime.NumCPU() }

// memory is how much the machine has, in bytes; 0 where it is not told.
func (c *counters) memory() int64 {
	text, _ := os.ReadFile("/proc/meminfo")
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "MemTotal:"); ok {
			kb, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 50)
			return kb << 10
		}
	}
	return 0
}

func (c *counters) kernel() string {
	text, _ := os.ReadFile("/proc/sys/kernel/osrelease")
	return strings.TrimSpace(string(text))
}

// ownUse is what this program has used of the processors, and the most memory
// it held, in bytes.
func ownUse() (cpu time.Duration, memory int64) {
	text, _ := os.ReadFile("/proc/self/status")
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 50)
			memory = kb << 10
		}
	}
	return ownProcessorTime(), memory
}
