package activity

import (
	"slices"
	"strings"
	"time"
)

// A turn is what the kernel tells of a process. It tells that it was made by
// another, that it has become another program, or that it has ended.
type turn struct {
	kind        turnKind
	pid, parent int           // parent only of one that was made
	at          time.Duration // on the kernel's monotonic clock
	// Of one that became another program: the kernel's name of that, and its
	// words; none where it was something else before they were read.
	name  string
	words []string
	tries int // how often they were asked for
}

type turnKind int

const (
	born turnKind = iota
	became
	ended
)

// UserSlice is the control group of all that people do, systemd.special(7).
const UserSlice = "/user.slice"

// hear takes note of what the kernel has told since it was last asked.
func (p *Processes) hear() {
	turns, whole := p.lineage.read()
	p.missed = p.missed || !whole
	p.take(turns)
}

// take takes note of what the kernel told, in the order in which it came about.
func (p *Processes) take(turns []turn) {
	for _, t := range turns {
		process := p.all[t.pid]
		if process == nil {
			process = p.lately[t.pid]
		}
		switch {
		case t.kind == born:
			p.born(t)
		case t.kind == became:
			if process == nil {
				process = p.meet(t.pid, t.at)
			}
			if process != nil && p.session(process.Group) {
				p.became(process, t)
			}
		case process != nil && process.exited == 0: // it ended
			process.exited = t.at
			if !process.Gone {
				p.freshen(process)
			}
		}
	}
}

// born begins to follow a process of a session from its begin. Its files are
// opened at the next look, if it is still there.
func (p *Processes) born(t turn) {
	from := p.all[t.parent]
	if from == nil {
		from = p.lately[t.parent]
	}
	if from == nil {
		from = p.meet(t.parent, t.at)
	} else if !from.Gone && !strings.HasPrefix(from.Group, UserSlice+"/") {
		p.place(from) // it has been put into its session since
	}
	if from == nil || !p.session(from.Group) {
		return
	}
	if old := p.all[t.pid]; old != nil { // that one is gone, and nobody told
		p.drop(old)
		p.end(p.all[old.Parent], []*Process{old}, t.at)
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
	if !p.add(process) {
		return
	}
	p.freshen(process)
	if len(p.groups) < maxSeen {
		p.groups[t.pid] = process.Group
	}
}

// became notes which program a process runs now, or ran before it ended.
func (p *Processes) became(process *Process, t turn) {
	if process.Gone && process.unmet() {
		p.remember(process)
	}
	process.Name = t.name
	if len(process.Names) < maxNames {
		process.Names = slices.Insert(process.Names, 0, t.name)
	}
	process.learn(t.words)
	if !process.Gone {
		if process.stat.Is() {
			process.Foreign = p.foreign(process)
		}
		process.met = t.at
		p.freshen(process)
	}
}
