package activity

import (
	"slices"
	"strings"
	"time"
)

// A turn is what the kernel tells of a process: that it was made by another,
// that it has become another program, or that it has ended.
type turn struct {
	kind        turnKind
	pid, parent int           // parent only of one that was made
	at          time.Duration // on the kernel's monotonic clock
	name        string        // the kernel's name of the program that it became
}

type turnKind int

const (
	born turnKind = iota
	became
	ended
)

// UserSlice is the control group of all that people do, systemd.special(7).
const UserSlice = "/user.slice"

// Hear takes note of what the kernel has told since it was last asked. True
// asks for another call in a moment: the words of a program that is only
// beginning are not there yet.
func (p *Processes) Hear() (again bool) {
	if p.lineage == nil {
		return false
	}
	turns, whole := p.lineage.read()
	p.missed = p.missed || !whole
	for _, t := range turns {
		switch process := p.all[t.pid]; t.kind {
		case born:
			p.born(t)
		case became:
			if process == nil {
				process = p.meet(t.pid, t.at)
			}
			if process != nil && p.session(process.Group) {
				p.became(process, t)
			}
		case ended:
			if process != nil && process.exited == 0 {
				process.exited = t.at
				p.fresh[t.pid] = process
			}
		}
	}
	for _, process := range p.fresh {
		if process.wordless && process.exited == 0 {
			p.learn(process)
			again = again || process.wordless
		}
	}
	return again
}

// born begins to follow a process of a session from its begin. Its files are
// opened at the next look, if it is still there.
func (p *Processes) born(t turn) {
	from := p.all[t.parent]
	if from == nil {
		from = p.meet(t.parent, t.at)
	} else if !strings.HasPrefix(from.Group, UserSlice+"/") {
		p.place(from) // it has been put into its session since
	}
	if from == nil || !p.session(from.Group) {
		return
	}
	if old := p.all[t.pid]; old != nil { // that one is gone, and nobody told
		delete(p.all, t.pid)
		delete(p.fresh, t.pid)
		p.end(p.all[old.Parent], []*Process{old}, t.at)
	}
	if len(p.all) >= maxProcesses {
		p.missed = true
		return
	}
	process := &Process{
		PID:    t.pid,
		Parent: t.parent,
		From:   from,
		Name:   from.Name,
		Group:  from.Group,
		Made:   t.at,
		met:    t.at,
		looked: t.at,
	}
	p.all[t.pid], p.fresh[t.pid] = process, process
	if len(p.groups) < maxSeen {
		p.groups[t.pid] = process.Group
	}
}

// became notes which program a process runs now.
func (p *Processes) became(process *Process, t turn) {
	process.Name, process.met = t.name, t.at
	if len(process.Names) < maxNames {
		process.Names = slices.Insert(process.Names, 0, t.name)
	}
	p.fresh[process.PID] = process
	p.learn(process)
}
