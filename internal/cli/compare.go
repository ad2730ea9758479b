package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/linux"
	"calmdawn/internal/render"
)

func (a *app) compareCommand() *cobra.Command {
	odd := false
	cmd := &cobra.Command{
		Use:   "compare",
		Short: "Compare the boots before the last change with those after it",
		Long: `Compare takes the boots that the machine remembers from before the last change and those from
after it, and says whether they differ: faster, slower, no difference shown, or too few boots.
Changes with no boot between them count as one. The verdict is on ready; it is "faster" only
if the boots bear it out with at least 95 % confidence. That takes four boots on each side, or
five before and three after.`,
		Example:           "  calmdawn compare\n  calmdawn compare --json",
		Args:              noWords,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(*cobra.Command, []string) error { return a.compare(odd) },
	}
	cmd.Flags().BoolVar(&odd, "odd", false, "take odd boots too, which are left out otherwise")
	return cmd
}

// A comparison is what is known of the boots around the last change.
type comparison struct {
	changes []change.Change // those that count as one, oldest first
	sides   compare.Sides
	ready   compare.Result
}

// comparison reads boots and changes; without a change there is nothing to compare.
func (a *app) comparison(boots []boot.Boot, changes []change.Change) (comparison, bool) {
	var c comparison
	var done []change.Change
	var at []time.Time
	for _, ch := range changes {
		if ch.Status == change.Done && !aboutRecorder(changes, ch) {
			done = append(done, ch)
			at = append(at, ch.MadeAt)
		}
	}
	if len(done) == 0 {
		return c, false
	}
	c.sides = compare.Split(boots, at)
	c.ready = compare.Compare(compare.Ready(c.sides.Before), compare.Ready(c.sides.After))
	for _, ch := range slices.Backward(done) {
		after := func(b boot.Boot) bool { return b.Began.After(ch.MadeAt) && b.Began.Before(done[len(done)-1].MadeAt) }
		if slices.ContainsFunc(boots, after) {
			break
		}
		c.changes = append([]change.Change{ch}, c.changes...)
	}
	return c, true
}

// aboutRecorder reports whether a change put the recorder in, or took it away: the boots before and after it are of the same machine.
func aboutRecorder(changes []change.Change, c change.Change) bool {
	return c.Verb == change.Record || c.Verb == change.Undo && slices.ContainsFunc(changes, func(o change.Change) bool {
		return o.ID == c.Undoes && o.Verb == change.Record
	})
}

// names says "change 3" or "changes 1, 2 and 3".
func (c comparison) names() string {
	var ids []string
	for _, ch := range c.changes {
		ids = append(ids, fmt.Sprint(ch.ID))
	}
	if len(ids) == 1 {
		return "change " + ids[0]
	}
	return "changes " + strings.Join(ids[:len(ids)-1], ", ") + " and " + ids[len(ids)-1]
}

// answer says the verdict in a sentence.
func (c comparison) answer() string {
	how := simulated(slices.Concat(c.sides.Before, c.sides.After))
	r := c.ready
	switch r.Verdict {
	case compare.Faster, compare.Slower:
		near, far := min(max(r.Low, -r.Low), max(r.High, -r.High)), max(r.Low, -r.Low, r.High, -r.High)
		return fmt.Sprintf("Ready is %s by %s since %s (between %s and %s%s).", r.Verdict, render.Duration(r.Estimate), c.names(), render.Duration(near), render.Duration(far), how)
	case compare.NoDifference:
		return fmt.Sprintf("No difference shown since %s: ready changed by something between %s and %s%s.", c.names(), signed(r.Low), signed(r.High), how)
	}
	if r.Before.N+r.After.N == 0 {
		return fmt.Sprintf("Too few boots to tell what %s did: none is remembered that could be compared.", c.names())
	}
	return fmt.Sprintf("Too few boots to tell what %s did: %s before and %s after%s; %s.", c.names(), count(r.Before.N, "boot", "boots"), count(r.After.N, "boot", "boots"), how, c.missing())
}

// forecast is what was forecast when the change was made; nil where nothing was, or several changes count as one.
func (c comparison) forecast() *change.Forecast {
	if len(c.changes) != 1 {
		return nil
	}
	return c.changes[0].Forecast
}

