package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/demo"
	"calmdawn/internal/guard"
	"calmdawn/internal/ledger"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/shell"
	"calmdawn/internal/visit"
)

// A step of the walk through the job: what one wants to know, and the words of
// the call. Or it is so many restarts, one on each of the following mornings.
type step struct {
	say, call string
	restarts  int
}

// walk is the job from begin to end; help tells what lies beside it.
var walk = []step{
	{say: "Where does this machine stand?"},
	{say: "What were people waiting for in its last boot?", call: "boots last"},
	{
		say:  "What could go or wait, of all that it launches? The costliest first.",
		call: "list --advice \"can go,can wait\"",
	},
	{
		say:  "What is that sync which starts when maria logs in, and what does it cost?",
		call: "show program:lanternfile.desktop@maria",
	},
	{
		say:  "The sync is wanted, but not while somebody waits for the desk.",
		call: "delay program:lanternfile.desktop@maria --by 5m --trial 14d --yes",
	},
	{say: "One updater sits in three places. Switch all three off, in one change.",
		call: "disable service:cue-update.service program:cue-update-helper.desktop " +
			"task:/etc/cron.d/cue-update#f31b --yes"},
	{say: "Indexer and cache are needed at night, not when the desk opens.",
		call: "disable service:star-index.service service:star-cache.service --yes"},
	{say: "The desk's computer is switched on, on each of the next five mornings.", restarts: 5},
	{say: "Did it help, and what is the difference made of?", call: "compare"},
	{say: "Written down for the customer.", call: "report DIR/meridian.html"},
	{
		say: "The desk wants the updater back: taken back exactly, though another change came " +
			"later.",
		call: "undo 2 --yes",
	},
	{say: "And now?"},
}

// shopWalk is that of the Windows machine.
var shopWalk = []step{
	{say: "Where does the shop's till stand, whose disk is on the bench?"},
	{say: "What could go or wait, of all that it launches?",
		call: "list --advice \"can go,can wait\""},
	{
		say:  "What is this updater, and what else launches it?",
		call: "show program:run/Cue-Update#24a5",
	},
	{say: "Off with it, and with what else launches the same program, as far as that can be.",
		call: "disable program:run/Cue-Update#24a5 --and-twins --yes"},
	{say: "Two makers advertise themselves at each login.",
		call: "disable program:run32/Inkerholm-Offers#19e0 program:run/Varnholt-Tips* --yes"},
	{say: "The loan-telescope database is wanted, but not while somebody waits for the till.",
		call: "delay service:LoanDesk --trial 14d --yes"},
	{say: "What was done, and where does it stand in the registry?", call: "history 1"},
	{say: "The till is switched on, on each of the next six mornings.", restarts: 6},
	{say: "Did it help?", call: "compare"},
	{say: "The shop wants the updater back: taken back exactly.", call: "undo 1 --yes"},
	{say: "And now?", call: "history"},
}

// manyWalk is that of forty machines in one store.
var manyWalk = []step{
	{say: "Bring together what forty machines delivered: lists and casebooks.",
		call: "workshop add DIR/lists DIR/casebooks --workshop DIR/workshop.db"},
	{say: "For what do people wait longest, over all machines?",
		call: "workshop costs --workshop DIR/workshop.db"},
	{say: "Which machines became slower since May 4, and what do they share?",
		call: "workshop slower --since 2026-05-04 --workshop DIR/workshop.db"},
	{say: "Who has the remote help that nobody could explain?",
		call: "workshop who handrail --workshop DIR/workshop.db"},
	{say: "What did it bring to switch things off, and was it missed?",
		call: "workshop effects --workshop DIR/workshop.db"},
	{say: "What came back by itself?", call: "workshop returned --workshop DIR/workshop.db"},
	{say: "Where is most to be gained?", call: "workshop visits --workshop DIR/workshop.db"},
}

