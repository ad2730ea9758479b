package activity

import (
	"encoding/binary"
	"os"
	"slices"
	"strconv"
	"strings"
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
type lineage struct {
	rings []*ring
	woken chan struct{}
	room  [maxRecord]byte
}

// A ring is what one processor tells.
type ring struct {
	file   *os.File
	mapped []byte
	head   *uint64
	tail   *uint64
	data   []byte
}

// openLineage begins to listen; nil where this machine tells nothing.
func openLineage(folder string) *lineage {
	group, err := unix.Open(folder, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(group)
	l := &lineage{woken: make(chan struct{}, 1)}
	for _, cpu := range processors() {
		programs, err := openRing(group, cpu, unix.PerfBitComm|unix.PerfBitCommExec, 1)
		if err != nil {
			l.close()
			return nil
		}
		l.rings = append(l.rings, programs)
		lives, err := openRing(group, cpu, unix.PerfBitTask, 0)
		if err != nil {
			l.close()
			return nil
		}
		l.rings = append(l.rings, lives)
		go programs.wait(l.woken)
	}
	return l
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
		for n := from; n <= to && len(all) < maxProcessors; n++ {
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
	_ = unix.SetNonblock(fd, true) // so that a goroutine waits for it, not a thread
	about := (*unix.PerfEventMmapPage)(unsafe.Pointer(&mapped[0]))
	return &ring{
		file:   os.NewFile(uintptr(fd), "perf event"),
		mapped: mapped,
		head:   &about.Data_head,
		tail:   &about.Data_tail,
		data:   mapped[page:],
	}, nil
}

// wait says in a channel that there are records, until the ring is closed.
func (r *ring) wait(woken chan<- struct{}) {
	conn, err := r.file.SyscallConn()
	if err != nil {
		return
	}
	_ = conn.Read(func(uintptr) bool {
		select {
		case woken <- struct{}{}:
		default:
		}
		return false
	})
}

func (l *lineage) close() {
	if l == nil {
		return
	}
	for _, r := range l.rings {
		_ = unix.Munmap(r.mapped)
		r.file.Close()
	}
}

// Woken receives when a process has become another program.
func (l *lineage) Woken() <-chan struct{} {
	if l == nil {
		return nil
	}
	return l.woken
}

// read returns what was told since it was last asked, in its order; whole is
// false where the kernel had no room for some of it.
func (l *lineage) read() (all []turn, whole bool) {
	whole = true
	if l == nil {
		return nil, whole
	}
	for _, r := range l.rings {
		head, tail := atomic.LoadUint64(r.head), *r.tail
		for tail < head {
			size := uint64(binary.NativeEndian.Uint16(r.at(l.room[:8], tail)[6:]))
			if size < 8 || size > head-tail {
				whole, tail = false, head // no form that is known
				break
			}
			record := r.at(l.room[:min(size, maxRecord)], tail)
			tail += size
			if t, ok := turnOf(record); ok {
				all = append(all, t)
			} else if binary.NativeEndian.Uint32(record) == unix.PERF_RECORD_LOST {
				whole = false
			}
		}
		atomic.StoreUint64(r.tail, tail)
	}
	slices.SortStableFunc(all, func(a, b turn) int { return int(a.at - b.at) })
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
