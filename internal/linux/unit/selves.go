package unit

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Conditions on what a machine and its people are, systemd.unit(5).

// isHost judges a host name, which may be a pattern, or a machine id.
func (t *Tree) isHost(value string) truth {
	if len(value) == 32 && len(t.facts.id) == 32 && strings.EqualFold(value, t.facts.id) {
		return holds
	}
	host := t.facts.host
	if host == "" {
		return unknown
	}
	fits, err := path.Match(strings.ToLower(value), strings.ToLower(host))
	return truthOf(err == nil && fits)
}

// isUser judges for whom the service manager runs.
func (t *Tree) isUser(value string) truth {
	const lastOfSystem = 999
	name, uid := cmp.Or(t.owner.Name, "root"), t.owner.UID
	n, err := strconv.Atoi(value)
	return truthOf(value == name || err == nil && n == uid ||
		value == "@system" && uid <= lastOfSystem)
}

// inGroup judges in which groups the service manager is.
func (t *Tree) inGroup(value string) truth {
	name := cmp.Or(t.owner.Name, "root")
	numbers, members := t.facts.groups, t.facts.members
	if n, err := strconv.Atoi(value); err == nil {
		named := slices.Collect(maps.Keys(numbers))
		return truthOf(n == t.owner.GID || slices.ContainsFunc(named, func(g string) bool {
			return numbers[g] == n && slices.Contains(members[g], name)
		}))
	}
	n, there := numbers[value]
	return truthOf(there && (n == t.owner.GID || slices.Contains(members[value], name)))
}

// releaseSigns are the comparisons of a field of os-release(5), those that
// begin with another behind it.
var releaseSigns = []string{"!$=", "$=", "<>", "<=", ">=", "==", "!=", "<", ">", "="}

// isRelease judges one or several comparisons with fields of os-release(5), all
// of which have to hold.
func isRelease(release map[string]string, value string) truth {
	for rest := value; strings.TrimSpace(rest) != ""; {
		word, after, ok := execWord(rest)
		at := strings.IndexAny(word, "!$<=>")
		if !ok || at < 0 {
			return broken
		}
		rest = after
		key, behind := word[:at], word[at:]
		sign := slices.IndexFunc(releaseSigns, func(s string) bool {
			return strings.HasPrefix(behind, s)
		})
		if sign < 0 {
			return broken
		}
		want := behind[len(releaseSigns[sign]):]
		if want == "" || strings.ContainsAny(want[:1], " \t") {
			return broken
		}
		have := release[key]
		fits, _ := path.Match(want, have)
		if !map[string]bool{
			"$=": fits, "!$=": !fits,
			"=": have == want, "!=": have != want,
			"==": compareVersions(have, want) == 0, "<>": compareVersions(have, want) != 0,
			"<": compareVersions(have, want) < 0, "<=": compareVersions(have, want) <= 0,
			">": compareVersions(have, want) > 0, ">=": compareVersions(have, want) >= 0,
		}[releaseSigns[sign]] {
			return fails
		}
	}
	return holds
}

// compareVersions compares two versions as the UAPI Group's version format
// specification says.
func compareVersions(a, b string) int {
	counts := func(r rune) bool {
		return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' ||
			strings.ContainsRune("-.~^", r)
	}
	skip := func(s string) string {
		return strings.TrimLeftFunc(s, func(r rune) bool { return !counts(r) })
	}
	head := func(s, of string) (part, rest string) {
		rest = strings.TrimLeft(s, of)
		return s[:len(s)-len(rest)], rest
	}
	const digits = "0123456789"
	const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
	for {
		a, b = skip(a), skip(b)
		before := func(sign string) (int, bool) { // what begins with the sign is older
			x, y := strings.HasPrefix(a, sign), strings.HasPrefix(b, sign)
			switch {
			case x && y:
				a, b = a[1:], b[1:]
			case x:
				return -1, true
			case y:
				return 1, true
			}
			return 0, false
		}
		if order, told := before("~"); told {
			return order
		}
		if a == "" || b == "" {
			return cmp.Compare(min(len(a), 1), min(len(b), 1))
		}
		for _, sign := range []string{"-", "^", "."} {
			if order, told := before(sign); told {
				return order
			}
		}
		of, number := letters, false
		if strings.IndexAny(a, digits) == 0 || strings.IndexAny(b, digits) == 0 {
			of, number = digits, true
		}
		var x, y string
		x, a = head(a, of)
		y, b = head(b, of)
		if number {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if order := cmp.Compare(len(x), len(y)); order != 0 {
				return order
			}
		}
		if order := strings.Compare(x, y); order != 0 {
			return order
		}
	}
}
