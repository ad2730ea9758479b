package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
)

func (a *app) noteCommand() *cobra.Command {
	var remove bool
	cmd := &cobra.Command{
		Use:   "note ITEM TEXT...",
		Short: "Write a note of your own on an item",
		Long: `Note keeps a remark of yours on an item, in a notebook in your own
configuration folder. It is shown wherever the item is, on the next machine
too.`,
		Example: `  calmdawn note service:badge-spool.service "the customer's badge printer, keep"
  calmdawn note --remove service:badge-spool.service`,
		Args: func(_ *cobra.Command, args []string) error {
			if a.json {
				return usage("note prints no document; list --json shows the notes")
			}
			if remove && len(args) != 1 || !remove && len(args) < 2 {
				return usage("note takes an item and your text, or --remove and the item")
			}
			return nil
		},
		ValidArgsFunction: a.completeIDs,
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
			notes, err := notebook.Open()
			if err != nil {
				return err
			}
			title, before := render.Clean(picked[0].Title), notes.On(picked[0].ID)
			if remove && before == "" {
				a.screen().Line("There is no note on %s.", title)
				return nil
			}
			file, err := notes.Set(picked[0].ID, strings.Join(args[1:], " "))
			if err != nil {
				return err
			}
			if remove {
				a.screen().Line("The note on %s is taken out of %s.", title, file)
			} else {
				a.screen().Line("Noted on %s, for every machine that has it, in %s.", title, file)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take the note away")
	return cmd
}
