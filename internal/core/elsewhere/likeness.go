// Package elsewhere tells what many machines have in common: which of their
// items are the same one, and what figures of several machines come to.
//
// It knows no store and no operating system. Machines are its unit, never
// boots.
package elsewhere

import (
	"crypto/sha256"
	_ "embed"
	"encoding/binary"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
)

//go:embed likeness.toml
var builtIn []byte

// A Likeness is by what items of two machines are the same one. It holds no
// user's name, no place of a profile, no version and no number that a machine
// made up. Two items of one machine may share it, as one program of two people
// does.
type Likeness struct {
	Family string // the kind of operating system
	Kind   item.Kind
	// Name is the native name without what differs between machines. Its form
	// tells by which mechanism the item is launched.
	Name string
	// Maker is in lower case and without its legal form; empty where not known.
	// What a distribution brings has [Distributed].
	Maker string
}

// Distributed is the maker of what is from a distribution's own archive. One
// unit of two distributions is the same.
const Distributed = "distribution"

// A Key stands for a likeness, in a store of any number of machines. It is
// never negative.
type Key int64

// Key is the beginning of the SHA-256 (FIPS 180-4) of a likeness.
func (l Likeness) Key() Key {
	all := strings.Join([]string{l.Family, string(l.Kind), l.Name, l.Maker}, "\x00")
	sum := sha256.Sum256([]byte(all))
	return Key(binary.BigEndian.Uint64(sum[:]) >> 1)
}

// A rewriting takes something out of native names.
type rewriting struct {
	Family  string `toml:"family"` // empty for all
	Kind    string `toml:"kind"`   // empty for all
	Owned   bool   `toml:"owned"`  // of items that belong to a user
	Pattern string `toml:"pattern"`
	With    string `toml:"with"`

	find *regexp.Regexp
}

type likenesses struct {
	AnyCase []string    `toml:"any_case"`
	Forms   []string    `toml:"forms"`
	Names   []rewriting `toml:"name"`
}

// rules are those of likeness.toml.
var rules = sync.OnceValue(func() (all likenesses) {
	if err := toml.Unmarshal(builtIn, &all); err != nil {
		panic("likeness.toml: " + err.Error()) // it is our own, and tested
	}
	for i, r := range all.Names {
		all.Names[i].find = regexp.MustCompile(r.Pattern)
	}
	return all
})

// LikenessOf is the likeness of an item of a machine of a family, by the item's
// kind, native name, owner, maker and archive.
func LikenessOf(family string, it item.Item) Likeness {
	l := Likeness{family, it.Kind, strings.TrimSpace(it.Native), maker(it.Maker)}
	if it.Archive != "" {
		l.Maker = Distributed
	}
	if slices.Contains(rules().AnyCase, family) {
		l.Name = strings.ToLower(l.Name)
	}
	for _, r := range rules().Names {
		ours := r.Family == "" || r.Family == family
		if !ours || r.Kind != "" && r.Kind != string(it.Kind) || r.Owned && it.Owner == "" {
			continue
		}
		name := r.find.ReplaceAllString(l.Name, r.With)
		if strings.ContainsFunc(name, unicode.IsLetter) { // else it is known by the number alone
			l.Name = name
		}
	}
	l.Name = strings.Trim(l.Name, " ")
	return l
}

// maker is a maker's name without regard to case, signs and legal form.
func maker(name string) string {
	words := strings.FieldsFunc(strings.ToLower(name), func(c rune) bool {
		return c == ',' || c == '.' || unicode.IsSpace(c)
	})
	for len(words) > 1 && slices.Contains(rules().Forms, words[len(words)-1]) {
		words = words[:len(words)-1]
	}
	return strings.Join(words, " ")
}
