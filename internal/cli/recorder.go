package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/document"
	"calmdawn/internal/recorder"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// recordedBoots is how many boots the recorder watches if nobody says
// otherwise: enough for before and after.
const recordedBoots = 20

func (a *app) recorderCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "recorder",
		Short: "Have the machine's boots watched until they are quiet",
		Long: `The recorder is a small service of ours. From early in a boot until the
machine is quiet it looks on. It notes what each service and each program of a
login uses of the processors and the disks. Then it writes one record into the
casebook, and ends. What it used itself stands in the record. It stops
recording by itself after a number of boots.

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

func (a *app) recorderOn(w wish, boots int) error {
	return a.alter(w.yes, func(d *visit.Session) (action, error) {
		s := a.screen()
		c, err := d.PlanRecorder(boots)
		if err != nil {
			return action{}, err
		}
		if len(c.Edits) == 0 {
			return action{nothing: func() error {
				s.Line("Nothing to do: the recorder is on already. %s tells what it has "+
					"recorded.", a.call("recorder status"))
				return nil
			}}, nil
		}
		return a.recorderAction(s, c,
			fmt.Sprintf("Putting the recorder in; it will watch %s:",
				say.Count(boots, "boot", "boots"))), nil
	})
}

func (a *app) recorderOff(w wish) error {
	return a.alter(w.yes, func(d *visit.Session) (action, error) {
		s := a.screen()
		undo, c, err := d.PlanRecorderOff()
		switch {
		case err != nil:
			return action{}, err
		case undo != 0:
			return a.planUndo(d, []int64{undo}, undoing{})
		case len(c.Edits) == 0:
			return action{nothing: func() error {
				s.Line("Nothing to do: the recorder is not in this machine.")
				return nil
			}}, nil
		}
		return a.recorderAction(s, c,
			"Taking the recorder away, which another casebook put in:"), nil
	})
}

func (a *app) recorderAction(s say.Page, c change.Change, says string) action {
	return action{changes: []change.Change{c},
		show: func() {
			s.Say(render.Strong, "%s", says)
			say.ShowTargets(s, nil, c)
			say.ShowEdits(s, nil, c)
			s.Line("It takes effect %s.", say.Effect(c))
		},
		carry: func(d *visit.Session) error {
			c, err := a.carryOut(d, s, c, nil)
			if err != nil {
				return err
			}
			a.tellManager(d, s, c.Edits)
			return a.done(s, c)
		}}
}

func (a *app) recorderStatus() error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	kit, err := m.Recorder()
	if err != nil {
		return err
	}
	state := kit.StateOf(m.Root)
	recorded, wrong := m.Recorded(0)
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
	say.ShowRecorder(a.screen(), state, recorded, wrong)
	return nil
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
		"login where somebody can log in")
	return cmd
}

func (a *app) record(o recorder.Options, boots int, since time.Time) error {
	m, err := a.site().Open()
	if err != nil {
		return err
	}
	defer m.Close()
	if !m.Root.Live() {
		return usage("the recorder watches the machine that it runs on; it takes no --root")
	}
	kit, err := m.Recorder()
	if err != nil {
		return err
	}
	recorder.Frugal()
	o.Save = func(b boot.Boot) error {
		book, err := m.Write()
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
		if !kit.StateOf(m.Root).Armed {
			return nil
		}
		return errors.Join(book.Close(), m.Disarm(a.now()))
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return kit.Watch(ctx, m.Root, o)
}
