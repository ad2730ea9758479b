package activity

import (
	"bytes"
	"cmp"
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
	// From is the process that made this one, whoever looks after it now; nil
	// where nobody saw that.
	From *Process
	Name string // the kernel's name of it, 15 bytes
	// Only of processes in sessions. It tells its program as the kernel knows
	// it, and its first words. With them go those that it had before it became
	// another program, oldest last, and the kernel's names of the programs that
	// it became.
	Words, Names []string
	Group        string // path of its control group
	Began        uint64 // clock ticks since the kernel began; 0 if nobody looked at it
	// Made is when the kernel told that it was made, on its monotonic clock; 0
	// where it told nothing.
	Made   time.Duration
	Memory int64 // resident, bytes
	Most   int64 // the most of that which was seen
	Gone   bool
	// Foreign: it runs as another user than the one whose session it is in.
	Foreign bool
	Course  []boot.Use // only of processes in sessions

	stat, io Counter
	holder   string // the user among whose it is counted
	seen     int
	met      time.Duration // when it was seen first
	looked   time.Duration // when it was last looked at
	exited   time.Duration // when the kernel told that it ended; 0 while it has not
	// The kernel adds what a child had used to its parent when it has ended.
	// What of that was seen on children themselves is not counted twice.
	cpu, seenCPU   time.Duration
	ended          time.Duration // of cpu, what ended children had used
	settled        time.Duration // of ended, what is known to be whose
	read, seenRead int64
}

// CPU is what the process had used of the processors, with those of its ended
// children that nobody saw.
func (p *Process) CPU() time.Duration { return max(0, p.cpu-p.seenCPU) }

// Read is what the process had read from disks, in bytes, with those of its
// ended children that nobody saw.
func (p *Process) Read() int64 { return max(0, p.read-p.seenRead) }

// Processes follows the processes of the running machine, those of the kernel
// aside. Where the kernel tells of those in sessions, each is known from its
// begin, with what it became and who made it; elsewhere by looking.
type Processes struct {
	root    string
	all     map[int]*Process // by pid, alive
	fresh   map[int]*Process // those of them that are looked at at every look
	lately  map[int]*Process // ended a moment ago: the kernel may tell more of them
	gone    []*Process       // of sessions, ended
	left    map[string]int64 // by group: what ended processes had read
	kernel  map[int]bool
	groups  map[int]string // by pid: the last group of every process that was seen
	round   int
	looks   int
	missed  bool
	alive   map[string]int // how many of all each user has; of the machine, under ""
	ended   map[string]int // the same of gone
	refused map[int]int    // by pid: at which look those came that are too many
	buf     [4096]byte
	session func(group string) bool
	lineage *lineage
	listens bool // the kernel tells of processes in sessions
	// Still tells of groups that have done nothing since the last look: their
	// processes are not asked again. It may be nil.
	Still func(group string) bool
}

const (
	// bounds for the machine, and for each user: nobody's fill another's
	maxProcesses, maxProcessesOfUser = 5000, 1500
	maxGone, maxGoneOfUser           = 2000, 600
	maxFresh                         = 400
	maxSeen                          = 20_000
	// a second, of the clock in proc(5); the same on all Linux machines that
	// users see
	ticks = 100
	// young is how long a process is looked at closely, and what it was made as
	// may be something else a moment later
	young = time.Second
	// bounds of what is kept of a process's words
	maxWords, maxWord, maxNames = 24, 256, 8
	maxAllWords                 = 1 << 10
)

// FollowProcesses begins to follow the processes below a proc(5) folder. Of
// those in groups that session chooses, courses are kept, and those that have
// ended are remembered.
func FollowProcesses(root string, session func(group string) bool) *Processes {
	return &Processes{
		root:    root,
		all:     map[int]*Process{},
		fresh:   map[int]*Process{},
		lately:  map[int]*Process{},
		left:    map[string]int64{},
		kernel:  map[int]bool{},
		groups:  map[int]string{},
		alive:   map[string]int{},
		ended:   map[string]int{},
		refused: map[int]int{},
		session: session,
	}
}

// Listen has the kernel tell of the processes in a control group, and in those
// below it, from now on. It tells of all that begin, and what they become.
// False where it does not; then looks are all there is.
func (p *Processes) Listen(folder string) bool {
	if p.lineage == nil {
		p.lineage = openLineage(p.root, folder)
		p.listens = p.lineage != nil
	}
	return p.listens
}

// Missed reports whether something could not be followed: there were more
// processes than are kept, or more was told than there was room for.
func (p *Processes) Missed() bool { return p.missed }

