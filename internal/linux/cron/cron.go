package cron

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/machine"
)

// Prefix begins the ids of tasks that stand in a crontab.
const Prefix = "task:/"

const (
	systemTable  = "/etc/crontab"
	systemFolder = "/etc/cron.d"
	spoolFolder  = "/var/spool/cron/crontabs"
	maxText      = 1 << 20
)

// Tables are a machine's crontabs.
type Tables struct {
	root   *machine.Root
	users  []account.User
	known  map[string]bool // all account names, system accounts too
	owner  int             // who owns the machine's files: root, or whoever unpacked an image
	places map[string]place
	unread []item.Unread
}

// A place is where the line of an item stands.
type place struct {
	table string
	text  string
	nth   int // among equal lines of the table
}

// Read prepares the survey of a machine's crontabs.
func Read(r *machine.Root, users []account.User) *Tables {
	t := &Tables{root: r, users: users, known: map[string]bool{}, places: map[string]place{}}
	if info, err := r.Stat("/"); err == nil {
		t.owner = info.UID
	}
	if text, err := r.ReadFile("/etc/passwd", 4<<20); err == nil {
		for l := range strings.Lines(string(text)) {
			name, _, _ := strings.Cut(l, ":")
			t.known[name] = true
		}
	}
	return t
}

// Unread names the places that could not be read.
func (t *Tables) Unread() []item.Unread { return t.unread }

func (t *Tables) skip(p string, err error) {
	if !errors.Is(err, fs.ErrNotExist) {
		t.unread = append(t.unread, item.Unread{Path: p, Reason: machine.Reason(err)})
	}
}

var tableName = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// Survey returns the @reboot lines of all tables.
func (t *Tables) Survey() []item.Item {
	items := t.table(systemTable, "")
	for _, e := range t.list(systemFolder) {
		if tableName.MatchString(e.Name) {
			items = append(items, t.table(path.Join(systemFolder, e.Name), "")...)
		}
	}
	for _, e := range t.list(spoolFolder) {
		if t.known[e.Name] {
			items = append(items, t.table(path.Join(spoolFolder, e.Name), e.Name)...)
		}
	}
	return items
}

func (t *Tables) list(folder string) []machine.Entry {
	entries, err := t.root.ReadDir(folder)
	if err != nil {
		t.skip(folder, err)
	}
	return entries
}

// table reads one table; owner is the user of a user's own.
func (t *Tables) table(p, owner string) []item.Item {
	text, err := t.root.ReadFile(p, maxText)
	if err != nil {
		t.skip(p, err)
		return nil
	}
	lines, dropped := parse(text, owner == "", func(name string) bool { return t.known[name] })
	if dropped == nil {
		dropped = t.distrusted(p, owner)
	}
	var items []item.Item
	seen := map[string]int{}
	for _, l := range lines {
		it := item.Item{
			Kind: item.Task, Owner: owner, When: item.AtBoot, State: item.On, File: p, Command: l.command,
			Title: l.comment, Native: p + ": " + l.text, Because: []string{"cron.service", p},
			ID: fmt.Sprintf("task:%s#%s", p, shortHash(l.text)),
		}
		if nth := seen[l.text]; nth > 0 {
			it.ID += fmt.Sprintf("-%d", nth+1)
		}
		t.places[it.ID] = place{p, l.text, seen[l.text]}
		seen[l.text]++
		it.Program = program(l.command)
		if it.Title == "" {
			it.Title = path.Base(it.Program)
		}
		if it.Program == "" && l.comment == "" {
			it.Title = l.command
		}
		switch {
		case l.off:
			it.State, it.Why, it.Because = item.Off, "its line is commented out by calmdawn", nil
		case dropped != nil:
			it.State, it.Because = item.Off, nil
			it.Why = "cron drops the whole file: " + strings.ReplaceAll(dropped.Error(), "\n", "; ")
		case path.IsAbs(it.Program) && !t.root.IsFile(it.Program):
			it.State, it.Why = item.Broken, it.Program+" is not there"
		}
		items = append(items, it)
	}
	return items
}

// distrusted says why the daemon does not read a table for its owner or mode.
func (t *Tables) distrusted(p, owner string) error {
	info, err := t.root.Stat(p)
	if err != nil {
		return err
	}
	want := []int{t.owner}
	if owner != "" {
		for _, u := range t.users {
			if u.Name == owner {
				want = append(want, u.UID)
			}
		}
	}
	if !slices.Contains(want, info.UID) {
		return errors.New("it belongs to another user")
	}
	if owner == "" && info.Mode&0o022 != 0 {
		return errors.New("others may write to it")
	}
	return nil
}

// shortHash tells a line apart from the others of its file.
func shortHash(text string) string {
	sum := sha256.Sum256([]byte(strings.Join(strings.Fields(text), " ")))
	return fmt.Sprintf("%x", sum[:2])
}

// program returns the first word of a shell line where that plainly is a program; empty where it cannot be told.
func program(command string) string {
	for _, word := range strings.Fields(command) {
		if name, _, ok := strings.Cut(word, "="); ok && !strings.ContainsAny(name, "/$'\"`") {
			continue // a variable set for the command
		}
		if strings.ContainsAny(word, "$`'\"\\()&|;<>*?[]{}~!#") {
			return ""
		}
		return word
	}
	return ""
}

// Turn plans that the item's line is commented out, or read again.
func (t *Tables) Turn(d *machine.Draft, it item.Item, to item.State) error {
	at, ok := t.places[it.ID]
	switch {
	case !ok:
		return errors.New("the line is not there any more")
	case to != item.On && to != item.Off:
		return fmt.Errorf("%s cannot be turned to %q", it.ID, to)
	case to == item.On && strings.HasPrefix(it.Why, "cron "):
		return errors.New(it.Why)
	}
	return d.Rewrite(at.table, "", func(text []byte) ([]byte, error) { return turn(text, at.text, at.nth, to == item.Off) })
}
