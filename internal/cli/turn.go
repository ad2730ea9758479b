package cli

import (
	"fmt"
	"maps"
	"os"
	"os/user"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// turnWords is what disable and enable say.
type turnWords struct {
	verb           change.Verb
	to             item.State
	doing, already string
	short, long    string
	example        string
}

var (
	disableWords = turnWords{
		verb: change.Disable, to: item.Off, doing: "Switching off", already: "off",
		short: "Switch items off, in a way that can be taken back",
		long: `Disable keeps the next boot or login from launching the given items. Nothing
is deleted: what is edited is recorded first, and undo restores it exactly.
All of it is done or none of it.

It shows what it will touch and asks; --yes answers for you. What runs now
goes on running, unless --stop is given.

Items are named by id, by a pattern with * in it, or by the same flags as in
list. What the machine or its user depends on (security, login, network,
sound, graphics, input, storage, …) is refused with the reason. --insist
switches it off all the same, and takes its id where several items are given.`,
		example: `  calmdawn disable service:star-index.service
  calmdawn disable 'service:cue-update*' program:cue-update-helper.desktop
  calmdawn disable --maker inkerholm --advice can-go
  calmdawn disable service:palisade.service --insist`,
	}
	enableWords = turnWords{
		verb: change.Enable, to: item.On, doing: "Switching on", already: "on",
		short: "Switch items on",
		long: `Enable makes the next boot or login launch the given items, as the operating
system would set that up. What was switched off by calmdawn is better taken
back exactly, with undo.`,
		example: `  calmdawn enable service:dome-viewer.service`,
	}
)

var delayWords = turnWords{
	verb: change.Delay, to: item.Delayed, doing: "Delaying", already: "delayed",
	short: "Have items start some time after the boot is ready, or after login",
	long: `Delay keeps the given items, but starts them only some time after the boot is
ready; programs of the desktop, after login. The machine needs no calmdawn for
that. What others need, and what a vendor's text pulls in, cannot be delayed.
Of a Windows disk only services can, by the time that Windows holds all such
back. It is taken back with undo like any change.`,
	example: `  calmdawn delay service:star-index.service
  calmdawn delay program:lanternfile.desktop@maria --by 3m
  calmdawn delay --role backup,sync --when boot`,
}

// A wish is what a call to disable, delay or enable asks for.
type wish struct {
	turnWords
	filter
	visit.Wish // of which the filter above is not filled in yet
	trial      string
	guard      string
	stop       bool
	yes        bool
}

// asked is the wish for the machine.
func (w wish) asked() visit.Wish {
	asked := w.Wish
	asked.Verb, asked.To, asked.Filter = w.verb, w.to, w.filter.Filter
	asked.Until, asked.Guard = w.trial, visit.Wanted(w.guard)
	return asked
}

func (a *app) turnCommand(w turnWords) *cobra.Command {
	wish := wish{turnWords: w}
	cmd := &cobra.Command{
		Use: string(w.verb) + " ITEM...", Short: w.short, Long: w.long, Example: w.example,
		Args: func(cmd *cobra.Command, args []string) error {
			switch chosen := len(args) > 0 || wish.filter.Chooses(); {
			case wish.Best && chosen:
				return usage("--best looks for items by itself; give it none")
			case !wish.Best && !chosen:
				return usage("%s takes items, or flags that choose some; calmdawn list shows "+
					"them", w.verb)
			}
			if w.to == item.Delayed && (wish.By < time.Second || wish.By > 24*time.Hour) {
				return usage("--by takes a time from 1s to 24h, not %s", wish.By)
			}
			if w.to != item.On {
				if err := checkGuard(&wish.guard); err != nil {
					return err
				}
			}
			if wish.trial != "" {
				until, err := change.ParseTrial(wish.trial, a.now())
				if err != nil {
					return usage("%w", err)
				}
				wish.trial = until
			}
			return wish.filter.Check()
		},
		ValidArgsFunction: a.completeIDs,
		RunE: func(_ *cobra.Command, args []string) error {
			wish.IDs, a.answered = args, wish.yes
			var err error
			if wish.Insist, err = insistsOn(wish.Insist, args); err != nil {
				return err
			}
			return a.turn(wish)
		},
	}
	wish.filter.flags(a, cmd)
	flags := cmd.Flags()
	flags.BoolVarP(&wish.yes, "yes", "y", false, "do it without asking")
	if w.to != item.On {
		flags.StringVar(&wish.guard, "guard", "", "have the boot guard take the change back if "+
			"the machine does not start: `WHEN` is auto, on or off")
	}
	flags.StringVar(&wish.trial, "trial", "", "put the change on trial until a `DAY`: 14d, 2w, "+
		"2026-12-07")
	if w.to == item.Delayed {
		flags.DurationVar(&wish.By, "by", time.Minute, "for how `LONG`: 90s, 5m")
	}
	if w.to != item.On {
		flags.StringSliceVar(&wish.Insist, "insist", nil, "do it to the protected item with this "+
			"`ID` all the same; alone: to the one given")
	}
	if w.to == item.Off {
		flags.BoolVar(&wish.Starters, "and-starters", false, "also switch off the sockets, paths "+
			"and timers that could start the items on demand")
		flags.BoolVar(&wish.Dependents, "and-dependents", false, "also switch off the items that "+
			"need the given ones")
		flags.BoolVar(&wish.Twins, "and-twins", false, "also switch off what else launches the "+
			"same programs, as far as that can be")
		flags.BoolVar(&wish.Best, "best", false, "the few items that bring most, of those that "+
			"can go by advice")
		flags.BoolVar(&wish.stop, "stop", false, "also stop what runs of it now, on the running "+
			"machine")
	}
	return cmd
}

func (a *app) turn(w wish) error {
	return a.alter(w.yes, func(d *visit.Session) (action, error) { return a.planTurn(d, w) })
}

// planTurn works out what turning the wished items means.
func (a *app) planTurn(d *visit.Session, w wish) (action, error) {
	t, err := d.PlanTurn(w.asked())
	if err != nil {
		return action{}, say.Insistable(err)
	}
	s, c := a.screen(), t.Change
	if len(c.Targets) == 0 {
		return action{nothing: func() error {
			all := "the item is"
			if n := len(t.Picked); n > 1 {
				all = fmt.Sprintf("all %d items are", n)
			}
			s.Line("Nothing to do: %s already %s.", all, w.already)
			if a.json {
				return a.writeJSON(document.NewChange(c))
			}
			return nil
		}}, nil
	}
	show := func() {
		say.ShowTurning(s, t, w.doing)
		if !w.yes { // this is told when it is done
			s.Line("It takes effect %s.", say.Effect(c))
		}
	}
	carry := func(d *visit.Session) error {
		c, err := a.carryOut(d, s, c, &t.Guard)
		if err != nil {
			return err
		}
		a.tellManager(d, s, c.Edits)
		if w.stop {
			stopNow(d, s, c)
		}
		if err := a.done(s, c); err != nil || a.json {
			return err
		}
		say.ShowJudged(s, t.Boots, d.Ledger.Changes(), a.now())
		return nil
	}
	return action{changes: []change.Change{c}, show: show, carry: carry}, nil
}

// insistItem stands for --insist without a value: on the one item given.
const insistItem = "."

// bareInsist gives each --insist that has no value the one that means the item
// given. A flag of pflag takes a value always or never.
func bareInsist(args []string) []string {
	args = slices.Clone(args)
	for i, arg := range args {
		if arg == "--" {
			break
		}
		if arg == "--insist" && (i+1 == len(args) || strings.HasPrefix(args[i+1], "-")) {
			args[i] += "=" + insistItem
		}
	}
	return args
}

// insistsOn are the words of what is insisted on.
func insistsOn(insist, items []string) ([]string, error) {
	if !slices.Contains(insist, insistItem) {
		return insist, nil
	}
	if len(insist) > 1 || len(items) != 1 || strings.Contains(items[0], "*") {
		return nil, usage("--insist alone means the one item given; where there are several, " +
			"repeat the id of what you insist on")
	}
	return items, nil
}

// tellManager has the running machine's service manager read changed unit files
// anew, and says where it was not told.
func (a *app) tellManager(d *visit.Session, s say.Page, edits []change.Edit) {
	if err := d.Reload(edits); err != nil {
		s.Say(render.Warn, "The service manager was not told to read its files anew: %s. It does "+
			"at the next boot.", render.Clean(err.Error()))
	}
}

// stopNow stops what runs now of a change, and says what was not stopped.
func stopNow(d *visit.Session, s say.Page, c change.Change) {
	if !d.Root.Live() {
		s.Say(render.Warn, "Nothing was stopped: that machine is not running.")
		return
	}
	left := d.Stop(c)
	for _, unit := range slices.Sorted(maps.Keys(left)) {
		s.Say(render.Warn, "%s was not stopped: %s", render.Clean(unit),
			render.Clean(left[unit].Error()))
	}
}

// whoami is the person behind the call: the one who became root, if that can be
// told.
func whoami() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}
