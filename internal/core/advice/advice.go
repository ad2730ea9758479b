// Package advice tells what role an item has and what we say of it, by rules
// that are data.
package advice

import (
	"cmp"
	_ "embed"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
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
	Lost   string      `toml:"lost"`
	Demand string      `toml:"demand"`
	// Protected items are switched off only when somebody insists.
	Protected bool `toml:"protected"`
	// Server: it serves other computers, and is never folded away.
	Server bool `toml:"server"`
	// Alone: it tells of the item, and nothing of others of its package.
	Alone bool `toml:"alone"`
	// Others: it is for what others than the operating system's makers brought.
	Others bool `toml:"others"`
	// Uses names what a [Use] tells; Unused is the reason where there is none.
	Uses   string `toml:"uses"`
	Unused string `toml:"unused"`

	// Items are ids that the technician has looked up. Such a rule gives advice
	// on them, whatever else tells of them; it protects nothing, and takes no
	// protection. Machine is the one that it is for, by its id; empty for all.
	// Made is the day when it was decided, in ISO 8601.
	Items   []string `toml:"items"`
	Machine string   `toml:"machine"`
	Made    string   `toml:"made"`

	// System rules are for parts of the operating system alone.
	System bool `toml:"system"`

	Marks    []string `toml:"marks"`
	Names    []string `toml:"names"`
	Programs []string `toml:"programs"`
	Packages []string `toml:"packages"`
	Traits   []string `toml:"traits"`
	Sections []string `toml:"sections"`
	Phrases  []string `toml:"phrases"`
	Words    []string `toml:"words"`

	anyCase bool // names are compared without regard to case
}

// Unknown is the reason to look an item up that no rule tells of.
const Unknown = "no rule knows it"

// Rules are sets of rules, asked one set after the other: within one the
// strongest evidence decides, then their order.
type Rules [][]Rule

// A Use says whether something that items serve is in use on the machine.
type Use struct {
	Any bool
	Why string // a clause: what uses it, or that nothing does
}

// Uses are those that the machine tells; what it cannot tell is not in it.
type Uses map[string]Use

// Load reads the built-in rules, and before them a technician's own, which may
// be empty. Those that stand for another family than the built-in ones do are
// read too. Of the built-in ones only words count there, which protect nothing.
func Load(own, family []byte) (Rules, error) {
	var all Rules
	for n, text := range [][]byte{own, family, builtIn} {
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
		for i := range file.Rules {
			r := &file.Rules[i]
			switch {
			case n == 1:
				r.anyCase = true
			case n == 2 && family != nil:
				*r = Rule{
					Role:    r.Role,
					Advice:  r.Advice,
					Reason:  r.Reason,
					Lost:    r.Lost,
					Phrases: r.Phrases,
					Words:   r.Words,
				}
			}
		}
		all = append(all, file.Rules)
	}
	return all, nil
}

// Judge gives an item its role, its advice and the reason. What is off gets no
// advice; what is broken or left behind is to be cleaned up. Of the operating
// system's own parts only what is known for certain is advised away. Words are
// no ground for protection. A server is never a part of the operating system.
//
// A technician's own rule changes advice. It never takes the protection that
// the others give.
func (rules Rules) Judge(it *item.Item, uses Uses) {
	rules.judge(it, uses)
	if len(rules) < 2 {
		return
	}
	if it.Protected == "" {
		others := *it
		if rules[1:].judge(&others, uses); others.Protected != "" {
			it.Protected = others.Protected
		}
	}
	for _, r := range rules[0] {
		if slices.Contains(r.Items, it.ID) && it.State.Launched() && it.State != item.Broken {
			it.Advice, it.Reason = r.Advice, strings.TrimSpace(r.Reason)
			it.Evidence = "" // it is theirs, and not a role's
			by := "by your own rule"
			if day, err := time.Parse(time.DateOnly, r.Made); err == nil {
				by += " of " + day.Format("2 January 2006")
			}
			it.Reason = strings.TrimPrefix(it.Reason+", "+by, ", ")
		}
	}
}

// For are the rules that hold on a machine, by its id.
func (rules Rules) For(machine string) Rules {
	all := slices.Clone(rules)
	if len(all) > 0 {
		all[0] = slices.DeleteFunc(slices.Clone(all[0]), func(r Rule) bool {
			return r.Machine != "" && r.Machine != machine
		})
	}
	return all
}

func (rules Rules) judge(it *item.Item, uses Uses) {
	it.Role, it.Advice, it.Reason, it.Protected, it.Lost, it.Demand = "", "", "", "", "", ""
	rule, evidence, strength := rules.find(it)
	if evidence != "" {
		it.Role = rule.Role
		it.System = it.System && !rule.Server
		it.Lost, it.Demand = rule.Lost, rule.Demand
	}
	use, told := uses[rule.Uses]
	told = told && strength < byTitleWord // else it may serve something else
	if told && use.Any {
		rule.Advice = used(rule.Advice)
		rule.Reason += "; " + use.Why
	} else if told {
		rule.Advice, rule.Reason, rule.Protected = item.CanGo, rule.Unused, false
	}
	if rule.Protected && strength < byTitleWord && it.State.Launched() &&
		it.State != item.Broken {
		it.Protected = fmt.Sprintf("%s (role %s: %s)", rule.Reason, rule.Role, evidence)
	}
	if it.Opaque != "" && it.Protected == "" && it.State.Launched() {
		it.Protected = "what it is cannot be told: " + it.Opaque
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
		it.Advice, it.Reason = item.LookUp, cmp.Or(it.Why, "it stands in a login script, and may "+
			"or may not be launched")
		return
	case it.System && (strength > byTrait || rule.Advice == item.Keep && rule.Uses == ""):
		it.Advice, it.Reason = item.Keep, "it is a part of the operating system"
	case evidence == "":
		it.Advice, it.Reason = item.LookUp, Unknown
		return
	default:
		it.Advice, it.Reason = rule.Advice, rule.Reason
	}
	it.Evidence = evidence
	it.Reason += known(it)
	if len(it.Starters) > 0 && it.Demand == "" && it.Advice != item.Keep {
		it.Demand = "it starts when something asks for it, through " +
			strings.Join(it.Callers()[:min(2, len(it.Starters))], " or ")
	}
}

