package boot

import (
	"cmp"
	"path"
	"slices"
	"time"
)

// A Line is how an item launches a program of a login.
type Line struct {
	Program string   // its path
	Args    []string `json:",omitempty"` // the words behind it
	// Others are the words with which other items launch the same program:
	// whose a process is that runs it, they decide.
	Others [][]string `json:",omitempty"`
}

// Launched returns the processes that a program started with, by their indices
// in the boot's list. Those run it, as their program or as the script that they
// were given, or did so before they became another program. All their
// descendants are among them. owner is whose login it is; empty for any.
func (b Boot) Launched(l Line, owner string) []int {
	if l.Program == "" {
		return nil
	}
	in := make([]bool, len(b.Programs))
	var all []int
	claim := b.claims(l, owner)
	for i, p := range b.Programs { // parents stand before their children
		if claim(p) || p.Parent >= 0 && p.Parent < i && in[p.Parent] {
			in[i] = true
			all = append(all, i)
		}
	}
	return all
}

// claims tells which processes are a line's own. Of one that was another
// program before its words were read, only the kernel's name tells. Where
// several items launch that program it counts for the one that is left. That
// holds if each of the others has a process whose words are known. Else it
// counts for none.
func (b Boot) claims(l Line, owner string) func(Program) bool {
	theirs := func(p Program) bool {
		return !p.Foreign && (owner == "" || p.Owner == owner)
	}
	found := func(args []string) bool {
		return slices.ContainsFunc(b.Programs, func(p Program) bool {
			i := slices.Index(p.Words, l.Program)
			return theirs(p) && i >= 0 && likeness(args, p.Words[i+1:]).lacking == 0
		})
	}
	left := len(l.Others) == 0 || !found(l.Args) && !slices.ContainsFunc(l.Others,
		func(args []string) bool { return !found(args) })
	return func(p Program) bool {
		i := slices.Index(p.Words, l.Program)
		if i < 0 || !theirs(p) {
			return left && theirs(p) && p.wasNamed(l.Program)
		}
		own := likeness(l.Args, p.Words[i+1:])
		return !slices.ContainsFunc(l.Others, func(other []string) bool {
			return likeness(other, p.Words[i+1:]).beats(own)
		})
	}
}

// wasNamed reports whether a process became a program of which only the
// kernel's name is on record. It was another one before its words were read, or
// it was called by its bare name, and the file stands elsewhere.
func (p Program) wasNamed(program string) bool {
	const most = 15 // bytes of the kernel's name
	base := path.Base(program)
	base = base[:min(len(base), most)]
	times := 0
	for _, name := range p.Names {
		if name == base {
			times++
		}
	}
	files := map[string]bool{} // that would have that name
	for _, word := range p.Words {
		if word == path.Base(program) {
			return times > 0
		}
		if b := path.Base(word); b[:min(len(b), most)] == base {
			files[word] = true
		}
	}
	return times > len(files)
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
// list, that asked for something to be started. It is false where nobody
// recorded to what its process belongs. The index is -1 for an item.
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

// An OwnedLine is a launch line, and whose login it is part of; of everybody's
// where Owner is empty.
type OwnedLine struct {
	Line
	Owner string
}

// A LoginUse is what logins used of the processors, by who is known to have.
type LoginUse struct {
	Items   time.Duration // programs that items launch, and what those started
	Session time.Duration // the other programs: the session's own
	Most    []NamedUse    // of those the ones that used most, first
	Unknown Figure        // none that is on record; not known in older records
}

// A NamedUse is what a program used of the processors.
type NamedUse struct {
	Name string
	CPU  time.Duration
}

// Whole is all that the logins used, as far as it is known.
func (u LoginUse) Whole() time.Duration { return u.Items + u.Session + u.Unknown.Value }

// LoginUse parts what the logins used by the lines of items.
func (b Boot) LoginUse(lines []OwnedLine) LoginUse {
	owned := make([]bool, len(b.Programs))
	for _, l := range lines {
		for _, i := range b.Launched(l.Line, l.Owner) {
			owned[i] = true
		}
	}
	u := LoginUse{Unknown: b.Rest}
	others := map[string]time.Duration{}
	for i, p := range b.Programs {
		if owned[i] {
			u.Items += p.CPU
			continue
		}
		u.Session += p.CPU
		others[p.Name] += p.CPU
	}
	for name, cpu := range others {
		u.Most = append(u.Most, NamedUse{name, cpu})
	}
	slices.SortFunc(u.Most, func(a, b NamedUse) int {
		return cmp.Or(cmp.Compare(b.CPU, a.CPU), cmp.Compare(a.Name, b.Name))
	})
	return u
}
