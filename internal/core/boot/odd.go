package boot

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// NeverReady is the reason of a boot whose end is not known.
const NeverReady = "it never became ready, as far as is known"

// Bounds of what is odd.
const (
	longCheck   = 3 * time.Second  // a disk check below this is the look that every boot takes
	clockJump   = 2 * time.Minute  // a clock that is set by less is a clock that is kept right
	manyUpdates = 20               // packages
	memoryShare = 0.02             // of the memory: less is what kernels report differently
	foreignPart = 0.10             // of all processors, taken by others on the same computer
	soonAfter   = 30 * time.Second // a failure later than this after ready is none of the boot
)

// Judge returns the boots, which must be in the order of time, with the reasons
// not to compare them. updates are the instants at which packages were
// installed, as far as the machine remembers.
func Judge(boots []Boot, updates []time.Time) []Boot {
	boots = slices.Clone(boots)
	usual := usualFailures(boots)
	aimed := slices.ContainsFunc(boots, func(b Boot) bool { return b.Goal != "" })
	endsAreKnown := slices.ContainsFunc(boots, func(b Boot) bool { return b.Ending == Clean })
	var prev *Boot
	for i := range boots {
		b := &boots[i]
		odd := slices.Clone(b.Odd)
		say := func(format string, values ...any) {
			if why := fmt.Sprintf(format, values...); !slices.Contains(odd, why) {
				odd = append(odd, why)
			}
		}
		switch {
		case !b.Ready.Known && b.Ending == Running:
			say("its start-up is not finished yet")
		case !b.Ready.Known:
			say("%s", NeverReady)
		// of an emergency the log may tell nothing but an end of start-up
		case aimed && b.Goal == "" && !b.reached("basic.target"):
			say("it did not get as far as the goal that other boots reach")
		}
		for _, name := range []string{
			"emergency.target",
			"rescue.target",
			"emergency.service",
			"rescue.service",
		} {
			if s, ok := b.Span(name); ok && s.End.Known && !b.late(s) {
				say("it ended in %s mode", strings.SplitN(name, ".", 2)[0])
				break
			}
		}
		if prev != nil && endsAreKnown && prev.Ending == Cut {
			say("the boot before it ended in a crash, or the power went")
		}
		if prev != nil {
			b.changed(prev, say)
			n := 0
			for _, at := range updates {
				if at.After(prev.Began) && at.Before(b.Began) {
					n++
				}
			}
			if n >= manyUpdates {
				say("it is the first after %d packages were installed or updated", n)
			}
		}
		for _, s := range b.Spans {
			check := strings.HasPrefix(s.Native, "systemd-fsck") ||
				strings.HasPrefix(s.Native, "fsck")
			if own := s.OwnTime(); check && own.Known && own.Value >= longCheck {
				say("a disk was checked, for %.0f s", own.Value.Seconds())
			}
			if s.Failed && !usual[Key{s.Native, s.Owner}] && !b.late(s) {
				say("%s failed, which it mostly does not", s.Native)
			}
		}
		if b.Slept {
			say("the machine was put to sleep before it was ready")
		}
		if j := b.Jump; j.Known && (j.Value > clockJump || j.Value < -clockJump) {
			say("the clock was set by %s", j.Value.Round(time.Second))
		}
		if r := b.Recording; r != nil && b.Ready.Known && b.Processors > 0 {
			if share := float64(r.Foreign) / float64(
				b.Ready.Value*time.Duration(b.Processors),
			); share > foreignPart {
				say("others on the same computer took %.0f %% of its processors", share*100)
			}
		}
		b.Odd = odd
		prev = b
	}
	return boots
}

// reached reports whether a target was reached.
func (b Boot) reached(target string) bool {
	s, ok := b.Span(target)
	return ok && s.End.Known
}

// late reports whether a span ended so long after the boot that it is none of
// it.
func (b Boot) late(s Span) bool { return b.Ready.Known && s.First() > b.Ready.Value+soonAfter }

// changed says what is not as it was in the boot before.
func (b Boot) changed(prev *Boot, say func(string, ...any)) {
	if b.Kernel != "" && prev.Kernel != "" && b.Kernel != prev.Kernel {
		say("it is the first with the kernel %s, after %s", b.Kernel, prev.Kernel)
	}
	if b.Processors > 0 && prev.Processors > 0 && b.Processors != prev.Processors {
		say("it is the first with %d processors, after %d", b.Processors, prev.Processors)
	}
	if more := float64(b.Memory - prev.Memory); b.Memory > 0 && prev.Memory > 0 &&
		max(more, -more) > memoryShare*float64(prev.Memory) {
		say("it is the first with %.1f GB of memory, after %.1f", float64(b.Memory)/1e9,
			float64(prev.Memory)/1e9)
	}
}

// usualFailures are the units that fail in at least half of the boots: a
// machine on which one always does is not odd for it.
func usualFailures(boots []Boot) map[Key]bool {
	failed := map[Key]int{}
	for _, b := range boots {
		for _, s := range b.Spans {
			if s.Failed && !b.late(s) {
				failed[Key{s.Native, s.Owner}]++
			}
		}
	}
	usual := map[Key]bool{}
	for key, n := range failed {
		usual[key] = 2*n >= len(boots)
	}
	return usual
}