// kept says whether what came out lies within what was forecast.
func (c comparison) kept(f change.Forecast) string {
	if c.ready.Before.N == 0 || c.ready.After.N == 0 {
		return ""
	}
	saved := c.ready.Before.Median - c.ready.After.Median
	verdict := "outside that range"
	if saved >= f.Low && saved <= f.High || f.AtLeast && saved >= f.Low {
		verdict = "within that range"
	}
	return fmt.Sprintf(" Measured so far: %s, %s.", signed(-saved), verdict)
}

// missing says what it takes for a verdict.
func (c comparison) missing() string {
	if c.ready.Missing > 0 {
		return fmt.Sprintf("%s after would do", count(c.ready.Missing, "more boot", "more boots"))
	}
	return "there are too few from before, which cannot be made up unless the change is undone"
}

// shift shows a difference as it stands in a column, with its sign.
func shift(d time.Duration) string {
	if d = d.Round(100 * time.Millisecond); d == 0 {
		return render.Seconds(0)
	}
	return fmt.Sprintf("%+.1f s", d.Seconds())
}

func signed(d time.Duration) string {
	if d < 0 {
		return "-" + render.Duration(d)
	}
	return "+" + render.Duration(d)
}

func (a *app) compare(odd bool) error {
	r, err := a.open()
	if err != nil {
		return err
	}
	defer r.Close()
	changes, err := a.readChanges(r)
	if err != nil {
		return err
	}
	found := a.remember(r, 0)
	boots := slices.Clone(found.Boots)
	for i := range boots {
		if odd && boots[i].Ready.Known {
			boots[i].Odd = nil
		}
	}
	c, ok := a.comparison(boots, changes)
	if !ok {
		return fmt.Errorf("no change was made to this machine, so there is no before and after; %s shows its boots", a.call("boots"))
	}
	if a.json {
		return a.writeJSON(c.document())
	}
	a.showComparison(a.screen(), c, found)
	return nil
}

func (a *app) showComparison(s *render.Screen, c comparison, found linux.Boots) {
	s.Line("%s", s.Paint(render.Strong, c.answer()))
	s.Line("")
	for _, ch := range c.changes {
		s.Line("  change %d, %s: %s", ch.ID, day(ch.MadeAt), what(ch))
	}
	if f := c.forecast(); f != nil {
		s.Wrap(2, "  %s%s", forecastLine(*f), c.kept(*f))
	}
	s.Line("")
	if s.Figures() && c.ready.Before.N > 0 && c.ready.After.N > 0 {
		a.strips(s, c)
	}
	var rows [][]render.Cell
	for _, m := range c.milestones() {
		difference := ""
		if m.before.N > 0 && m.after.N > 0 {
			difference = shift(m.after.Median - m.before.Median)
		}
		rows = append(rows, []render.Cell{render.C(m.name), render.C(median(m.before)), render.C(median(m.after)), render.C(difference)})
	}
	s.Table([]render.Column{{Title: "MEDIAN OF"}, {Title: "BEFORE", Right: true}, {Title: "AFTER", Right: true}, {Title: "DIFFERENCE", Right: true}}, rows)
	s.Line("")
	for _, b := range c.sides.LeftOut {
		s.Wrap(2, "Left out: the boot of %s, since %s.", day(b.Began), render.Clean(strings.Join(b.Odd, "; ")))
	}
	if len(c.sides.LeftOut) > 0 {
		s.Line("To take them all the same: %s", a.call("compare --odd"))
	}
	a.unreadLog(s, found)
	last := c.changes[len(c.changes)-1]
	switch {
	case c.ready.Missing > 0:
		s.Line("Next: restart the machine %s, then %s", count(c.ready.Missing, "more time", "more times"), a.call("compare"))
	case last.Stands() && c.ready.Verdict != compare.Faster:
		s.Line("Next: keep it, or take it back with %s", a.call(fmt.Sprintf("undo %d", last.ID)))
	default:
		s.Line("Next: look for more, with %s", a.call("list"))
	}
}

func median(side compare.Side) string {
	if side.N == 0 {
		return ""
	}
	return render.Seconds(side.Median)
}

// strips draws the boots of both sides as points above each other, on one axis.
func (a *app) strips(s *render.Screen, c comparison) {
	b, f := c.ready.Before, c.ready.After
	low, high := min(b.Least, f.Least), max(b.Most, f.Most)
	margin := max((high-low)/20, 100*time.Millisecond)
	low, high = max(0, low-margin), high+margin
	columns := max(20, min(100, s.Width()-24))
	s.Line("  before  %s  %s", s.Points(compare.Ready(c.sides.Before), low, high, columns), count(b.N, "boot", "boots"))
	s.Line("  after   %s  %s", s.Paint(render.Good, s.Points(compare.Ready(c.sides.After), low, high, columns)), count(f.N, "boot", "boots"))
	left, right := render.Seconds(low), render.Seconds(high)
	s.Line("  ready   %s%s%s", left, strings.Repeat(" ", max(1, columns-len(left)-len(right))), right)
	s.Line("")
}

