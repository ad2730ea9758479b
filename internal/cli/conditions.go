package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
)

func (a *app) conditionsCommand() *cobra.Command {
	var id string
	cmd := &cobra.Command{
		Use:   "conditions",
		Short: "Show what else bears on how long the machine takes to boot",
		Long: `Conditions shows what bears on a boot besides the items that start in it: free
disk space, memory, the disk's kind, power, updates that are half installed,
and more, each with the reason why it matters. Calm Dawn repairs none of it;
it wants you to know before you compare.

Of a mounted disk, what stands on it is shown, as it is now. --boot shows
those that the recorder noted in one boot.`,
		Example: "  calmdawn conditions\n  calmdawn --root /mnt conditions\n  calmdawn " +
			"conditions --boot be6fe0a8",
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.conditions(id) },
	}
	cmd.Flags().StringVar(&id, "boot", "", "those noted in the boot whose id begins with `ID`")
	return cmd
}

func (a *app) conditions(id string) error {
	r, err := a.place().Open()
	if err != nil {
		return err
	}
	defer r.Close()
	var all []boot.Condition
	about := "now"
	if id != "" {
		b, err := pickBoot(a.place().Remember(r, 0).Boots, id)
		if err != nil {
			return err
		}
		if all, about = b.Conditions, "in the boot of "+day(b.Began); len(all) == 0 {
			return fmt.Errorf("nobody noted the conditions of that boot; %s has them noted from "+
				"now on", a.call("recorder on"))
		}
	} else {
		all = a.place().Conditions(r)
	}
	if a.json {
		return a.writeJSON(document.NewConditions(all))
	}
	s := a.screen()
	bad := 0
	var rows [][]render.Cell
	for _, c := range all {
		mark, tone := "", render.Plain
		if c.Bad {
			mark, tone = "mind", render.Warn
			bad++
		}
		rows = append(rows, []render.Cell{
			{Text: mark, Tone: tone},
			{Text: render.Clean(c.Name), Tone: tone},
			{Text: render.Clean(c.Value), Tone: tone},
			{Text: render.Clean(c.Why), Tone: render.Dim},
		})
	}
	answer := "Nothing stands out"
	if bad > 0 {
		answer = count(bad, "thing stands out", "things stand out")
	}
	s.Say(render.Strong, "%s among what bears on a boot besides its items, %s.", answer, about)
	s.Line("")
	s.Table([]render.Column{
		{Title: "", Keep: 5},
		{Title: "CONDITION"},
		{Title: "VALUE"},
		{Title: "WHY IT MATTERS", Keep: 2, Flex: 30},
	}, rows)
	s.Line("")
	if id == "" && !r.Live() {
		s.Line("As the disk is now; what it was in past boots cannot be told from it.")
	}
	s.Line("Next: see how long its boots take, with %s", a.call("boots"))
	return nil
}
