package visit

import (
	"slices"
	"strings"

	"calmdawn/internal/core/item"
)

// A Filter chooses items by what they are.
type Filter struct {
	All bool // the operating system's own parts too, where a list leaves them out
	// What an item has to be; of each list one suffices, an empty one asks for
	// nothing.
	Kind, State, When, Owner, Maker, Role, Advice []string
	Words                                         []string // all of which it has to contain
}

// A Choice is one list of a [Filter].
type Choice struct {
	Name    string
	Values  *[]string
	Allowed []string               // none: any text
	Of      func(item.Item) string // what an item has
	part    bool                   // a part of the text suffices
}

// Choices returns the lists of the filter by their names.
func (f *Filter) Choices() []Choice {
	return []Choice{
		{
			Name:    "kind",
			Values:  &f.Kind,
			Allowed: []string{"program", "service", "task"},
			Of:      func(it item.Item) string { return string(it.Kind) },
		},
		{
			Name:    "state",
			Values:  &f.State,
			Allowed: []string{"on", "off", "delayed", "broken"},
			Of:      func(it item.Item) string { return string(it.State) },
		},
		{
			Name:    "when",
			Values:  &f.When,
			Allowed: []string{"boot", "login", "later"},
			Of:      func(it item.Item) string { return string(it.When) },
		},
		{
			Name:   "owner",
			Values: &f.Owner,
			Of:     func(it item.Item) string { return it.Owner },
		},
		{
			Name:   "maker",
			Values: &f.Maker,
			Of:     func(it item.Item) string { return it.Maker },
			part:   true,
		},
		{
			Name:   "role",
			Values: &f.Role,
			Of:     func(it item.Item) string { return it.Role },
		},
		{
			Name:    "advice",
			Values:  &f.Advice,
			Allowed: []string{"keep", "can wait", "can go", "look it up", "clean up"},
			Of:      func(it item.Item) string { return string(it.Advice) },
		},
	}
}

// Check refuses values that no item can have.
func (f *Filter) Check() error {
	for _, l := range f.Choices() {
		for _, v := range *l.Values {
			if l.Allowed != nil && !slices.Contains(l.Allowed, v) {
				return misuse("--%s takes %s, not %q", l.Name, strings.Join(l.Allowed, ", "), v)
			}
		}
	}
	return nil
}

// Chooses reports whether the filter leaves anything out, the operating
// system's parts aside.
func (f *Filter) Chooses() bool {
	return len(f.Words) > 0 ||
		slices.ContainsFunc(f.Choices(), func(l Choice) bool { return len(*l.Values) > 0 })
}

// Accepts reports whether an item is as the filter asks for.
func (f *Filter) Accepts(it item.Item) bool {
	for _, l := range f.Choices() {
		have := strings.ToLower(l.Of(it))
		fits := func(want string) bool {
			want = strings.ToLower(want)
			return have == want || l.part && strings.Contains(have, want)
		}
		if len(*l.Values) > 0 && !slices.ContainsFunc(*l.Values, fits) {
			return false
		}
	}
	text := strings.ToLower(strings.Join([]string{
		it.ID, it.Title, it.Maker, it.Package, it.Summary, it.Command, it.Note, it.Role,
	}, "\n"))
	for _, w := range f.Words {
		if !strings.Contains(text, strings.ToLower(w)) {
			return false
		}
	}
	return true
}