// Close lets go of all files.
func (p *Processes) Close() {
	p.lineage.close()
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
	p.hear()
	p.ripen(at)
	folder, err := os.Open(p.root)
	if err != nil {
		return
	}
	names, _ := folder.Readdirnames(-1)
	folder.Close()
	p.round++
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil || p.kernel[pid] {
			continue
		}
		process := p.all[pid]
		if process != nil && p.fresh[pid] == nil && p.Still != nil && p.Still(process.Group) {
			process.seen = p.round
			continue
		}
		if process == nil {
			process = p.meet(pid, at)
		}
		if process != nil && p.look(process, at) {
			p.readDisk(process)
		}
	}
	p.sweep(p.all, at)
}

// SampleFresh looks at the processes of sessions that began less than a second
// ago, or have ended, at the given moment of the boot. Where the kernel does
// not tell of them it looks for those of the given groups that are new. It does
// so at every third look only while none is.
func (p *Processes) SampleFresh(at time.Duration, groups []string) {
	p.hear()
	if p.looks++; !p.listens && (len(p.fresh) > 0 || p.looks%3 == 0) {
		for _, group := range groups {
			p.list(group, at)
		}
	}
	p.ripen(at)
	p.round++
	for _, process := range p.fresh {
		p.look(process, at)
	}
	p.sweep(p.fresh, at)
}

// list meets the processes that a control group lists, cgroups(7).
func (p *Processes) list(file string, at time.Duration) {
	c := OpenCounter(file)
	defer c.Close()
	var room [4096]byte
	for word := range bytes.FieldsSeq(c.Read(room[:])) {
		if pid := int(number(word)); p.all[pid] == nil {
			p.meet(pid, at)
		}
	}
}

// meet begins to follow a process that was found by looking. It is nil for one
// of the kernel's, for one that has ended already, and where there are too
// many.
func (p *Processes) meet(pid int, at time.Duration) *Process {
	const pause = 50 // looks, until one that was too many is tried again
	if last, refused := p.refused[pid]; refused && p.round-last < pause {
		return nil
	}
	process := &Process{PID: pid, met: at}
	if !p.open(process) {
		return nil
	}
	process.From = p.all[process.Parent]
	if !p.add(process) {
		process.close()
		if len(p.refused) > maxSeen {
			clear(p.refused)
		}
		p.refused[pid] = p.round
		return nil
	}
	if p.session(process.Group) {
		p.freshen(process)
	}
	return process
}

// add keeps one that is alive; false where its user has too many.
func (p *Processes) add(process *Process) bool {
	owner := whose(process.Group)
	if full(p.alive, owner, maxProcesses, maxProcessesOfUser) {
		p.missed = true
		return false
	}
	process.holder = owner
	p.alive[owner]++
	p.all[process.PID] = process
	return true
}

// drop keeps one no longer that is not alive.
func (p *Processes) drop(process *Process) {
	p.alive[process.holder]--
	delete(p.all, process.PID)
	delete(p.fresh, process.PID)
}

// freshen has a process looked at closely. Of very many that begin together the
// others are looked at once a second.
func (p *Processes) freshen(process *Process) {
	if len(p.fresh) < maxFresh {
		p.fresh[process.PID] = process
	}
}

// look looks at a process; false where it has ended, or another has its number
// now.
func (p *Processes) look(process *Process, at time.Duration) bool {
	if !process.stat.Is() {
		if process.exited > 0 || !p.open(process) {
			return false
		}
	} else if !p.read(process) {
		return false
	}
	process.seen, process.looked = p.round, at
	if !p.session(process.Group) {
		delete(p.fresh, process.PID)
		return true
	}
	if !p.listens && at-process.met < young && process.isItsParent() {
		process.learn(p.words(process.PID))
	}
	return true
}

// ripen lets go of those that are to be looked at closely no longer.
func (p *Processes) ripen(at time.Duration) {
	for pid, process := range p.fresh {
		if at-process.met >= young && process.exited == 0 {
			delete(p.fresh, pid)
		}
	}
	for pid, process := range p.lately {
		if at-process.looked >= young {
			delete(p.lately, pid)
		}
	}
}

// isItsParent reports whether a process is still a copy of what made it.
func (p *Process) isItsParent() bool {
	return p.From != nil && slices.Equal(p.Words, p.From.Words)
}

