// Package shell writes words as shells take them: those of POSIX, bash, zsh and
// fish alike; on Windows PowerShell.
package shell

import (
	"fmt"
	"runtime"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Word is a word for a command that somebody may paste, quoted where it has to
// be. It returns false for one that no quotes of all those shells can hold, or
// no terminal should see. Those are words with control characters, or bytes
// that are no UTF-8.
func Word(w string) (string, bool) {
	if strings.IndexFunc(w, hidden) >= 0 {
		return "", false
	}
	if runtime.GOOS == "windows" {
		return powerShell(w), true
	}
	return posix(w), true
}

func hidden(r rune) bool {
	return r == utf8.RuneError || r != ' ' && !unicode.IsPrint(r)
}

// posix quotes for POSIX shells and fish. Within fish's quotes a backslash
// means something before a quote and before itself, so each stands outside
// them.
func posix(w string) string {
	if plain(w, "/._-:@+,=%#") && !strings.ContainsAny(w[:1], "#=%") {
		return w
	}
	return "'" + strings.NewReplacer("'", `'\''`, `\`, `'\\'`).Replace(w) + "'"
}

// powerShell quotes for PowerShell: about_Quoting_Rules. It takes curly quotes
// for quotes.
func powerShell(w string) string {
	if plain(w, `/\._-:`) {
		return w
	}
	quotes := strings.NewReplacer("'", "''", "‘", "‘‘", "’", "’’", "‚", "‚‚", "‛", "‛‛")
	return "'" + quotes.Replace(w) + "'"
}

// plain reports whether a word is of letters, digits and some signs alone.
func plain(w, signs string) bool {
	return w != "" && strings.IndexFunc(w, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune(signs, r))
	}) < 0
}

// Command is a program called with words that may hold any bytes but NUL. What
// quotes cannot hold goes through printf(1) and xargs(1), whose -0 all systems
// have that one may come to repair another with.
func Command(program string, words ...string) string {
	call := program
	for _, w := range words {
		word, ok := Word(w)
		if !ok {
			return octal(words) + " | xargs -0 " + program
		}
		call += " " + word
	}
	return call
}

// octal is a call of printf that prints words with a NUL behind each.
func octal(words []string) string {
	var b strings.Builder
	for _, w := range words {
		for _, c := range []byte(w) {
			if plain(string(rune(c)), "/._-:@+,=#") {
				b.WriteByte(c)
			} else {
				fmt.Fprintf(&b, `\%03o`, c)
			}
		}
		b.WriteString(`\000`)
	}
	return "printf '" + b.String() + "'"
}