// A milestone is one figure of both sides.
type milestone struct {
	name          string
	before, after compare.Side
}

// milestones are ready, and the phases that were measured on both sides.
func (c comparison) milestones() []milestone {
	all := []milestone{{"ready", c.ready.Before, c.ready.After}}
	settled := func(boots []boot.Boot) (d []time.Duration) {
		for _, b := range boots {
			if b.Settled.FromReady.Known {
				d = append(d, b.Ready.Value+b.Settled.FromReady.Value)
			}
		}
		return d
	}
	if r := compare.Compare(settled(c.sides.Before), settled(c.sides.After)); r.Before.N > 0 || r.After.N > 0 {
		all = append(all, milestone{"settled", r.Before, r.After})
	}
	for _, name := range boot.PhaseNames {
		took := func(boots []boot.Boot) (d []time.Duration) {
			for _, b := range boots {
				if f := b.Phase(name); f.Known {
					d = append(d, f.Value)
				}
			}
			return d
		}
		r := compare.Compare(took(c.sides.Before), took(c.sides.After))
		if r.Before.N > 0 || r.After.N > 0 {
			all = append(all, milestone{name, r.Before, r.After})
		}
	}
	return all
}

type compareJSON struct {
	Format     string          `json:"format"`
	Changes    []int64         `json:"changes"`
	Before     sideJSON        `json:"before"`
	After      sideJSON        `json:"after"`
	Simulated  bool            `json:"simulated"`
	Milestones []milestoneJSON `json:"milestones"`
}

type sideJSON struct {
	Boots   []string      `json:"boots"`
	LeftOut []leftOutJSON `json:"left_out"`
}

type leftOutJSON struct {
	ID      string   `json:"id"`
	Reasons []string `json:"reasons"`
}

type milestoneJSON struct {
	Name       string          `json:"name"`
	Before     countJSON       `json:"before"`
	After      countJSON       `json:"after"`
	Difference *differenceJSON `json:"difference,omitempty"`
	Verdict    compare.Verdict `json:"verdict,omitempty"`
}

type countJSON struct {
	N      int      `json:"n"`
	Median *float64 `json:"median,omitempty"`
}

type differenceJSON struct {
	Estimate float64  `json:"estimate"`
	Low      *float64 `json:"low,omitempty"`
	High     *float64 `json:"high,omitempty"`
}

func (c comparison) document() compareJSON {
	d := compareJSON{Format: "calmdawn.compare/1", Changes: []int64{}}
	first := c.changes[0].MadeAt
	d.Before, d.After = sideOf(c.sides.Before), sideOf(c.sides.After)
	for _, b := range c.sides.LeftOut {
		side := &d.After
		if b.Began.Before(first) {
			side = &d.Before
		}
		side.LeftOut = append(side.LeftOut, leftOutJSON{b.ID, b.Odd})
	}
	for _, b := range slices.Concat(c.sides.Before, c.sides.After) {
		d.Simulated = d.Simulated || b.Simulated
	}
	for _, ch := range c.changes {
		d.Changes = append(d.Changes, ch.ID)
	}
	for _, m := range c.milestones() {
		j := milestoneJSON{Name: m.name, Before: countOf(m.before), After: countOf(m.after)}
		if m.name == "ready" {
			j.Verdict = c.ready.Verdict
			if m.before.N > 0 && m.after.N > 0 {
				j.Difference = &differenceJSON{Estimate: c.ready.Estimate.Seconds()}
				if c.ready.Bounded {
					low, high := c.ready.Low.Seconds(), c.ready.High.Seconds()
					j.Difference.Low, j.Difference.High = &low, &high
				}
			}
		}
		d.Milestones = append(d.Milestones, j)
	}
	return d
}

func sideOf(boots []boot.Boot) sideJSON {
	s := sideJSON{Boots: []string{}, LeftOut: []leftOutJSON{}}
	for _, b := range boots {
		s.Boots = append(s.Boots, b.ID)
	}
	return s
}

func countOf(s compare.Side) countJSON {
	c := countJSON{N: s.N}
	if s.N > 0 {
		m := s.Median.Seconds()
		c.Median = &m
	}
	return c
}
