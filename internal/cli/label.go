package cli

import (
	"regexp"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/compare"
	"calmdawn/internal/say"
)

// labelForm keeps labels apart from every other word by which boots are chosen.
var labelForm = regexp.MustCompile(
	`^[g-zG-Z_][A-Za-z0-9_]{0,30}$|^[a-zA-Z][A-Za-z0-9_]*[g-zG-Z_][A-Za-z0-9_]*$`,
)

func (a *app) labelCommand() *cobra.Command {
	var remove bool
	cmd := &cobra.Command{
		Use:   "label LABEL BOOT...",
		Short: "Give boots a name, to compare by what was done outside Calm Dawn",
		Long: `Label names boots, for instance "before" and "after" a memory module was put
in, so that compare can be told of them. A boot has one label; a new one takes
the place of the old. The labels stand in the machine's casebook.`,
		Example: `  calmdawn label before 1-5
  calmdawn label after 6-10
  calmdawn compare before after
  calmdawn label --remove 3`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case a.json:
				return usage("label prints no document; boots --json shows the boots")
			case remove && len(args) == 0:
				return usage("label --remove takes the boots whose labels are to go")
			case !remove && len(args) < 2:
				return usage("label takes a label and the boots that get it: their numbers, " +
					"dates or ids")
			case !remove && (!labelForm.MatchString(args[0]) || len(args[0]) > 31):
				return usage("%q cannot be a label: it takes letters, digits and _, begins with "+
					"a letter, and must not look like the id of a boot", args[0])
			}
			return nil
		},
		ValidArgsFunction: a.completeLabelled,
		RunE: func(_ *cobra.Command, args []string) error {
			label, words := "", args
			if !remove {
				label, words = args[0], args[1:]
			}
			return a.label(label, words)
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take the labels of these boots away")
	return cmd
}

func (a *app) label(label string, words []string) error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	labels, err := m.ReadLabels()
	if err != nil {
		return err
	}
	shelf := compare.Shelf{Boots: m.Remember(0).Boots, Labels: labels, Zone: time.Local}
	var ids []string
	for _, word := range words {
		boots, err := shelf.Choose(word, true)
		if err != nil {
			return usage("%w; %s lists the boots", err, a.call("boots"))
		}
		for _, b := range boots {
			ids = append(ids, b.ID)
		}
	}
	book, err := m.Write()
	if err != nil {
		return err
	}
	defer book.Close()
	if err := book.Label(ids, label); err != nil {
		return err
	}
	s := a.screen()
	if label == "" {
		s.Line("%s no label now.", say.Count(len(ids), "boot has", "boots have"))
		return nil
	}
	s.Line("%s the label %q.", say.Count(len(ids), "boot has", "boots have"), label)
	s.Line("Next: compare them with others, with %s", a.call("compare "+label+" OTHERS"))
	return nil
}
