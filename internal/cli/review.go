package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/review"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

func (a *app) reviewCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "review [FILE]",
		Short: "Decide item by item on the whole screen, with the forecast in sight",
		Long: `Review shows the list on the whole screen. Go down it with the arrows, decide
with single keys (o off, l later, b back on, e keep). You see at the foot what
all decisions together would bring. ? shows all keys.

Nothing is changed meanwhile, and nothing is locked. c carries the plan out:
it leaves the screen, shows what it touches as disable does, and asks; undo
takes it back. w writes the plan to a file, as a proposal that apply takes;
with FILE such a plan is opened.`,
		Example: `  calmdawn review
  calmdawn --root /mnt review
  calmdawn review meridian.toml`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) > 1:
				return usage("review opens one plan, and %q is a second", args[1])
			case a.json:
				return usage("review is for people; list --json is for programs")
			case !a.Ask || !a.Terminal:
				return usage("review needs a terminal; calmdawn list shows the same as text")
			}
			return nil
		},
		ValidArgsFunction: files("toml"),
		RunE:              func(_ *cobra.Command, args []string) error { return a.review(args) },
	}
}

func (a *app) review(args []string) error {
	if a.verbose && term.IsTerminal(int(os.Stderr.Fd())) {
		return usage("the review fills the screen, so what --verbose tells has to go elsewhere: " +
			"calmdawn --verbose review 2> FILE")
	}
	o := review.Options{Colour: a.colour(), UTF8: a.UTF8, Calls: a.calls(), Now: a.now}
	l, err := a.look()
	if err != nil {
		return err
	}
	defer func() { l.Close() }()
	if why, _ := l.Frozen(); why != "" {
		o.ReadOnly = "Nothing can be changed on this disk now, since " + why
	} else if l.Root.ReadOnly("/") {
		o.ReadOnly = "The disk is mounted read-only"
	}
	if len(args) > 0 {
		p, err := openProposal(args[0])
		if err != nil {
			return err
		}
		o.File = args[0]
		for _, d := range p.Decide {
			if it, ok := l.Lookup(d.ID); ok {
				d.Title = it.Title
				o.Plan = append(o.Plan, d)
			} else {
				o.Unknown++
			}
		}
	}
	m := review.New(l, o)
	a.forgets = true // keys for the screen
	for {
		carry, caught, err := m.Run(a.In, a.Out)
		a.caught = caught
		switch {
		case err != nil:
			return err
		case carry == nil:
			if n := m.Decided(); n > 0 {
				fmt.Fprintf(a.Err, "Nothing was changed; %s.\n",
					say.Count(n, "decision was not kept", "decisions were not kept"))
			}
			return nil
		}
		err = a.carryPlan(*carry)
		switch {
		case err == nil:
			return nil
		case errors.Is(err, errDeclined):
			m.Say("Nothing was changed.")
			continue
		}
		a.complain(err)
		forget(a.In)
		fmt.Fprint(a.Err, "Enter goes back to the review; ctrl+d leaves. ")
		if _, wrong := bufio.NewReader(a.In).ReadString('\n'); wrong != nil {
			fmt.Fprintln(a.Err)
			return &status{code: exitFailed}
		}
		next, wrong := a.look() // as far as it was carried out
		if wrong != nil {
			return wrong
		}
		l.Close()
		l = next
		m.See(l)
	}
}

// carryPlan carries a plan out, as every command changes a machine.
func (a *app) carryPlan(c review.Carry) error {
	v := applyView{together: c.Together, insist: c.Insist, guard: string(c.Guard)}
	if c.Trial != "" {
		until, err := change.ParseTrial(c.Trial, a.now())
		if err != nil {
			return err
		}
		v.trial = until
	}
	p := proposal.Proposal{Decide: c.Plan}
	return a.alter(false, func(d *visit.Session) (action, error) {
		return a.planApply(d, p, v, func(s say.Page, t visit.Applying) {
			a.showPlan(s, t, v)
		})
	})
}

// showPlan says what carrying out a plan touches.
func (a *app) showPlan(s say.Page, t visit.Applying, v applyView) {
	say.ShowPlan(s, t, v.together, v.trial)
}

// openProposal reads and checks a file.
func openProposal(file string) (proposal.Proposal, error) {
	text, err := readProposal(file)
	if err != nil {
		return proposal.Proposal{}, err
	}
	p, err := proposal.Parse(text)
	if err != nil {
		err = fmt.Errorf("the proposal %s cannot be used: %w", file, err)
	}
	return p, err
}
