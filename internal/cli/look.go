package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/activity"
	"calmdawn/internal/machine"
	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
)

// A look is a machine as a reading command finds it: its survey, and its
// changes if it has a casebook.
type look struct {
	root *machine.Root
	*linux.Inventory
	changes []change.Change
	boots   []boot.Boot // the last ones; only after readBoots
	alike   []boot.Boot // those of the machine as it is now
	own     map[boot.Key]boot.OwnTime
	replays []*forecast.Replay // of the boots that are fit for it, oldest first
	unfit   []error            // why others cannot be replayed
	costs   map[string]forecast.Cost
	now     *activity.Now // what runs at this moment; only after readPresent
	rules   advice.Rules
	notes   *notebook.Notebook
}

func (l *look) Close() error { return l.root.Close() }

// look surveys the machine; it writes nothing. A casebook that cannot be read
// is an error only where it is what was asked for.
func (a *app) look() (*look, error) {
	r, err := a.open()
	if err != nil {
		return nil, err
	}
	changes, wrong := a.readChanges(r)
	a.tellUnsettled(r, changes)
	l, err := a.lookAt(r, changes, wrong)
	if err != nil {
		r.Close()
	}
	return l, err
}

// lookAt surveys an open machine whose changes are known, or could not be read
// as wrong tells. The machine stays the caller's to close.
func (a *app) lookAt(r *machine.Root, changes []change.Change, wrong error) (*look, error) {
	l := &look{root: r, changes: changes}
	l.Inventory = linux.Survey(r, linux.Options{
		Now:        a.now(),
		Remembered: switchedOff(l.changes),
		Language:   locale(),
	})
	if wrong != nil {
		l.Unread = append(l.Unread, item.Unread{
			Path:   casebook.Folder,
			Reason: machine.Reason(wrong),
		})
	}
	return l, l.judge()
}

// judge gives the items their roles, advice and notes.
func (l *look) judge() error {
	own, err := notebook.Rules()
	if err != nil {
		return fmt.Errorf("your own rules cannot be read: %w", err)
	}
	rules, err := advice.Load(own)
	if err != nil {
		return fmt.Errorf("your own rules, roles.toml: %w", err)
	}
	notes, err := notebook.Open()
	if err != nil {
		return err
	}
	l.rules, l.notes = rules, notes
	for i := range l.Items {
		l.judgeOne(&l.Items[i])
	}
	return nil
}

func (l *look) judgeOne(it *item.Item) {
	l.rules.Judge(it)
	it.Note = l.notes.On(it.ID)
}

// Lookup returns the item with an id that the survey may not hold, judged like
// those that it does.
func (l *look) Lookup(id string) (item.Item, bool) {
	it, ok := l.Inventory.Lookup(id)
	if ok {
		l.judgeOne(&it)
	}
	return it, ok
}

// readBoots reads the last boots that the machine remembers, prepares to replay
// those that are fit for it, and rates the items.
func (a *app) readBoots(l *look) error {
	// some may be odd, or of the machine as it was before changes that were
	// taken back
	const spare = 25
	found := a.remember(l.root, ratedBoots+spare)
	l.Unread = append(l.Unread, found.Unread...)
	l.boots = found.Boots
	l.alike = asNow(found.Boots, l.changes, a.now())
	fit := boot.Fit(l.alike, ratedBoots)
	l.own = boot.OwnTimes(fit)
	l.replays, l.unfit = forecast.Prepare(l.Order(fit))
	own, err := notebook.Grades()
	if err != nil {
		return fmt.Errorf("your own grades cannot be read: %w", err)
	}
	grades, err := forecast.LoadGrades(own)
	if err != nil {
		return err
	}
	var sets []forecast.Set
	var rated []item.Item
	for _, it := range l.Items {
		if set := l.setOf(it); set != nil {
			sets, rated = append(sets, set), append(rated, it)
		}
	}
	var waits []forecast.Forecast
	if len(l.replays) > 0 {
		waits = forecast.Each(l.replays, sets)
	}
	l.costs = map[string]forecast.Cost{}
	ledger := forecast.NewLedger(fit, grades)
	for i, it := range rated {
		var wait forecast.Forecast
		if waits != nil {
			wait = waits[i]
		}
		if c := ledger.Cost(sets[i], wait, waits != nil); c.Known() {
			l.costs[it.ID] = c
		}
	}
	return nil
}

// asNow returns the boots in which the same changes were in force as now; where
// there are none yet, those of the machine as it was in its last boot that can
// be compared.
func asNow(boots []boot.Boot, changes []change.Change, now time.Time) []boot.Boot {
	for _, like := range [][]int64{
		change.InForce(changes, now),
		lastConfiguration(boots, changes),
	} {
		var alike []boot.Boot
		for _, b := range boots {
			if slices.Equal(change.InForce(changes, b.Began), like) {
				alike = append(alike, b)
			}
		}
		if len(boot.Fit(alike, 1)) > 0 {
			return alike
		}
	}
	return boots
}

