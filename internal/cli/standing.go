package cli

import (
	"fmt"
	"slices"
	"strings"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/render"
)

// standing is calmdawn called alone: where this machine stands and what to do
// next.
func (a *app) standing() error {
	if a.json {
		return usage("calmdawn alone prints text; calmdawn list --json is for scripts")
	}
	l, err := a.lookAtBoots()
	if err != nil {
		return err
	}
	defer l.Close()
	s := a.screen()
	var added []item.Item
	for _, it := range l.Items {
		if !it.System && !it.Ours && !it.Aside {
			added = append(added, it)
		}
	}
	s.Say(render.Strong, "%s launches %s by itself.", machineName(l),
		count(launched(l.Items), "thing", "things"))
	switch {
	case len(added) > 0:
		s.Line("  %s added to its operating system: %s.",
			count(len(added), "item was", "items were"), states(added))
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
			"switch it off: %s.", count(len(names), "service fails", "services fail"),
			render.Clean(strings.Join(names, ", ")))
	}
	inForce, waiting, unfinished := 0, 0, 0
	for _, c := range l.Changes {
		switch {
		case c.Status == change.Planned:
			unfinished++
		case c.Stands():
			inForce++
		}
	}
	for _, c := range job.FeltBy(l.Boots, l.Changes) {
		if c.Status == change.Done && c.TakesEffect() == change.NextBoot &&
			(len(l.Boots) == 0 || l.Boots[len(l.Boots)-1].Began.Before(c.MadeAt)) {
			waiting++
		}
	}
	switch {
	case l.ChangesUnread != nil:
		s.Line("  Whether it was changed is not known: its casebook cannot be read.")
	case len(l.Changes) == 0:
		s.Line("  No change was made to it.")
	case inForce == 0 && unfinished == 0:
		s.Line("  No change is in force any more: %s", a.call("history"))
	case unfinished > 0:
		inForceNow := "No change is"
		if inForce > 0 {
			inForceNow = count(inForce, "change is", "changes are")
		}
		s.Line("  %s in force, and %s interrupted: %s", inForceNow,
			count(unfinished, "was", "were"), a.call("history"))
	default:
		s.Line("  %s in force: %s", count(inForce, "change is", "changes are"), a.call("history"))
	}
	if n := len(l.CameBack()); n > 0 {
		s.Say(render.Warn, "  %s on again although %s switched off or delayed: %s",
			count(n, "item is", "items are"), plural(n, "it was", "they were"), a.call("drift"))
	}
	if text := guarded(l.Changes); text != "" {
		s.SayWrapped(2, render.Warn, "%s", "  "+text)
	}
	if ids := change.Guarded(l.Changes); len(ids) > 0 {
		s.Line("  The boot guard is on, for %s.", numbered(ids))
	}
	if _, due, off := a.onTrial(l.Changes); due > 0 {
		s.Say(render.Warn, "  %s: keep it or take it back, with %s",
			count(due, "trial is due", "trials are due"), a.call("trial"))
	} else if off > 0 {
		s.Say(render.Warn, "  A change is on trial, and this computer's clock is before it was "+
			"made; set it right.")
	}
	last, compared := job.Since(l.Boots, l.Changes, compare.Measure{}, job.Begin{}, a.now())
	c := shown(last, l)
	if compared && len(l.Boots) > 0 {
		s.Wrap(2, "  %s", c.answer())
	}
	a.gaps(s, l.Unread)
	a.unread(s, l.Unread)
	remarks(s, l.Remarks)
	s.Line("")
	switch {
	case unfinished > 0:
		open := l.Changes[slices.IndexFunc(l.Changes, func(c change.Change) bool {
			return c.Status == change.Planned
		})]
		s.Line("Next: have the interrupted change settled, with %s",
			a.call(fmt.Sprintf("undo %d", open.ID)))
	case waiting > 0:
		s.Line("%s waiting for a restart.", count(waiting, "change is", "changes are"))
		s.Line("Next: restart the machine, then %s", a.call("compare"))
	case compared && c.Main.Missing > 0:
		s.Line("Next: restart the machine %s, then %s",
			count(c.Main.Missing, "more time", "more times"), a.call("compare"))
	case compared:
		s.Line("Next: see what the change did, with %s; or look for more: %s",
			a.call("compare"), a.goThrough())
	case len(l.Replays) > 0 && len(l.Dispensable()) > 0:
		s.Line("Next: see which few items would bring most, with %s; or %s",
			a.call("forecast --best"), a.goThrough())
	default:
		s.Line("Next: %s", a.goThrough())
	}
	return nil
}

// goThrough says how all that the machine launches is gone through.
func (a *app) goThrough() string {
	if a.Terminal && a.Ask {
		return "decide item by item, with " + a.call("review")
	}
	return "see all that it launches, with " + a.call("list")
}
