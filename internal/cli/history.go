package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
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
	say.ShowChange(a.screen(), m.Root, c, a.seen(changes).Back[c.ID])
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
	say.ShowHistory(a.screen(), changes, a.seen(changes))
	return nil
}

// seen is what the machine shows of its changes. Where none is in force, or it
// cannot be surveyed, that is nothing.
func (a *app) seen(changes []change.Change) (n say.Seen) {
	if !slices.ContainsFunc(changes, change.Change.Stands) {
		return n
	}
	l, err := a.site().Look()
	if err != nil {
		return n
	}
	defer l.Close()
	n.Back = map[int64]int{}
	for _, it := range l.CameBack() {
		c, _ := l.OnAgain(it)
		n.Back[c.ID]++
	}
	if l.ReadBoots() == nil {
		n.Boots, n.Known = l.Boots, true
	}
	return n
}
