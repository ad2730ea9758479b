// Package activity reads what the units and the processes of the running machine use of its processors, disks and memory, from the
// control groups (cgroups(7)) and proc(5).
//
// It is made to be asked many times a second at little cost: files are kept open, and what is idle is asked less often. The
// kernel's own files are read directly, not through the confined root: they are no files of a disk.
package activity

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// Folder is where the unified control groups are mounted.
const Folder = "/sys/fs/cgroup"

const (
	maxGroups = 3000
	maxDepth  = 10
	// maxPoints bounds a time course; a longer one is thinned.
	maxPoints = 600
)

// A Group is the control group of one unit.
type Group struct {
	Native string
	UID    string // of the user whose service manager made it; empty for the machine's
	Path   string // below Folder
	Course []boot.Use
	Memory int64 // the most that was seen, bytes; 0 where not known
	Gone   bool

	stat      *os.File
	io        *os.File
	memory    *os.File
	idle      int // looks at it that found nothing new
	next      int // the tick at which it is looked at again
	cpu       time.Duration
	read      int64
	knowsRead bool
}

// Groups follows the control groups of the running machine.
type Groups struct {
	root   string
	all    map[string]*Group // by path
	slices map[string]bool   // by path
	tops   []*Group          // the machine's first level, which together are all its processes
	tick   int
	buf    [4096]byte
}

// Follow begins to follow the control groups below a folder; an error says that this machine has none of the unified kind.
func Follow(root string) (*Groups, error) {
	if _, err := os.Stat(filepath.Join(root, "cgroup.controllers")); err != nil {
		return nil, errors.New("the machine has no unified control groups")
	}
	return &Groups{root: root, all: map[string]*Group{}, slices: map[string]bool{}}, nil
}

// Close lets go of all files.
func (g *Groups) Close() {
	for _, group := range g.all {
		group.close()
	}
	for _, top := range g.tops {
		top.close()
	}
}

func (g *Group) close() {
	for _, f := range []**os.File{&g.stat, &g.io, &g.memory} {
		if *f != nil {
			(*f).Close()
			*f = nil
		}
	}
}

// All lists the groups seen so far, gone ones too.
func (g *Groups) All() []*Group {
	var all []*Group
	for _, group := range g.all {
		all = append(all, group)
	}
	return all
}

// UnitOf returns the group that a process in the group of the given path belongs to: itself or one above it.
func (g *Groups) UnitOf(path string) (*Group, bool) {
	for path != "" && path != "/" && path != "." {
		if group, ok := g.all[path]; ok {
			return group, true
		}
		path = filepath.Dir(path)
	}
	return nil, false
}

// Discover looks for groups that are new.
func (g *Groups) Discover() {
	g.look("", "", 0)
}

func (g *Groups) look(dir, uid string, depth int) {
	entries, err := os.ReadDir(filepath.Join(g.root, dir))
	if err != nil {
		return
	}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		p := dir + "/" + e.Name()
		if depth == 0 && !g.slices["top"+p] {
			g.slices["top"+p] = true
			g.tops = append(g.tops, g.open(p, "", ""))
		}
		switch ext := filepath.Ext(e.Name()); {
		case ext == ".slice" && depth < maxDepth:
			g.look(p, uid, depth+1)
		case ext == ".service" || ext == ".scope" || ext == ".mount" || ext == ".socket" || ext == ".swap":
			owner, isManager := strings.CutPrefix(strings.TrimSuffix(e.Name(), ext), "user@")
			if isManager && ext == ".service" {
				if depth < maxDepth {
					g.look(p, owner, depth+1)
				}
				continue
			}
			if have, known := g.all[p]; (!known || have.Gone) && len(g.all) < maxGroups {
				group := g.open(p, e.Name(), uid)
				if known { // it was stopped and started again: it goes on from where it was
					have.Gone, have.stat, have.io, have.memory = group.stat == nil, group.stat, group.io, group.memory
					continue
				}
				g.all[p] = group
			}
		}
	}
}

func (g *Groups) open(p, native, uid string) *Group {
	group := &Group{Native: native, UID: uid, Path: p}
	open := func(name string) *os.File {
		f, err := os.Open(filepath.Join(g.root, p, name))
		if err != nil {
			return nil
		}
		return f
	}
	group.stat = open("cpu.stat")
	if native != "" {
		group.io, group.memory = open("io.stat"), open("memory.current")
	}
	group.Gone = group.stat == nil
	return group
}

