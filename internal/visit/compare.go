package visit

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/family"
)

// A Question is which boots are to be compared, and on what.
type Question struct {
	On    compare.Measure
	Words []string // as compare takes them; none for those of the last job
	With  string   // the file of another casebook, of which the boots before are
	Odd   bool     // odd boots count as fit ones
	Begin job.Begin
}

// Judged takes odd boots for fit ones where that is wanted.
func (q Question) Judged(boots []boot.Boot) []boot.Boot {
	boots = slices.Clone(boots)
	for i := range boots {
		if q.Odd && boots[i].Ready.Known {
			boots[i].Odd = nil
		}
	}
	return boots
}

// Compare answers a question about boots, which were judged; false where no
// change was made that a boot could feel, and none were chosen.
func (v *Visit) Compare(q Question, boots []boot.Boot) (job.Comparison, bool, error) {
	c, ok := job.Comparison{}, true
	if len(q.Words) == 0 && q.With == "" {
		c, ok = job.Since(boots, v.Changes, q.On, q.Begin, v.Now())
		if !ok && q.Begin != (job.Begin{}) {
			return c, false, misuse("no change that a boot could feel begins where --since asks; " +
				"calmdawn history lists them")
		}
	} else {
		var err error
		if c, err = v.chosen(q, boots); err != nil {
			return c, false, err
		}
	}
	for _, ch := range c.Changes {
		if v.cameBack(ch) {
			c.Back = append(c.Back, ch)
		}
	}
	c.Explain(v.Order, v.Changes)
	return c, ok, nil
}

// chosen compares boots that were chosen in words: with the boots of another
// casebook as those before, where one is given.
func (v *Visit) chosen(q Question, boots []boot.Boot) (job.Comparison, error) {
	done := job.CarriedOut(v.Changes)
	here := compare.Shelf{
		Boots:   boots,
		Changes: map[int64]time.Time{},
		Steps:   compare.Steps(boots, job.Instants(done)),
		Zone:    time.Local,
	}
	for _, ch := range done {
		here.Changes[ch.ID] = ch.MadeAt
	}
	c := job.Comparison{On: q.On}
	labels, err := v.ReadLabels()
	if err != nil {
		return c, err
	}
	here.Labels = labels
	there, before, after, words := here, "", "", q.Words
	switch {
	case q.With != "":
		if there, err = v.foreign(q); err != nil {
			return c, err
		}
		before, after = fmt.Sprintf("1-%d", len(there.Boots)), fmt.Sprintf("1-%d", len(here.Boots))
		if len(words) > 0 {
			before = words[0]
		}
		if len(words) > 1 {
			after = words[1]
		}
		c.Between = fmt.Sprintf("between %s of %s and %s here", before, q.With, after)
	case len(words) == 1 && strings.HasPrefix(words[0], "change:"):
		before, after = words[0], words[0]
		c.Between = job.By(boots, here.Steps, done, strings.TrimPrefix(before, "change:"))
	case len(words) == 1:
		return c, misuse("%q is one side; give the boots before and the boots after, or change:N "+
			"for both\ncalmdawn compare --help explains how boots are chosen", words[0])
	default:
		before, after = words[0], words[1]
		c.Between = fmt.Sprintf("between %s and %s", before, after)
	}
	one, err := there.Choose(before, false)
	if err != nil {
		return c, misuse("the boots before: %w", err)
	}
	two, err := here.Choose(after, true)
	if err != nil {
		return c, misuse("the boots after: %w", err)
	}
	for _, b := range one {
		if slices.ContainsFunc(two, func(o boot.Boot) bool { return o.ID == b.ID }) {
			return c, misuse("the boot %.8s is on both sides; choose others", b.ID)
		}
	}
	c.Take(one, two)
	return c, nil
}

// foreign is the boots of another casebook.
func (v *Visit) foreign(q Question) (compare.Shelf, error) {
	book, err := casebook.ReadForeign(q.With)
	if err != nil {
		return compare.Shelf{}, err
	}
	defer book.Close()
	boots, err := book.Boots(0)
	if err != nil && len(boots) == 0 {
		return compare.Shelf{}, fmt.Errorf("the boots of %s cannot be read: %w", q.With, err)
	}
	labels, err := book.Labels()
	if err != nil {
		return compare.Shelf{}, err
	}
	if len(boots) == 0 {
		return compare.Shelf{}, fmt.Errorf("the casebook %s holds no boot; calmdawn recorder on "+
			"has boots recorded", q.With)
	}
	return compare.Shelf{
		Boots:  q.Judged(boot.Judge(family.Label(v.kind, boots), nil)),
		Labels: byLabel(labels),
		Zone:   time.Local,
	}, nil
}

// Titles are the names that people know items by, by the names that boots know.
func (v *Visit) Titles() map[string]string {
	titles := map[string]string{}
	const most = 15 // bytes that the kernel keeps of a program's name
	for _, it := range v.Items {
		if key, ok := v.Key(it); ok && key.Owner == "" {
			titles[key.Native] = it.Title
		}
		name := path.Base(it.Program)
		if name = name[:min(most, len(name))]; it.Kind == item.Program && titles[name] == "" {
			titles[name] = it.Title
		}
	}
	return titles
}

// Outcomes are the machine's changes, with what became of each forecast as
// far as the boots tell, which were judged. A change between which and another
// there was no boot has none. Nothing is kept.
func (v *Visit) Outcomes(boots []boot.Boot) []change.Change {
	all := slices.Clone(v.Changes)
	done := job.CarriedOut(all)
	for _, step := range compare.Steps(boots, job.Instants(done)) {
		if step.First < 0 || step.First != step.Last {
			continue
		}
		ch := done[step.First]
		i := slices.IndexFunc(all, func(c change.Change) bool { return c.ID == ch.ID })
		if ch.Outcome != nil || !ch.Decides() || v.cameBack(ch) {
			continue
		}
		alone := Question{Words: []string{fmt.Sprintf("change:%d", ch.ID)}}
		c, ok, err := v.Compare(alone, boots)
		if err != nil || !ok {
			continue // there are no boots on one of its sides
		}
		c.Changes = []change.Change{ch}
		if o, told := c.Outcome(); told {
			all[i].Outcome = &o
		}
	}
	return all
}

// KeepOutcome keeps in the casebook what became of a forecast, so that it is
// known when the boots are forgotten. It returns why it could not.
func (v *Visit) KeepOutcome(c job.Comparison) error {
	o, ok := c.Outcome()
	if len(c.Changes) > 1 && !c.Whole {
		return nil // of a job it is told, and belongs to none of its changes
	}
	if !ok || c.Changes[0].Outcome != nil && *c.Changes[0].Outcome == o {
		return nil
	}
	book, err := v.Write()
	if err != nil {
		return err
	}
	defer book.Close()
	return book.SetOutcome(c.Changes[0].ID, o)
}
