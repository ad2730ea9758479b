package activity

import (
	"cmp"
	"encoding/binary"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

const (
	// Each processor has two rings, of programs and of lives, of so many pages
	// and one that describes them. A ring holds some 300 records.
	ringPages     = 4
	maxProcessors = 64
	// A record is as long as this at most; a longer one is none of ours.
	maxRecord = 256
)

// lineage has the kernel tell of the processes of one control group and of
// those below it: perf_event_open(2), with PERF_FLAG_PID_CGROUP. It needs root,
// or CAP_PERFMON, and a kernel that takes cgroups for perf events.
//
// A thread of its own reads the words of what becomes another program, at once:
// a wrapper may be something else a millisecond later.
type lineage struct {
	root     string  // a proc(5) folder
	programs []*ring // what processes become; read by the thread
	lives    []*ring // that they are made, and end
	quit     int     // an eventfd(2) that ends the thread
	ended    chan struct{}

	mu   sync.Mutex
	told []turn // by the thread
	lost bool
}

// A ring is what one processor tells.
type ring struct {
	fd     int
	mapped []byte
	head   *uint64
	tail   *uint64
	data   []byte
}

// openLineage begins to listen; nil where this machine tells nothing. root is a
// proc(5) folder, folder that of the control group.
func openLineage(root, folder string) *lineage {
	group, err := unix.Open(folder, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(group)
	l := &lineage{root: root, ended: make(chan struct{})}
	if l.quit, err = unix.Eventfd(0, unix.EFD_CLOEXEC); err != nil {
		return nil
	}
	numbers := processors()
	if len(numbers) == 0 || len(numbers) > maxProcessors {
		unix.Close(l.quit)
		return nil // what some of them do would be missed
	}
	for _, cpu := range numbers {
		programs, err := openRing(group, cpu, unix.PerfBitComm|unix.PerfBitCommExec, 1)
		if err != nil {
			l.free()
			return nil
		}
		l.programs = append(l.programs, programs)
		lives, err := openRing(group, cpu, unix.PerfBitTask, 0)
		if err != nil {
			l.free()
			return nil
		}
		l.lives = append(l.lives, lives)
	}
	go l.listen()
	return l
}

// close ends the thread and lets go of all.
func (l *lineage) close() {
	if l == nil {
		return
	}
	_, _ = unix.Write(l.quit, binary.NativeEndian.AppendUint64(nil, 1))
	<-l.ended
	l.free()
}

func (l *lineage) free() {
	for _, r := range slices.Concat(l.programs, l.lives) {
		_ = unix.Munmap(r.mapped)
		unix.Close(r.fd)
	}
	unix.Close(l.quit)
}

// listen reads the words of each program as it begins, until it is to end. What
// comes faster than it may be asked waits for the next beat, so that nobody
// keeps it busy.
func (l *lineage) listen() {
	defer close(l.ended)
	runtime.LockOSThread()
	// Ahead of what it watches, where that is allowed: it is a matter of a
	// millisecond, and takes a few hundredths of one.
	_ = unix.SchedSetAttr(0, &unix.SchedAttr{
		Size:     unix.SizeofSchedAttr,
		Policy:   unix.SCHED_RR,
		Flags:    unix.SCHED_FLAG_RESET_ON_FORK,
		Priority: 1,
	}, 0)
	const beat, most = 100 * time.Millisecond, 500
	fds := []unix.PollFd{{Fd: int32(l.quit), Events: unix.POLLIN}}
	for _, r := range l.programs {
		fds = append(fds, unix.PollFd{Fd: int32(r.fd), Events: unix.POLLIN})
	}
	var pending []turn // that are only becoming what they are
	since, n := time.Now(), 0
	for {
		if n := len(pending); n > 0 {
			nap(moment << min(pending[n-1].tries/3, 5))
		} else if _, err := unix.Poll(fds, -1); err != nil && err != unix.EINTR {
			return
		}
		if fds[0].Revents != 0 {
			return
		}
		turns, whole := drain(l.programs)
		pending = append(pending, turns...)
		var told []turn
		told, pending = l.readWords(pending)
		l.mu.Lock()
		l.told = append(l.told, told...)
		l.lost = l.lost || !whole
		l.mu.Unlock()
		if n += 1 + len(told) + len(pending); n > most {
			time.Sleep(beat - time.Since(since))
		}
		if time.Since(since) >= beat {
			since, n = time.Now(), 0
		}
	}
}

// moment is how long the words of a process are waited for at first. A script
// that does nothing but become another program is there for five times as long.
const moment = 100 * time.Microsecond

// readWords reads the words of what has become another program: told are those
// whose words are there, or will not be.
func (l *lineage) readWords(pending []turn) (told, later []turn) {
	const tries, most = 40, 20 // a tenth of a second; processes at once
	for i, t := range pending {
		again := slices.ContainsFunc(pending[i+1:], func(u turn) bool { return u.pid == t.pid })
		if !again && i < most { // else it is another one by now, or somebody floods
			words, whole := wordsAtOnce(l.root, t.pid)
			t.words = words
			if t.tries++; !whole && len(words) > 0 && t.tries < tries {
				later = append(later, t)
				continue
			}
		}
		told = append(told, t)
	}
	return told, later
}

// wordsAtOnce reads what [Processes.words] does, by calls that do not tell Go's
// scheduler. That would give the processor to a thread that is not ahead of
// others, and take it back from that one. False while the process is only
// becoming what it is.
func wordsAtOnce(root string, pid int) (all []string, whole bool) {
	var room [1024]byte
	folder := root + "/" + strconv.Itoa(pid)
	at := unix.AT_FDCWD
	if name, err := unix.BytePtrFromString(folder + "/exe"); err == nil {
		n, _, errno := unix.RawSyscall6(unix.SYS_READLINKAT, uintptr(at),
			uintptr(unsafe.Pointer(name)), uintptr(unsafe.Pointer(&room[0])), uintptr(len(room)),
			0, 0)
		if errno == 0 {
			all = append(all, programOf(string(room[:n])))
		}
	}
	name, err := unix.BytePtrFromString(folder + "/cmdline")
	if err != nil {
		return nil, false
	}
	fd, _, errno := unix.RawSyscall6(unix.SYS_OPENAT, uintptr(at), uintptr(unsafe.Pointer(name)),
		unix.O_RDONLY|unix.O_CLOEXEC, 0, 0, 0)
	if errno != 0 {
		return all, false
	}
	n, _, errno := unix.RawSyscall6(unix.SYS_PREAD64, fd, uintptr(unsafe.Pointer(&room[0])),
		uintptr(len(room)), 0, 0, 0)
	_, _, _ = unix.RawSyscall(unix.SYS_CLOSE, fd, 0, 0)
	if errno != 0 || n == 0 {
		return all, false
	}
	return append(all, firstWords(room[:n])...), true
}

// nap waits for a moment, as wordsAtOnce reads.
func nap(d time.Duration) {
	pause := unix.NsecToTimespec(int64(d))
	_, _, _ = unix.RawSyscall(unix.SYS_NANOSLEEP, uintptr(unsafe.Pointer(&pause)), 0, 0)
}

// processors are the numbers of those that are at work.
func processors() (all []int) {
	text, err := os.ReadFile("/sys/devices/system/cpu/online")
	if err != nil {
		return nil
	}
	for part := range strings.SplitSeq(strings.TrimSpace(string(text)), ",") {
		first, last, ranged := strings.Cut(part, "-")
		if !ranged {
			last = first
		}
		from, err1 := strconv.Atoi(first)
		to, err2 := strconv.Atoi(last)
		if err1 != nil || err2 != nil {
			return nil
		}
		for n := from; n <= to && len(all) <= maxProcessors; n++ {
			all = append(all, n)
		}
	}
	return all
}

// openRing opens what one processor tells of a group. wake is after how many
// bytes of records whoever waits is woken; 0 for hardly ever.
func openRing(group, cpu int, what uint64, wake uint32) (*ring, error) {
	attr := unix.PerfEventAttr{
		Type:        unix.PERF_TYPE_SOFTWARE,
		Size:        uint32(unsafe.Sizeof(unix.PerfEventAttr{})),
		Config:      unix.PERF_COUNT_SW_DUMMY,
		Sample_type: unix.PERF_SAMPLE_TIME,
		Bits: what | unix.PerfBitSampleIDAll | unix.PerfBitUseClockID |
			unix.PerfBitWatermark,
		Wakeup:  wake,
		Clockid: unix.CLOCK_MONOTONIC,
	}
	fd, err := unix.PerfEventOpen(&attr, group, cpu, -1,
		unix.PERF_FLAG_PID_CGROUP|unix.PERF_FLAG_FD_CLOEXEC)
	if err != nil {
		return nil, err
	}
	page := os.Getpagesize()
	mapped, err := unix.Mmap(fd, 0, (1+ringPages)*page, unix.PROT_READ|unix.PROT_WRITE,
		unix.MAP_SHARED)
	if err != nil {
		unix.Close(fd)
		return nil, err
	}
	about := (*unix.PerfEventMmapPage)(unsafe.Pointer(&mapped[0]))
	return &ring{
		fd:     fd,
		mapped: mapped,
		head:   &about.Data_head,
		tail:   &about.Data_tail,
		data:   mapped[page:],
	}, nil
}

// read returns what was told since it was last asked, in its order. whole is
// false where the kernel had no room for some of it.
func (l *lineage) read() (all []turn, whole bool) {
	if l == nil {
		return nil, true
	}
	l.mu.Lock()
	told, lost := l.told, l.lost
	l.told, l.lost = nil, false
	l.mu.Unlock()
	// what processes became is read first: that they were made came before
	lives, whole := drain(l.lives)
	all = append(told, lives...)
	slices.SortStableFunc(all, func(a, b turn) int { return cmp.Compare(a.at, b.at) })
	return all, whole && !lost
}

// drain takes all records out of rings; false where some were lost.
func drain(rings []*ring) (all []turn, whole bool) {
	var room [maxRecord]byte
	whole = true
	for _, r := range rings {
		head, tail := atomic.LoadUint64(r.head), *r.tail
		for tail < head {
			size := uint64(binary.NativeEndian.Uint16(r.at(room[:8], tail)[6:]))
			if size < 8 || size > head-tail {
				whole, tail = false, head // no form that is known
				break
			}
			record := r.at(room[:min(size, maxRecord)], tail)
			tail += size
			if t, ok := turnOf(record); ok {
				all = append(all, t)
			} else if binary.NativeEndian.Uint32(record) == unix.PERF_RECORD_LOST {
				whole = false
			}
		}
		atomic.StoreUint64(r.tail, tail)
	}
	return all, whole
}

// at copies what stands at a place of the ring.
func (r *ring) at(room []byte, place uint64) []byte {
	i := int(place % uint64(len(r.data)))
	n := copy(room, r.data[i:])
	copy(room[n:], r.data)
	return room
}

// turnOf reads one record, of the forms PERF_RECORD_COMM, FORK and EXIT of
// perf_event_open(2); false for others, and for those of mere threads.
func turnOf(record []byte) (turn, bool) {
	const thread, named = 8, 16 // where the thread's number and the name begin
	kind := binary.NativeEndian.Uint32(record)
	misc := binary.NativeEndian.Uint16(record[4:])
	if len(record) < 32 {
		return turn{}, false
	}
	word := func(at int) int { return int(int32(binary.NativeEndian.Uint32(record[at:]))) }
	t := turn{pid: word(8)}
	switch kind {
	case unix.PERF_RECORD_FORK:
		t.kind, t.parent = born, word(12)
		t.at = time.Duration(binary.NativeEndian.Uint64(record[24:]))
		return t, t.pid != t.parent && t.pid > 0
	case unix.PERF_RECORD_EXIT:
		t.kind = ended
		t.at = time.Duration(binary.NativeEndian.Uint64(record[24:]))
		return t, word(8+thread) == t.pid && t.pid > 0
	case unix.PERF_RECORD_COMM:
		t.kind = became
		t.at = time.Duration(binary.NativeEndian.Uint64(record[len(record)-8:]))
		t.name, _, _ = strings.Cut(string(record[named:len(record)-8]), "\x00")
		return t, misc&unix.PERF_RECORD_MISC_COMM_EXEC != 0 && t.pid > 0
	}
	return turn{}, false
}