// Sample asks the groups that are due, at the given moment of the boot. A group that did nothing is asked half as often each time,
// down to every eighth call.
func (g *Groups) Sample(at time.Duration) {
	g.tick++
	for _, group := range g.all {
		if group.Gone || g.tick < group.next {
			continue
		}
		before := group.cpu
		if !g.cpu(group) {
			group.Gone = true
			group.close()
			continue
		}
		if group.cpu == before && len(group.Course) > 0 {
			group.idle = min(group.idle+1, 3)
		} else {
			group.idle = 0
			group.add(at)
		}
		group.next = g.tick + 1<<group.idle
	}
}

// SampleDisks asks all groups what they read, and hold in memory, where the machine accounts for it by group.
func (g *Groups) SampleDisks(at time.Duration) {
	for _, group := range g.all {
		if group.Gone {
			continue
		}
		if group.io != nil {
			if n, ok := g.readBytes(group.io); ok {
				group.knowsRead = true
				if n != group.read {
					group.read = n
					group.add(at)
				}
			}
		}
		if group.memory != nil {
			if n, err := group.memory.ReadAt(g.buf[:], 0); n > 0 && (err == nil || n < len(g.buf)) {
				held, _ := strconv.ParseInt(string(bytes.TrimSpace(g.buf[:n])), 10, 64)
				group.Memory = max(group.Memory, held)
			}
		}
	}
}

// Read is what a group read from disks, where the machine accounts for it by group.
func (g *Group) Read() (int64, bool) { return g.read, g.knowsRead }

// CPU is what a group had used of the processors when it was last asked.
func (g *Group) CPU() time.Duration { return g.cpu }

// NoteRead says what a group's processes read, where the machine does not account for it by group.
func (g *Group) NoteRead(at time.Duration, n int64) {
	if g.knowsRead || n <= g.read {
		return
	}
	g.read = n
	g.add(at)
}

// add notes the present use. What was idle before gets a point at the end of that stretch.
func (g *Group) add(at time.Duration) {
	g.Course = appendUse(g.Course, boot.Use{At: at, CPU: g.cpu, Read: g.read})
}

// appendUse adds a point to a course, and thins a course that has become too long: every second point of its older half goes.
func appendUse(course []boot.Use, u boot.Use) []boot.Use {
	if n := len(course); n > 0 && course[n-1].At == u.At {
		course[n-1] = u
		return course
	}
	if len(course) < maxPoints {
		return append(course, u)
	}
	kept := course[:0]
	for i, old := range course {
		if i == 0 || i >= maxPoints/2 || i%2 == 0 {
			kept = append(kept, old)
		}
	}
	return append(kept, u)
}

// cpu reads a group's use of the processors; false when the group is gone.
func (g *Groups) cpu(group *Group) bool {
	if group.stat == nil {
		return false
	}
	n, err := group.stat.ReadAt(g.buf[:], 0)
	if n == 0 && err != nil {
		return false
	}
	const key = "usage_usec "
	text := g.buf[:n]
	if !bytes.HasPrefix(text, []byte(key)) {
		return false
	}
	usec := int64(0)
	for _, c := range text[len(key):] {
		if c < '0' || c > '9' {
			break
		}
		usec = usec*10 + int64(c-'0')
	}
	group.cpu = max(group.cpu, time.Duration(usec)*time.Microsecond)
	return true
}

// readBytes sums what io.stat tells of all devices.
func (g *Groups) readBytes(f *os.File) (int64, bool) {
	n, err := f.ReadAt(g.buf[:], 0)
	if n == 0 && err != nil && errors.Is(err, fs.ErrClosed) {
		return 0, false
	}
	sum := int64(0)
	for word := range bytes.FieldsSeq(g.buf[:n]) {
		if digits, ok := bytes.CutPrefix(word, []byte("rbytes=")); ok {
			read, _ := strconv.ParseInt(string(digits), 10, 64)
			sum += read
		}
	}
	return sum, true
}

// Total is what all processes in groups have used of the processors.
func (g *Groups) Total() time.Duration {
	sum := time.Duration(0)
	for _, top := range g.tops {
		if !top.Gone && !g.cpu(top) {
			top.Gone = true
			top.close()
		}
		sum += top.cpu
	}
	return sum
}
