// Package naming makes the ids of what a Windows machine launches, out of names
// that may be anything.
package naming

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"unicode"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/hive"
)

// most is how many letters of a name stand in an id.
const most = 48

// ID is the id of an item: KIND:[PLACE/]NAME[@OWNER]. In a name of other than
// letters, digits, "._-+" each run of other signs is one "-". Such an id, and a
// long one, ends in # and four digits of a sum of the native name and the
// owner. So two of them are not taken for one. Nothing in it means anything to
// a shell.
func ID(kind item.Kind, place, name, owner, native string) string {
	plain, same := tame(name)
	if place != "" {
		plain = place + "/" + plain
	}
	return compose(kind, plain, same, owner, native)
}

// Path is the id of an item whose name is a path, its parts divided by
// backslashes: in the id they are divided by slashes.
func Path(kind item.Kind, native, owner string) string {
	var parts []string
	same := true
	for part := range strings.SplitSeq(strings.Trim(native, `\`), `\`) {
		plain, kept := tame(part)
		parts, same = append(parts, plain), same && kept
	}
	return compose(kind, strings.Join(parts, "/"), same, owner, native)
}

// compose puts an id together; same says that its name is as it was found.
func compose(kind item.Kind, name string, same bool, owner, native string) string {
	id := string(kind) + ":" + name
	if owner != "" {
		plain, kept := tame(owner)
		id, same = id+"@"+plain, same && kept
	}
	if !same {
		id += "#" + Sum(native, owner, 4)
	}
	return id
}

// Sum is a short sum of a native name and an owner, in so many digits.
func Sum(native, owner string, digits int) string {
	sum := sha256.Sum256([]byte(hive.Upper(native) + "\x00" + hive.Upper(owner)))
	return hex.EncodeToString(sum[:])[:digits]
}

// tame makes a name of what stands as it is, and reports whether it did.
func tame(name string) (string, bool) {
	var b strings.Builder
	same, letters, gap := true, 0, false
	for _, r := range name {
		if letters == most {
			same = false
			break
		}
		if unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("._-+", r) {
			b.WriteRune(r)
			gap = false
			letters++
			continue
		}
		same = false
		if !gap {
			b.WriteByte('-')
			letters++
		}
		gap = true
	}
	if b.Len() == 0 {
		return "-", false
	}
	return b.String(), same
}

// Apart gives items whose ids are still equal longer sums.
func Apart(items []item.Item) {
	at := map[string][]int{}
	for i, it := range items {
		id := strings.ToLower(it.ID)
		at[id] = append(at[id], i)
	}
	for _, all := range at {
		for _, i := range all {
			if it := &items[i]; len(all) > 1 {
				bare, _, _ := strings.Cut(it.ID, "#")
				it.ID = bare + "#" + Sum(it.Native, it.Owner, 8)
			}
		}
	}
}
