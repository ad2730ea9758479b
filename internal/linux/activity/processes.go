package activity

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// A Process is one process, or what was seen of it while it was there.
type Process struct {
	PID, Parent int
	Name        string // the kernel's name of it, 15 bytes
	// only of processes in sessions: its program as the kernel knows it, and
	// its first words
	Words  []string
	Group  string // path of its control group
	Began  uint64 // clock ticks since the kernel began
	Memory int64  // resident, bytes
	Most   int64  // the most of that which was seen
	Gone   bool
	Course []boot.Use // only of processes in sessions

	stat, io Counter
	seen     int
	// The kernel adds what a child had used to its parent when it has ended.
	// What of that was seen on children themselves is not counted twice.
	cpu, seenCPU   time.Duration
	ended          time.Duration // of cpu, what ended children had used
	read, seenRead int64
}

// CPU is what the process had used of the processors, with those of its ended
// children that nobody saw.
func (p *Process) CPU() time.Duration { return max(0, p.cpu-p.seenCPU) }

// Read is what the process had read from disks, in bytes, with those of its
// ended children that nobody saw.
func (p *Process) Read() int64 { return max(0, p.read-p.seenRead) }

// Processes follows the processes of the running machine, those of the kernel
// aside.
type Processes struct {
	root    string
	all     map[int]*Process // by pid, alive
	gone    []*Process       // of sessions, ended
	left    map[string]int64 // by group: what ended processes had read
	kernel  map[int]bool
	groups  map[int]string // by pid: the last group of every process that was seen
	round   int
	buf     [4096]byte
	session func(group string) bool
	// Still tells of groups that have done nothing since the last look: their
	// processes are not asked again. It may be nil.
	Still func(group string) bool
}

const (
	maxProcesses = 5000
	maxGone      = 2000
	maxSeen      = 20_000
	// a second, of the clock in proc(5); the same on all Linux machines that
	// users see
	ticks = 100
)

// FollowProcesses begins to follow the processes below a proc(5) folder. Of
// those in groups that session chooses, courses are kept, and those that have
// ended are remembered.
func FollowProcesses(root string, session func(group string) bool) *Processes {
	return &Processes{
		root:    root,
		all:     map[int]*Process{},
		left:    map[string]int64{},
		kernel:  map[int]bool{},
		groups:  map[int]string{},
		session: session,
	}
}

// Close lets go of all files.
func (p *Processes) Close() {
	for _, process := range p.all {
		process.close()
	}
}

func (p *Process) close() {
	p.stat.Close()
	p.io.Close()
}

// Sample looks at all processes at the given moment of the boot.
func (p *Processes) Sample(at time.Duration) {
	folder, err := os.Open(p.root)
	if err != nil {
		return
	}
	names, _ := folder.Readdirnames(-1)
	folder.Close()
	p.round++
	var looked []*Process // of sessions
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil || p.kernel[pid] {
			continue
		}
		process := p.all[pid]
		if process == nil {
			if len(p.all) >= maxProcesses {
				continue
			}
			if process = p.open(pid); process == nil {
				continue
			}
			p.all[pid] = process
		} else if p.Still != nil && p.Still(process.Group) {
			process.seen = p.round
			continue
		}
		if !p.read(process) {
			continue // it has ended, or another has its number now
		}
		process.seen = p.round
		if p.session(process.Group) {
			looked = append(looked, process)
		}
	}
	ended := map[int][]*Process{} // by parent
	for pid, process := range p.all {
		if process.seen != p.round {
			ended[process.Parent] = append(ended[process.Parent], process)
			delete(p.all, pid)
		}
	}
	for parent, children := range ended {
		p.end(p.all[parent], children, at)
	}
	for _, process := range looked { // what of their ended children was seen is known by now
		n := len(process.Course)
		use := boot.Use{At: at, CPU: process.CPU(), Read: process.Read()}
		if n == 0 || use.CPU > process.Course[n-1].CPU || use.Read > process.Course[n-1].Read {
			process.Course = appendUse(process.Course, use)
		}
	}
}

// end takes leave of the children of a process, nil if that is gone too. What a
// single one used after it was last seen is its own; where several went between
// two looks, it stays with the parent.
func (p *Processes) end(parent *Process, children []*Process, at time.Duration) {
	if parent != nil && len(children) == 1 {
		child := children[0]
		if more := parent.ended - parent.seenCPU - child.cpu; more > 0 {
			child.cpu += more
			if n := len(child.Course); n > 0 {
				child.Course = appendUse(child.Course, boot.Use{
					At:   at,
					CPU:  child.CPU(),
					Read: child.Read(),
				})
			}
		}
	}
	for _, process := range children {
		process.close()
		process.Gone = true
		if parent != nil {
			parent.seenCPU += process.cpu
			parent.seenRead += process.read
		}
		p.left[process.Group] += process.Read()
		if p.session(process.Group) && len(p.gone) < maxGone {
			p.gone = append(p.gone, process)
		}
	}
}

// open begins to follow a process; nil for one of the kernel's, or one that has
// ended already.
func (p *Processes) open(pid int) *Process {
	folder := p.root + "/" + strconv.Itoa(pid) + "/"
	process := &Process{PID: pid, stat: OpenCounter(folder + "stat")}
	if !p.read(process) {
		process.close()
		return nil
	}
	if process.Parent == 2 || pid == 2 {
		process.close()
		p.kernel[pid] = true
		return nil
	}
	process.io = OpenCounter(folder + "io")
	p.place(process)
	if p.session(process.Group) {
		process.Words = p.words(pid)
	}
	return process
}

