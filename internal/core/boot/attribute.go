package boot

import (
	"path"
	"slices"
	"time"
)

// A Line is how an item launches a program of a login.
type Line struct {
	Program string   // its path
	Args    []string `json:",omitempty"` // the words behind it
	// Others are the words with which other items launch the same program: whose
	// a process is that runs it, they decide.
	Others [][]string `json:",omitempty"`
}

// Launched returns the processes that a program started with, by their indices
// in the boot's list: those that run it, as their program or as the script that
// they were given, or did so before they became another program, and all their
// descendants. owner is whose login it is; empty for any.
func (b Boot) Launched(l Line, owner string) []int {
	if l.Program == "" {
		return nil
	}
	in := make([]bool, len(b.Programs))
	var all []int
	for i, p := range b.Programs { // parents stand before their children
		own := (owner == "" || p.Owner == owner) && p.runs(l)
		if own || p.Parent >= 0 && p.Parent < i && in[p.Parent] {
			in[i] = true
			all = append(all, i)
		}
	}
	return all
}

// runs reports whether a process is, or was, what a line launches.
func (p Program) runs(l Line) bool {
	i := slices.Index(p.Words, l.Program)
	if i < 0 {
		return p.wasNamed(l.Program)
	}
	own := likeness(l.Args, p.Words[i+1:])
	for _, other := range l.Others {
		if likeness(other, p.Words[i+1:]).beats(own) {
			return false
		}
	}
	return true
}

// wasNamed reports whether a process became a program of which only the kernel's
// name is on record: it was another one before its words were read, or it was
// called by its bare name, and the file stands elsewhere.
func (p Program) wasNamed(program string) bool {
	const most = 15 // bytes of the kernel's name
	base := path.Base(program)
	short := func(word string) string { return word[:min(len(word), most)] }
	if !slices.Contains(p.Names, short(base)) {
		return false
	}
	return slices.Contains(p.Words, base) || !slices.ContainsFunc(p.Words, func(w string) bool {
		return short(path.Base(w)) == short(base)
	})
}

// A match is how well the words behind a program fit those of a line.
type match struct{ alike, lacking int }

// likeness compares the words of a line with those that a process has behind
// its program.
func likeness(args, words []string) match {
	n := 0
	for n < min(len(args), len(words)) && args[n] == words[n] {
		n++
	}
	return match{n, len(args) - n}
}

func (m match) beats(other match) bool {
	return m.alike > other.alike || m.alike == other.alike && m.lacking < other.lacking
}

// Asker returns the item, or the program of a login by its index in the boot's
// list, that asked for something to be started; false where nobody recorded to
// what its process belongs. The index is -1 for an item.
func (b Boot) Asker(a Ask) (item Key, program int, ok bool) {
	if a.PID == 0 {
		return Key{}, -1, false
	}
	for i, p := range b.Programs {
		if p.PID == a.PID && p.Began <= a.At {
			return Key{}, i, true
		}
	}
	for _, s := range b.Spans {
		if slices.Contains(s.PIDs, a.PID) && !s.Is(Manager) {
			return s.Key(), -1, true
		}
	}
	return Key{}, -1, false
}

// A ProgramUse is what a program of a login used, with its descendants.
type ProgramUse struct {
	CPU   time.Duration
	Read  int64 // bytes
	Began time.Duration
	// Memory is the sum of the most that each of them held, bytes: more than
	// they held at once. 0 in older records.
	Memory int64
	Ran    bool
}

// ProgramUse is what a program of a login used; of everybody's where owner is
// empty.
func (b Boot) ProgramUse(program, owner string) ProgramUse {
	return b.LineUse(Line{Program: program}, owner)
}

// LineUse is what the program of one launch line used, as [Boot.ProgramUse] is.
func (b Boot) LineUse(l Line, owner string) (use ProgramUse) {
	for _, i := range b.Launched(l, owner) {
		p := b.Programs[i]
		if !use.Ran {
			use.Began = p.Began
		}
		use.CPU += p.CPU
		use.Read += p.Read
		use.Memory += p.Memory
		use.Ran = true
	}
	return use
}
