package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
)

func (a *app) noteCommand() *cobra.Command {
	var remove, here bool
	cmd := &cobra.Command{
		Use:   "note ITEM TEXT...",
		Short: "Write a note of your own on an item",
		Long: `Note keeps a remark of yours on an item, in a notebook in your own
configuration folder. It is shown wherever the item is, on the next machine
too; with --here on this machine alone. An item can have one of each.`,
		Example: `  calmdawn note service:cue-update.service "the desk updates by hand in spring"
  calmdawn note --here badge-spool.service "the customer's badge printer, keep"
  calmdawn note --here --remove badge-spool.service`,
		Args: func(_ *cobra.Command, args []string) error {
			if a.json {
				return usage("note prints no document; list --json shows the notes")
			}
			if remove && len(args) != 1 || !remove && len(args) < 2 {
				return usage("note takes an item and your text, or --remove and the item")
			}
			return nil
		},
		ValidArgsFunction: first(a.completeIDs),
		RunE: func(_ *cobra.Command, args []string) error {
			l, err := a.look()
			if err != nil {
				return err
			}
			defer l.Close()
			picked, err := l.Pick(args[:1])
			if err != nil {
				return err
			}
			machine := ""
			if here {
				if machine = casebook.MachineID(l.Root); machine == casebook.NoID {
					return fmt.Errorf("%s has no machine id, so no note can be kept of it alone; "+
						"leave --here away for one of every machine", say.MachineName(l))
				}
			}
			notes, err := notebook.Open()
			if err != nil {
				return err
			}
			title, of := render.Clean(picked[0].Title), "every machine"
			before, everywhere := notes.On(picked[0].ID, machine)
			if here {
				of = say.MachineName(l) + " alone"
			} else {
				before = everywhere
			}
			if remove && before == "" {
				a.screen().Line("There is no note on %s of %s.", title, of)
				return nil
			}
			file, err := notes.Set(picked[0].ID, machine, strings.Join(args[1:], " "))
			if err != nil {
				return err
			}
			if remove {
				a.screen().Line("The note on %s of %s is taken out of %s.", title, of, file)
			} else {
				a.screen().Line("Noted on %s, for %s, in %s.", title, of, file)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take the note away")
	cmd.Flags().BoolVar(&here, "here", false, "the note is of this machine alone")
	return cmd
}
