package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/item"
	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

func (a *app) noteCommand() *cobra.Command {
	var remove, here bool
	var advised string
	cmd := &cobra.Command{
		Use:   "note ITEM TEXT...",
		Short: "Write a note of your own on an item",
		Long: `Note keeps a remark of yours on an item, in a notebook in your own
configuration folder. It is shown wherever the item is, on the next machine
too; with --here on this machine alone. An item can have one of each.

With --advice it is your own rule for the item, once you have looked it up. It
says keep, go or wait, and your text is the reason. It stands in decided.toml, in the form
of roles.toml. It changes what is advised, and takes no protection away.`,
		Example: `  calmdawn note service:cue-update.service "the desk updates by hand in spring"
  calmdawn note --here badge-spool.service "the customer's badge printer, keep"
  calmdawn note --here --remove badge-spool.service
  calmdawn note --advice keep badge-spool.service "the desk prints badges with it"`,
		Args: func(_ *cobra.Command, args []string) error {
			if a.json {
				return usage("note prints no document; list --json shows the notes")
			}
			if remove && len(args) != 1 || !remove && len(args) < 2 {
				return usage("note takes an item and your text, or --remove and the item")
			}
			if _, ok := notebook.Advices[advised]; advised != "" && !ok {
				return usage("--advice takes keep, go or wait")
			}
			return nil
		},
		ValidArgsFunction: first(a.completeIDs),
		RunE: func(cmd *cobra.Command, args []string) error {
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
			words := strings.Join(args[1:], " ")
			for _, it := range picked {
				if cmd.Flags().Changed("advice") {
					err = a.decideOn(l, it, notebook.Decided{
						Items: []string{it.ID}, Machine: machine,
						Advice: string(notebook.Advices[advised]),
						Reason: words, Made: a.now().Format(time.DateOnly),
					}, remove)
				} else {
					err = a.noteOn(l, it, machine, words, remove)
				}
				if err != nil {
					return err
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take the note away")
	cmd.Flags().BoolVar(&here, "here", false, "the note is of this machine alone")
	cmd.Flags().StringVar(&advised, "advice", "", "what you `ADVISE` from now on: keep, go or wait")
	return cmd
}

// noteOn keeps a note on an item, of one machine or with an empty one of every
// machine, or takes it away.
func (a *app) noteOn(l *visit.Visit, it item.Item, machine, text string, remove bool) error {
	notes, err := notebook.Open()
	if err != nil {
		return err
	}
	title, of := render.Clean(it.Title), "every machine"
	before, everywhere := notes.On(it.ID, machine)
	if machine != "" {
		of = say.MachineName(l) + " alone"
	} else {
		before = everywhere
	}
	if remove && before == "" {
		a.screen().Line("There is no note on %s of %s.", title, of)
		return nil
	}
	file, err := notes.Set(it.ID, machine, text)
	if err != nil {
		return err
	}
	if remove {
		a.screen().Line("The note on %s of %s is taken out of %s.", title, of, file)
	} else {
		a.screen().Line("Noted on %s, for %s, in %s.", title, of, file)
	}
	return nil
}

// decideOn keeps a rule of the technician's own for an item, or takes it away.
func (a *app) decideOn(l *visit.Visit, it item.Item, d notebook.Decided, remove bool) error {
	if remove {
		d.Advice = ""
	}
	file, was, err := notebook.Decide(d)
	if err != nil {
		return err
	}
	title, of := render.Clean(it.Title), "every machine"
	if d.Machine != "" {
		of = say.MachineName(l) + " alone"
	}
	switch {
	case remove && was:
		a.screen().Line("Your rule for %s of %s is taken out of %s.", title, of, file)
	case remove:
		a.screen().Line("You have no rule for %s of %s.", title, of)
	default:
		a.screen().Line("From now on %s is advised as: %s, for %s, by your own rule in %s.", title,
			d.Advice, of, file)
	}
	return nil
}
