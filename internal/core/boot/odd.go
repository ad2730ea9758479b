package boot

import (
	"fmt"
	"slices"
	"time"
)

// NeverReady is the reason of a boot whose end is not known.
const NeverReady = "it never became ready, as far as is known"

// NotWritten is the reason of a boot of which the machine kept no times.
const NotWritten = "the machine wrote down nothing of how long it took"

// Bounds of what is odd.
const (
	// LongCheck is what a disk check takes that is more than every boot's look.
	LongCheck   = 3 * time.Second
	clockJump   = 2 * time.Minute  // a clock that is set by less is a clock that is kept right
	manyUpdates = 20               // packages
	memoryShare = 0.02             // of the memory: less is what kernels report differently
	foreignPart = 0.10             // of all processors, taken by others on the same computer
	soonAfter   = 30 * time.Second // a failure later than this after ready is none of the boot
)

// A reason tells why a boot is not to be compared with others: none, or one
// clause each that follows "odd: ".
type reason func(c circumstances) []string

// reasons are all there are, in the order in which they are told.
var reasons = []reason{
	unfinished,
	otherStart,
	elsewhere,
	emergency,
	afterCrash,
	firstKernel,
	otherProcessors,
	otherMemory,
	firstAfterUpdates,
	disksChecked,
	failed,
	slept,
	clockSet,
	crowded,
	severalPeople,
}

// circumstances are a boot and what is known around it.
type circumstances struct {
	*Boot
	prev         *Boot        // nil for the first
	usual        map[Key]bool // what fails in most boots
	starts       Start        // what kind of start most boots are
	aimed        bool         // some boots know their goal
	endsAreKnown bool         // some boots are known to have ended cleanly
	updates      int          // packages installed between the boot before and this one
}

// Judge returns the boots, which must be in the order of time, with the reasons
// not to compare them. updates are the instants at which packages were
// installed, as far as the machine remembers.
func Judge(boots []Boot, updates []time.Time) []Boot {
	boots = slices.Clone(boots)
	c := circumstances{
		usual:        usualFailures(boots),
		starts:       usualStart(boots),
		aimed:        slices.ContainsFunc(boots, func(b Boot) bool { return b.Goal != "" }),
		endsAreKnown: slices.ContainsFunc(boots, func(b Boot) bool { return b.Ending == Clean }),
	}
	for i := range boots {
		c.Boot, c.updates = &boots[i], 0
		if i > 0 {
			c.prev = &boots[i-1]
			for _, at := range updates {
				if at.After(c.prev.Began) && at.Before(c.Began) {
					c.updates++
				}
			}
		}
		odd := slices.Clone(c.Odd)
		for _, tell := range reasons {
			for _, why := range tell(c) {
				if !slices.Contains(odd, why) {
					odd = append(odd, why)
				}
			}
		}
		c.Odd = odd
	}
	return boots
}

func because(format string, values ...any) []string {
	return []string{fmt.Sprintf(format, values...)}
}

func unfinished(c circumstances) []string {
	switch {
	case c.Ready.Known:
		return nil
	case c.Ending == Running:
		return because("its start-up is not finished yet")
	case c.Unwritten:
		return because(NotWritten)
	}
	return because(NeverReady)
}

// otherStart tells of a boot that started in another way than most do.
func otherStart(c circumstances) []string {
	if c.Start == "" || c.Start == c.starts {
		return nil
	}
	return because("it is %s, and most boots are %s", c.Start, c.starts)
}

// usualStart is the kind of start that most boots have of which one is known.
// If some of them know how long they took, those alone count. Of two kinds it
// is that of the later boot.
func usualStart(boots []Boot) (most Start) {
	measured := slices.ContainsFunc(boots, func(b Boot) bool { return b.Ready.Known })
	n := map[Start]int{}
	for _, b := range boots {
		if b.Start == "" || measured && !b.Ready.Known {
			continue
		}
		if n[b.Start]++; n[b.Start] >= n[most] {
			most = b.Start
		}
	}
	return most
}

// elsewhere tells of a boot that did not come near the goal of others. Of an
// emergency the log may tell nothing but an end of start-up.
func elsewhere(c circumstances) []string {
	near := slices.ContainsFunc(c.Spans, func(s Span) bool { return s.Is(Basic) && s.End.Known })
	if !c.Ready.Known || !c.aimed || c.Goal != "" || near {
		return nil
	}
	return because("it did not get as far as the goal that other boots reach")
}