// Undelayed settles the advice to wait of an item that cannot be delayed. What
// starts at another time waits already, the rest is a question to somebody.
func Undelayed(it *item.Item) {
	reason := strings.TrimSuffix(it.Reason, known(it))
	if it.When == item.Later {
		it.Advice, it.Reason = item.Keep, reason+"; it starts at another time by itself"
	} else {
		it.Advice, it.Reason = item.LookUp, reason+"; it cannot be delayed, so it goes or stays"
	}
	it.Reason += known(it)
}

// known is how a reason ends that goes by a role.
func known(it *item.Item) string {
	if it.Evidence == "" {
		return ""
	}
	return fmt.Sprintf(" (role %s: %s)", it.Role, it.Evidence)
}

// used is the advice for what is known to be in use.
func used(a item.Advice) item.Advice {
	if a == item.CanWait {
		return a
	}
	return item.Keep
}

// A strength is how much a kind of evidence means, the strongest first.
type strength int

// Kinds of evidence, in the order of roles.toml.
const (
	byMark strength = iota // a trait that outdoes every name
	byName
	byProgram
	byPackage
	byTrait
	bySection
	byPhrase
	byDescription // a phrase of its package's
	byTitleWord
	byProgramWord
	byDescriptionWord
	weakest
)

// find returns the rule that decides on an item, with its evidence; empty where
// none fits.
func (rules Rules) find(it *item.Item) (Rule, string, strength) {
	w := wordsOf(it)
	for _, set := range rules {
		for kind := byMark; kind < weakest; kind++ {
			for _, r := range set {
				if evidence := r.fits(it, kind, w); evidence != "" {
					return r, evidence, kind
				}
			}
		}
	}
	return Rule{}, "", weakest
}

// texts are an item's in single words, and the same in one line.
type texts struct {
	title, program, summary []string
	titleLine, summaryLine  string
}

func wordsOf(it *item.Item) texts {
	split := func(text string) []string {
		return strings.FieldsFunc(strings.ToLower(text), func(c rune) bool {
			return !unicode.IsLetter(c)
		})
	}
	w := texts{
		title:   split(it.Title),
		program: split(path.Base(it.Program)),
		summary: split(it.Summary),
	}
	w.titleLine = " " + strings.Join(w.title, " ") + " "
	w.summaryLine = " " + strings.Join(w.summary, " ") + " "
	return w
}

// fits returns the evidence of a kind for which a rule fits an item; empty when
// it does not.
func (r Rule) fits(it *item.Item, kind strength, w texts) string {
	// what cannot be read never lowers protection: a name and a place suffice
	placed := kind == byName && r.Protected && slices.Contains(it.Traits, item.SystemPlace)
	if r.System && !it.System && !placed {
		return ""
	}
	if r.Others && (it.System || it.Archive != "" || it.Package == "" && it.Maker == "") {
		return ""
	}
	like := func(what string, patterns []string, values ...string) string {
		for _, value := range values {
			if value != "" && value != "." && slices.ContainsFunc(patterns, func(p string) bool {
				if r.anyCase {
					return matches(strings.ToLower(p), strings.ToLower(value))
				}
				return matches(p, value)
			}) {
				return what + ": " + value
			}
		}
		return ""
	}
	word := func(what string, words []string) string {
		for _, word := range words {
			if slices.Contains(r.Words, word) {
				return fmt.Sprintf("%s: %q", what, word)
			}
		}
		return ""
	}
	phrase := func(what, line string) string {
		for _, p := range r.Phrases {
			p = strings.ReplaceAll(p, "-", " ")
			if strings.Contains(line, " "+p+" ") {
				return fmt.Sprintf("%s: %q", what, p)
			}
		}
		return ""
	}
	switch kind {
	case byMark:
		return like("trait", r.Marks, it.Traits...)
	case byName:
		return like("name", r.Names, it.Native, path.Base(it.File))
	case byProgram:
		return like("program", r.Programs, path.Base(it.Program))
	case byPackage:
		return like("package", r.Packages, it.Package)
	case byTrait:
		return like("trait", r.Traits, it.Traits...)
	case bySection:
		return like("package section", r.Sections, it.Section)
	case byPhrase:
		return phrase("title", w.titleLine)
	case byDescription:
		return phrase("description", w.summaryLine)
	case byTitleWord:
		return word("title", w.title)
	case byProgramWord:
		return word("program", w.program)
	}
	return word("description", w.summary)
}

// matches reports whether a value is like a pattern, in which * stands for any
// text and ? for one byte.
func matches(pattern, value string) bool {
	for i := 0; i < len(pattern); i++ {
		switch {
		case pattern[i] == '*':
			for at := 0; at <= len(value); at++ {
				if matches(pattern[i+1:], value[at:]) {
					return true
				}
			}
			return false
		case value == "" || pattern[i] != '?' && pattern[i] != value[0]:
			return false
		}
		value = value[1:]
	}
	return value == ""
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