func lastConfiguration(boots []boot.Boot, changes []change.Change) []int64 {
	if last := boot.Fit(boots, 1); len(last) > 0 {
		return change.InForce(changes, last[0].Began)
	}
	return nil
}

// setOf is what the replays leave out without an item; nil for one that has no
// start of its own in a boot.
func (l *look) setOf(it item.Item) forecast.Set {
	set := forecast.Set{}
	if key, ok := l.Key(it); ok {
		if it.Kind == item.Program && key.Owner == "" {
			key.Owner = forecast.AnyOwner
		}
		set[key] = true
	}
	if it.Kind == item.Program && it.Program != "" { // where a desktop starts it without a unit
		set[forecast.ProgramKey(it.Program, it.Owner)] = true
	}
	if len(set) == 0 {
		return nil
	}
	return set
}

// remember reads what is known of the last boots (0: of all), from every
// source.
func (a *app) remember(r *machine.Root, last int) linux.Boots {
	recorded, err := a.recordedBoots(r, last)
	found := linux.RememberedBoots(r, recorded, last, true)
	if err != nil {
		found.Unread = append(found.Unread, item.Unread{
			Path:   casebook.Folder,
			Reason: machine.Reason(err),
		})
	}
	return found
}

// ownTime is the own time of an item that the next boot or login launches;
// false where none was measured. Of an entry that is started for each user it
// is the longest.
func (l *look) ownTime(it item.Item) (boot.OwnTime, bool) {
	key, ok := l.Key(it)
	if !ok {
		return boot.OwnTime{}, false
	}
	own, ok := l.own[key]
	if it.Kind == item.Program && key.Owner == "" {
		for k, o := range l.own {
			if k.Native == key.Native && (!ok || o.Median > own.Median) {
				own, ok = o, true
			}
		}
	}
	return own, ok
}

// readPresent looks at what runs at this moment, for half a second.
func (l *look) readPresent() error {
	if !l.root.Live() {
		return errors.New("what runs now can be seen on the running machine only, without --root")
	}
	users, err := account.Read(l.root)
	if err != nil {
		return err
	}
	owners := map[int]string{}
	for _, u := range users {
		if u.UID != 0 {
			owners[u.UID] = u.Name
		}
	}
	now := activity.Look("/proc", 500*time.Millisecond, owners)
	l.now = &now
	return nil
}

// present is what an item uses at this moment; false for one that does not run,
// or was not looked at. A program without a unit of its own is known by its
// path.
func (l *look) present(it item.Item) (boot.Present, bool) {
	if l.now == nil {
		return boot.Present{}, false
	}
	if key, ok := l.Key(it); ok {
		if p, ok := l.now.Units[key]; ok {
			return p, true
		}
		for k, p := range l.now.Units {
			if it.Kind == item.Program && key.Owner == "" && k.Native == key.Native {
				return p, true
			}
		}
	}
	if it.Kind != item.Program || it.Program == "" {
		return boot.Present{}, false
	}
	sum, runs := boot.Present{}, false
	for k, p := range l.now.Programs {
		if k.Program == it.Program && k.Owner != "" && (it.Owner == "" || it.Owner == k.Owner) {
			sum, runs = boot.Present{CPU: sum.CPU + p.CPU, Memory: sum.Memory + p.Memory}, true
		}
	}
	return sum, runs
}

// byPresent puts those items first that use most at this moment.
func (l *look) byPresent(items []item.Item, what string) {
	use := func(it item.Item) float64 {
		p, ok := l.present(it)
		switch {
		case !ok:
			return -1
		case what == "memory":
			return float64(p.Memory)
		}
		return p.CPU
	}
	if what == "cpu" || what == "memory" {
		slices.SortStableFunc(items, func(a, b item.Item) int {
			return cmp.Compare(use(b), use(a))
		})
	}
}

// byCost puts those launched items first whose leaving out would save most,
// then those that use most of the processors, then those whose own time is
// longest; the others stay in their order.
func (l *look) byCost(items []item.Item) {
	weight := func(it item.Item) [3]time.Duration {
		if !it.State.Launched() {
			return [3]time.Duration{-1, -1, -1}
		}
		c := l.costs[it.ID]
		own, _ := l.ownTime(it)
		wait := c.Wait.Saving.Median
		if !c.Wait.Shows {
			wait = 0
		}
		return [3]time.Duration{wait, c.CPU.Value, own.Median}
	}
	slices.SortStableFunc(items, func(a, b item.Item) int {
		x, y := weight(a), weight(b)
		return slices.Compare(y[:], x[:])
	})
}

