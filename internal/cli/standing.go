package cli

import (
	"fmt"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
)

// standing is calmdawn called alone: where this machine stands and what to do next.
func (a *app) standing() error {
	if a.json {
		return usage("calmdawn alone prints text; calmdawn list --json is for scripts")
	}
	l, err := a.look()
	if err != nil {
		return err
	}
	defer l.Close()
	s := a.screen()
	s.Line("%s", s.Paint(render.Strong, fmt.Sprintf("%s launches %s by itself.", l.machineName(), count(launched(l.Items), "thing", "things"))))
	var added []item.Item
	for _, it := range l.Items {
		if !it.System {
			added = append(added, it)
		}
	}
	s.Line("  %s added to the operating system: %s", count(len(added), "item was", "items were"), states(added))
	inForce, unfinished := 0, 0
	for _, c := range l.changes {
		if c.Stands() {
			inForce++
		}
		if c.Status == change.Planned {
			unfinished++
		}
	}
	if len(l.changes) == 0 {
		s.Line("  No change was made to it.")
	} else {
		s.Line("  %s in force: %s", count(inForce, "change is", "changes are"), a.call("history"))
	}
	if unfinished > 0 {
		s.Line("%s", s.Paint(render.Warn, "  A change was interrupted; the next disable, enable or undo settles it first."))
	}
	a.unread(s, l.Unread)
	s.Line("")
	s.Line("Next: %s", a.call("list"))
	return nil
}
