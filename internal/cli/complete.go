package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

const noFiles = cobra.ShellCompDirectiveNoFileComp

// completeIDs offers the ids of items, and without their kind the names that
// only one item has, with titles beside them.
func (a *app) completeIDs(
	_ *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	a.Err = io.Discard // a shell shows what it is told in the midst of what is typed
	l, err := a.look()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	defer l.Close()
	count := map[string]int{}
	for _, it := range l.Items {
		count[it.Native]++
	}
	var words []string
	add := func(it item.Item, word string) {
		if strings.HasPrefix(word, typed) && !slices.Contains(have, word) &&
			word == render.Clean(word) {
			words = append(words, word+"\t"+render.Clean(it.Title))
		}
	}
	for _, it := range l.Items {
		add(it, it.ID)
		if typed != "" && count[it.Native] == 1 {
			add(it, it.Native)
		}
	}
	return words, noFiles
}

// completeChanges offers the numbers of those changes that fit, the newest
// first, with what they did, and a word besides.
func (a *app) completeChanges(fits func(change.Change) bool, word string) cobra.CompletionFunc {
	return func(_ *cobra.Command, have []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		a.Err = io.Discard
		r, changes, err := a.openChanges()
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		defer r.Close()
		var words []string
		if len(have) == 0 && strings.HasPrefix(word, typed) {
			words = append(words, word)
		}
		for _, c := range slices.Backward(changes) {
			number := fmt.Sprint(c.ID)
			if fits(c) && strings.HasPrefix(number, typed) && !slices.Contains(have, number) {
				words = append(words, number+"\t"+render.Clean(what(c)))
			}
		}
		return words, noFiles
	}
}

// completeChoice offers what a flag that chooses items takes: its words, or
// what the machine's items have.
func (a *app) completeChoice(c visit.Choice) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		if c.Allowed != nil {
			return c.Allowed, noFiles
		}
		a.Err = io.Discard
		l, err := a.look()
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		defer l.Close()
		var words []string
		for _, it := range l.Items {
			word := c.Of(it)
			if word != "" && word == render.Clean(word) && strings.HasPrefix(word, typed) {
				words = append(words, word)
			}
		}
		slices.Sort(words)
		return slices.Compact(words), noFiles
	}
}
