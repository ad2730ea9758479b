package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/shell"
	"calmdawn/internal/visit"
)

const noFiles = cobra.ShellCompDirectiveNoFileComp

// complete gives each flag and argument what a shell offers for it. These are
// words where there are some, folders and files where those are wanted, else
// nothing.
func (a *app) complete(root *cobra.Command) {
	words := map[string]cobra.CompletionFunc{
		"after":  a.completeSides,
		"before": a.completeSides,
		"boot":   a.completeBoots,
		"color":  fixed("auto", "always", "never"),
		"fail-if": fixed("slower\tany amount", "slower:2s\tby that much or more",
			"slower:5%\tby that share or more"),
		"group":  fixed(say.Groups...),
		"guard":  fixed("auto", "on", "off"),
		"insist": a.completeIDs,
		"leave":  a.completePaths,
		"on":     fixed("usable", "ready", "settled", "settled-after-login"),
		"since":  a.completeChanges("change:", carriedOut),
		"sort":   fixed(append([]string{"cost"}, say.SortWords()...)...),
		"trial":  fixed("7d", "14d", "30d"),
	}
	var f visit.Filter
	for _, c := range f.Choices() {
		words[c.Name] = a.completeChoice(c)
	}
	var walk func(*cobra.Command)
	walk = func(cmd *cobra.Command) {
		offer := func(flag *pflag.Flag) {
			of, ok := words[flag.Name]
			if _, has := cmd.GetFlagCompletionFunc(flag.Name); has || flag.NoOptDefVal == "true" {
				return
			}
			if !ok {
				of = forForm(flag)
			}
			_ = cmd.RegisterFlagCompletionFunc(flag.Name, of)
		}
		cmd.LocalFlags().VisitAll(offer)
		if cmd.ValidArgsFunction == nil {
			cmd.ValidArgsFunction = cobra.NoFileCompletions
		}
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk(root)
}

// forForm offers what the form of a flag's value asks for.
func forForm(flag *pflag.Flag) cobra.CompletionFunc {
	switch form, _ := pflag.UnquoteUsage(flag); form {
	case "FILE":
		return anyFile
	case "DIR":
		return folders
	}
	return cobra.NoFileCompletions
}

// fixed offers words, each with a text behind a tab if it likes.
func fixed(words ...string) cobra.CompletionFunc {
	return cobra.FixedCompletions(words, noFiles)
}

func anyFile(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveDefault
}

func folders(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveFilterDirs
}

// files offers files with one of these endings, as the first argument.
func files(endings ...string) cobra.CompletionFunc {
	return func(_ *cobra.Command, have []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(have) > 0 {
			return nil, noFiles
		}
		return endings, cobra.ShellCompDirectiveFilterFileExt
	}
}

// first offers something for the first argument alone.
func first(of cobra.CompletionFunc) cobra.CompletionFunc {
	return func(cmd *cobra.Command, have []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		if len(have) > 0 {
			return nil, noFiles
		}
		return of(cmd, have, typed)
	}
}

// An offer collects the words that go on from what is typed and are not there
// yet.
type offer struct {
	have  []string
	typed string
	words []string
}

// add offers a word with a text about it, whose capitals somebody need not have
// typed. Of several words shells insert what these have in common as it is, so
// a word that would need quotes is left out. A user may have made it.
func (o *offer) add(word, about string) {
	if quoted, ok := shell.Word(word); !ok || quoted != word {
		return
	}
	if n := len(o.typed); len(word) >= n && strings.EqualFold(word[:n], o.typed) {
		word = o.typed + word[n:]
	}
	if strings.HasPrefix(word, o.typed) && !slices.Contains(o.have, word) {
		o.words = append(o.words, word+"\t"+render.Clean(about))
	}
}

// completeIDs offers items by the names that only one has, or by their ids,
// with titles beside them. Ids are offered once their kind is typed.
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
	named := map[string]int{}
	for _, it := range l.Items {
		named[it.Native]++
	}
	o := offer{have: have, typed: typed}
	for _, it := range l.Items {
		name := it.Native
		if it.Owner != "" {
			name += "@" + it.Owner
		}
		if strings.Contains(typed, ":") || say.ShellWord(name) != name ||
			named[it.Native] > 1 && !l.Names(name, it) {
			o.add(it.ID, it.Title)
			continue
		}
		if named[it.Native] == 1 {
			name = it.Native
		}
		if !slices.Contains(have, it.ID) {
			o.add(name, it.Title)
		}
	}
	return o.words, noFiles
}

