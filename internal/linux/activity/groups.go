// Package activity reads what the units and the processes of the running
// machine use of its processors, disks and memory. It reads the control groups
// (cgroups(7)), and proc(5).
//
// It is made to be asked many times a second at little cost: files are kept
// open, and what is idle is asked less often. The kernel's own files are read
// directly, not through the confined root: they are no files of a disk.
package activity

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// Folder is where the unified control groups are mounted.
const Folder = "/sys/fs/cgroup"

const (
	// Bounds for the machine, and for each user: nobody's fill another's.
	maxGroups, maxOfUser = 3000, 600
	maxDepth             = 10
	// maxPoints bounds a time course; a longer one is thinned.
	maxPoints = 600
	// soonest is how soon after a look a group that does something is due
	// again. That is the callers' beat less what a timer may be early by.
	soonest = 50 * time.Millisecond
	latest  = 750 * time.Millisecond
)

// A Group is the control group of one unit.
type Group struct {
	Native string
	UID    string // of the user whose service manager made it; empty for the machine's
	Path   string // below Folder
	Course []boot.Use
	Memory int64 // the most that was seen, bytes; 0 where not known
	Gone   bool

	stat      Counter
	io        Counter
	memory    Counter
	rest      time.Duration // how long it is left alone after a look
	due       time.Duration // when it is looked at again
	cpu       time.Duration
	before    boot.Use      // what it had used before it was made anew
	looked    time.Duration // what it had used when its disks and its processes were last looked at
	read      int64
	knowsRead bool
}

// Groups follows the control groups of the running machine.
type Groups struct {
	root   string
	all    map[string]*Group // by path
	tops   map[string]*Group // the machine's first level, which together are all its processes
	of     map[string]int    // how many of all each user has; of the machine, under ""
	watch  *watch            // nil where there is none
	listed bool
	missed bool
	// Closely chooses groups by their paths that are never left alone for
	// longer, however still they are. It may be nil.
	Closely func(path string) bool
	buf     [4096]byte
}

// Follow begins to follow the control groups below a folder; an error says that
// this machine has none of the unified kind.
func Follow(root string) (*Groups, error) {
	if _, err := os.Stat(filepath.Join(root, "cgroup.controllers")); err != nil {
		return nil, errors.New("the machine has no unified control groups")
	}
	return &Groups{
		root:  root,
		all:   map[string]*Group{},
		tops:  map[string]*Group{},
		of:    map[string]int{},
		watch: newWatch(),
	}, nil
}

// Close lets go of all files.
func (g *Groups) Close() {
	g.watch.close()
	for _, group := range g.all {
		group.close()
	}
	for _, top := range g.tops {
		top.close()
	}
}

func (g *Group) close() {
	g.stat.Close()
	g.io.Close()
	g.memory.Close()
}

// All lists the groups seen so far, gone ones too.
func (g *Groups) All() []*Group {
	var all []*Group
	for _, group := range g.all {
		all = append(all, group)
	}
	return all
}

// Has reports whether there is a group of the machine's first level.
func (g *Groups) Has(path string) bool {
	top, ok := g.tops[path]
	return ok && !top.Gone
}

// Busy lists the files in which those groups that worked until the given look
// list their processes, of those that Closely chooses.
func (g *Groups) Busy(at time.Duration) (files []string) {
	for _, group := range g.all {
		n := len(group.Course)
		if n > 0 && group.Course[n-1].At == at && !group.Gone && g.Closely(group.Path) {
			files = append(files, g.root+group.Path+"/cgroup.procs")
		}
	}
	return files
}

// Folder is where a group stands.
func (g *Groups) Folder(path string) string { return g.root + path }

// UnitOf returns the group that a process in the group of the given path
// belongs to: itself or one above it.
func (g *Groups) UnitOf(path string) (*Group, bool) {
	for path != "" && path != "/" && path != "." {
		if group, ok := g.all[path]; ok {
			return group, true
		}
		path = filepath.Dir(path)
	}
	return nil, false
}