func (a *app) demoCommand() *cobra.Command {
	var keep, family string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Walk through the job on a made-up machine",
		Long: `Demo makes the machine "meridian", the visitor-desk computer of a made-up
observatory, in a temporary folder. It walks through the job with it, shows
each call with what it really prints, and clears up. Nothing outside that
folder is touched. With --family windows it is "gnomon", the disk of its
shop's till.

No hardware stands behind that machine: its boots are simulated, and labelled
so wherever their figures are shown.`,
		Example: `  calmdawn demo
  calmdawn demo --family windows
  calmdawn demo --keep /tmp/meridian         make the machine only, to play with
  calmdawn --root /tmp/meridian list
  calmdawn demo --keep /tmp/gnomon --family windows
  calmdawn demo reboot /tmp/meridian         restart it, as a simulation`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			if family != "linux" && family != "windows" {
				return usage("--family takes linux or windows, not %q", family)
			}
			on := "--root DIR "
			if keep != "" {
				return a.keepDemo(keep, family)
			}
			if family == "windows" {
				return a.walk("gnomon", demo.MakeWindows, on, shopWalk, `A made-up machine: `+
					`"gnomon", the till of Brightwell Observatory's shop, in %s. Two people log `+
					`in there: nora and ivo. Its boots are simulated.`)
			}
			return a.walk("meridian", demo.Make, on, walk, `A made-up machine: "meridian", the `+
				`visitor-desk computer of Brightwell Observatory, in %s. Two people log in there: `+
				`maria (front desk) and teo (exhibits). Its boots are simulated.`)
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "make the machine in `DIR`, which must be missing "+
		"or empty, and leave it there")
	cmd.Flags().StringVar(&family, "family", "linux", "of which `KIND` the machine is: linux, "+
		"or windows (the shop's till)")
	cmd.AddCommand(a.rebootCommand(), a.demoWorkshop())
	return cmd
}

func (a *app) demoWorkshop() *cobra.Command {
	keep := ""
	cmd := &cobra.Command{
		Use:   "workshop",
		Short: "Bring forty made-up machines together, and ask what they have in common",
		Long: `Workshop makes what forty machines delivered, in a temporary folder: two surveys
of each, and casebooks of some. It brings them into one store, asks what it
tells, and clears up. Two bad updates are among them.`,
		Example: "  calmdawn demo workshop\n  calmdawn demo workshop --keep /tmp/houses",
		Args:    noWords,
		RunE: func(*cobra.Command, []string) error {
			if keep == "" {
				make := func(dir string, _ time.Time) error { return demo.MakeMany(dir) }
				return a.walk("houses", make, "", manyWalk, `Forty made-up machines, of `+
					`the three houses of Brightwell Observatory, in %s. Their boots are made up.`)
			}
			if err := demo.MakeMany(keep); err != nil {
				return err
			}
			a.screen().Line("What forty machines delivered stands in %s.", keep)
			a.screen().Line("Next: %s", shell.Command("calmdawn", "workshop", "add", keep,
				"--workshop", filepath.Join(keep, "workshop.db")))
			return nil
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "make them in `DIR`, which must be missing or empty, "+
		"and leave them there")
	return cmd
}

func (a *app) rebootCommand() *cobra.Command {
	var times int
	cmd := &cobra.Command{
		Use:   "reboot DIR",
		Short: "Restart the demo machine that stands in DIR, as a simulation",
		Long: `Reboot reads what the demo machine in DIR would launch from its files, or its
registry, as they are now. It plays a boot through on two imagined processors,
and writes it into the machine's log. It is a simulation, with noise as real
boots have it, and it is labelled as one. A machine that was on today is
restarted the next morning, and its clock goes with it.`,
		Example: "  calmdawn demo reboot /tmp/meridian\n  calmdawn demo reboot /tmp/meridian " +
			"--times 4",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("reboot takes the folder of a demo machine; calmdawn demo --keep " +
					"DIR makes one")
			}
			if times < 1 || times > 100 {
				return usage("--times takes a number from 1 to 100, not %d", times)
			}
			return nil
		},
		ValidArgsFunction: first(folders),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.reboot(args[0], times)
		},
	}
	cmd.Flags().IntVar(&times, "times", 1, "restart it `N` times")
	return cmd
}