// place reads to which group a process belongs.
func (p *Processes) place(process *Process) {
	pid := process.PID
	process.Group = p.groupOf(p.root + "/" + strconv.Itoa(pid) + "/cgroup")
	if _, known := p.groups[pid]; known || len(p.groups) < maxSeen {
		p.groups[pid] = process.Group
	}
}

// GroupOf is the group of a process that was seen, which may have ended; empty
// where none of that number was.
func (p *Processes) GroupOf(pid int) string { return p.groups[pid] }

// Seen lists the numbers of the processes that were seen in each group.
func (p *Processes) Seen() map[string][]int {
	all := map[string][]int{}
	for pid, group := range p.groups {
		all[group] = append(all[group], pid)
	}
	return all
}

// words are the program of a process as the kernel knows it, and its first
// words.
func (p *Processes) words(pid int) (all []string) {
	folder := filepath.Join(p.root, strconv.Itoa(pid))
	if target, err := os.Readlink(folder + "/exe"); err == nil {
		all = append(all, strings.TrimSuffix(target, " (deleted)"))
	}
	if words, err := os.ReadFile(folder + "/cmdline"); err == nil {
		list := strings.Split(strings.TrimRight(string(words[:min(len(words), 1024)]), "\x00"),
			"\x00")
		all = append(all, list[:min(len(list), 4)]...)
	}
	return all
}

// groupOf reads the path of a process's group in the unified hierarchy,
// cgroups(7).
func (p *Processes) groupOf(file string) string {
	c := OpenCounter(file)
	defer c.Close()
	for line := range bytes.Lines(c.Read(p.buf[:])) {
		if path, ok := bytes.CutPrefix(line, []byte("0::")); ok {
			return string(bytes.TrimSuffix(path, []byte("\n")))
		}
	}
	return ""
}

// read brings a process up to date; false when it has ended.
func (p *Processes) read(process *Process) bool {
	text := process.stat.Read(p.buf[:])
	open, end := bytes.IndexByte(text, '('), bytes.LastIndexByte(text, ')')
	if open < 0 || end < open {
		return false
	}
	// Field 3 follows the name: state; then parent (4), times of its own and of
	// its ended children (14 to 17), begin (22), pages (24).
	var used, ended uint64
	field := 3
	for word := range bytes.FieldsSeq(text[end+1:]) {
		switch field {
		case 4:
			process.Parent = int(number(word))
		case 14, 15:
			used += number(word)
		case 16, 17:
			ended += number(word)
		case 22:
			if process.Began != 0 && process.Began != number(word) {
				return false
			}
			process.Began = number(word)
		case 24:
			process.Memory = int64(number(word)) * int64(os.Getpagesize())
			process.Most = max(process.Most, process.Memory)
		}
		if field++; field > 24 {
			break
		}
	}
	if name := text[open+1 : end]; string(name) != process.Name {
		again := process.Name != ""
		// It has become another program, and is still found by what it was: a
		// script ends with the program that it is for.
		if process.Name = string(name); again {
			p.place(process) // it was met before it was put where it belongs
		}
		if again && p.session(process.Group) {
			const most = 24
			words := append(p.words(process.PID), process.Words...)
			process.Words = words[:min(most, len(words))]
		}
	}
	process.cpu = time.Duration(used+ended) * time.Second / ticks
	process.ended = time.Duration(ended) * time.Second / ticks
	if _, digits, ok := bytes.Cut(process.io.Read(p.buf[:]), []byte("\nread_bytes: ")); ok {
		process.read = int64(number(digits))
	}
	return true
}

func number(digits []byte) (n uint64) {
	for _, c := range digits {
		if c < '0' || c > '9' {
			break
		}
		n = n*10 + uint64(c-'0')
	}
	return n
}

// ReadByGroup is what the processes of each group have read from disks so far.
// What came and went between two looks counts for its parent.
func (p *Processes) ReadByGroup() map[string]int64 {
	sum := map[string]int64{}
	for group, n := range p.left {
		sum[group] += n
	}
	for _, process := range p.all {
		sum[process.Group] += process.Read()
	}
	return sum
}

// Alive lists the processes that were there at the last look.
func (p *Processes) Alive() []*Process {
	var all []*Process
	for _, process := range p.all {
		all = append(all, process)
	}
	slices.SortFunc(all, func(a, b *Process) int { return a.PID - b.PID })
	return all
}

// Names are the kernel's names of the processes that were there at the last
// look.
func (p *Processes) Names() (names []string) {
	for _, process := range p.all {
		names = append(names, process.Name)
	}
	return names
}

// InSessions lists the processes of sessions, ended ones too, in the order in
// which they began.
func (p *Processes) InSessions() []*Process {
	all := slices.Clone(p.gone)
	for _, process := range p.all {
		if p.session(process.Group) {
			all = append(all, process)
		}
	}
	slices.SortFunc(all, func(a, b *Process) int {
		if a.Began != b.Began {
			return int(int64(a.Began) - int64(b.Began))
		}
		return a.PID - b.PID
	})
	return all
}
