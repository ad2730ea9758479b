// Package cron reads the crontabs of a Linux machine, as its daemon would
// (crontab(5), cron(8); dialect.go has the kinds of daemons). It reads too the
// script folders that they run and the table of the daemon that catches missed
// days up. It plans the switching of lines.
package cron

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// offMark begins a line that calmdawn switched off: a comment to the daemon.
const offMark = "#calmdawn off: "

// delayed matches the begin of a command that calmdawn holds back: two commands
// that do nothing else.
var delayed = regexp.MustCompile(`^: calmdawn delays this; sleep ([0-9]+); `)

// A line is one entry of a table.
type line struct {
	text    string // as it is when it is on
	delay   int    // seconds by which it is held back
	boot    bool
	fires   string // for people
	user    string // empty in a user's own table
	command string
	comment string // the comment directly above, if any
	off     bool
	wrong   error // why the daemon does not take it
}

var assignment = regexp.MustCompile(`^\s*("[^"]*"|'[^']*'|[^\s=@][^\s=]*)\s*=`)

// parse reads a table. An error says why the daemon drops the whole file; the
// lines found are returned all the same.
func parse(text []byte, withUser bool, isUser func(string) bool) ([]line, error) {
	var found []line
	var wrong error
	comment := ""
	for number, raw := range strings.Split(string(text), "\n") {
		s := strings.TrimSpace(raw)
		marked, off := strings.CutPrefix(s, offMark)
		switch {
		case off && strings.TrimSpace(marked) != "":
			if l, err := parseLine(strings.TrimSpace(marked), withUser,
				isUser); err == nil && l.command != "" {
				l.off, l.comment = true, comment
				found = append(found, l)
			}
			comment = ""
		case s == "":
			comment = ""
		case s[0] == '#':
			comment = remarkAfter(comment, strings.TrimSpace(strings.Trim(s, "#")))
		case assignment.MatchString(s):
			comment = ""
		default:
			l, err := parseLine(s, withUser, isUser)
			if l.wrong = err; err != nil {
				wrong = errors.Join(wrong, fmt.Errorf("line %d: %w", number+1, err))
			}
			if l.command != "" {
				l.comment = comment
				found = append(found, l)
			}
			comment = ""
		}
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		wrong = errors.Join(wrong, errors.New("its last line has no newline"))
	}
	return found, wrong
}

var nicknames = []string{
	"@reboot", "@yearly", "@annually", "@monthly", "@weekly", "@daily", "@midnight", "@hourly",
}

// parseLine checks one entry. One that the daemon refuses comes back with what
// was read of it, and the reason.
func parseLine(s string, withUser bool, isUser func(string) bool) (line, error) {
	l := line{text: s}
	rest := s
	next := func() (word string) {
		rest = strings.TrimLeft(rest, " \t")
		end := strings.IndexAny(rest, " \t")
		if end < 0 {
			end = len(rest)
		}
		word, rest = rest[:end], rest[end:]
		return word
	}
	if s[0] == '@' {
		nick := next()
		if !slices.Contains(nicknames, nick) {
			return l, fmt.Errorf("%q is not a word that the daemon knows", nick)
		}
		l.boot = nick == "@reboot"
		l.fires = "every " + strings.TrimSuffix(strings.TrimPrefix(nick, "@"), "ly")
		if words, ok := map[string]string{
			"@reboot":   "at the boot",
			"@daily":    "every day at 0:00",
			"@midnight": "every day at 0:00",
			"@annually": "every year",
		}[nick]; ok {
			l.fires = words
		}
	} else {
		var times []string
		for _, f := range fields {
			word := next()
			if !f.accepts(word) {
				return l, fmt.Errorf("%q is no %s", word, f.name)
			}
			times = append(times, word)
		}
		l.fires = inWords(times)
	}
	if withUser {
		l.user = next()
	}
	l.command = strings.TrimSpace(rest)
	if m := delayed.FindStringSubmatch(l.command); m != nil {
		l.delay, _ = strconv.Atoi(m[1])
		bare := strings.TrimPrefix(l.command, m[0])
		l.text = strings.TrimSuffix(l.text, l.command) + bare
		l.command = bare
	}
	switch {
	case withUser && !isUser(l.user):
		return l, fmt.Errorf("there is no user %q", l.user)
	case l.command == "":
		return l, errors.New("it has no command")
	}
	return l, nil
}

