package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/job"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/render"
)

// A comparison is one as it is shown: with the names that people know items by.
type comparison struct {
	job.Comparison
	titles map[string]string // of items, by the names that boots know
}

func sinceLast(boots []boot.Boot, changes []change.Change, on compare.Measure) (comparison, bool) {
	c, ok := job.SinceLast(boots, changes, on)
	return comparison{Comparison: c}, ok
}

func (c *comparison) explain(l *look) {
	c.Explain(l.Order, l.changes)
	c.titles = map[string]string{}
	for _, it := range l.Items {
		if key, ok := l.Key(it); ok && key.Owner == "" {
			c.titles[key.Native] = it.Title
		}
	}
}

// chosen compares boots that were chosen in words: with the boots of another
// casebook as those before, where one is given.
func (a *app) chosen(
	l *look,
	boots []boot.Boot,
	v compareView,
	words []string,
) (comparison, error) {
	done := job.CarriedOut(l.changes)
	here := compare.Shelf{
		Boots:   boots,
		Changes: map[int64]time.Time{},
		Steps:   compare.Steps(boots, job.Instants(done)),
		Zone:    time.Local,
	}
	for _, ch := range done {
		here.Changes[ch.ID] = ch.MadeAt
	}
	labels, err := a.readLabels(l.root)
	if err != nil {
		return comparison{}, err
	}
	here.Labels = labels
	there, before, after := here, "", ""
	c := comparison{Comparison: job.Comparison{On: v.measure}}
	switch {
	case v.with != "":
		if there, err = foreign(v); err != nil {
			return c, err
		}
		before, after = fmt.Sprintf("1-%d", len(there.Boots)), fmt.Sprintf("1-%d", len(here.Boots))
		if len(words) > 0 {
			before = words[0]
		}
		if len(words) > 1 {
			after = words[1]
		}
		c.Between = fmt.Sprintf("between %s of %s and %s here", before, v.with, after)
	case len(words) == 1 && strings.HasPrefix(words[0], "change:"):
		before, after = words[0], words[0]
		step := job.SameStep(here.Steps, done, strings.TrimPrefix(before, "change:"))
		if felt := job.FeltBy(boots, step); len(felt) > 0 {
			step = felt
		}
		c.Between = "by " + change.Names(step)
	case len(words) == 1:
		return c, usage("%q is one side; give the boots before and the boots after, or change:N "+
			"for both\ncalmdawn compare --help explains how boots are chosen", words[0])
	default:
		before, after = words[0], words[1]
		c.Between = fmt.Sprintf("between %s and %s", before, after)
	}
	one, err := there.Choose(before, false)
	if err != nil {
		return c, usage("the boots before: %w", err)
	}
	two, err := here.Choose(after, true)
	if err != nil {
		return c, usage("the boots after: %w", err)
	}
	take := func(from []boot.Boot) (fit []boot.Boot) {
		for _, b := range from {
			if b.Fit() {
				fit = append(fit, b)
			} else {
				c.Sides.LeftOut = append(c.Sides.LeftOut, b)
			}
		}
		return fit
	}
	c.Sides.Before, c.Sides.After = take(one), take(two)
	for _, b := range one {
		if slices.ContainsFunc(two, func(o boot.Boot) bool { return o.ID == b.ID }) {
			return c, usage("the boot %.8s is on both sides; choose others", b.ID)
		}
	}
	c.Measure()
	return c, nil
}

// foreign is the boots of another casebook.
func foreign(v compareView) (compare.Shelf, error) {
	book, err := casebook.ReadForeign(v.with)
	if err != nil {
		return compare.Shelf{}, err
	}
	defer book.Close()
	boots, err := book.Boots(0)
	if err != nil && len(boots) == 0 {
		return compare.Shelf{}, fmt.Errorf("the boots of %s cannot be read: %w", v.with, err)
	}
	labels, err := book.Labels()
	if err != nil {
		return compare.Shelf{}, err
	}
	if len(boots) == 0 {
		return compare.Shelf{}, fmt.Errorf("the casebook %s holds no boot; calmdawn recorder on "+
			"has boots recorded", v.with)
	}
	return compare.Shelf{
		Boots:  v.judged(boot.Judge(label.Boots(boots), nil)),
		Labels: byLabel(labels),
		Zone:   time.Local,
	}, nil
}

func (c comparison) title(name string) string {
	if t := c.titles[name]; t != "" && t != name {
		return render.Clean(t)
	}
	return render.Clean(name)
}
