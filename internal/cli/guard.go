package cli

import (
	"cmp"
	"slices"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/guard"
	"calmdawn/internal/notebook"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// checkGuard reads --guard; where it was not given the technician's own setting
// counts.
func checkGuard(value *string) error {
	if *value == "" {
		own, err := notebook.OwnSettings()
		if err != nil {
			return err
		}
		*value = cmp.Or(own.Guard, string(visit.GuardAuto))
	}
	known := []visit.Wanted{visit.GuardAuto, visit.GuardOn, visit.GuardOff}
	if !slices.Contains(known, visit.Wanted(*value)) {
		return usage("--guard takes auto, on or off, not %q", *value)
	}
	return nil
}

func (a *app) guardCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "guard",
		Short: "Show whether the boot guard is on, or take it away",
		Long: `The boot guard takes a change back by itself when the machine has failed to
become ready twice in a row after it. Those are two boots that hung, broke
off, or ended in an emergency. It then starts the machine's goal again, and
calmdawn says so at the next call. Switching the machine off by hand does not
count as a failure. It goes by itself once a boot has become ready.

It is switched on with a change that bears on the boot: on the running machine
by itself, with --root if --guard on is given. guard = "off" or "on" in
settings.toml, in your configuration folder, says otherwise for all calls. It
cannot see a black screen behind a goal that was reached, and does nothing for
programs of a login.`,
		Example: `  calmdawn disable service:star-index.service --guard off
  calmdawn --root /mnt disable service:star-index.service --guard on
  calmdawn guard
  calmdawn guard off`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.guardStatus() },
	}
	cmd.AddCommand(&cobra.Command{
		Use:               "off",
		Short:             "Take the boot guard away; the changes stay",
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return usage("guard off prints no document; guard --json says what is on")
			}
			return a.guardOff()
		},
	})
	// for the guard's units
	for _, e := range []guard.Event{guard.Begin, guard.Good, guard.Failed, guard.End} {
		cmd.AddCommand(&cobra.Command{
			Use:    string(e),
			Hidden: true,
			Args:   noWords,
			RunE: func(*cobra.Command, []string) error {
				m, err := a.site().Open()
				if err != nil {
					return err
				}
				defer m.Close()
				if !m.Root.Live() {
					return usage("the guard works on the machine that it runs on; it takes no " +
						"--root")
				}
				return guard.Note(m.Guard(), m.Root, e, a.now(), a.Err)
			},
		})
	}
	return cmd
}

func (a *app) guardOff() error {
	const unasked = true
	return a.alter(unasked, func(d *visit.Session) (action, error) {
		s := a.screen()
		if !d.GuardThere() && len(change.Guarded(d.Ledger.Changes())) == 0 {
			return action{
				nothing: func() error { s.Line("Nothing to do: no boot guard is on."); return nil },
			}, nil
		}
		return action{show: func() {}, carry: func(d *visit.Session) error {
			if err := guard.Remove(d.Guard(), d.Ledger, d.Root, d.At); err != nil {
				return err
			}
			s.Line("The boot guard is off; the changes that it guarded stand.")
			return nil
		}}, nil
	})
}

func (a *app) guardStatus() error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	w, err := m.Watching(changes)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(document.Guard{
			Format:  "calmdawn.guard/1",
			On:      w.On(),
			Changes: append([]int64{}, w.Changes...),
			Boots:   len(w.State.Boots),
			Acted:   w.State.Acted,
			Trouble: w.State.Trouble,
		})
	}
	say.ShowGuard(a.screen(), w)
	return nil
}

// tellGuard says whether the boot guard came with a change; of several changes
// once.
func (a *app) tellGuard(s say.Page, c change.Change, g visit.Guarding) {
	text := say.Guarding(s, c, g)
	if text != "" && a.guardSaid != text {
		s.Wrap(2, "%s", text)
		a.guardSaid = text
	}
}
