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
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/secret"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/linux/shown"
	"calmdawn/internal/machine"
)

// Mechanism is the mechanism of items that the daemon of crontabs launches.
const Mechanism = "cron"

const (
	systemTable  = "/etc/crontab"
	systemFolder = "/etc/cron.d"
	maxText      = 1 << 20
)

// Tables are a machine's crontabs.
type Tables struct {
	root   *machine.Root
	finder *launch.Finder
	users  []account.User
	known  map[string]bool // all account names, system accounts too
	owner  int             // who owns the machine's files: root, or whoever unpacked an image
	daemon shown.Daemon
	as     dialect
	places map[string]place
	unread []item.Unread
}

// A place is where the line of an item stands.
type place struct {
	table string
	line  line
	nth   int // among equal lines of the table
}

// Read prepares the survey of a machine's crontabs.
func Read(
	r *machine.Root,
	finder *launch.Finder,
	users []account.User,
	daemon shown.Daemon,
) *Tables {
	t := &Tables{
		root:   r,
		finder: finder,
		users:  users,
		known:  map[string]bool{},
		daemon: daemon,
		places: map[string]place{},
	}
	t.as = dialectOf(r, func(unit string) bool {
		_, there, _ := daemon(unit)
		return there
	})
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

// Name is the mechanism that items carry.
func (t *Tables) Name() string { return Mechanism }

// Key: a boot knows the daemon, not what it launches.
func (t *Tables) Key(item.Item) (boot.Key, bool) { return boot.Key{}, false }

// Lookup knows no item that Survey does not list.
func (t *Tables) Lookup(string, item.Survey) (item.Item, bool) { return item.Item{}, false }

// Unread names the places that could not be read.
func (t *Tables) Unread() []item.Unread { return t.unread }

func (t *Tables) skip(p string, err error) {
	if !errors.Is(err, fs.ErrNotExist) {
		t.unread = append(t.unread, machine.Unread(p, err))
	}
}

// Survey returns the lines of all tables, and the scripts in the folders that
// they run.
func (t *Tables) Survey() []item.Item {
	items := t.table(systemTable, "")
	hung := ""
	for _, e := range t.list(systemFolder) {
		p := path.Join(systemFolder, e.Name)
		if !t.as.named(e.Name) {
			continue
		}
		if info, err := t.root.Stat(p); err == nil && info.Kind == machine.FIFO {
			hung = p
		}
		items = append(items, t.table(p, "")...)
	}
	for _, folder := range t.as.spool {
		for _, e := range t.list(folder) {
			beside := e.Kind == machine.Folder && folder == wholeSpool // another daemon's
			if t.known[e.Name] && !beside {
				items = append(items, t.table(path.Join(folder, e.Name), e.Name)...)
			}
		}
	}
	if info, err := t.root.Stat(t.as.foreign); t.as.foreign != "" && err == nil &&
		info.Kind == machine.Folder {
		t.unread = append(t.unread, item.Unread{Path: t.as.foreign, Reason: "holds crontabs in " +
			"a form of their own, which is not read"})
	}
	items = append(items, t.scripts(items)...)
	chain, _, on := t.daemon(t.as.unit)
	for i := range items {
		switch it := &items[i]; {
		case it.State == item.Off:
		case !on:
			it.State, it.Why, it.Because = item.Off, t.as.unit+", which would launch it, is "+
				"not on", nil
		case hung != "" && t.as.whole:
			it.State, it.Why, it.Because = item.Off, "cron hangs at the FIFO "+hung+
				" and launches nothing", nil
			it.Barred = it.Why
		default:
			it.Because = append(slices.Clone(chain), it.Because[1:]...)
		}
	}
	if t.as.asUnits {
		for i := range items {
			t.asUnit(&items[i])
		}
	}
	return append(items, t.catchUp(items)...)
}

var periodFolder = regexp.MustCompile(`/etc/cron\.(hourly|daily|weekly|monthly)\b`)

// asUnit says of a line, or a script, what becomes of it where units are made
// of lines. A timer of the same name goes before a table, and the usual folders
// have timers of their own (systemd.cron(7); tried with its generator).
func (t *Tables) asUnit(it *item.Item) {
	if it.State != item.On {
		return
	}
	named := path.Base(it.File) + ".timer"
	if _, there, _ := t.daemon(named); there && path.Dir(it.File) == systemFolder {
		it.State, it.Because = item.Off, nil
		it.Why = "cron passes it over: " + named + " is there, and goes before it"
		it.Barred = it.Why
		return
	}
	of, by := it.Command, it.File // a line
	if it.Command == it.File {
		of, by = path.Dir(it.File), "" // a script
	}
	m := periodFolder.FindStringSubmatch(of)
	if m == nil || !slices.Contains(append(it.Because, by), systemTable) {
		return
	}
	timer := "cron-" + m[1] + ".timer"
	chain, _, on := t.daemon(timer)
	switch {
	case by != "":
		it.State, it.Because = item.Off, nil
		it.Why = "cron passes it over: " + timer + " does the same"
		it.Barred = it.Why
	case !on:
		it.State, it.Because = item.Off, nil
		it.Why = timer + ", which would launch it, is not on"
	default:
		it.Because = append(slices.Clone(chain), it.File)
	}
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
	if !t.as.whole {
		dropped = nil // each wrong line alone
	}
	if dropped == nil {
		dropped = t.distrusted(p, owner)
	}
	var items []item.Item
	seen := map[string]int{}
	for _, l := range lines {
		it := item.Item{
			Kind:    item.Task,
			Owner:   owner,
			When:    item.Later,
			State:   item.On,
			File:    p,
			Command: l.command,
			Fires:   l.fires,
			Title:   remark(l.comment),
			Native:  p + ": " + secret.Hide(l.text),
			Because: []string{t.as.unit, p},
			ID:      fmt.Sprintf("task:%s#%s", p, shortHash(l.text)),
		}
		if l.boot {
			it.When = item.AtBoot
		}
		if nth := seen[l.text]; nth > 0 {
			it.ID += fmt.Sprintf("-%d", nth+1)
		}
		t.places[it.ID] = place{p, l, seen[l.text]}
		seen[l.text]++
		program := t.finder.Resolve(launch.Shell(l.command), programPath)
		it.Program = program.Path
		if it.Title == "" {
			it.Title = sentence(l.command, program.Path, l.fires)
		}
		switch {
		case l.off:
			it.State, it.Why, it.Because = item.Off, "its line is commented out by calmdawn", nil
		case dropped != nil:
			it.State, it.Because = item.Off, nil
			it.Why = "cron drops the whole file: " + strings.ReplaceAll(dropped.Error(), "\n", "; ")
			it.Barred = it.Why
		case l.wrong != nil:
			it.State, it.Because = item.Off, nil
			it.Why = "cron passes its line over: " + l.wrong.Error()
			it.Barred = it.Why
		case program.Missing != "":
			it.State, it.Why = item.Broken, program.Missing+" is not there"
		case l.delay > 0:
			it.State, it.When, it.Fires = item.Delayed, item.Later, fmt.Sprintf("%d s after cron "+
				"has started", l.delay)
		}
		items = append(items, it)
	}
	return items
}

// programPath is where the daemon's shell looks bare names up, crontab(5).
var programPath = []string{
	"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin",
}

var runsFolder = regexp.MustCompile(`\brun-parts\b[^;&|]*?(/[^\s;&|})]+)`)

// scripts lists what stands in the folders that lines run as a whole,
// run-parts(8).
func (t *Tables) scripts(lines []item.Item) []item.Item {
	var items []item.Item
	done := map[string]bool{}
	for _, l := range lines {
		m := runsFolder.FindStringSubmatch(l.Command)
		if m == nil || done[m[1]] {
			continue
		}
		folder := path.Clean(m[1])
		done[m[1]] = true
		for _, e := range t.list(folder) {
			p := path.Join(folder, e.Name)
			info, err := t.root.Stat(p)
			if err != nil || info.Kind != machine.Regular || strings.HasPrefix(e.Name, ".") {
				continue
			}
			it := item.Item{
				ID:      "task:" + p,
				Kind:    item.Task,
				Native:  p,
				Title:   sentence("", "the script "+e.Name, l.Fires),
				When:    l.When,
				State:   l.State,
				Why:     l.Why,
				Barred:  l.Barred,
				Fires:   l.Fires,
				Command: p,
				Program: p,
				File:    p,
				Because: []string{t.as.unit, l.File, p},
			}
			switch {
			case !t.as.runs(e.Name):
				it.State, it.Why, it.Barred = item.Off, passedOver, passedOver
			case info.Mode&0o111 == 0:
				it.State, it.Why = item.Off, "it cannot be executed"
			}
			if it.State == item.Off {
				it.Because = nil
			}
			items = append(items, it)
		}
	}
	return items
}

const passedOver = "a script of such a name is passed over"

const catchUpTable = "/etc/anacrontab"

// catchUp lists the lines of the table of the daemon that makes up for missed
// days, anacrontab(5). Its own unit starts that, or a script of those found.
func (t *Tables) catchUp(found []item.Item) []item.Item {
	if !t.root.IsFile("/usr/sbin/anacron") && !t.root.IsFile("/usr/bin/anacron") {
		return nil
	}
	text, err := t.root.ReadFile(catchUpTable, maxText)
	if err != nil {
		t.skip(catchUpTable, err)
		return nil
	}
	chain, _, on := t.daemon("anacron.service")
	if !on {
		chain, _, on = t.daemon("anacron.timer")
	}
	for _, it := range found {
		if t.as.catchUp != "" && it.File == t.as.catchUp && it.State == item.On {
			chain, on = it.Because, true
		}
	}
	if t.as.asUnits { // it reads that table by itself
		chain, _, on = t.daemon(t.as.unit)
	}
	var items []item.Item
	for raw := range strings.Lines(string(text)) {
		raw, off := strings.CutPrefix(strings.TrimSpace(raw), offMark)
		f := strings.Fields(raw)
		if len(f) < 4 || strings.HasPrefix(f[0], "#") || assignment.MatchString(raw) {
			continue
		}
		it := item.Item{
			ID:      fmt.Sprintf("task:%s#%s", catchUpTable, shortHash(raw)),
			Kind:    item.Task,
			Native:  catchUpTable + ": " + secret.Hide(strings.TrimSpace(raw)),
			Title:   sentence(strings.Join(f[3:], " "), "", period(f[0])),
			When:    item.Later,
			State:   item.On,
			File:    catchUpTable,
			Command: strings.Join(f[3:], " "),
			Fires: fmt.Sprintf("when its period (%s) has passed, %s min after the boot", f[0],
				f[1]),
			Because: append(slices.Clone(chain), catchUpTable),
		}
		switch {
		case off:
			it.State, it.Why, it.Because = item.Off, "its line is commented out by calmdawn", nil
		case !on:
			it.State, it.Because = item.Off, nil
			it.Why = "anacron, which would launch it, is not on"
		}
		t.places[it.ID] = place{catchUpTable, line{text: raw}, 0}
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
	var want []int
	if owner == "" || t.owner != 0 {
		want = []int{t.owner, 0}
	}
	for _, u := range t.users {
		if owner != "" && u.Name == owner {
			want = append(want, u.UID)
		}
	}
	if !slices.Contains(want, info.UID) {
		return errors.New("it belongs to another user")
	}
	switch {
	case (owner == "" || t.as.careful) && info.Mode&0o022 != 0:
		return errors.New("others may write to it")
	case owner != "" && t.as.private && info.Mode != 0o600:
		return fmt.Errorf("its mode is %04o, and has to be 0600", info.Mode)
	case t.as.careful && info.Links > 1:
		return errors.New("the file has other names besides")
	}
	return nil
}

// shortHash tells a line apart from the others of its file.
func shortHash(text string) string {
	sum := sha256.Sum256([]byte(strings.Join(strings.Fields(text), " ")))
	return fmt.Sprintf("%x", sum[:2])
}

// Turner returns what turns items; its edits go into d.
func (t *Tables) Turner(d *machine.Draft) item.Turner { return turner{t, d} }

type turner struct {
	*Tables
	draft *machine.Draft
}

// Turn plans that the item's line is commented out, held back by a time, or
// read as it was.
func (t turner) Turn(it item.Item, to item.State, by time.Duration) error {
	d := t.draft
	at, ok := t.places[it.ID]
	switch {
	case !ok && strings.Contains(it.ID, "#"):
		return errors.New("the line is not there any more")
	case to != item.Off && it.Barred != "":
		return errors.New(it.Barred)
	case to == item.Delayed && (!ok || !at.line.boot):
		return errors.New("it runs by the clock, not while somebody waits for the boot")
	}
	if !ok { // a script of a folder that is run as a whole
		if to == item.On {
			return d.AllowRun(it.File)
		}
		return d.ForbidRun(it.File)
	}
	delay := 0
	if to == item.Delayed {
		delay = int(by.Seconds())
	}
	return d.Rewrite(at.table, "", func(text []byte) ([]byte, error) {
		return turn(text, at.line, at.nth, to == item.Off, delay)
	})
}