// sweep takes leave of those among some processes that were not there at this
// look, and notes the courses of the others.
func (p *Processes) sweep(among map[int]*Process, at time.Duration) {
	var ended map[*Process][]*Process // by parent
	for _, process := range among {
		if process.From == nil { // it was met before its parent
			process.From = p.all[process.Parent]
		}
		if process.seen == p.round {
			continue
		}
		parent := p.all[process.Parent]
		if ended == nil {
			ended = map[*Process][]*Process{}
		}
		ended[parent] = append(ended[parent], process)
		p.drop(process)
	}
	for parent, children := range ended {
		if parent != nil && parent.stat.Is() {
			p.read(parent)
		}
		p.end(parent, children, at)
		if parent != nil && p.session(parent.Group) {
			parent.note(at)
		}
	}
	for _, process := range among { // what of their ended children was seen is known by now
		process.settled = process.ended
		if process.seen == p.round && process.looked == at && p.session(process.Group) {
			process.note(at)
		}
	}
}

// note adds the present use to the course of a process, if it is more.
func (p *Process) note(at time.Duration) {
	use, n := boot.Use{At: at, CPU: p.CPU(), Read: p.Read()}, len(p.Course)
	if n == 0 || use.CPU > p.Course[n-1].CPU || use.Read > p.Course[n-1].Read {
		p.Course = appendUse(p.Course, use)
	}
}

// end takes leave of the children of a process, nil if that is gone too. What
// they used after they were last seen is shared out by how long each still
// lived. Where nobody told that and several went between two looks, it stays
// with the parent.
func (p *Processes) end(parent *Process, children []*Process, at time.Duration) {
	p.shareOut(parent, children, at)
	for _, process := range children {
		process.close()
		process.Gone, process.looked = true, at
		if p.listens && process.Made > 0 {
			p.lately[process.PID] = process
		}
		if parent != nil {
			parent.settled = parent.ended
			parent.seenCPU += process.cpu
			parent.seenRead += process.read
		}
		p.left[process.Group] += process.Read()
		if p.session(process.Group) && !process.unmet() {
			p.remember(process)
		}
	}
}

// remember keeps one that has ended.
func (p *Processes) remember(process *Process) {
	if owner := whose(process.Group); !full(p.ended, owner, maxGone, maxGoneOfUser) {
		p.ended[owner]++
		p.gone = append(p.gone, process)
	} else {
		p.missed = true
	}
}

// shareOut gives children that have ended what they used after they were last
// seen. That is what their parent was charged with when it took leave of them.
// Only who made a process is asked: what looks after orphans is charged with
// anybody's.
func (p *Processes) shareOut(parent *Process, children []*Process, at time.Duration) {
	if parent == nil {
		return
	}
	more, unseen := parent.ended-parent.settled, time.Duration(0)
	for _, child := range children {
		more -= child.cpu
		unseen += child.unseen(at)
		if child.From != parent || child.exited == 0 && len(children) > 1 {
			return
		}
	}
	for _, child := range children {
		if more <= 0 || unseen <= 0 {
			return
		}
		own := child.unseen(at)
		child.cpu += min(own, time.Duration(float64(own)/float64(unseen)*float64(more)))
		if p.session(child.Group) {
			child.note(at)
		}
	}
}

// unmet reports whether nobody ever looked at a process, and it was nothing but
// a copy of who made it.
func (p *Process) unmet() bool {
	return p.Began == 0 && len(p.Words)+len(p.Names) == 0
}

// unseen is how long a process that has ended lived after it was last looked
// at.
func (p *Process) unseen(at time.Duration) time.Duration {
	end := at
	if p.exited > 0 {
		end = p.exited
	}
	return max(0, end-max(p.looked, p.Made))
}

// open opens the files of a process and looks at it for the first time. It is
// false for one of the kernel's, or one that has ended already.
func (p *Processes) open(process *Process) bool {
	folder := p.root + "/" + strconv.Itoa(process.PID) + "/"
	process.stat = OpenCounter(folder + "stat")
	if !p.read(process) {
		process.close()
		return false
	}
	if process.Parent == 2 || process.PID == 2 {
		process.close()
		p.kernel[process.PID] = true
		return false
	}
	if process.Made > 0 { // the kernel told whose it is, and tells what it becomes
		process.Foreign = p.foreign(process)
		return true
	}
	p.place(process)
	process.Foreign = p.foreign(process)
	if p.session(process.Group) {
		process.learn(p.words(process.PID))
	}
	return true
}