// openChanges opens the machine and reads its changes.
func (a *app) openChanges() (*machine.Root, []change.Change, error) {
	r, err := a.open()
	if err != nil {
		return nil, nil, err
	}
	changes, err := a.readChanges(r)
	if err != nil {
		r.Close()
		return nil, nil, err
	}
	a.tellUnsettled(r, changes)
	return r, changes, nil
}

func (a *app) readChanges(r *machine.Root) ([]change.Change, error) {
	book, err := casebook.Read(r, a.book())
	if errors.Is(err, casebook.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer book.Close()
	for _, warning := range book.Warnings {
		if !slices.Contains(a.warned, warning) {
			fmt.Fprintln(a.Err, warning)
			a.warned = append(a.warned, warning)
		}
	}
	return book.Changes()
}

// switchedOff lists the ids that standing changes switched off.
func switchedOff(changes []change.Change) []string {
	var ids []string
	for _, c := range changes {
		for _, t := range c.Targets {
			if c.Stands() && t.After == item.Off {
				ids = append(ids, t.ID)
			}
		}
	}
	return ids
}

// lastChange returns the standing change that decided on an item last.
func (l *look) lastChange(id string) (change.Change, bool) {
	for _, c := range slices.Backward(l.changes) {
		if c.Stands() &&
			slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id }) {
			return c, true
		}
	}
	return change.Change{}, false
}

// offSince says by which change and on which day an item was switched off;
// empty when no change did.
func (l *look) offSince(it item.Item) string {
	if c, ok := l.lastChange(it.ID); ok && it.State == item.Off {
		return fmt.Sprintf("%s, change %d", c.MadeAt.Local().Format("2 Jan"), c.ID)
	}
	return ""
}

// machineName is what people call the machine.
func (l *look) machineName() string {
	if l.Host == "" {
		return "this machine"
	}
	return render.Clean(l.Host)
}

// pick returns the items with the given ids; a word that fits none is refused
// with the nearest ids.
func (l *look) pick(ids []string) ([]item.Item, error) {
	var picked []item.Item
	for _, id := range ids {
		it, ok := l.Lookup(id)
		if !ok {
			return nil, usage("%s has no item %q%s", l.machineName(), id, l.nearest(id))
		}
		if !slices.ContainsFunc(picked, func(p item.Item) bool { return p.ID == it.ID }) {
			picked = append(picked, it)
		}
	}
	return picked, nil
}

// nearest names the ids that a mistyped one may have meant.
func (l *look) nearest(word string) string {
	type scored struct {
		id    string
		score int
	}
	bare := func(id string) string {
		_, name, _ := strings.Cut(id, ":")
		return strings.ToLower(name)
	}
	want := strings.ToLower(strings.TrimPrefix(word[strings.Index(word, ":")+1:], "/"))
	var all []scored
	for _, it := range l.Items {
		name, _, _ := strings.Cut(bare(it.ID), ".")
		score := min(levenshtein.ComputeDistance(want, name),
			levenshtein.ComputeDistance(want, bare(it.ID)))
		if strings.Contains(bare(it.ID), want) ||
			strings.Contains(strings.ToLower(it.Title), want) {
			score = 0
		}
		if score <= max(2, len(want)/3) {
			all = append(all, scored{it.ID, score})
		}
	}
	slices.SortStableFunc(all, func(a, b scored) int { return a.score - b.score })
	if len(all) == 0 {
		return "\ncalmdawn list --all shows every item with its id"
	}
	s := "; did you mean"
	for _, c := range all[:min(3, len(all))] {
		s += "\n" + c.id
	}
	return s
}

// completeIDs offers the ids of a machine to the shell.
func (a *app) completeIDs(
	_ *cobra.Command,
	have []string,
	typed string,
) ([]string, cobra.ShellCompDirective) {
	a.Err = io.Discard // a shell shows what it is told in the midst of what is typed
	l, err := a.look()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	defer l.Close()
	var ids []string
	for _, it := range l.Items {
		if strings.HasPrefix(it.ID, typed) && !slices.Contains(have, it.ID) &&
			it.ID == render.Clean(it.ID) {
			ids = append(ids, fmt.Sprintf("%s\t%s", it.ID, render.Clean(it.Title)))
		}
	}
	return ids, cobra.ShellCompDirectiveNoFileComp
}

func stateTone(s item.State) render.Tone {
	switch s {
	case item.Off:
		return render.Dim
	case item.Broken:
		return render.Warn
	}
	return render.Plain
}
