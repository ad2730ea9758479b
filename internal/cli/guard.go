package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/failures"
	"calmdawn/internal/document"
	"calmdawn/internal/guard"
	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
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
become ready twice in a row after it: two boots that hung, broke off, or ended
in an emergency. It then starts the machine's goal again, and calmdawn says so
at the next call. A person's power-off does not count. It goes by itself once
a boot has become ready.

It is switched on with a change that bears on the boot: on the running machine
by itself, with --root if --guard on is given; guard = "off" or "on" in
settings.toml in your configuration folder says otherwise for all calls. It
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
	return a.alter(unasked, func(d *visit.Session) (plan, error) {
		s := a.screen()
		if !guardThere(d.Machine) && len(change.Guarded(d.Ledger.Changes())) == 0 {
			return plan{
				nothing: func() error { s.Line("Nothing to do: no boot guard is on."); return nil },
			}, nil
		}
		return plan{show: func() {}, carry: func(d *visit.Session) error {
			if err := guard.Remove(d.Guard(), d.Ledger, d.Root, d.At); err != nil {
				return err
			}
			s.Line("The boot guard is off; the changes that it guarded stand.")
			return nil
		}}, nil
	})
}

// guardThere reports whether a guard, or a part of one, is in a machine.
func guardThere(m *visit.Machine) bool {
	kit := m.Guard()
	return kit != nil && guard.There(kit, m.Root)
}

// watching is the boot guard as a reading command finds it.
type watching struct {
	guarded []int64 // the changes that it guards
	state   failures.State
	part    bool // a part of it is in the machine, and does nothing
}

func (w watching) on() bool { return len(w.guarded) > 0 && !w.part }

func (a *app) watching(m *visit.Machine, changes []change.Change) (w watching, err error) {
	w.guarded = change.Guarded(changes)
	// it has to be inside the machine
	book, err := casebook.Read(m.Root, casebook.Choice{ThisMachine: a.thisMachine})
	if err == nil {
		w.state, err = book.Guard()
		book.Close()
	}
	if errors.Is(err, casebook.ErrNone) {
		err = nil
	}
	w.part = guardThere(m) && len(w.guarded) == 0
	return w, err
}

func (a *app) guardStatus() error {
	m, changes, err := a.openChanges()
	if err != nil {
		return err
	}
	defer m.Close()
	w, err := a.watching(m, changes)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(document.Guard{
			Format:  "calmdawn.guard/1",
			On:      w.on(),
			Changes: append([]int64{}, w.guarded...),
			Boots:   len(w.state.Boots),
			Acted:   w.state.Acted,
			Trouble: w.state.Trouble,
		})
	}
	s := a.screen()
	if !w.on() {
		s.Say(render.Strong, "No boot guard is on.")
		if w.part {
			s.Line("A part of one is left, and does nothing; it goes with %s", a.call("guard off"))
		}
		return nil
	}
	s.Say(render.Strong, "The boot guard is on, for %s.", numbered(w.guarded))
	for _, b := range w.state.Boots {
		s.Line("  boot %.8s: %s", b.ID, map[string]string{"": "begun", "failed": "did not become " +
			"ready", "left": "ended by a person before it was due"}[string(b.Outcome)])
	}
	if w.state.Trouble != "" {
		s.SayWrapped(2, render.Warn, "%s",
			"It could not take the changes back: "+render.Clean(w.state.Trouble))
	}
	s.Line("Next: restart the machine; or take the guard away, with %s", a.call("guard off"))
	return nil
}

func numbered(ids []int64) string {
	var all []string
	for _, id := range ids {
		all = append(all, fmt.Sprint(id))
	}
	if len(all) == 1 {
		return "change " + all[0]
	}
	return "changes " + strings.Join(all, ", ")
}

// tellGuard says whether the boot guard came with a change; of several changes
// once.
func (a *app) tellGuard(s *render.Screen, c change.Change, g visit.Guarding) {
	text := ""
	switch {
	case c.Terms.Guarded:
		text = "The boot guard is on: if the machine fails to become ready twice in a row, it " +
			"takes the change back by itself."
	case g.Against != "":
		text = s.Paint(render.Warn, "The boot guard is not on: "+render.Clean(g.Against)+".")
	}
	if text != "" && a.guardSaid != text {
		s.Wrap(2, "%s", text)
		a.guardSaid = text
	}
}

// tellBeyond says what of a planned change the boot guard could not reach.
func (a *app) tellBeyond(s *render.Screen, g visit.Guarding) {
	if !g.Comes || len(g.Beyond) == 0 {
		return
	}
	s.Wrap(2, "If the machine fails to become ready, the boot guard takes the change back. It "+
		"could not reach %s then, on a file system of its own: that it takes back when the "+
		"machine is ready.", render.Clean(strings.Join(g.Beyond, ", ")))
}

// guarded says what the guard has done, if the last changes are its; empty
// otherwise.
func guarded(changes []change.Change) string {
	var back []int64
	var at time.Time
	for _, c := range slices.Backward(changes) {
		if c.MadeBy != guard.By {
			break
		}
		back, at = append(back, c.Undoes), c.MadeAt
	}
	if len(back) == 0 {
		return ""
	}
	return fmt.Sprintf("The boot guard took %s back on %s: the machine had not become ready "+
		"twice in a row.", numbered(back), day(at))
}