// carriedOut accepts changes that were made, whatever became of them.
func carriedOut(c change.Change) bool { return c.Status == change.Done }

// completeChanges offers the numbers of those changes that fit, behind a lead,
// the newest first, with what they did, and words besides.
func (a *app) completeChanges(
	lead string,
	fits func(change.Change) bool,
	besides ...string,
) cobra.CompletionFunc {
	return func(_ *cobra.Command, have []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		a.Err = io.Discard
		m, changes, err := a.openChanges()
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		defer m.Close()
		o := offer{have: have, typed: typed}
		for _, word := range besides {
			if len(have) == 0 {
				o.add(word, "")
			}
		}
		for _, c := range slices.Backward(changes) {
			if fits(c) {
				o.add(lead+fmt.Sprint(c.ID), say.What(c))
			}
		}
		return o.words, noFiles
	}
}

// completePaths offers the paths of the changes whose numbers are given.
func (a *app) completePaths(
	_ *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	a.Err = io.Discard
	m, changes, err := a.openChanges()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	defer m.Close()
	o := offer{typed: typed}
	for _, c := range changes {
		for _, e := range c.Edits {
			if slices.Contains(have, fmt.Sprint(c.ID)) {
				o.add(e.Path, "")
			}
		}
	}
	return o.words, noFiles
}

// completeChoice offers what a flag that chooses items takes: its words, or
// what the machine's items have.
func (a *app) completeChoice(c visit.Choice) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		hyphened := func(value string) string { return strings.ReplaceAll(value, " ", "-") }
		o := offer{typed: typed}
		for _, word := range c.Allowed {
			o.add(hyphened(word), "")
		}
		if c.Allowed != nil {
			return o.words, noFiles
		}
		a.Err = io.Discard
		l, err := a.look()
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		defer l.Close()
		of := map[string][]item.Item{}
		for _, it := range l.Items {
			of[c.Of(it)] = append(of[c.Of(it)], it)
		}
		for _, word := range slices.Sorted(maps.Keys(of)) {
			o.add(hyphened(word), say.Count(len(of[word]), "item", "items"))
		}
		return o.words, noFiles
	}
}

// completeBoots offers labels, and the numbers of the remembered boots with
// their dates, the newest first.
func (a *app) completeBoots(
	_ *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	return a.offerBoots(have, typed, true)
}

// offerBoots offers labels, and with numbers those of the boots too.
func (a *app) offerBoots(have []string, typed string, numbers bool) ([]string,
	cobra.ShellCompDirective) {
	a.Err = io.Discard
	m, err := a.site().Open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	defer m.Close()
	o := offer{have: have, typed: typed}
	labels, _ := m.ReadLabels()
	for _, label := range slices.Sorted(maps.Keys(labels)) {
		o.add(label, say.Count(len(labels[label]), "boot", "boots"))
	}
	if !numbers {
		return o.words, noFiles
	}
	for i, b := range slices.Backward(m.Remember(0).Boots) {
		o.add(fmt.Sprint(i+1), say.Day(b.Began)+", "+b.Short())
	}
	return o.words, noFiles
}

// completeSides offers what compare takes for one side.
func (a *app) completeSides(
	cmd *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	if len(have) > 1 {
		return nil, noFiles
	}
	boots, _ := a.completeBoots(cmd, have, typed)
	changes, _ := a.completeChanges("change:", carriedOut)(cmd, have, typed)
	return append(changes, boots...), noFiles
}

// completeLabelled offers a label, then the boots that get it.
func (a *app) completeLabelled(
	cmd *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	remove, _ := cmd.Flags().GetBool("remove")
	return a.offerBoots(have, typed, remove || len(have) > 0)
}

// completeSurveys offers the numbers of the surveys that were kept.
func (a *app) completeSurveys(
	_ *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	a.Err = io.Discard
	m, err := a.site().Open()
	if err != nil || len(have) > 1 {
		return nil, noFiles
	}
	defer m.Close()
	book, err := casebook.Read(m.Root, m.Casebook)
	if err != nil {
		return nil, noFiles
	}
	defer book.Close()
	kept, _ := book.Surveys()
	o := offer{have: have, typed: typed}
	for _, k := range slices.Backward(kept) {
		o.add(fmt.Sprint(k.Number), say.Day(k.TakenAt))
	}
	return o.words, noFiles
}