// Discover looks for groups that are new. Where the kernel tells of them, the
// folders are listed only once. To list them all, several times a second, would
// cost more than all else that is done here.
func (g *Groups) Discover() {
	if g.listed && g.watch.made(g.anew) {
		return
	}
	g.listed = true
	g.look("")
}

// anew meets a group of which the kernel told. A known one of that path may be
// another that is gone.
func (g *Groups) anew(dir, name string) {
	for _, of := range []map[string]*Group{g.all, g.tops} {
		if group, known := of[dir+"/"+name]; known && !g.cpu(group) {
			group.leave()
		}
	}
	g.meet(dir, name)
}

// look lists what is in a folder. It is watched first, so that nothing is
// missed between the two.
func (g *Groups) look(dir string) {
	folder := filepath.Join(g.root, dir)
	g.watch.add(folder, dir)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	for _, e := range entries {
		if e.IsDir() {
			g.meet(dir, e.Name())
		}
	}
}

// meet takes note of a group in a folder, which may be known.
func (g *Groups) meet(dir, name string) {
	p := dir + "/" + name
	depth := strings.Count(p, "/")
	if depth == 1 {
		g.follow(g.tops, p, "", "")
	}
	uid, _ := managerOf(dir)
	switch ext := filepath.Ext(name); ext {
	case ".slice":
		if depth <= maxDepth {
			g.look(p)
		}
	case ".service", ".scope", ".mount", ".socket", ".swap":
		// the service manager of a user, which has groups of its own
		if _, ok := managerOf(p); ok && depth == managerDepth {
			if depth <= maxDepth {
				g.look(p)
			}
			return
		}
		g.follow(g.all, p, name, uid)
	}
}

// The groups of a user's logins and of their service manager have fixed places.
// What stands elsewhere under such a name, a user may have made.
const managerDepth = 3

// SessionOf returns the number of the user in whose login session a control
// group is; false for any other group. It is asked of every process at every
// look, and allocates nothing.
func SessionOf(group string) (uid string, ok bool) {
	rest, _ := strings.CutPrefix(group, UserSlice+"/user-")
	uid, session, found := strings.Cut(rest, ".slice/session-")
	if !found || len(rest) == len(group) || !strings.HasSuffix(session, ".scope") ||
		strings.Contains(session, "/") || !isNumber(uid) {
		return "", false
	}
	return uid, true
}

// managerOf returns the number of the user whose service manager a control
// group belongs to, itself or below; false for any other group. Whatever the
// names below, all of it is that user's.
func managerOf(group string) (uid string, ok bool) {
	parts := strings.SplitN(group, "/", managerDepth+2)
	if len(parts) <= managerDepth || parts[1] != UserSlice[1:] {
		return "", false
	}
	uid, ok = userOf(parts[2])
	return uid, ok && parts[3] == "user@"+uid+".service"
}

// userOf reads the number out of the name of a user's slice.
func userOf(slice string) (uid string, ok bool) {
	digits, ok := strings.CutPrefix(slice, "user-")
	digits, end := strings.CutSuffix(digits, ".slice")
	return digits, ok && end && isNumber(digits)
}

func isNumber(digits string) bool {
	for _, c := range []byte(digits) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return digits != ""
}

// whose is the number of the user in whose slice a group is; empty for the
// machine's.
func whose(group string) string {
	rest, _ := strings.CutPrefix(group, UserSlice+"/")
	if len(rest) == len(group) {
		return ""
	}
	slice, _, _ := strings.Cut(rest, "/")
	uid, _ := userOf(slice)
	return uid
}

// full reports whether a user has as many as are kept of one, or the machine,
// under "", as many as are kept of that.
func full(of map[string]int, uid string, most, mostOfUser int) bool {
	const users = 30 // of more of them nothing is followed
	if uid == "" {
		return of[uid] >= most
	}
	_, known := of[uid]
	return of[uid] >= mostOfUser || !known && len(of) > users
}

// Missed reports whether there were more groups than are followed.
func (g *Groups) Missed() bool { return g.missed }

