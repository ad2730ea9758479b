package change

import (
	"path"
	"strings"
	"unicode"
)

// An address says what is edited. It is a path inside the machine, or a scheme,
// a colon and what is no file, such as a registry's value. Addresses are
// logical: what was changed on the running machine is found again on its disk,
// and the other way round.

// Scheme is the scheme of an address; empty for a path.
func Scheme(address string) string {
	scheme, _, ok := strings.Cut(address, ":")
	if !ok || strings.HasPrefix(address, "/") {
		return ""
	}
	return scheme
}

// IsAddress reports whether a text is an address: an absolute path that is
// clean (path.Clean), or a scheme of small letters with something behind it.
// None holds control characters, paths no NUL.
func IsAddress(text string) bool {
	if strings.HasPrefix(text, "/") {
		return text != "/" && path.Clean(text) == text && !strings.ContainsRune(text, 0)
	}
	scheme, rest, ok := strings.Cut(text, ":")
	outside := func(r rune) bool { return r < 'a' || r > 'z' }
	return ok && scheme != "" && rest != "" && strings.IndexFunc(scheme, outside) < 0 &&
		strings.IndexFunc(rest, unicode.IsControl) < 0
}

// Folder is what an edit's path stands in. That is a folder, or of what a store
// holds the part before two backslashes, as a key of a registry. It is false
// where there is none.
func (e Edit) Folder() (string, bool) {
	if Scheme(e.Path) == "" {
		return path.Dir(e.Path), true
	}
	folder, _, ok := strings.Cut(e.Path, `\\`)
	return folder, ok
}

// Above is the folder around a folder; false for the topmost one.
func Above(folder string) (string, bool) {
	if Scheme(folder) == "" {
		return path.Dir(folder), folder != "/"
	}
	i := strings.LastIndex(folder, `\`)
	if i < 0 {
		return "", false
	}
	return folder[:i], true
}

// Within reports whether an address, or a folder, is somewhere in a folder.
func Within(folder, address string) bool {
	divider := "/"
	if Scheme(folder) != "" {
		divider = `\`
	}
	return strings.HasPrefix(address, strings.TrimSuffix(folder, divider)+divider)
}
