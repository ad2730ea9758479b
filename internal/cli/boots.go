package cli

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
)

// bootsView is how boots are to be shown.
type bootsView struct {
	spans   bool
	id      string
	csv     bool
	picture string
	last    int
}

func (a *app) bootsCommand() *cobra.Command {
	var v bootsView
	cmd := &cobra.Command{
		Use:   "boots [BOOT]",
		Short: "Show the boots that the machine remembers, and how long each took",
		Long: `Boots shows every boot that the machine still remembers. It tells when each
began, when one could work with it, when it was ready and settled, and its
phases. Of one boot it shows what usable, or ready, waited for.

One boot is named by its number, its day, the beginning of its id, a label of
yours, or last. It is shown as a way: one stretch after the other, and what
worked beside each. --picture draws it: one line, the thicker the busier the
machine was, with a card for each stretch.

What the figures mean: calmdawn help usable. They come from the log, the
records of our recorder, and on the running machine the service managers' own
clocks. Of each figure the finest is taken.`,
		Example: `  calmdawn boots
  calmdawn boots 3                       what boot 3 waited for
  calmdawn boots last                    what the last one waited for
  calmdawn boots last --picture boot.png
  calmdawn boots last --csv              all its starts, with their times
  calmdawn boots --csv > boots.csv       for a spreadsheet`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("boots shows one boot, or all; %q is a second", args[1])
			}
			return nil
		},
		ValidArgsFunction: first(a.completeBoots),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 && v.id != "" {
				return usage("%q and --boot %s are two ways to name one boot; choose one",
					args[0], v.id)
			}
			if len(args) == 1 && v.last > 0 {
				return usage("--last lists several boots, and %q is one; give either", args[0])
			}
			v.id = cmp.Or(v.id, strings.Join(args, ""))
			v.spans = v.spans || v.id != "" || v.picture != ""
			switch {
			case v.csv && a.json:
				return usage("--csv and --json are two forms; choose one")
			case v.last < 0:
				return usage("--last takes a number of boots, not %d", v.last)
			}
			return a.boots(v)
		},
	}
	cmd.Flags().BoolVar(&v.spans, "spans", false, "show the starts of the items within a boot")
	cmd.Flags().StringVar(&v.id, "boot", "", "which `BOOT`: a number, date, id or label; the last "+
		"one if not given")
	for _, name := range []string{"spans", "boot"} { // for scripts; BOOT says both
		if err := cmd.Flags().MarkHidden(name); err != nil {
			panic(err)
		}
	}
	cmd.Flags().BoolVar(&v.csv, "csv", false, "print comma-separated values: a line a boot, of "+
		"one BOOT a line a start")
	cmd.Flags().StringVar(&v.picture, "picture", "", "draw BOOT, or the last one, into `FILE`, "+
		"whose name ends in .png or .svg")
	cmd.Flags().IntVar(&v.last, "last", 0, "only the last `N` boots")
	return cmd
}

func (a *app) boots(v bootsView) error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	done := a.progress("reading the log")
	found := m.Remember(0) // all of them, since they are numbered from the first
	done()
	labels, _ := m.ReadLabels() // what cannot be read of the casebook is told below
	shown := found.Boots[max(0, len(found.Boots)-cmp.Or(v.last, len(found.Boots))):]
	if v.id != "" && len(found.Boots) > 0 {
		b, err := a.pickBoot(found.Boots, labels, v.id)
		if err != nil {
			return err
		}
		shown = []boot.Boot{b}
	}
	switch {
	case a.json:
		return a.writeJSON(document.NewBoots(shown, found.Unread, v.spans))
	case v.csv && v.spans && len(shown) > 0:
		return a.writeCSV(say.SpansCSV(shown[len(shown)-1].Spans))
	case v.csv && v.spans:
		return nil
	case v.csv:
		return a.writeCSV(say.BootsCSV(shown))
	}
	s := a.screen()
	if len(found.Boots) == 0 {
		say.ShowNoBoots(s, m.Log(), found, m.Recordable())
		return nil
	}
	if v.spans {
		return a.showBoot(s, shown[len(shown)-1], v)
	}
	changes, _ := m.ReadChanges()
	a.tellUnsettled(m.Root, changes)
	say.ShowBoots(s, say.Boots{
		Found: found, Last: len(shown), Changes: changes, Labels: labels,
		Recordable: m.Recordable(), Now: a.now(),
	})
	return nil
}

// pickBoot is the boot that a word means, as compare takes them: its number in
// boots, its date, the beginning of its id, its label. An empty word, or last,
// is the last one.
func (a *app) pickBoot(boots []boot.Boot, labels map[string][]string, word string) (boot.Boot,
	error) {
	if word == "" || word == "last" {
		return boots[len(boots)-1], nil
	}
	shelf := compare.Shelf{Boots: boots, Labels: labels, Zone: time.Local}
	found, err := shelf.Choose(word, true)
	if err != nil {
		return boot.Boot{}, usage("%w\n%s lists the boots", err, a.call("boots"))
	}
	if len(found) > 1 {
		text := fmt.Sprintf("%q is %d boots; give one of them", word, len(found))
		for _, b := range found[:min(mostNamed, len(found))] {
			text += fmt.Sprintf("\n%s, of %s", b.Short(), say.Day(b.Began))
		}
		return boot.Boot{}, usage("%s", text)
	}
	return found[0], nil
}

// mostNamed is how many of several a message lists.
const mostNamed = 8