// follow keeps the files of a group open. One that was stopped and has started
// again goes on from where it was.
func (g *Groups) follow(of map[string]*Group, p, native, uid string) {
	group, known := of[p]
	if known && !group.Gone {
		return
	}
	if !known {
		if owner := whose(p); full(g.of, owner, maxGroups, maxOfUser) {
			g.missed = true
			return
		} else if native != "" {
			g.of[owner]++
		}
		group = &Group{Native: native, UID: uid, Path: p}
		of[p] = group
	}
	open := func(name string) Counter { return OpenCounter(g.root + p + "/" + name) }
	group.stat, group.before = open("cpu.stat"), boot.Use{CPU: group.cpu, Read: group.read}
	group.looked, group.due = -1, 0
	if native != "" {
		group.io, group.memory = open("io.stat"), open("memory.current")
	}
	group.Gone = !group.stat.Is()
}

// leave lets go of a group that is gone.
func (g *Group) leave() {
	g.Gone = true
	g.close()
}

// Sample asks the groups that are due, at the given moment of the boot. A group
// that did nothing is asked half as often each time, but once a second at
// least. What is still by then is not searched for what its processes became.
func (g *Groups) Sample(at time.Duration) {
	for _, group := range g.all {
		if group.Gone || at < group.due {
			continue
		}
		if !g.cpu(group) {
			group.leave()
			continue
		}
		if n := len(group.Course); n > 0 && group.cpu == group.Course[n-1].CPU {
			if g.Closely == nil || !g.Closely(group.Path) {
				group.rest = min(2*group.rest, latest)
			}
		} else {
			group.rest = soonest
			group.add(at)
		}
		group.due = at + group.rest
	}
}

// Still reports whether the group that a process belongs to has done nothing
// since SampleDisks was last called.
func (g *Groups) Still(path string) bool {
	group, ok := g.UnitOf(path)
	return ok && !group.Gone && group.cpu == group.looked
}

// SampleDisks asks the groups that did something what they read, and hold in
// memory, where the machine accounts for it by group.
func (g *Groups) SampleDisks(at time.Duration) {
	for _, group := range g.all {
		if group.Gone || group.cpu == group.looked {
			continue
		}
		group.looked = group.cpu
		if text := group.io.Read(g.buf[:]); len(text) > 0 {
			group.knowsRead = true
			if n := group.before.Read + readBytes(text); n != group.read {
				group.read = n
				group.add(at)
			}
		}
		if text := group.memory.Read(g.buf[:]); len(text) > 0 {
			group.Memory = max(group.Memory, int64(number(text)))
		}
	}
}

// Read is what a group read from disks, where the machine accounts for it by
// group.
func (g *Group) Read() (int64, bool) { return g.read, g.knowsRead }

// CPU is what a group had used of the processors when it was last asked.
func (g *Group) CPU() time.Duration { return g.cpu }

// NoteRead says what a group's processes read, where the machine does not
// account for it by group.
func (g *Group) NoteRead(at time.Duration, n int64) {
	if g.knowsRead || n <= g.read {
		return
	}
	g.read = n
	g.add(at)
}

// add notes the present use. What was idle before gets a point at the end of
// that stretch.
func (g *Group) add(at time.Duration) {
	g.Course = appendUse(g.Course, boot.Use{At: at, CPU: g.cpu, Read: g.read})
}

// appendUse adds a point to a course, and thins a course that has become too
// long: every second point of its older half goes.
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
	digits, ok := bytes.CutPrefix(group.stat.Read(g.buf[:]), []byte("usage_usec "))
	if ok {
		group.cpu = max(group.cpu, group.before.CPU+time.Duration(number(digits))*time.Microsecond)
	}
	return ok
}

// readBytes sums what io.stat tells of all devices.
func readBytes(text []byte) (sum int64) {
	for word := range bytes.FieldsSeq(text) {
		if digits, ok := bytes.CutPrefix(word, []byte("rbytes=")); ok {
			sum += int64(number(digits))
		}
	}
	return sum
}

// Total is what all processes in groups have used of the processors.
func (g *Groups) Total() time.Duration {
	sum := time.Duration(0)
	for _, top := range g.tops {
		if !top.Gone && !g.cpu(top) {
			top.leave()
		}
		sum += top.cpu
	}
	return sum
}
