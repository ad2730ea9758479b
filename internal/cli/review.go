package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/review"
	"calmdawn/internal/visit"
)

func (a *app) reviewCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "review [FILE]",
		Short: "Decide item by item on the whole screen, with the forecast in sight",
		Long: `Review shows the list on the whole screen. Go down it with the arrows, decide
with single keys (o off, l later, b back on, e keep), and see at the foot what
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
	o := review.Options{Colour: a.colour(), UTF8: a.UTF8}
	l, err := a.look()
	if err != nil {
		return err
	}
	defer func() { l.Close() }()
	if l.Root.ReadOnly("/") {
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
	m := review.New(face{a}, l, o)
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
					count(n, "decision was not kept", "decisions were not kept"))
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
	return a.alter(false, func(d *visit.Session) (plan, error) {
		return a.planApply(d, p, v, func(s *render.Screen, t visit.Applying) {
			a.showPlan(s, t, v)
		})
	})
}

// showPlan says what carrying out a plan touches.
func (a *app) showPlan(s *render.Screen, t visit.Applying, v applyView) {
	var whole change.Change
	for _, c := range t.Changes {
		whole.Targets = append(whole.Targets, c.Targets...)
		whole.Edits = append(whole.Edits, c.Edits...)
	}
	how := ""
	if n := len(t.Groups(v.together)); n > 1 {
		how = fmt.Sprintf(", as %d changes", n)
	}
	s.Say(render.Strong, "Carrying out %s on %s%s:",
		count(len(t.Picked), "decision", "decisions"), machineName(t.Visit), how)
	a.showTargets(s, t.Visit, whole)
	for _, p := range t.Undo.Plans {
		s.Line("  Change %d is taken back.", p.Undoes)
	}
	a.showReasons(s, t.Visit, t.Picked, whole)
	a.showEdits(s, t.Root, whole)
	for _, r := range t.All {
		if !r.Now {
			continue
		}
		for _, line := range minds(t.Visit, r.Item, wish{turnWords: turnWords{to: r.To}}, whole) {
			if line.mind { // the others name flags, which are none here
				s.SayWrapped(4, render.Warn, "  %s", line.text)
			}
		}
	}
	a.foresee(s, t)
	if v.trial != "" {
		s.Line("It is on trial until %s.", date(v.trial))
	}
	s.Line("It takes effect %s.", effect(whole))
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

// A face is the app as a [review.Face].
type face struct{ *app }

func (a face) Page(s *render.Screen, l *visit.Visit, it item.Item) { a.show(s, l, it) }

func (a face) Cells(l *visit.Visit, it item.Item) review.Cells {
	wait := waitCell(l, it)
	if wait.Text == noneShown {
		wait.Text = "none" // which the page explains
	}
	return review.Cells{
		State:  render.Cell{Text: string(it.State), Tone: stateTone(it.State)},
		Grade:  gradeCell(l, it),
		Wait:   wait,
		Advice: render.Cell{Text: string(it.Advice), Tone: adviceTone(it.Advice)},
	}
}

func (a face) Forecast(l *visit.Visit, f change.Forecast) string {
	return forecastLine(f) + ofSimulated(l)
}

func (a face) Mind(l *visit.Visit, it item.Item, to item.State) string {
	var parts []string
	for _, line := range minds(l, it, wish{turnWords: turnWords{to: to}}, change.Change{}) {
		if line.mind {
			parts = append(parts, line.text)
		}
	}
	return strings.Join(parts, " ")
}

func (a face) Orders() []string {
	return []string{"cost", "wait", "cpu", "title", "maker", "state", "advice", "when", "owner"}
}

func (a face) Key(name string, l *visit.Visit, it item.Item) visit.Key {
	return orders[name](l, it)
}

func (a face) Folded(it item.Item) bool {
	return it.System || it.Ours || it.Aside || it.AdminToo
}

func (a face) Write(
	l *visit.Visit,
	file string,
	all []proposal.Decision,
	replace bool,
) error {
	p := proposal.Proposal{Machine: l.Host, Made: a.now()}
	for _, d := range all {
		if it, ok := l.Lookup(d.ID); ok {
			remarks := decisionOf(l, it)
			d.Title, d.Why, d.Forecast = remarks.Title, remarks.Why, remarks.Forecast
		}
		p.Decide = append(p.Decide, d)
	}
	text, err := proposal.Write(p)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(file); err == nil && !replace {
		return fs.ErrExist
	}
	err = ownfile.Write(file, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
	if err != nil {
		return fmt.Errorf("the plan cannot be written: %w", err)
	}
	return nil
}
