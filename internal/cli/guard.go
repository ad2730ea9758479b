package cli

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/guard"
	"calmdawn/internal/machine"
	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
)

// The values of --guard.
const (
	guardAuto = "auto"
	guardOn   = "on"
	guardOff  = "off"
)

// checkGuard reads --guard; where it was not given the technician's own setting counts.
func checkGuard(value *string) error {
	if *value == "" {
		own, err := notebook.OwnSettings()
		if err != nil {
			return err
		}
		*value = cmp.Or(own.Guard, guardAuto)
	}
	if !slices.Contains([]string{guardAuto, guardOn, guardOff}, *value) {
		return usage("--guard takes auto, on or off, not %q", *value)
	}
	return nil
}

func (a *app) guardCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "guard",
		Short: "Show whether the boot guard is on, or take it away",
		Long: `The boot guard takes a change back by itself when the machine has failed to become ready twice in a
row after it: two boots that hung, broke off, or ended in an emergency. It then starts the machine's
goal again, and calmdawn says so at the next call. A person's power-off does not count. It goes by
itself once a boot has become ready.

It is switched on with a change that bears on the boot: on the running machine by itself, with
--root if --guard on is given; guard = "off" or "on" in settings.toml in your configuration folder
says otherwise for all calls. It cannot see a black screen behind a goal that was reached, and
does nothing for programs of a login.`,
		Example: `  calmdawn disable service:star-index.service --guard off
  calmdawn --root /mnt disable service:star-index.service --guard on
  calmdawn guard
  calmdawn guard off`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.guardStatus() },
	}
	cmd.AddCommand(&cobra.Command{Use: "off", Short: "Take the boot guard away; the changes stay", Args: noWords, ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			r, err := a.open()
			if err != nil {
				return err
			}
			defer r.Close()
			if !guard.There(r) {
				a.screen().Line("Nothing to do: no boot guard is on.")
				return nil
			}
			if err := guard.Remove(r, a.now()); err != nil {
				return err
			}
			a.screen().Line("The boot guard is off; the changes that it guarded stand.")
			return nil
		}})
	for _, e := range []guard.Event{guard.Begin, guard.Good, guard.Failed, guard.End} { // for the guard's units
		cmd.AddCommand(&cobra.Command{Use: string(e), Hidden: true, Args: noWords, RunE: func(*cobra.Command, []string) error {
			r, err := a.open()
			if err != nil {
				return err
			}
			defer r.Close()
			if !r.Live() {
				return usage("the guard works on the machine that it runs on; it takes no --root")
			}
			return guard.Note(r, e, a.now(), a.Err)
		}})
	}
	return cmd
}

func (a *app) guardStatus() error {
	r, err := a.open()
	if err != nil {
		return err
	}
	defer r.Close()
	state, there, err := guard.Read(r)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(struct {
			Format  string  `json:"format"`
			On      bool    `json:"on"`
			Changes []int64 `json:"changes"`
			Boots   int     `json:"boots"`
			Acted   bool    `json:"acted"`
			Trouble string  `json:"trouble,omitempty"`
		}{"calmdawn.guard/1", there, append([]int64{}, state.Changes...), len(state.Boots), state.Acted, state.Trouble})
	}
	s := a.screen()
	if !there {
		s.Line("%s", s.Paint(render.Strong, "No boot guard is on."))
		if guard.There(r) {
			s.Line("A part of one is left, and does nothing; it goes with %s", a.call("guard off"))
		}
		return nil
	}
	s.Line("%s", s.Paint(render.Strong, fmt.Sprintf("The boot guard is on, for %s.", numbered(state.Changes))))
	for _, b := range state.Boots {
		s.Line("  boot %.8s: %s", b.ID, map[string]string{"": "begun", "failed": "did not become ready", "left": "ended by a person before it was due"}[string(b.Outcome)])
	}
	if state.Trouble != "" {
		s.Wrap(2, "%s", s.Paint(render.Warn, "It could not take the changes back: "+render.Clean(state.Trouble)))
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

// watch switches the guard on with a change, where that is wanted or usual.
func (a *app) watch(r *machine.Root, s *render.Screen, c change.Change, w wish) {
	wanted := w.guard
	bears := slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.When == item.AtBoot && t.After != item.On })
	_, booted := os.Stat("/run/systemd/system")
	usual := wanted == guardAuto && r.Live() && booted == nil && a.casebook == ""
	if wanted == guardOff || !bears && wanted != guardOn || !usual && wanted != guardOn {
		return
	}
	text := "The boot guard is on: if the machine fails to become ready twice in a row, it takes the change back by itself."
	err := a.installGuard(r, c.ID)
	if err != nil {
		text = s.Paint(render.Warn, "The boot guard is not on: "+render.Clean(err.Error())+".")
	}
	if !w.amid || a.guardSaid != text {
		s.Wrap(2, "%s", text)
	}
	a.guardSaid = text
}

func (a *app) installGuard(r *machine.Root, id int64) error {
	if a.casebook != "" {
		return fmt.Errorf("it needs the casebook inside the machine, and --casebook names another")
	}
	program, err := ownProgram()
	if err != nil {
		return err
	}
	usual := time.Duration(0)
	if fit := boot.Fit(a.remember(r, ratedBoots).Boots, 1); len(fit) > 0 {
		usual = fit[0].Ready.Value
	}
	return guard.Install(r, program, id, usual, a.now())
}

// unwatch has the guard forget a change that was taken back.
func (a *app) unwatch(r *machine.Root, s *render.Screen, id int64) {
	if err := guard.Forget(r, id, a.now()); err != nil {
		s.Wrap(2, "%s", s.Paint(render.Warn, "The boot guard still guards change "+fmt.Sprint(id)+": "+render.Clean(err.Error())+"."))
	}
}

// guarded says what the guard has done, if the last changes are its; empty otherwise.
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
	return fmt.Sprintf("The boot guard took %s back on %s: the machine had not become ready twice in a row.", numbered(back), day(at))
}
