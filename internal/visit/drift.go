package visit

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/drift"
	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
)

// A Survey is one that was kept, or the present one.
type Survey struct {
	Items []drift.Item
	At    time.Time
	Name  string // "survey 3", "now"
	Whole bool   // every place could be read
	Live  bool   // of the running machine, not of its disk alone
}

// ErrNoSurvey tells that none was kept of the machine.
var ErrNoSurvey = errors.New("no survey was kept of this machine")

// Kept returns a survey that was kept: of a number, or with 0 the last.
func (v *Visit) Kept(number int64) (Survey, error) {
	book, err := casebook.Read(v.Root, v.Casebook)
	if errors.Is(err, casebook.ErrNone) {
		return Survey{}, ErrNoSurvey
	}
	if err != nil {
		return Survey{}, err
	}
	defer book.Close()
	kept, ok, err := book.Survey(number)
	switch {
	case err != nil:
		return Survey{}, fmt.Errorf("survey %d cannot be read: %w", number, err)
	case !ok && number == 0:
		return Survey{}, ErrNoSurvey
	case !ok:
		return Survey{}, misuse("there is no survey %d; calmdawn drift --surveys lists them",
			number)
	}
	var survey struct {
		Items   []drift.Item
		Unread  []item.Unread
		Running bool
	}
	if err := json.Unmarshal(kept.Document, &survey); err != nil {
		return Survey{}, fmt.Errorf("survey %d cannot be read: %w", kept.Number, err)
	}
	for i, it := range survey.Items {
		survey.Items[i].ID = v.current(it.ID)
		survey.Items[i].Command, survey.Items[i].Title = hidden(it.Command, it.Title)
	}
	return Survey{
		Items: withoutOurs(survey.Items),
		At:    kept.TakenAt,
		Whole: len(survey.Unread) == 0,
		Live:  survey.Running,
		Name:  fmt.Sprintf("survey %d", kept.Number),
	}, nil
}

// PresentSurvey is the survey of this visit.
func (v *Visit) PresentSurvey() Survey {
	now := Survey{At: v.Now(), Name: "now", Whole: len(v.Unread) == 0, Live: v.Running}
	for _, it := range v.Items {
		now.Items = append(now.Items, drift.Item{
			ID:      it.ID,
			Title:   it.Title,
			State:   string(it.State),
			When:    string(it.When),
			Command: it.Command,
			Package: it.Package,
			Version: it.Version,
			System:  it.System,

			Generated: it.Generated,
		})
	}
	now.Items = withoutOurs(now.Items)
	return now
}

// withoutOurs leaves out the recorder and the guard, which come and go by
// themselves.
func withoutOurs(items []drift.Item) []drift.Item {
	return slices.DeleteFunc(items, func(it drift.Item) bool {
		return strings.HasPrefix(it.ID, "service:"+item.OwnName)
	})
}

// Drift is how two surveys of the machine differ, and by whom. What only the
// running machine can show is compared where both are of it.
func (v *Visit) Drift(from, to Survey) []drift.Difference {
	switch {
	case from.Live && !to.Live:
		from.Items, to.Items = drift.Lasting(from.Items, to.Items)
	case to.Live && !from.Live:
		to.Items, from.Items = drift.Lasting(to.Items, from.Items)
	}
	found := drift.Compare(from.Items, to.Items, from.At, decided(v.Changes, to.At),
		family.Events(v.kind, time.Local))
	for i, d := range found {
		if it, ok := v.Find(d.ID); ok && d.Kind == drift.OnAgain && d.By == "" &&
			it.Returns != "" {
			found[i].By = "perhaps by " + it.Returns
		}
	}
	return found
}

// decided is what our changes and undos had come to for each item by an
// instant, and which of them did it.
func decided(changes []change.Change, at time.Time) map[string]drift.Decision {
	inForce := change.InForce(changes, at)
	all := map[string]drift.Decision{}
	for _, c := range changes {
		if c.Status != change.Done || !c.MadeAt.Before(at) {
			continue
		}
		for _, t := range c.Targets {
			d, known := all[t.ID]
			d.Change, d.At = c.ID, c.MadeAt
			switch {
			case slices.Contains(inForce, c.ID):
				d.State = string(t.After)
			case !known: // as it was before any of them
				d.State = string(t.Before)
			}
			all[t.ID] = d
		}
	}
	return all
}

// Keep keeps a survey in the casebook, as the document of all its items. It
// returns its number and where it stands.
func (v *Visit) Keep(document any) (number int64, where string, err error) {
	text, err := json.Marshal(document)
	if err != nil {
		return 0, "", err
	}
	book, err := v.Write()
	if err != nil {
		return 0, "", err
	}
	defer book.Close()
	number, err = book.AddSurvey(v.Now(), text)
	return number, book.Where, err
}

// KeepWith keeps the survey of the machine as the last change left it, for
// [Visit.Drift] on the next visit. document makes what is kept of it.
func (s *Session) KeepWith(document func(*Visit) any) error {
	v, err := s.look()
	if err != nil {
		return err
	}
	text, err := json.Marshal(document(v))
	if err != nil {
		return err
	}
	book, err := s.Write()
	if err != nil {
		return err
	}
	defer book.Close()
	all := s.Ledger.Changes()
	return book.AddSurveyWith(all[len(all)-1].ID, s.Now(), text)
}
