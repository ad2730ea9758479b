// Package secret keeps passwords and the like out of what is shown: launch
// lines hold them, and lists are sent to others.
package secret

import (
	_ "embed"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Hidden stands for a secret.
const Hidden = "…"

//go:embed patterns.toml
var patterns []byte

var (
	// assigned is a value behind a name: --pass=x, TOKEN=x, /pass:x, "pw": "x".
	assigned *regexp.Regexp
	// named is an option or a name alone, whose value is the next word.
	named *regexp.Regexp
	// said is a word that says that the next one is a secret.
	said *regexp.Regexp
	// within is a password in an address, RFC 3986, section 3.2.1.
	within = regexp.MustCompile(`([A-Za-z][A-Za-z0-9+.-]*://[^\s/:@'"]*:)[^\s/@'"]+@`)
	// word is a word of a launch line with its quotes.
	word = regexp.MustCompile(`(?:[^\s"']|"(?:[^"\\]|\\.)*"|'[^']*')+`)
)

func init() {
	var data struct{ Names, Before []string }
	if err := toml.Unmarshal(patterns, &data); err != nil {
		panic(err) // a fault of the build
	}
	quoted := func(words []string) string {
		all := slices.Clone(words)
		for i, w := range all {
			all[i] = regexp.QuoteMeta(w)
		}
		return "(?:" + strings.Join(all, "|") + ")"
	}
	name := `(?:[A-Za-z0-9]+[-_.])*` + quoted(data.Names)
	assigned = regexp.MustCompile(`(?i)((?:^|[^A-Za-z0-9])` + name +
		`["']?\s?[=:]\s?)(?:` + quoted(data.Before) + `\s+)?` +
		"(?:" + Hidden + `|"(?:[^"\\]|\\.)*"|'[^']*'|[^\s&;,"']+)`)
	named = regexp.MustCompile(`(?i)^["']?(?:--?|/)` + name + `["']?$`)
	said = regexp.MustCompile(`(?i)(?:^|[\s:"'])` + quoted(data.Before) + `["']?$`)
}

// Hide returns a launch line with [Hidden] for each secret in it. Hiding twice
// changes nothing more.
func Hide(line string) string {
	line = one(line)
	var b strings.Builder
	last, hide := 0, false
	for _, at := range word.FindAllStringIndex(line, -1) {
		w := line[at[0]:at[1]]
		b.WriteString(line[last:at[0]])
		last = at[1]
		if hide && !option(w) {
			w = Hidden
		}
		hide = named.MatchString(w) || said.MatchString(w)
		b.WriteString(w)
	}
	return b.String() + line[last:]
}

// Words does the same for the words of a launch line; the given ones stay.
func Words(words []string) []string {
	hidden, hide := slices.Clone(words), false
	for i, w := range words {
		hidden[i] = one(w)
		if hide && !option(w) {
			hidden[i] = Hidden
		}
		hide = named.MatchString(w) || said.MatchString(w)
	}
	return hidden
}

// one hides what stands within one word.
func one(w string) string {
	return within.ReplaceAllString(assigned.ReplaceAllString(w, "${1}"+Hidden), "${1}"+Hidden+"@")
}

// option reports whether a word is an option, and no value of the one before.
func option(w string) bool { return strings.HasPrefix(w, "-") }