// inWords says the plain forms of the five time fields in words, and the others
// as they stand.
func inWords(times []string) string {
	minute, err1 := strconv.Atoi(times[0])
	hour, err2 := strconv.Atoi(times[1])
	rest := strings.Join(times[2:], " ")
	switch {
	case err1 == nil && err2 == nil && rest == "* * *":
		return fmt.Sprintf("every day at %d:%02d", hour, minute)
	case err1 == nil && times[1] == "*" && rest == "* * *":
		return fmt.Sprintf("every hour at minute %d", minute)
	}
	day, err3 := strconv.Atoi(times[2])
	weekday, known := fields[4].number(times[4])
	clock := fmt.Sprintf("at %d:%02d", hour, minute)
	switch timed := err1 == nil && err2 == nil; {
	case timed && times[2] == "*" && times[3] == "*" && known:
		return fmt.Sprintf("every %s %s", time.Weekday(weekday%7), clock)
	case timed && err3 == nil && times[3] == "*" && times[4] == "*":
		return fmt.Sprintf("on day %d of every month %s", day, clock)
	}
	if step, ok := strings.CutPrefix(times[0], "*/"); ok && times[1] == "*" && rest == "* * *" {
		return fmt.Sprintf("every %s minutes", step)
	}
	return "at " + strings.Join(times, " ") + " (minute, hour, day, month, weekday)"
}

// A field is one of the five time fields.
type field struct {
	name     string
	min, max int
	names    []string // from min on
}

var fields = []field{
	{"minute", 0, 59, nil},
	{"hour", 0, 23, nil},
	{"day of the month", 1, 31, nil},
	{
		"month",
		1,
		12,
		[]string{
			"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec",
		},
	},
	{"day of the week", 0, 7, []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}},
}

func (f field) accepts(word string) bool {
	for part := range strings.SplitSeq(word, ",") {
		span, step, stepped := strings.Cut(part, "/")
		if n, err := strconv.Atoi(step); stepped && (err != nil || n < 1) {
			return false
		}
		if span == "*" {
			continue
		}
		low, high, ranged := strings.Cut(span, "-")
		from, ok := f.number(low)
		to := from
		if ranged && ok {
			to, ok = f.number(high)
		}
		if !ok || from > to || stepped && !ranged {
			return false
		}
	}
	return true
}

func (f field) number(s string) (int, bool) {
	if i := slices.Index(f.names, strings.ToLower(s)); i >= 0 {
		return f.min + i, true
	}
	n, err := strconv.Atoi(s)
	return n, err == nil && n >= f.min && n <= f.max
}

// turn returns the table with the given line switched, every other byte as it
// was. nth counts equal lines from 0; delay is by how many seconds its command
// is held back, 0 for not at all.
func turn(text []byte, want line, nth int, off bool, delay int) ([]byte, error) {
	lines := strings.SplitAfter(string(text), "\n")
	for i, raw := range lines {
		s := strings.TrimSpace(raw)
		bare, _ := strings.CutPrefix(s, offMark)
		bare = strings.TrimSpace(bare)
		head, tail, held := strings.Cut(bare, ": calmdawn delays this; sleep ")
		if _, command, ok := strings.Cut(tail, "; "); held && ok {
			bare = head + command
		}
		if bare != want.text {
			continue
		}
		if nth > 0 {
			nth--
			continue
		}
		now := want.text
		if delay > 0 {
			now = fmt.Sprintf("%s: calmdawn delays this; sleep %d; %s",
				strings.TrimSuffix(want.text, want.command), delay, want.command)
		}
		if off {
			now = offMark + now
		}
		lines[i] = strings.Replace(raw, s, now, 1)
		return []byte(strings.Join(lines, "")), nil
	}
	return nil, errors.New("the line is not there any more")
}
