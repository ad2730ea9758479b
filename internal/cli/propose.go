package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"calmdawn/internal/say"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/document"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/shell"
	"calmdawn/internal/visit"
)

func (a *app) proposeCommand() *cobra.Command {
	var replace bool
	cmd := &cobra.Command{
		Use:   "propose [FILE]",
		Short: "Write down what could go or wait, as a file to edit and apply",
		Long: `Propose writes a text file with a decision for each item that can go or wait
by advice. Those come first that bring most by forecast, and those last that
somebody should look up. Edit it, keep it with the job, and apply it here or
to the next machine of the same kind. Without a name the text is printed.`,
		Example: `  calmdawn propose meridian.toml
  calmdawn apply meridian.toml`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("propose writes one file, and %q is a second", args[1])
			}
			if a.json {
				return usage("propose writes a text to edit; list --json and forecast --json are " +
					"for programs")
			}
			return nil
		},
		ValidArgsFunction: files("toml"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.propose(args, replace)
		},
	}
	cmd.Flags().BoolVar(&replace, "replace", false, "write over a file of that name")
	return cmd
}

func (a *app) propose(args []string, replace bool) error {
	l, err := a.lookAtBoots()
	if err != nil {
		return err
	}
	defer l.Close()
	p := say.Proposed(l, a.now())
	text, err := proposal.Write(p)
	if err != nil {
		return err
	}
	if len(args) == 0 {
		_, err := a.Out.Write(text)
		return err
	}
	if _, ok := shell.Word(args[0]); !ok {
		return usage("%q holds what no terminal shows; give the file another name", args[0])
	}
	if _, err := os.Lstat(args[0]); err == nil && !replace {
		return fmt.Errorf("%s is there already; give another name, or --replace to write over it",
			args[0])
	}
	if err := ownfile.Write(args[0], func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	}); err != nil {
		return fmt.Errorf("the proposal cannot be written: %w", err)
	}
	say.ShowProposed(a.screen(), l, p, args[0])
	return nil
}

// applyView is how a proposal is to be carried out.
type applyView struct {
	yes      bool
	next     bool
	together bool // as one change
	best     bool // in the place of a file: the few items that bring most
	insist   []string
	trial    string
	guard    string
}

func (a *app) applyCommand() *cobra.Command {
	var v applyView
	cmd := &cobra.Command{
		Use:   "apply FILE | --best",
		Short: "Carry out the decisions of a proposal",
		Long: `Apply carries out a proposal, each decision as a change of its own, in the
order of the file. What calmdawn switched off and the file switches on is taken
back exactly, before all else. What is as decided already is left alone; what does not
exist on this machine is named, and the exit status is then 4. What is
protected is refused before anything is done, unless you insist.

With --next only the first decision that is not carried out yet is: restart in
between, and compare can tell what each of them brought.

--best carries out what forecast --best shows, each item by its advice: off, or
later.`,
		Example: `  calmdawn apply meridian.toml
  calmdawn apply meridian.toml --next --yes
  calmdawn apply meridian.toml --trial 14d`,
		Args: func(_ *cobra.Command, args []string) error {
			if v.best && len(args) > 0 {
				return usage("--best looks for items by itself; give it no file")
			}
			if !v.best && len(args) != 1 {
				return usage(
					"apply takes the file of one proposal, which calmdawn propose FILE writes, " +
						"or --best",
				)
			}
			if err := checkGuard(&v.guard); err != nil {
				return err
			}
			if v.trial != "" {
				until, err := change.ParseTrial(v.trial, a.now())
				if err != nil {
					return usage("%w", err)
				}
				v.trial = until
			}
			return nil
		},
		ValidArgsFunction: files("toml"),
		RunE: func(_ *cobra.Command, args []string) error {
			if v.best {
				return a.applyBest(v)
			}
			return a.apply(args[0], v)
		},
	}
	cmd.Flags().BoolVarP(&v.yes, "yes", "y", false, "do it without asking")
	cmd.Flags().BoolVar(&v.best, "best", false, "carry out what forecast --best shows")
	cmd.Flags().BoolVar(&v.next, "next", false, "carry out only the first decision that is not "+
		"carried out yet")
	cmd.Flags().StringSliceVar(&v.insist, "insist", nil, "do it to the protected item with this "+
		"`ID` all the same")
	cmd.Flags().StringVar(&v.guard, "guard", "", "have the boot guard take the changes back if "+
		"the machine does not start: `WHEN` is auto, on or off")
	cmd.Flags().StringVar(&v.trial, "trial", "", "put the changes on trial until a `DAY`: 14d, "+
		"2w, 2026-12-07")
	return cmd
}

func (a *app) apply(file string, v applyView) error {
	p, err := openProposal(file)
	if err != nil {
		return err
	}
	show := func(s say.Page, t visit.Applying) { say.ShowProposal(s, t, p, file) }
	return a.alter(v.yes, func(d *visit.Session) (action, error) {
		next, err := a.planApply(d, p, v, show)
		if refused := (*visit.Refused)(nil); errors.As(err, &refused) {
			err = fmt.Errorf("%w\nnothing was changed; decide otherwise in %s", err, file)
		}
		return next, err
	})
}