// reboot restarts the demo machine, once a morning.
func (a *app) reboot(dir string, times int) error {
	s := a.screen()
	boots, till := demo.Boots, demo.IsTill(dir)
	if till {
		boots = demo.TillBoots
	}
	for range times {
		n, last, err := boots(dir)
		if err != nil {
			return err
		}
		at := demo.NextBoot(last, a.Now())
		if till {
			usable, err := demo.RebootTill(dir, at, uint64(n+1))
			if err != nil {
				return err
			}
			s.Line("The boot of %s, simulated: usable after %s.", say.Day(at),
				render.Duration(usable))
			if err := demo.SetClock(dir, at, a.Now()); err != nil {
				return err
			}
			continue
		}
		b, err := demo.Reboot(dir, at, uint64(n+1))
		if err != nil {
			return err
		}
		s.Line("The boot of %s, simulated: %s.", say.Day(at), say.Outcome(b))
		if err := errors.Join(demo.SetClock(dir, at, a.Now()), goodBoot(dir, at)); err != nil {
			return err
		}
	}
	return nil
}

// goodBoot has a boot guard go, as it does from a machine that has become
// ready.
func goodBoot(dir string, at time.Time) error {
	m, err := visit.Site{Dir: dir}.Open()
	if err != nil {
		return err
	}
	defer m.Close()
	led, err := ledger.Open(m.Root, casebook.Inside, at, guard.By)
	if err != nil {
		return err
	}
	defer led.Close()
	return guard.Remove(m.Guard(), led, m.Root, at)
}

// wordsOf parts a call of the walk into its words, as a shell would.
func wordsOf(call string) (words []string) {
	for i, part := range strings.Split(call, `"`) {
		if i%2 == 1 {
			words = append(words, part)
			continue
		}
		words = append(words, strings.Fields(part)...)
	}
	return words
}

func (a *app) keepDemo(dir, family string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	make := demo.Make
	if family == "windows" {
		make = demo.MakeWindows
	}
	if err := make(dir, a.Now()); err != nil {
		return err
	}
	on := *a
	on.dir, on.casebook = dir, ""
	s := a.screen()
	s.Line("The demo machine stands in %s.", dir)
	s.Line("Next: %s", on.call(""))
	return nil
}

// walk makes a machine, and takes its steps on it; intro says which it is, and
// has %s for where.
func (a *app) walk(
	name string,
	make func(string, time.Time) error,
	on string,
	steps []step,
	intro string,
) error {
	dir, err := os.MkdirTemp("", name+"-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	state := dir + ".state" // beside the machine, and not in the technician's own
	defer os.RemoveAll(state)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	const mornings = 5
	clock := demo.Morning(a.Now(), -mornings-1).Add(150 * time.Minute) // the walk ends yesterday
	if err := make(dir, clock); err != nil {
		return err
	}
	s := a.screen()
	s.Wrap(0, intro, dir)
	streams := a.Streams
	streams.State = state
	streams.Now = func() time.Time { return clock }
	run := func(words string) error {
		clock = clock.Add(time.Minute)
		args := append([]string{"--color", a.color}, wordsOf(words)...)
		if code := Run(args, streams); code != 0 {
			return fmt.Errorf("the demo stopped: that call ended with exit status %d", code)
		}
		return nil
	}
	for _, st := range steps {
		words := strings.TrimSpace(strings.ReplaceAll(on+st.call, "DIR", dir))
		if st.restarts > 0 {
			words = "demo reboot " + dir
		}
		s.Line("")
		s.Say(render.Good, "%s", "# "+st.say)
		s.Say(render.Good, "%s", "$ calmdawn "+words)
		for range max(1, st.restarts) {
			if st.restarts > 0 {
				clock = demo.Morning(clock, 1)
			}
			if err := run(words); err != nil {
				return err
			}
		}
	}
	s.Line("")
	s.Line("That was the job so far. The folder is gone again; to play with such a machine:")
	s.Line("  calmdawn demo%s --keep %s", map[string]string{
		"gnomon": " --family windows", "houses": " workshop",
	}[name], filepath.Join("/tmp", name))
	return nil
}
