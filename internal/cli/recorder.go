package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/ledger"
	"calmdawn/internal/machine"
	"calmdawn/internal/recorder"
	"calmdawn/internal/render"
)

// recordedBoots is how many boots the recorder watches if nobody says
// otherwise: enough for before and after.
const recordedBoots = 20

func (a *app) recorderCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "recorder",
		Short: "Have the machine's boots watched until they are quiet",
		Long: `The recorder is a small service of ours. From early in a boot until the
machine is quiet it looks at what each service and each program of a login
uses of the processors and the disks, writes one record into the casebook, and
ends. What it used itself stands in the record. It stops recording by itself
after a number of boots.

It is put into the machine like any other change: recorded before, and taken
away exactly.`,
		Example: "  calmdawn recorder on\n  calmdawn recorder status\n  calmdawn recorder off\n  " +
			"calmdawn --root /mnt recorder on --boots 5",
		Args: noWords,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return usage("recorder takes on, off or status")
		},
	}
	var w wish
	boots := recordedBoots
	on := &cobra.Command{
		Use:               "on",
		Short:             "Put the recorder into the machine",
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		Example:           "  calmdawn recorder on --boots 10",
		RunE: func(*cobra.Command, []string) error {
			if boots < 1 || boots > 1000 {
				return usage("--boots takes a number from 1 to 1000, not %d", boots)
			}
			return a.recorderOn(w, boots)
		},
	}
	on.Flags().IntVar(&boots, "boots", recordedBoots, "record so `MANY` boots, then stop")
	off := &cobra.Command{
		Use:               "off",
		Short:             "Take the recorder away; its records stay",
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.recorderOff(w) },
	}
	for _, c := range []*cobra.Command{on, off} {
		c.Flags().BoolVarP(&w.yes, "yes", "y", false, "do it without asking")
	}
	status := &cobra.Command{
		Use:               "status",
		Short:             "Say whether it is on, and what it has recorded",
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.recorderStatus() },
	}
	cmd.AddCommand(on, off, status)
	return cmd
}

func recorderChange(at time.Time, from, to item.State, edits []change.Edit) change.Change {
	return change.Change{Verb: change.Record, MadeAt: at, MadeBy: whoami(), Edits: edits,
		Targets: []change.Target{
			{
				ID:     "recorder",
				Title:  "the boot recorder",
				Before: from,
				After:  to,
				When:   item.AtBoot,
			},
		}}
}

func (a *app) recorderOn(w wish, boots int) error {
	return a.alter(w.yes, func(d *desk) (plan, error) {
		s := a.screen()
		if recorder.StateOf(d.root).Armed {
			return plan{nothing: func() error {
				s.Line("Nothing to do: the recorder is on already. %s tells what it has "+
					"recorded.", a.call("recorder status"))
				return nil
			}}, nil
		}
		program, err := ownProgram()
		if err != nil {
			return plan{}, err
		}
		draft := d.root.Draft(d.at)
		// one that has recorded all it was to
		if err := recorder.Uninstall(draft, d.root); err != nil {
			return plan{}, err
		}
		if err := recorder.Install(draft, d.root, program, boots, d.at); err != nil {
			return plan{}, fmt.Errorf("the recorder cannot be put into this machine, so nothing "+
				"was changed: %w", err)
		}
		c := recorderChange(d.at, item.Off, item.On, draft.Edits())
		return a.recorderPlan(s, c,
			fmt.Sprintf("Putting the recorder in; it will watch %s:",
				count(boots, "boot", "boots"))), nil
	})
}

func (a *app) recorderOff(w wish) error {
	return a.alter(w.yes, func(d *desk) (plan, error) {
		for _, c := range slices.Backward(d.led.Changes()) {
			if c.Verb == change.Record && c.Stands() && len(c.Targets) > 0 &&
				c.Targets[0].After == item.On {
				return a.planUndo(d, []int64{c.ID}, undoing{})
			}
		}
		s, draft := a.screen(), d.root.Draft(d.at)
		if err := recorder.Uninstall(draft, d.root); err != nil {
			return plan{}, err
		}
		if len(draft.Edits()) == 0 {
			return plan{nothing: func() error {
				s.Line("Nothing to do: the recorder is not in this machine.")
				return nil
			}}, nil
		}
		c := recorderChange(d.at, item.On, item.Off, draft.Edits())
		return a.recorderPlan(s, c, "Taking the recorder away, which another casebook put in:"), nil
	})
}

func (a *app) recorderPlan(s *render.Screen, c change.Change, says string) plan {
	return plan{changes: []change.Change{c},
		show: func() {
			s.Say(render.Strong, "%s", says)
			a.showTargets(s, c)
			s.Line("It takes effect %s.", effect(c))
		},
		carry: func(d *desk) error {
			c, err := a.carryOut(d, s, c, wish{})
			if err != nil {
				return err
			}
			return a.done(s, c)
		}}
}

