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
			if l.Allowed != nil && !slices.Contains(l.Allowed, Spaced(v)) {
				return misuse("--%s takes %s, not %q", l.Name, strings.Join(l.Allowed, ", "), v)
			}
		}
	}
	return nil
}

// Spaced is a value with spaces for hyphens: a filter takes them for the same,
// so that no value needs quotes.
func Spaced(value string) string { return strings.ReplaceAll(value, "-", " ") }

// Chooses reports whether the filter leaves anything out, the operating
// system's parts aside.
func (f *Filter) Chooses() bool {
	return len(f.Words) > 0 ||
		slices.ContainsFunc(f.Choices(), func(l Choice) bool { return len(*l.Values) > 0 })
}

// Accepts reports whether an item is as the filter asks for.
func (f *Filter) Accepts(it item.Item) bool {
	return f.Test()(it) && Contains(Text(it), f.Words)
}

// Test is the filter without its words, for many items.
func (f *Filter) Test() func(item.Item) bool {
	type wanted struct {
		Choice
		values []string
	}
	var all []wanted
	for _, c := range f.Choices() {
		if len(*c.Values) > 0 {
			w := wanted{Choice: c}
			for _, v := range *c.Values {
				w.values = append(w.values, Spaced(strings.ToLower(v)))
			}
			all = append(all, w)
		}
	}
	return func(it item.Item) bool {
		for _, w := range all {
			have := Spaced(strings.ToLower(w.Of(it)))
			if !slices.ContainsFunc(w.values, func(want string) bool {
				return have == want || w.part && strings.Contains(have, want)
			}) {
				return false
			}
		}
		return true
	}
}

// Text is all in which words about an item are looked for, in small letters.
func Text(it item.Item) string {
	return strings.ToLower(strings.Join([]string{
		it.ID, it.Title, it.Maker, it.Package, it.Summary, it.Command, it.Note, it.Role,
	}, "\n"))
}

// Contains reports whether a text as of [Text] has all of some words.
func Contains(text string, words []string) bool {
	return !slices.ContainsFunc(words, func(w string) bool {
		return !strings.Contains(text, strings.ToLower(w))
	})
}
