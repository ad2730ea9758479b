package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
)

func (a *app) conditionsCommand() *cobra.Command {
	var id string
	cmd := &cobra.Command{
		Use:   "conditions [BOOT]",
		Short: "Show what else bears on how long the machine takes to boot",
		Long: `Conditions shows what bears on a boot besides the items that start in it. It
tells of free disk space, memory, the disk's kind, power, half-installed
updates and more, and why each matters. Calm Dawn repairs none of it; it wants
you to know before you compare.

Of a mounted disk, what stands on it is shown, as it is now. Of a boot, those
are shown that the recorder noted in it.`,
		Example: "  calmdawn conditions\n  calmdawn --root /mnt conditions\n  calmdawn " +
			"conditions 3",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 || len(args) == 1 && id != "" {
				return usage("conditions are those of one boot, or of now; %q is too much",
					args[len(args)-1])
			}
			return nil
		},
		ValidArgsFunction: first(a.completeBoots),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.conditions(cmp.Or(strings.Join(args, ""), id))
		},
	}
	cmd.Flags().StringVar(&id, "boot", "", "those noted in this `BOOT`: a number, date, id or "+
		"label")
	return cmd
}

func (a *app) conditions(id string) error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	var all []boot.Condition
	about := "now"
	if id != "" {
		labels, err := m.ReadLabels()
		if err != nil {
			return err
		}
		boots := m.Remember(0).Boots
		if len(boots) == 0 {
			return fmt.Errorf("no boot is remembered; %s says why", a.call("boots"))
		}
		b, err := a.pickBoot(boots, labels, id)
		if err != nil {
			return err
		}
		if all, about = b.Conditions, "in the boot of "+say.Day(b.Began); len(all) == 0 {
			return fmt.Errorf("nobody noted the conditions of that boot; %s has them noted from "+
				"now on", a.call("recorder on"))
		}
	} else {
		all = m.Conditions()
	}
	if a.json {
		return a.writeJSON(document.NewConditions(all))
	}
	say.ShowConditions(a.screen(), all, about, id == "" && !m.Root.Live())
	return nil
}
