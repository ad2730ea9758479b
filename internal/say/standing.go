package say

import (
	"fmt"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A standing is where a machine stands.
type standing struct {
	l          *visit.Visit
	inForce    int             // changes
	waiting    int             // of them, for a restart
	unfinished []change.Change // by a call that was interrupted
	compared   bool            // there are boots before and after
	c          Comparison
}

// ShowStanding says where a machine stands and what to do next. review says
// that the full-screen view can be shown.
func ShowStanding(s Page, l *visit.Visit, now time.Time, review bool) {
	st := standing{l: l}
	for _, c := range l.Changes {
		switch {
		case c.Status == change.Planned:
			st.unfinished = append(st.unfinished, c)
		case c.Stands():
			st.inForce++
		}
	}
	st.waiting = len(job.Waiting(l.Boots, l.Changes))
	st.showItems(s)
	ShowFrozen(s, l.Machine)
	s.Line("%s", st.changes(s.Calls))
	st.showGuarding(s)
	showDue(s, l.Changes, now)
	last, compared := job.Since(l.Boots, l.Changes, compare.Measure{}, job.Begin{}, now)
	st.c, st.compared = NewComparison(last, l), compared
	if compared && len(l.Boots) > 0 {
		s.Wrap(2, "  %s", st.c.Answer())
		for _, text := range st.c.worse() {
			s.SayWrapped(4, render.Warn, "  Mind: %s", text)
		}
	}
	gaps(s, l.Unread)
	unreadPlaces(s, l.Unread)
	remarks(s, l.Remarks)
	s.Line("")
	st.showNext(s, review)
}

// showItems says what the machine launches, and how long its boots take.
func (st standing) showItems(s Page) {
	l := st.l
	var added []item.Item
	for _, it := range l.Items {
		if !it.System && !it.Ours && !it.Aside {
			added = append(added, it)
		}
	}
	s.Say(render.Strong, "%s launches %s by itself.", MachineName(l),
		Count(launched(l.Items), "thing", "things"))
	switch {
	case len(added) > 0:
		s.Line("  %s added to its operating system: %s.",
			Count(len(added), "item was", "items were"), states(added))
	case len(l.Unread) == 0:
		s.Line("  All of them are parts of its operating system; nothing was added.")
	}
	if len(l.Boots) > 0 {
		s.Wrap(2, "  %s", outlook(l))
	} else {
		s.Line("  It remembers no boot, so nothing is known of how long one takes.")
	}
	if names := boot.FailsAlways(l.Boots); len(names) > 0 {
		s.SayWrapped(2, render.Warn, "  %s in most boots, which costs time; have it repaired, or "+
			"switch it off: %s.", Count(len(names), "service fails", "services fail"),
			render.Clean(strings.Join(names, ", ")))
	}
}

// changes says how many changes of ours the machine has.
func (st standing) changes(calls Calls) string {
	inForce := Count(st.inForce, "change is", "changes are")
	switch n := len(st.unfinished); {
	case st.l.ChangesUnread != nil:
		return "  Whether it was changed is not known: its casebook cannot be read."
	case len(st.l.Changes) == 0:
		return "  No change was made to it."
	case n > 0:
		if st.inForce == 0 {
			inForce = "No change is"
		}
		return fmt.Sprintf("  %s in force, and %s interrupted: %s", inForce,
			Count(n, "was", "were"), calls.Call("history"))
	case st.inForce == 0:
		return "  No change is in force any more: " + calls.Call("history")
	}
	return fmt.Sprintf("  %s in force: %s", inForce, calls.Call("history"))
}

// showGuarding says what came on again, and what the boot guard does.
func (st standing) showGuarding(s Page) {
	if n := len(st.l.CameBack()); n > 0 {
		s.Say(render.Warn, "  %s on again although %s switched off or delayed: %s",
			Count(n, "item is", "items are"), plural(n, "it was", "they were"), s.Call("drift"))
	}
	if text := guardTook(st.l.Changes); text != "" {
		s.SayWrapped(2, render.Warn, "%s", "  "+text)
	}
	if ids := change.Guarded(st.l.Changes); len(ids) > 0 {
		s.Line("  The boot guard is on, for %s.", numbered(ids))
	}
}

// showDue says which trials are due.
func showDue(s Page, changes []change.Change, now time.Time) {
	if _, due, off := OnTrial(changes, now); due > 0 {
		s.Say(render.Warn, "  %s: keep it or take it back, with %s",
			Count(due, "trial is due", "trials are due"), s.Call("trial"))
	} else if off > 0 {
		s.Say(render.Warn, "  A change is on trial, and this computer's clock is before it was "+
			"made; set it right.")
	}
}

// showNext recommends one call.
func (st standing) showNext(s Page, review bool) {
	through := "see all that it launches, with " + s.Call("list")
	if review {
		through = "decide item by item, with " + s.Call("review")
	}
	switch {
	case len(st.unfinished) > 0:
		s.Line("Next: have the interrupted change settled, with %s",
			s.Call(fmt.Sprintf("undo %d", st.unfinished[0].ID)))
	case st.waiting > 0:
		s.Line("%s waiting for a restart.", Count(st.waiting, "change is", "changes are"))
		s.Line("Next: restart the machine, then %s", s.Call("compare"))
	case st.compared && st.c.Main.Missing > 0:
		s.Line("Next: %s, then %s", restarts(st.c.Main.Missing, st.c.On.Kind), s.Call("compare"))
	case st.compared:
		s.Line("Next: see what the change did, with %s; or look for more: %s",
			s.Call("compare"), through)
	case len(st.l.Replays) > 0 && len(st.l.Dispensable()) > 0:
		s.Line("Next: see which few items would bring most, with %s; or %s",
			s.Call("forecast --best"), through)
	case len(st.l.Boots) == 0 && st.l.Recordable():
		s.Line("Next: have the next boots recorded, with %s; or %s", s.Call("recorder on"),
			through)
	default:
		s.Line("Next: %s", through)
	}
}
