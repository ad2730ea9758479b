package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/job"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// compareView is how boots are to be compared.
type compareView struct {
	odd, csv bool
	with     string // another casebook
	failIf   string
	on       string
	since    string
	measure  compare.Measure
	begin    job.Begin
}

func (a *app) compareCommand() *cobra.Command {
	var v compareView
	cmd := &cobra.Command{
		Use:   "compare [BEFORE AFTER | change:N]",
		Short: "Compare the boots before the last job with those after it",
		Long: `Compare takes the boots that the machine remembers from before the last job
and those of the machine as it is set up now. It says whether they differ:
faster, slower, no difference shown, or too few boots.

It takes four boots on each side, or five before and three after. Fix the
number of boots beforehand: whoever checks after each boot and stops at the
first "faster" will see false ones. It is "faster" only if the boots bear it
out with at least 95 % confidence.

A job is the changes between which less than 30 days lie; --since has it begin
elsewhere. What each of its steps did is told below it; changes with no boot
between them are one step. Where changes still wait for a restart, the boots
after are those of the last setup that was booted.

The verdict is on usable, where both sides have enough boots with the login of
the same person, or without one. Else it is on ready. --on names another
figure.

Other boots can be chosen, before and after, as lists with commas:

  3 or 5-8                by their numbers, as boots shows them
  2026-11-20 or A..B      by the day they began, or from one day to another
  be6fe0a8                by the beginning of their id
  change:2                those right before and right after change 2
  memory                  those with a label of yours; see calmdawn label

--with takes the boots before from another casebook: the same machine earlier,
or one like it.`,
		Example: `  calmdawn compare
  calmdawn compare change:1
  calmdawn compare 1-5 6-10
  calmdawn compare before after --on settled
  calmdawn compare --with old.db
  calmdawn compare --fail-if slower:2s   exit status 3 if it is slower by 2 s or more
  calmdawn compare --csv > boots.csv     the boots of both sides`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usage("compare takes two lists of boots, with commas and no spaces within "+
					"each; %q is too much", args[2])
			}
			return nil
		},
		ValidArgsFunction: a.completeSides,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := v.check(); err != nil {
				return err
			}
			if v.csv && a.json {
				return usage("--csv and --json are two forms; choose one")
			}
			limit, err := parseLimit(v.failIf)
			if err != nil {
				return err
			}
			return a.compare(v, args, limit)
		},
	}
	v.flags(cmd)
	cmd.Flags().StringVar(&v.failIf, "fail-if", "", "end with status 3 if the verdict is slower: "+
		"`slower[:AMOUNT]`, as slower, slower:2s or slower:5%")
	cmd.Flags().BoolVar(&v.csv, "csv", false, "print comma-separated values, a line a boot")
	return cmd
}

// flags are those that say which boots are compared, and by what.
func (v *compareView) flags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&v.odd, "odd", false, "take odd boots too, which are left out otherwise")
	cmd.Flags().StringVar(&v.on, "on", "", "by which `FIGURE` to judge: usable, ready, settled, "+
		"or settled-after-login")
	cmd.Flags().StringVar(&v.with, "with", "", "take the boots before from another casebook, "+
		"`FILE`")
	cmd.Flags().StringVar(&v.since, "since", "", "the job began with `BEGIN`: change:3, or the "+
		"first change from a day on, 2026-11-20")
}

func (v *compareView) check() error {
	v.on = visit.Spaced(v.on)
	m, ok := compare.MeasureOf(v.on)
	if v.on != "" && (!ok || v.on != "ready" && v.on != "usable" &&
		!strings.HasPrefix(v.on, "settled")) {
		return usage("--on takes usable, ready, settled or settled-after-login, not %q", v.on)
	}
	v.measure = m
	if v.since == "" {
		return nil
	}
	if number, ok := strings.CutPrefix(v.since, "change:"); ok {
		v.begin.Change, _ = strconv.ParseInt(number, 10, 64)
	} else if day, err := time.ParseInLocation(time.DateOnly, v.since, time.Local); err == nil {
		v.begin.Day = day
	}
	if v.begin == (job.Begin{}) || v.begin.Change < 0 {
		return usage("--since takes a change such as change:3, or a day such as 2026-11-20, not %q",
			v.since)
	}
	return nil
}

// A limit is what --fail-if forbids.
type limit struct {
	set   bool
	least time.Duration
	share float64
}

func parseLimit(text string) (limit, error) {
	if text == "" {
		return limit{}, nil
	}
	word, amount, given := strings.Cut(text, ":")
	l := limit{set: true}
	var err error
	if given {
		if percent, ok := strings.CutSuffix(amount, "%"); ok {
			l.share, err = strconv.ParseFloat(percent, 64)
			l.share /= 100
		} else {
			l.least, err = time.ParseDuration(amount)
		}
	}
	if word != "slower" || err != nil || l.least < 0 || !(l.share >= 0) {
		return l, usage("--fail-if takes slower, or slower with an amount such as slower:2s, "+
			"slower:500ms or slower:5%%, not %q", text)
	}
	return l, nil
}

// broken reports whether a comparison says what the limit forbids.
func (l limit) broken(r compare.Times) bool {
	return l.set && r.Verdict == compare.Slower && r.Estimate >= l.least &&
		r.Estimate.Seconds() >= l.share*r.Before.Median.Seconds()
}

func (v compareView) question(words []string) visit.Question {
	return visit.Question{
		On:    v.measure,
		Words: words,
		With:  v.with,
		Odd:   v.odd,
		Begin: v.begin,
	}
}

func (a *app) compare(v compareView, words []string, fail limit) error {
	l, err := a.look()
	if err != nil {
		return err
	}
	defer l.Close()
	if _, err := l.ReadChanges(); err != nil {
		return err
	}
	done := a.progress("reading the log")
	found := l.Remember(0)
	done()
	q := v.question(words)
	answer, ok, err := l.Compare(q, q.Judged(found.Boots))
	if err != nil {
		return err
	}
	if !ok {
		made := "nothing that this machine launches was changed"
		if len(job.CarriedOut(l.Changes)) > 0 {
			made = "every change was taken back before a boot could feel it"
		}
		return fmt.Errorf("%s, so there is no before and after; %s shows its boots, and %s "+
			"compares two lists of them", made, a.call("boots"), a.call("compare BEFORE AFTER"))
	}
	unkept := l.KeepOutcome(answer)
	c := say.NewComparison(answer, l)
	c.OnAgain, c.Late = l.CameBack(), l.PastSettled(c.Sides.After)
	switch {
	case a.json:
		err = a.writeJSON(document.NewComparison(c.Comparison))
	case v.csv:
		err = a.writeCSV(c.BootsCSV())
	default:
		say.ShowComparison(a.screen(), c, found, unkept)
	}
	switch {
	case err != nil || !fail.set:
		return err
	case fail.broken(c.Main):
		return &status{exitNo, nil}
	case c.Main.Verdict == compare.TooFew:
		return &status{exitUnsure, nil}
	}
	return nil
}
