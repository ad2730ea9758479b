// Package advice tells what role an item has and what we say of it, by rules
// that are data.
package advice

import (
	_ "embed"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
)

//go:embed roles.toml
var builtIn []byte

// A Rule gives items that fit it a role and an advice; roles.toml explains its
// parts.
type Rule struct {
	Role   string      `toml:"role"`
	Advice item.Advice `toml:"advice"`
	Reason string      `toml:"reason"`
	// Protected items are switched off only when somebody insists.
	Protected bool     `toml:"protected"`
	Names     []string `toml:"names"`
	Programs  []string `toml:"programs"`
	Packages  []string `toml:"packages"`
	Sections  []string `toml:"sections"`
	Words     []string `toml:"words"`
}

// Rules are asked in their order; the first that fits decides.
type Rules []Rule

// Load reads the built-in rules, and before them a technician's own, which may
// be empty.
func Load(own []byte) (Rules, error) {
	var all Rules
	for _, text := range [][]byte{own, builtIn} {
		var file struct {
			Rules []Rule `toml:"rule"`
		}
		if err := toml.Unmarshal(text, &file); err != nil {
			return nil, err
		}
		for i, r := range file.Rules {
			if !slices.Contains([]item.Advice{
				item.Keep,
				item.CanWait,
				item.CanGo,
				item.LookUp,
			}, r.Advice) || r.Role == "" {
				return nil, fmt.Errorf("rule %d (role %q): advice has to be keep, can wait, can "+
					"go or look it up, not %q", i+1, r.Role, r.Advice)
			}
		}
		all = append(all, file.Rules...)
	}
	return all, nil
}

// Judge gives an item its role, its advice and the reason. What is off gets no
// advice; what is broken or left behind is to be cleaned up; what belongs to
// the operating system is kept.
func (rules Rules) Judge(it *item.Item) {
	it.Role, it.Advice, it.Reason, it.Protected = "", "", "", ""
	evidence := ""
	var rule Rule
	for _, r := range rules {
		if evidence = r.fits(it); evidence != "" {
			rule = r
			it.Role = r.Role
			if r.Protected && it.State.Launched() && it.State != item.Broken {
				it.Protected = fmt.Sprintf("%s (role %s: %s)", r.Reason, r.Role, evidence)
			}
			break
		}
	}
	switch {
	case !it.State.Launched():
		it.Reason = evidence
		return
	case it.State == item.Broken && !it.System:
		it.Advice, it.Reason = item.CleanUp, "its program is gone"
		return
	case it.Leftover:
		it.Advice, it.Reason = item.CleanUp, "its package was removed and left this behind"
		return
	case it.Unsure:
		it.Advice, it.Reason = item.LookUp, "it stands in a login script, and may or may not be "+
			"launched"
		return
	case it.System:
		it.Advice, it.Reason = item.Keep, "it is a part of the operating system"
	case evidence == "":
		it.Advice, it.Reason = item.LookUp, "no rule knows it"
		return
	default:
		it.Advice, it.Reason = rule.Advice, rule.Reason
	}
	if evidence != "" {
		it.Reason += fmt.Sprintf(" (role %s: %s)", it.Role, evidence)
	}
}

// fits returns the evidence for which a rule fits an item; empty when it does
// not.
func (r Rule) fits(it *item.Item) string {
	program := path.Base(it.Program)
	for _, test := range []struct {
		what, value string
		patterns    []string
	}{
		{"name", it.Native, r.Names},
		{"name", path.Base(it.File), r.Names},
		{"program", program, r.Programs},
		{"package", it.Package, r.Packages},
		{"package section", it.Section, r.Sections},
	} {
		for _, pattern := range test.patterns {
			if ok, err := path.Match(pattern, test.value); ok && err == nil && test.value != "" {
				return test.what + ": " + test.value
			}
		}
	}
	split := func(text string) []string {
		return strings.FieldsFunc(strings.ToLower(text), func(c rune) bool {
			return !unicode.IsLetter(c)
		})
	}
	for _, source := range []struct{ what, text string }{{"title", it.Title}, {"description of " +
		"its package", it.Summary}, {"program", program}} {
		for _, word := range split(source.text) {
			if slices.Contains(r.Words, word) {
				return fmt.Sprintf("%s: %q", source.what, word)
			}
		}
	}
	return ""
}

// Phrase is what to look an unknown item up with: its program, package and
// maker, without what is told of this machine alone.
func Phrase(it item.Item) string {
	var words []string
	add := func(w string) {
		if w != "" && w != "." && !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	add(it.Maker)
	add(it.Package)
	add(path.Base(it.Program))
	if it.Kind != item.Task || !strings.Contains(it.Native, "/") {
		add(it.Native)
	}
	return strings.Join(words, " ")
}
