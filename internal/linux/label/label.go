// Package label tells what part units play in a boot, by the names that the
// service manager gives them (systemd.special(7), bootup(7)).
package label

import (
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// Goals are the targets that a boot can aim at, the farthest first.
var Goals = []string{"graphical.target", "multi-user.target"}

// login is the target that a user's service manager aims at.
const login = "default.target"

var named = map[string]boot.Label{
	"basic.target":      boot.Basic,
	"emergency.target":  boot.Emergency,
	"emergency.service": boot.Emergency,
	"rescue.target":     boot.Rescue,
	"rescue.service":    boot.Rescue,
	"init.scope":        boot.Manager,
}

// Of returns the labels of a unit of the machine's service manager, or of a
// user's where owner names one.
func Of(native, owner string) boot.Label {
	var l boot.Label
	switch path.Ext(native) {
	case ".service":
		l = boot.Service
	case ".timer", ".path":
		l = boot.Clock
	}
	if owner != "" {
		if native == login {
			l |= boot.Goal
		}
		return l
	}
	l |= named[native]
	switch {
	case slices.Contains(Goals, native):
		l |= boot.Goal
	case strings.HasPrefix(native, "systemd-fsck"), strings.HasPrefix(native, "fsck"):
		l |= boot.DiskCheck
	case strings.HasPrefix(native, "user@"):
		l |= boot.Session
	case strings.HasPrefix(native, "session-") && strings.HasSuffix(native, ".scope"):
		l |= boot.Seat
	}
	return l
}

// Boots labels the spans of boots; what it is given stays as it is.
func Boots(boots []boot.Boot) []boot.Boot {
	boots = slices.Clone(boots)
	for i := range boots {
		boots[i].Spans = slices.Clone(boots[i].Spans)
		Spans(boots[i].Spans)
	}
	return boots
}

// Spans labels spans in their place.
func Spans(spans []boot.Span) {
	for i := range spans {
		spans[i].Labels = Of(spans[i].Native, spans[i].Owner)
	}
}

// Questions are the stretches in which an encrypted disk waited for its
// passphrase. They go from when a program that asks for one began, to when the
// disk was opened. opened are moments at which any was, as far as they are
// known; else what it takes to open it counts too.
func Questions(spans []boot.Span, opened []time.Duration) []boot.Wait {
	var asked []time.Duration
	for _, s := range spans {
		if s.Owner == "" && strings.HasPrefix(s.Native, "systemd-ask-password-") &&
			strings.HasSuffix(s.Native, ".service") && (s.Begin.Known || s.End.Known) {
			asked = append(asked, s.First())
		}
	}
	if len(asked) == 0 {
		return nil
	}
	begin := slices.Min(asked)
	var waits []boot.Wait
	for _, s := range spans {
		volume, ok := strings.CutPrefix(s.Native, "systemd-cryptsetup@")
		if !ok || !s.Begin.Known || !s.End.Known {
			continue
		}
		from, to := max(begin, s.Begin.Value), s.End.Value
		for _, at := range opened {
			if at > from && at < to {
				to = at
			}
		}
		if to > from {
			volume = strings.TrimSuffix(volume, ".service")
			waits = append(waits, boot.Wait{
				What: "a passphrase for " + volume,
				At:   from,
				Took: to - from,
			})
		}
	}
	return waits
}