func emergency(c circumstances) []string {
	for _, mode := range []struct {
		label Label
		name  string
	}{
		{Emergency, "emergency"},
		{Rescue, "rescue"},
	} {
		for _, s := range c.Spans {
			if s.Is(mode.label) && s.End.Known && !c.late(s) {
				return because("it ended in %s mode", mode.name)
			}
		}
	}
	return nil
}

func afterCrash(c circumstances) []string {
	if c.prev == nil || !c.endsAreKnown || c.prev.Ending != Cut {
		return nil
	}
	return because("the boot before it ended in a crash, or the power went")
}

func firstKernel(c circumstances) []string {
	if c.prev == nil || c.Kernel == "" || c.prev.Kernel == "" || c.Kernel == c.prev.Kernel {
		return nil
	}
	return because("it is the first with the kernel %s, after %s", c.Kernel, c.prev.Kernel)
}

func otherProcessors(c circumstances) []string {
	if c.prev == nil || c.Processors == 0 || c.prev.Processors == 0 ||
		c.Processors == c.prev.Processors {
		return nil
	}
	return because("it is the first with %d processors, after %d", c.Processors,
		c.prev.Processors)
}

func otherMemory(c circumstances) []string {
	if c.prev == nil || c.Memory == 0 || c.prev.Memory == 0 {
		return nil
	}
	more := float64(c.Memory - c.prev.Memory)
	if max(more, -more) <= memoryShare*float64(c.prev.Memory) {
		return nil
	}
	return because("it is the first with %.1f GB of memory, after %.1f", float64(c.Memory)/1e9,
		float64(c.prev.Memory)/1e9)
}

func firstAfterUpdates(c circumstances) []string {
	if c.updates < manyUpdates {
		return nil
	}
	return because("it is the first after %d packages were installed or updated", c.updates)
}

func disksChecked(c circumstances) (why []string) {
	for _, s := range c.Spans {
		if own := s.OwnTime(); s.Is(DiskCheck) && own.Known && own.Value >= LongCheck {
			why = append(why, fmt.Sprintf("a disk was checked, for %.0f s", own.Value.Seconds()))
		}
	}
	return why
}

func failed(c circumstances) (why []string) {
	for _, s := range c.Spans {
		if s.Failed && !c.usual[s.Key()] && !c.late(s) {
			why = append(why, s.Native+" failed, which it mostly does not")
		}
	}
	return why
}

func slept(c circumstances) []string {
	if !c.Slept {
		return nil
	}
	return because("the machine was put to sleep before it was ready")
}

func clockSet(c circumstances) []string {
	if !c.Jump.Known || c.Jump.Value.Abs() <= clockJump {
		return nil
	}
	return because("the clock was set by %s", c.Jump.Value.Round(time.Second))
}

func crowded(c circumstances) []string {
	if c.Recording == nil || !c.Ready.Known || c.Processors == 0 {
		return nil
	}
	all := float64(c.Ready.Value * time.Duration(c.Processors))
	share := float64(c.Recording.Foreign) / all
	if share <= foreignPart {
		return nil
	}
	return because("others on the same computer took %.0f %% of its processors", share*100)
}

// late reports whether a span began, or failed, so long after ready that it
// does not belong to the boot.
func (b Boot) late(s Span) bool {
	at := s.First()
	if s.FailedAt.Known {
		at = s.FailedAt.Value
	}
	return b.Ready.Known && at > b.Ready.Value+soonAfter
}

// FailsAlways are the units of the machine that fail in at least half of some
// boots, and in the last one. They cost something each time, and may better be
// repaired than switched off.
func FailsAlways(boots []Boot) (names []string) {
	if len(boots) < 2 {
		return nil
	}
	usual := usualFailures(boots)
	last := boots[len(boots)-1]
	for _, s := range last.Spans {
		if s.Owner == "" && s.Failed && usual[s.Key()] && !last.late(s) {
			names = append(names, s.Native)
		}
	}
	return names
}

// usualFailures are the units that fail in at least half of the boots: a
// machine on which one always does is not odd for it.
func usualFailures(boots []Boot) map[Key]bool {
	failed := map[Key]int{}
	for _, b := range boots {
		for _, s := range b.Spans {
			if s.Failed && !b.late(s) {
				failed[s.Key()]++
			}
		}
	}
	usual := map[Key]bool{}
	for key, n := range failed {
		usual[key] = 2*n >= len(boots)
	}
	return usual
}
