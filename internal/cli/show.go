package cli

import (
	"github.com/spf13/cobra"

	"calmdawn/internal/document"
	"calmdawn/internal/say"
)

func (a *app) showCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "show ITEM",
		Short: "A page about one item: what it is, why it starts, what can be done",
		Example: `  calmdawn show star-index
  calmdawn show service:star-index.service
  calmdawn show program:lanternfile.desktop@teo`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("show takes one item, by its id or a part of its name; calmdawn " +
					"list shows them")
			}
			return nil
		},
		ValidArgsFunction: first(a.completeIDs),
		RunE: func(_ *cobra.Command, args []string) error {
			l, err := a.lookAtBoots()
			if err != nil {
				return err
			}
			defer l.Close()
			picked, err := l.Pick(args)
			if err != nil {
				return err
			}
			if a.json {
				return a.writeJSON(document.NewPage(picked[0], factsOf(l)(picked[0])))
			}
			say.ShowItem(a.screen(), l, picked[0])
			say.ShowMeantToo(a.screen(), picked[1:])
			return nil
		},
	}
	cmd.Flags().BoolVar(&a.secrets, "secrets", false, "show passwords and keys in the launch "+
		"line, which stand as … everywhere else")
	return cmd
}