func (a *app) recorderStatus() error {
	r, err := a.open()
	if err != nil {
		return err
	}
	defer r.Close()
	state := recorder.StateOf(r)
	recorded, wrong := a.recordedBoots(r, 0)
	if a.json {
		d := document.Recorder{
			Format:    "calmdawn.recorder/1",
			Installed: state.Installed,
			Armed:     state.Armed,
			Boots:     len(recorded),
		}
		if n := len(recorded); n > 0 {
			d.Last = recorded[n-1].ID
		}
		return errors.Join(a.writeJSON(d), wrong)
	}
	s := a.screen()
	switch {
	case state.Armed:
		s.Say(render.Strong, "The recorder is on: the next boot is watched.")
	case state.Installed:
		s.Say(render.Strong, "The recorder has recorded what it was to, and starts no more.")
	default:
		s.Say(render.Strong, "The recorder is not in this machine.")
	}
	if n := len(recorded); n > 0 {
		last := recorded[n-1]
		s.Line("%s recorded, the last one of %s.", count(n, "boot is", "boots are"),
			day(last.Began))
		if own := last.Recording; own != nil {
			s.Wrap(2, "  In that one it used %s of processor time (%.2f %% of one processor) and "+
				"at most %s.", render.Millis(own.CPU),
				100*own.CPU.Seconds()/max(0.001, (own.Ended-own.Began).Seconds()),
				render.Bytes(own.Memory))
		}
		for _, note := range last.Notes {
			s.Wrap(2, "  Of that record: %s.", render.Clean(note))
		}
	} else {
		s.Line("No boot is recorded yet.")
	}
	if wrong != nil {
		s.Say(render.Warn, "%s", render.Clean(wrong.Error()))
	}
	switch {
	case state.Armed && len(recorded) == 0:
		s.Line("Next: restart the machine, then %s", a.call("boots"))
	case state.Armed || len(recorded) > 0:
		s.Line("Next: see the boots, with %s", a.call("boots"))
	default:
		s.Line("Next: %s", a.call("recorder on"))
	}
	return nil
}

// recordedBoots returns the records of the casebook, and of the machine's own
// one where another is used: the recorder knows only that.
func (a *app) recordedBoots(r *machine.Root, last int) ([]boot.Boot, error) {
	var all []boot.Boot
	var wrong error
	books := []casebook.Choice{a.book()}
	if a.casebook != "" {
		books = append(books, casebook.Choice{ThisMachine: a.thisMachine})
	}
	for _, choice := range books {
		book, err := casebook.Read(r, choice)
		if errors.Is(err, casebook.ErrNone) {
			continue
		}
		if err != nil {
			wrong = errors.Join(wrong, err)
			continue
		}
		boots, err := book.Boots(last)
		wrong = errors.Join(wrong, err, book.Close())
		all = append(all, boots...)
	}
	return all, wrong
}

// disarm has the recorder started no more.
func (a *app) disarm(r *machine.Root) error {
	led, err := ledger.Open(r, a.book(), a.now(), "recorder")
	if err != nil {
		return err
	}
	defer led.Close()
	c, err := recorder.Disarm(r.Draft(a.now()), a.now())
	if err == nil && len(c.Edits) > 0 {
		_, err = led.CarryOut(c)
	}
	return err
}

// ownProgram is this program's file, to be copied into a machine.
func ownProgram() ([]byte, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, err
	}
	program, err := os.ReadFile(own)
	if err != nil {
		return nil, fmt.Errorf("this program's own file cannot be copied into the machine: %w", err)
	}
	return program, nil
}

// recordCommand is what the recorder's unit calls.
func (a *app) recordCommand() *cobra.Command {
	var boots int
	var since string
	o := recorder.Options{}
	cmd := &cobra.Command{
		Use:    "record",
		Short:  "Watch the boot that is running (for the recorder's unit)",
		Hidden: true,
		Args:   noWords,
		RunE: func(*cobra.Command, []string) error {
			at, err := time.Parse(time.RFC3339, since)
			if err != nil && since != "" {
				return usage("--since takes an instant such as 2026-11-23T08:00:00Z, not %q", since)
			}
			return a.record(o, boots, at)
		},
	}
	cmd.Flags().IntVar(&boots, "boots", 0, "stop after so `MANY` recorded boots")
	cmd.Flags().StringVar(&since, "since", "", "count those since this `INSTANT`")
	cmd.Flags().DurationVar(&o.Longest, "longest", 10*time.Minute, "give up after `LONG` without "+
		"quiet")
	cmd.Flags().DurationVar(&o.LoginWait, "login-wait", 30*time.Minute, "wait so `LONG` for a "+
		"login where there is a login screen")
	return cmd
}

func (a *app) record(o recorder.Options, boots int, since time.Time) error {
	r, err := a.open()
	if err != nil {
		return err
	}
	defer r.Close()
	if !r.Live() {
		return usage("the recorder watches the machine that it runs on; it takes no --root")
	}
	recorder.Frugal()
	o.Save = func(b boot.Boot) error {
		book, err := casebook.Write(r, a.book())
		if err != nil {
			return err
		}
		defer book.Close()
		recorder.GiveBack()
		if err := book.AddBoot(b); err != nil {
			return err
		}
		recorder.GiveBack()
		n, err := book.BootsSince(since)
		if err != nil || boots == 0 || n < boots {
			return err
		}
		fmt.Fprintf(a.Err, "The last of %d boots is recorded; the next one is not watched.\n",
			boots)
		if !recorder.StateOf(r).Armed {
			return nil
		}
		return errors.Join(book.Close(), a.disarm(r))
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return recorder.Record(ctx, r, o)
}
