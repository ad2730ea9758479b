package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
)

func (a *app) historyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "history [CHANGE]",
		Short: "List the changes made to this machine, and which are in force; or all of one",
		Example: "  calmdawn history\n  calmdawn history 3\n  calmdawn history last\n" +
			"  calmdawn history --json",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("history takes the number of one change, or none")
			}
			return nil
		},
		ValidArgsFunction: first(a.completeChanges("", func(change.Change) bool { return true },
			"last")),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				return a.wholeChange(args)
			}
			return a.history()
		},
	}
}

// wholeChange shows all of the change that a word names.
func (a *app) wholeChange(words []string) error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	ids, err := changeNumbers(changes, words)
	if err != nil {
		return err
	}
	if len(ids) > 1 {
		return usage("history shows one change whole; %q is %d", words[0], len(ids))
	}
	c := changes[slices.IndexFunc(changes, func(c change.Change) bool { return c.ID == ids[0] })]
	if a.json {
		return a.writeJSON(document.NewChange(c))
	}
	s := a.screen()
	s.SayWrapped(2, render.Strong, "Change %d: %s.", c.ID, what(c))
	s.Line("Made on %s by %s; %s%s.", day(c.MadeAt), render.Clean(c.MadeBy), fate(c),
		a.cameBack(changes)[c.ID])
	s.Line("")
	a.showTargets(s, nil, c)
	a.showEdits(s, m.Root, c)
	if f := c.Judged(); f != nil {
		s.Wrap(2, "%s", forecastLine(*f))
	}
	if f, came := c.CameOut(); came {
		s.Line("As it came out, %s is %s.", render.Clean(f.Title()), moved(c.Outcome.Saved))
	}
	if c.Stands() {
		s.Line("To take it back: %s", a.call(fmt.Sprintf("undo %d", c.ID)))
	}
	return nil
}

func (a *app) history() error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	if a.json {
		return a.writeJSON(document.NewHistory(changes))
	}
	s := a.screen()
	if len(changes) == 0 {
		s.Line("No change was made to this machine.")
		return nil
	}
	back := a.cameBack(changes)
	var standing []change.Change
	interrupted := ""
	for _, c := range changes {
		switch {
		case c.Stands():
			standing = append(standing, c)
		case c.Status == change.Planned:
			interrupted = ", one interrupted"
		}
	}
	s.Say(render.Strong, "%s, %d in force%s.", count(len(changes), "change", "changes"),
		len(standing), interrupted)
	if text := guarded(changes); text != "" {
		s.SayWrapped(0, render.Warn, "%s", text)
	}
	s.Line("")
	var rows [][]render.Cell
	for _, c := range slices.Backward(changes) {
		tone := render.Dim
		if c.Stands() {
			tone = render.Plain
		}
		row := []string{
			fmt.Sprint(c.ID), day(c.MadeAt), render.Clean(c.MadeBy), what(c), foreseen(c),
			fate(c) + back[c.ID],
		}
		var cells []render.Cell
		for _, text := range row {
			cells = append(cells, render.Cell{Text: text, Tone: tone})
		}
		rows = append(rows, cells)
	}
	s.Table([]render.Column{
		{Title: "NO", Right: true},
		{Title: "MADE", Keep: 2},
		{Title: "BY", Keep: 1},
		{Title: "WHAT", Flex: 24},
		{Title: "FORECAST", Keep: 3},
		{Title: "NOW"},
	}, rows)
	if text := forecastsKept(changes); text != "" {
		s.Line("")
		s.Wrap(0, "%s", text)
	}
	if len(standing) > 0 {
		s.Line("")
		s.Line("To take the last one back: %s",
			a.call(fmt.Sprintf("undo %d", standing[len(standing)-1].ID)))
	}
	return nil
}

// cameBack says of changes in force whose items are on again how many they are,
// by the changes' numbers. Where the machine cannot be surveyed it says
// nothing.
func (a *app) cameBack(changes []change.Change) map[int64]string {
	if !slices.ContainsFunc(changes, change.Change.Stands) {
		return nil
	}
	l, err := a.site().Look()
	if err != nil {
		return nil
	}
	defer l.Close()
	n := map[int64]int{}
	for _, it := range l.CameBack() {
		c, _ := l.OnAgain(it)
		n[c.ID]++
	}
	says := map[int64]string{}
	for id, n := range n {
		says[id] = fmt.Sprintf("; %s on again", count(n, "item is", "items are"))
	}
	return says
}

// what says what a change did, in a few words.
func what(c change.Change) string {
	if c.Verb == change.Undo {
		return fmt.Sprintf("undo change %d", c.Undoes)
	}
	if c.Verb == change.Record && len(c.Targets) > 0 {
		return "recorder " + string(c.Targets[0].After)
	}
	var parts []string
	verbs := map[item.State]change.Verb{
		item.Off: change.Disable, item.Delayed: change.Delay, item.On: change.Enable,
	}
	for _, to := range []item.State{item.Off, item.Delayed, item.On} {
		var titles []string
		for _, t := range c.Targets {
			if t.After == to {
				titles = append(titles, render.Clean(t.Title))
			}
		}
		if len(titles) > 0 {
			parts = append(parts, string(verbs[to])+" "+strings.Join(titles, ", "))
		}
	}
	return strings.Join(parts, "; ")
}

// foreseen says what was forecast for a change, and how it came out.
func foreseen(c change.Change) string {
	f, came := c.CameOut()
	if !came && c.Judged() != nil {
		f = c.Judged().Lead()
	}
	var parts []string
	if f.Shows() {
		name, _, _ := strings.Cut(f.Title(), " ")
		parts = append(parts, name+" "+signed(-f.Saving)+together(c))
	}
	if came {
		parts = append(parts, "came out "+signed(-c.Outcome.Saved))
	}
	return strings.Join(parts, ", ")
}

// together marks a forecast that is of a whole proposal.
func together(c change.Change) string {
	if c.Terms.Together != nil {
		return ", all together"
	}
	return ""
}

// settledOn says when an interrupted change was settled, and what was left.
func settledOn(c change.Change) string {
	text := c.Settlement.At.Local().Format("2 Jan")
	if n := len(c.Settlement.Left); n > 0 {
		text += " but for " + count(n, "path", "paths")
	}
	return text
}

// fate says what became of a change.
func fate(c change.Change) string {
	switch {
	case c.Status == change.Planned && c.Settlement == nil:
		return "interrupted"
	case c.Status == change.Planned:
		return "interrupted, open at " + count(len(c.Open()), "path", "paths")
	case c.Settlement != nil && c.Verb == change.Undo:
		return "interrupted, finished on " + settledOn(c)
	case c.Settlement != nil && c.Status == change.Failed:
		return "interrupted, taken back on " + settledOn(c)
	case c.Status == change.Failed:
		return "failed, nothing changed"
	case c.Verb == change.Undo:
		return "done"
	case c.UndoneBy != 0:
		return fmt.Sprintf("undone by %d", c.UndoneBy)
	}
	if c.Terms.Until != "" && c.Terms.Kept == "" {
		return "in force, on trial until " + date(c.Terms.Until)
	}
	return "in force"
}
