package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/demo"
	"calmdawn/internal/render"
)

// A step of the walk through the job: what one wants to know, and the words of the call.
type step struct{ say, call string }

var walk = []step{
	{"Where does this machine stand?", ""},
	{"What does it launch by itself? The operating system's own parts are folded.", "list"},
	{"What is the star-catalogue indexer, and why does it start?", "show service:star-index.service"},
	{"One updater sits in three places. Switch all three off, in one change.",
		"disable service:cue-update.service program:cue-update-helper.desktop task:/etc/cron.d/cue-update#f31b --yes"},
	{"The indexer is needed at night, not when the desk opens.", "disable service:star-index.service --yes"},
	{"What is off now?", "list --state off"},
	{"The desk wants the updater back: taken back exactly, though another change came later.", "undo 1 --yes"},
	{"What was done to this machine?", "history"},
}

func (a *app) demoCommand() *cobra.Command {
	var keep string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Walk through the job on a made-up machine",
		Long: `Demo makes the machine "meridian", the visitor-desk computer of a made-up observatory, in a
temporary folder, walks through the job with it, showing each call and what it really
prints, and clears up. Nothing outside that folder is touched.`,
		Example: `  calmdawn demo
  calmdawn demo --keep /tmp/meridian         make the machine only, to play with
  calmdawn --root /tmp/meridian list`,
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			if keep != "" {
				return a.keepDemo(keep)
			}
			return a.demo()
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "make the machine in `DIR`, which must be missing or empty, and leave it there")
	return cmd
}

func (a *app) keepDemo(dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if err := demo.Make(dir); err != nil {
		return err
	}
	on := *a
	on.dir, on.casebook = dir, ""
	s := a.screen()
	s.Line("The demo machine stands in %s.", dir)
	s.Line("Next: %s", on.call("list"))
	return nil
}

func (a *app) demo() error {
	dir, err := os.MkdirTemp("", "meridian-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	if err := demo.Make(dir); err != nil {
		return err
	}
	s := a.screen()
	s.Wrap(0, `A made-up machine: "meridian", the visitor-desk computer of Brightwell Observatory, in %s. Two people log in there: maria (front desk) and teo (exhibits).`, dir)
	for _, st := range walk {
		s.Line("")
		s.Line("%s", s.Paint(render.Good, "# "+st.say))
		s.Line("%s", s.Paint(render.Good, strings.TrimSpace("$ calmdawn --root "+dir+" "+st.call)))
		args := append([]string{"--root", dir, "--color", a.color}, strings.Fields(st.call)...)
		if code := Run(args, a.Streams); code != 0 {
			return fmt.Errorf("the demo stopped: that call ended with exit status %d", code)
		}
	}
	s.Line("")
	s.Line("That was the job so far. The folder is gone again; to play with such a machine:")
	s.Line("  calmdawn demo --keep /tmp/meridian")
	return nil
}