// foreign reports whether a process in a session runs as another user than the
// session's: by its real number, proc_pid_status(5). Whose its files are tells
// that at less cost, but of some that may not be looked into they are root's.
func (p *Processes) foreign(process *Process) bool {
	uid, ok := SessionOf(process.Group)
	if owner, known := process.stat.Owner(); !ok || known && owner == uid {
		return false
	}
	c := OpenCounter(p.root + "/" + strconv.Itoa(process.PID) + "/status")
	defer c.Close()
	_, rest, found := bytes.Cut(c.Read(p.buf[:]), []byte("\nUid:"))
	for word := range bytes.FieldsSeq(rest) {
		return found && string(word) != uid
	}
	return false
}

// place reads to which group a process belongs.
func (p *Processes) place(process *Process) {
	pid := process.PID
	if group := p.groupOf(p.root + "/" + strconv.Itoa(pid) + "/cgroup"); group != "" {
		process.Group = group
	}
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

// learn puts the words of a process before those that it had.
func (p *Process) learn(words []string) {
	if len(words) <= len(p.Words) && slices.Equal(words, p.Words[:len(words)]) {
		return
	}
	words = append(words, p.Words...)
	total := 0
	for _, word := range words {
		total += len(word)
	}
	for len(words) > maxWords || total > maxAllWords {
		middle := len(words) / 2 // what it is now and what it was first tell most
		total -= len(words[middle])
		words = slices.Delete(words, middle, middle+1)
	}
	p.Words = words
}

// words are the program of a process as the kernel knows it, and its first
// words.
func (p *Processes) words(pid int) (all []string) {
	folder := filepath.Join(p.root, strconv.Itoa(pid))
	if target, err := os.Readlink(folder + "/exe"); err == nil {
		all = append(all, programOf(target))
	}
	c := OpenCounter(folder + "/cmdline")
	defer c.Close()
	return append(all, firstWords(c.Read(p.buf[:]))...)
}

// programOf is the program that a link of proc(5) leads to.
func programOf(target string) string {
	target = strings.TrimSuffix(target, " (deleted)")
	return target[:min(len(target), maxWord)]
}

// firstWords are the first words of a command line, as proc(5) gives it.
func firstWords(text []byte) []string {
	const most = 6
	if len(text) == 0 {
		return nil
	}
	list := strings.Split(strings.TrimRight(string(text), "\x00"), "\x00")
	list = slices.Clip(list[:min(len(list), most)])
	for i, word := range list {
		list[i] = strings.Clone(word[:min(len(word), maxWord)])
	}
	return list
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
			process.Foreign = p.foreign(process)
		}
		if again && p.session(process.Group) {
			process.learn(p.words(process.PID))
		}
	}
	process.cpu = time.Duration(used+ended) * time.Second / ticks
	process.ended = time.Duration(ended) * time.Second / ticks
	return true
}

// readDisk brings what a process has read from disks up to date.
func (p *Processes) readDisk(process *Process) {
	if !process.io.Is() {
		process.io = OpenCounter(p.root + "/" + strconv.Itoa(process.PID) + "/io")
	}
	if _, digits, ok := bytes.Cut(process.io.Read(p.buf[:]), []byte("\nread_bytes: ")); ok {
		process.read = int64(number(digits))
	}
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
// which they began, each behind the one that made it. Of what the kernel only
// told that it was made, and that became nothing else, nothing is there.
func (p *Processes) InSessions() []*Process {
	all := slices.Clone(p.gone)
	for _, process := range p.all {
		if p.session(process.Group) && !process.unmet() {
			all = append(all, process)
		}
	}
	slices.SortFunc(all, func(a, b *Process) int {
		return cmp.Or(cmp.Compare(a.begin(), b.begin()), cmp.Compare(a.PID, b.PID))
	})
	places := map[*Process]int{}
	for i, process := range all {
		places[process] = i
	}
	ordered, done := make([]*Process, 0, len(all)), make([]bool, len(all))
	var put func(i int)
	put = func(i int) {
		if done[i] {
			return
		}
		done[i] = true
		if above, ok := all[i].Maker(places); ok {
			put(above)
		}
		ordered = append(ordered, all[i])
	}
	for i := range all {
		put(i)
	}
	return ordered
}

// begin is when a process began, to the hundredth of a second.
func (p *Process) begin() time.Duration {
	if p.Began > 0 {
		return time.Duration(p.Began) * time.Second / ticks
	}
	return p.Made
}

// Maker returns the nearest process among some that made a process, or made who
// made it; false where none of them did.
func (p *Process) Maker(among map[*Process]int) (int, bool) {
	for from := p.From; from != nil; from = from.From {
		if i, ok := among[from]; ok {
			return i, true
		}
	}
	return 0, false
}