// applyBest carries out what the few items that bring most are advised to
// become.
func (a *app) applyBest(v applyView) error {
	at := a.now() // the same where it is planned anew
	return a.alter(v.yes, func(d *visit.Session) (action, error) {
		l, best, err := d.PlanBest()
		if err != nil {
			return action{}, err
		}
		p := proposal.Proposal{Machine: l.Host, Made: at, Decide: best.Do}
		return a.planApply(d, p, v, func(s say.Page, t visit.Applying) {
			say.ShowPlan(s, t, v.together, v.trial)
		})
	})
}

// planApply works out what decisions mean on this machine; show says it.
func (a *app) planApply(
	d *visit.Session,
	p proposal.Proposal,
	v applyView,
	show func(say.Page, visit.Applying),
) (action, error) {
	t, err := d.PlanProposal(p, visit.Terms{
		Next:     v.next,
		Together: v.together,
		Insist: slices.DeleteFunc(slices.Clone(v.insist), func(id string) bool {
			return id == insistItem
		}),
		Until: v.trial,
		Guard: visit.Wanted(v.guard),
	})
	if refused := (*visit.Refused)(nil); errors.As(err, &refused) {
		return action{}, err
	}
	if err != nil {
		return action{}, a.calls().WithWays(a.calls().Refused(say.Insistable(err)))
	}
	if len(t.Picked) > 0 {
		if err := t.ReadBoots(); err != nil {
			return action{}, err
		}
	}
	s := a.screen()
	applied := document.NewApply()
	for _, r := range t.All {
		if !r.Here {
			applied.Missing = append(applied.Missing, r.ID)
		}
	}
	finish := func() error {
		if a.json {
			if err := a.writeJSON(applied); err != nil {
				return err
			}
		}
		if t.Missing > 0 {
			return &status{
				exitPartly,
				fmt.Errorf("%s not exist on this machine", say.Count(t.Missing,
					"item of the proposal does", "items of the proposal do")),
			}
		}
		return nil
	}
	if len(t.Picked) == 0 {
		return action{
			nothing: func() error { show(s, t); s.Line("Nothing to do."); return finish() },
		}, nil
	}
	carry := func(d *visit.Session) error {
		terms := change.Terms{Until: v.trial}
		if !v.together && !p.Made.IsZero() {
			terms.Proposal = fmt.Sprintf("%s %s", p.Machine, p.Made.UTC().Format(time.RFC3339))
		}
		done, err := a.applyAll(d, s, t, terms, v)
		var made []change.Change // what can be taken back again
		for _, c := range done {
			applied.Add(c)
			if c.Verb != change.Undo {
				made = append(made, c)
			}
		}
		if err != nil {
			return fmt.Errorf("%w\n%s carried out before it, and stand; %s lists them", err,
				say.Count(len(done), "decision was", "decisions were"), a.call("history"))
		}
		if len(done) == 0 {
			s.Line("Nothing was left to do.")
			return finish()
		}
		s.Line("")
		s.Say(render.Good, "Done, as %s: restart the machine when it suits, then %s.",
			change.Names(done), a.call("compare"))
		say.ShowJudged(s, t.Boots, d.Ledger.Changes(), a.now())
		if len(made) > 0 {
			s.Line("To take back what was done: %s", a.call("undo "+say.InWords(made)))
		}
		return finish()
	}
	return action{changes: t.Changes, show: func() { show(s, t) }, carry: carry}, nil
}

// applyAll takes changes back that decisions are about, and makes changes of
// the others.
func (a *app) applyAll(
	d *visit.Session,
	s say.Page,
	t visit.Applying,
	terms change.Terms,
	v applyView,
) (done []change.Change, err error) {
	if len(t.Picked) > 1 && !v.together {
		terms.Together = t.ForecastOfAll(t.All)
	}
	if done, err = a.takeEach(d, s, t.Undo.Plans, undoing{}); err != nil {
		return done, err
	}
	var made []change.Edit
	defer func() { a.tellManager(d, s, made) }()
	for _, group := range t.Groups(v.together) {
		id := group[0].ID
		if caught := d.Ledger.Caught(); caught != nil {
			return done, fmt.Errorf("%s: %s came in between", id, caught)
		}
		c, g, err := d.Decide(group, terms, visit.Wanted(v.guard))
		if err != nil {
			return done, fmt.Errorf("%s: %w", id, a.calls().WithWays(err))
		}
		if c.ID == 0 {
			continue
		}
		a.tellGuard(s, c, g)
		say.TellBeyond(s, g)
		done, made = append(done, c), append(made, c.Edits...)
		terms.Together = nil // it stands with the first of them
	}
	return done, nil
}

// readProposal reads a file that may be anything.
func readProposal(file string) ([]byte, error) {
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() {
		// a FIFO would keep us waiting
		return nil, fmt.Errorf("the proposal cannot be read: %s is not a regular file", file)
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("the proposal %s cannot be read; calmdawn propose FILE writes "+
			"one: %w", file, err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, proposal.MaxSize+1))
}
