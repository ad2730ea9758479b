package cron

import (
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"calmdawn/internal/linux/launch"
)

// example tells comments that explain how a line is written, or separate, from
// those that say what the line below is for.
var example = regexp.MustCompile(`\* +\*|^[.|=*+_-]|^[^ ]*$|[eE]xample of|crontab entries`)

// remark is a comment that says what a line is for; empty for any other.
func remark(comment string) string {
	if example.MatchString(comment) {
		return ""
	}
	return comment
}

// remarkAfter is a comment below another. It is empty where it goes on with a
// sentence that begins above.
func remarkAfter(above, comment string) string {
	first, _ := utf8.DecodeRuneInString(comment)
	if above != "" && unicode.IsLower(first) && !strings.ContainsAny(above[len(above)-1:], ".:!?") {
		return ""
	}
	return comment
}

// guards are commands that only ask whether another is to run, or prepare it.
var guards = []string{
	"[", "[[", "test", "command", "if", "then", "else", "fi", "cd", "sleep", ":", "true", "which",
	"type",
	"exec", "nice", "ionice", "{", "}", "(", ")", "!", "export", "umask", "cron_run",
}

// before are words that stand in front of a command.
var before = []string{"if", "then", "else", "exec", "nice", "ionice", "!"}

var parts = regexp.MustCompile(`&&|\|\||[;|{}()]`)

// sentence says for people what a line of shell runs, and how often.
func sentence(command, program, fires string) string {
	what := ""
	if m := runsFolder.FindStringSubmatch(command); m != nil {
		what = "the scripts of " + path.Clean(m[1])
	}
	if what == "" && program != "" {
		what = path.Base(program)
	}
	for _, part := range parts.Split(command, -1) {
		if what != "" && !slices.Contains(guards, what) {
			break
		}
		words := launch.Split(part)
		prefix := func(w string) bool {
			return strings.Contains(w, "=") || slices.Contains(before, w)
		}
		for len(words) > 0 && prefix(words[0]) {
			words = words[1:]
		}
		if len(words) == 0 || slices.Contains(guards, words[0]) {
			continue
		}
		what = path.Base(words[0])
		if what == "invoke-rc.d" || what == "service" || what == "systemctl" {
			what = strings.Join(slices.DeleteFunc(words[1:], func(w string) bool {
				return strings.HasPrefix(w, "-") || strings.ContainsAny(w, "<>&/")
			}), " ")
		}
	}
	if what == "" {
		what = "a command"
	}
	if fires == "" || strings.Contains(fires, "*") { // not in words
		return "Run " + what
	}
	return "Run " + what + ", " + fires
}

// period says how often a line of anacrontab(5) runs.
func period(days string) string {
	switch days {
	case "1", "@daily":
		return "every day"
	case "7", "@weekly":
		return "every week"
	case "@monthly":
		return "every month"
	case "@yearly", "@annually":
		return "every year"
	}
	return "every " + days + " days"
}
