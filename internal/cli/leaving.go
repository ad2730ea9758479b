package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/say"
)

// leavingCommand is what a package calls before it takes the program away.
func (a *app) leavingCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "leaving",
		Short:  "Say what stays of calmdawn where its program goes (for packages)",
		Hidden: true,
		Args:   noWords,
		RunE: func(*cobra.Command, []string) error {
			m, changes, err := a.openChanges()
			if err != nil {
				return err
			}
			defer m.Close()
			changes = slices.DeleteFunc(changes, func(c change.Change) bool {
				return !c.Stands() || !c.Decides()
			})
			w, err := m.Watching(changes)
			if err != nil {
				return err
			}
			kit, err := m.Recorder()
			recorder := err == nil && kit.StateOf(m.Root).Installed
			say.ShowLeaving(a.screen(), len(changes), recorder, w.On())
			return nil
		},
	}
}
