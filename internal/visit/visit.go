package visit

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/core/secret"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/notebook"
)

// RatedBoots is how many of the last boots stand behind a figure about an item.
const RatedBoots = 5

// A Visit is a machine as it is found. It has its survey, its changes if it has
// a casebook. With [Visit.ReadBoots] it has its boots and what items cost in
// them. It is for one goroutine.
type Visit struct {
	*Machine
	item.Survey
	inventory family.Inventory
	Changes   []change.Change
	// ChangesUnread is why nothing is known of the changes; nil where they are.
	ChangesUnread error
	Boots         []boot.Boot // the last ones
	// Baseline are those of them that forecasts count from, and how the machine
	// as it is set up now differs from them.
	Baseline   job.Baseline
	own        map[boot.Key]boot.OwnTime
	Renumbered []Renumbered // of what was picked by number

	Replays []*forecast.Replay // of the boots that are fit for it, oldest first
	Unfit   []error            // why others cannot be replayed
	ratings *ratings           // nil before ReadBoots
	now     *family.Now        // what runs at this moment; only after ReadPresent
	rules   advice.Rules
	uses    advice.Uses
	notes   *notebook.Notebook
	// launchers are the programs of logins, by the path of what they launch
	launchers map[string][]item.Item
	id        string // the machine's own
}

// Look opens the machine and surveys it; it writes nothing. A casebook that
// cannot be read is named among what was not read.
func (s Site) Look() (*Visit, error) {
	m, err := s.Open()
	if err != nil {
		return nil, err
	}
	v, err := m.look(m.ReadChanges())
	if err != nil {
		m.Close()
	}
	return v, err
}

// look surveys the machine, whose changes are known, or could not be read as
// wrong tells. It stays the caller's to close.
func (m *Machine) look(changes []change.Change, wrong error) (*Visit, error) {
	v := &Visit{Machine: m, Changes: changes}
	v.inventory = m.kind.Survey(family.Options{
		Now:        v.Now(),
		Remembered: switchedOff(v.Changes),
		Language:   v.Language,
	})
	v.Survey, v.ChangesUnread = v.inventory.Found(), wrong
	v.Taken, v.Survey.Family = v.Now(), m.Family
	if id := casebook.MachineID(m.Root); id != casebook.NoID {
		v.MachineID = id
	}
	for _, c := range v.Changes {
		for i, t := range c.Targets {
			c.Targets[i].ID = v.current(t.ID)
		}
	}
	v.launchers = map[string][]item.Item{}
	for _, it := range v.Items {
		if it.Kind == item.Program && it.Program != "" {
			v.launchers[it.Program] = append(v.launchers[it.Program], it)
		}
	}
	if wrong != nil {
		v.Unread = append(v.Unread, machine.Unread(v.Root.Home.Casebook, wrong))
	}
	err := v.judge()
	v.traceSurvey()
	return v, err
}

// Rejudged is the visit as the technician's rules and notes are by now. The
// visit itself stays as it was, for who may still read it.
func (v *Visit) Rejudged() (*Visit, error) {
	next := *v
	next.Items = slices.Clone(v.Items)
	next.ratings = v.ratings.clone()
	return &next, next.judge()
}

// judge gives the items their roles, advice and notes.
func (v *Visit) judge() error {
	own, err := notebook.Rules()
	if err != nil {
		return fmt.Errorf("your own rules cannot be read: %w", err)
	}
	rules, err := advice.Load(own, family.Rules(v.kind))
	if err != nil {
		return fmt.Errorf("your own rules, roles.toml: %w", err)
	}
	notes, err := notebook.Open()
	if err != nil {
		return err
	}
	v.id = casebook.MachineID(v.Root)
	v.rules, v.notes, v.uses = rules.For(v.id), notes, family.Uses(v.inventory)
	for i := range v.Items {
		v.judgeOne(&v.Items[i])
	}
	v.rules.Vouch(v.Items)
	v.protectLaunchers()
	v.leaveUndelayed()
	return nil
}

// protectLaunchers protects what launches a protected item as that is: with the
// daemon of the crontabs every line of them stops.
func (v *Visit) protectLaunchers() {
	at := map[string]int{} // the machine's items by native name
	for i, it := range v.Items {
		if it.Owner == "" {
			at[it.Native] = i
		}
	}
	why := map[int]string{}
	for _, it := range v.Items {
		for _, name := range it.Because {
			i, ok := at[name]
			if ok && it.Protected != "" && why[i] == "" && launches(v.Items[i], it) {
				why[i] = fmt.Sprintf("it launches %s: %s", it.ID, it.Protected)
			}
		}
	}
	for i, reason := range why {
		if it := &v.Items[i]; it.Protected == "" && it.State.Launched() {
			it.Protected = reason
		}
	}
}

// leaveUndelayed takes the advice to wait from what cannot be delayed.
func (v *Visit) leaveUndelayed() {
	var waits []*item.Item
	for i := range v.Items {
		if it := &v.Items[i]; it.Advice == item.CanWait && it.State != item.Delayed {
			waits = append(waits, it)
		}
	}
	refused := make([]bool, len(waits))
	machine.EachLarge(len(waits), func(i int) {
		refused[i] = v.MayTurn(*waits[i], item.Delayed) != nil
	})
	for i, it := range waits {
		if refused[i] {
			advice.Undelayed(it)
		}
	}
}

func (v *Visit) judgeOne(it *item.Item) {
	if !it.Ours { // the recorder and the guard go by their own commands
		v.rules.Judge(it, v.uses)
	}
	it.Args = secret.Words(it.Args) // boots are told by them too
	if !v.Secrets {
		it.Command, it.Title = hidden(it.Command, it.Title)
	}
	here, everywhere := v.NotesOn(it.ID)
	it.Note = strings.Trim(here+"; "+everywhere, "; ")
}

// hidden is a launch line without its secrets, and a title that may be made of
// it.
func hidden(command, title string) (string, string) {
	if safe := secret.Hide(command); safe != command {
		return safe, secret.Hide(title)
	}
	return command, title
}

// NotesOn are the technician's notes on an item: of this machine alone, and of
// every machine; empty where there is none.
func (v *Visit) NotesOn(id string) (here, everywhere string) {
	return v.notes.On(id, v.id)
}

// current is the id that an item has by now: ids of earlier versions held names
// as they were.
func (v *Visit) current(id string) string {
	if item.SafeID(id) != id {
		if it, ok := v.inventory.Lookup(id); ok {
			return it.ID
		}
	}
	return id
}

// Lookup returns the item with an id that the survey may not hold, judged like
// those that it does.
func (v *Visit) Lookup(id string) (item.Item, bool) {
	it, ok := v.Find(id)
	if ok {
		return it, true
	}
	if it, ok = v.inventory.Lookup(id); ok {
		v.judgeOne(&it)
	}
	return it, ok
}

// ReadBoots reads the last boots that the machine remembers, and prepares to
// replay those that are fit for it. Items are rated when they are asked for.
func (v *Visit) ReadBoots() error {
	// some may be odd, or of the machine as it was before changes that were
	// taken back
	const spare = 25
	found := v.Remember(RatedBoots + spare)
	for _, u := range found.Unread {
		if !slices.Contains(v.Unread, u) { // the casebook is read for changes and for boots
			v.Unread = append(v.Unread, u)
		}
	}
	v.Boots = found.Boots
	v.Baseline = job.BaselineOf(found.Boots, v.Changes, v.Now())
	launched := func(id string) bool { // whoever decided on it since
		it, ok := v.Lookup(id)
		return ok && (it.State == item.On || it.State == item.Broken)
	}
	v.Baseline.Off = slices.DeleteFunc(v.Baseline.Off, launched)
	v.Baseline.Lacks = slices.DeleteFunc(v.Baseline.Lacks, func(id string) bool {
		return !launched(id)
	})
	fit := boot.Fit(v.Baseline.Boots, RatedBoots)
	v.own = boot.OwnTimes(fit)
	v.Replays, v.Unfit = forecast.Prepare(v.Order(fit))
	since := v.setOfAll(v.Baseline.Off)
	for _, r := range v.Replays {
		r.Rebase(since)
	}
	own, err := notebook.Grades()
	if err != nil {
		return fmt.Errorf("your own grades cannot be read: %w", err)
	}
	grades, err := forecast.LoadGrades(own)
	if err != nil {
		return err
	}
	v.ratings = &ratings{
		rater: forecast.NewRater(fit, grades),
		costs: map[string]forecast.Cost{},
	}
	v.traceBoots()
	return nil
}

// setOfAll is what the replays leave out without some items.
func (v *Visit) setOfAll(ids []string) forecast.Set {
	all := forecast.Set{}
	for _, id := range ids {
		if it, ok := v.Lookup(id); ok {
			maps.Copy(all, v.SetOf(it))
		}
	}
	return all
}

// SetOf is what the replays leave out without an item; nil for one that has no
// start of its own in a boot.
func (v *Visit) SetOf(it item.Item) forecast.Set {
	set := forecast.Set{}
	if key, ok := v.Key(it); ok {
		if it.Kind == item.Program && key.Owner == "" {
			key.Owner = forecast.AnyOwner
		}
		set[key] = true
	}
	if it.Kind == item.Program && it.Program != "" { // where a desktop starts it without a unit
		set[forecast.LineKey(v.lineOf(it), it.Owner)] = true
	}
	if len(set) == 0 {
		return nil
	}
	return set
}

// OwnTime is the own time of an item that the next boot or login launches;
// false where none was measured. Of an entry that is started for each user it
// is the longest.
func (v *Visit) OwnTime(it item.Item) (boot.OwnTime, bool) {
	key, ok := v.Key(it)
	if !ok {
		return boot.OwnTime{}, false
	}
	own, ok := v.own[key]
	if it.Kind == item.Program && key.Owner == "" {
		for k, o := range v.own {
			if k.Native == key.Native && (!ok || o.Median > own.Median) {
				own, ok = o, true
			}
		}
	}
	return own, ok
}

// WorkOf is whose work an item's wait is made of, where it is another's. That
// is a unit that is only started because the item is, as what generators make
// of it.
func (v *Visit) WorkOf(it item.Item) (forecast.Follower, bool) {
	wait := v.Cost(it).Wait
	set := v.SetOf(it)
	own, _ := v.OwnTime(it)
	if len(v.Replays) == 0 || set == nil || !wait.Shows || own.Median > wait.Saving.Median/10 {
		return forecast.Follower{}, false
	}
	all := v.Replays[len(v.Replays)-1].Followers(set)
	if len(all) == 0 || all[0].Took < wait.Saving.Median/2 {
		return forecast.Follower{}, false
	}
	return all[0], true
}

// AskedBy are the programs that had an item started by a name of the bus. Each
// stands with the number of the last boots in which it did.
func (v *Visit) AskedBy(it item.Item) map[string]int {
	all := map[string]int{}
	for _, b := range boot.Fit(v.Baseline.Boots, RatedBoots) {
		in := map[string]bool{}
		for _, a := range b.Asks {
			asked := a.Unit == it.Native || slices.Contains(it.Traits, "bus "+a.Name)
			if asked && a.Owner == it.Owner && a.By != "" && !in[a.By] {
				in[a.By] = true
				all[a.By]++
			}
		}
	}
	return all
}

// ByUser tells for whom a program that is set up for everybody is in which
// state, by state; nil for any other item. A user without an entry of the same
// name has it as it is set up.
func (v *Visit) ByUser(it item.Item) map[item.State][]string {
	if it.Kind != item.Program || it.Owner != "" {
		return nil
	}
	all := map[item.State][]string{}
	for _, name := range v.inventory.People() {
		state := it.State
		own, ok := v.Lookup(it.ID + "@" + name)
		if !ok {
			own, ok = v.Lookup(it.ID + "@" + item.SafeID(name))
		}
		if ok {
			state = own.State
		}
		all[state] = append(all[state], name)
	}
	return all
}

// Key is the name by which boots know an item's start; false for one that has
// none of its own there.
func (v *Visit) Key(it item.Item) (boot.Key, bool) { return v.inventory.Key(it) }

// Order gives boots that do not know it the order that files set up.
func (v *Visit) Order(boots []boot.Boot) []boot.Boot { return family.Order(v.inventory, boots) }

// ReadPresent looks at what runs at this moment, for half a second.
func (v *Visit) ReadPresent() error {
	live, ok := v.kind.(family.Live)
	if !ok {
		return errors.New("what runs now can be seen on the running machine only, without --root")
	}
	now, err := live.Present(500 * time.Millisecond)
	v.now = &now
	return err
}

// Present is what an item uses at this moment; false for one that does not run,
// or was not looked at. A program without a unit of its own is known by its
// path.
func (v *Visit) Present(it item.Item) (boot.Present, bool) {
	if v.now == nil {
		return boot.Present{}, false
	}
	if key, ok := v.Key(it); ok {
		if p, ok := v.now.Units[key]; ok {
			return p, true
		}
		for k, p := range v.now.Units {
			if it.Kind == item.Program && key.Owner == "" && k.Native == key.Native {
				return p, true
			}
		}
	}
	if it.Kind != item.Program || it.Program == "" {
		return boot.Present{}, false
	}
	sum, runs := boot.Present{}, false
	for k, p := range v.now.Programs {
		if k.Program == it.Program && k.Owner != "" && (it.Owner == "" || it.Owner == k.Owner) {
			sum, runs = boot.Present{CPU: sum.CPU + p.CPU, Memory: sum.Memory + p.Memory}, true
		}
	}
	return sum, runs
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

// LoginUse parts what the logins of a boot used of the processors by the items
// as they are set up now.
func (v *Visit) LoginUse(b boot.Boot) boot.LoginUse {
	var lines []boot.OwnedLine
	for _, items := range v.launchers {
		for _, it := range items {
			lines = append(lines, boot.OwnedLine{Line: v.lineOf(it), Owner: it.Owner})
		}
	}
	return b.LoginUse(lines)
}

// lineOf is how an item launches its program, beside what else launches it at
// the same logins.
func (v *Visit) lineOf(it item.Item) boot.Line {
	l := boot.Line{Program: it.Program, Args: it.Args}
	for _, other := range v.launchers[it.Program] {
		if other.ID != it.ID && !slices.Equal(other.Args, it.Args) &&
			(it.Owner == "" || other.Owner == "" || it.Owner == other.Owner) {
			l.Others = append(l.Others, other.Args)
		}
	}
	return l
}

// LastChange returns the standing change that decided on an item last.
func (v *Visit) LastChange(id string) (change.Change, bool) {
	for _, c := range slices.Backward(v.Changes) {
		if c.Stands() &&
			slices.ContainsFunc(c.Targets, func(t change.Target) bool { return t.ID == id }) {
			return c, true
		}
	}
	return change.Change{}, false
}

// Pick returns the items that words name. A word is an id, a name or title, a
// part of one that no other item has, or a number in the last list. A word that
// fits several is refused with their ids, one that fits none with the nearest.
func (v *Visit) Pick(words []string) ([]item.Item, error) {
	const most = 8
	var picked []item.Item
	for _, word := range words {
		if first, last, ok := rowNumbers(word); ok {
			rows, err := v.rows(first, last)
			if err != nil {
				return nil, err
			}
			picked = addNew(picked, rows...)
			continue
		}
		found := v.named(word)
		switch {
		case len(found) == 0:
			return nil, misuse("%s has no item %q%s", v.name(), word, v.nearest(word))
		case len(found) > 1:
			text := fmt.Sprintf("%q may be any of %d items of %s", word, len(found), v.name())
			for _, it := range found[:min(most, len(found))] {
				text += "\n" + it.ID
			}
			if n := len(found) - most; n > 0 {
				text += fmt.Sprintf("\nand %d more", n)
			}
			if name, _, owned := strings.Cut(found[0].ID, "@"); owned &&
				!slices.ContainsFunc(found, func(it item.Item) bool {
					return !strings.HasPrefix(it.ID, name+"@")
				}) {
				text += fmt.Sprintf("\n'%s@*' means all of them, where several can be meant", name)
			}
			return nil, misuse("%s", text)
		}
		picked = addNew(picked, found[0])
	}
	return picked, nil
}

// addNew appends those items that are not among them.
func addNew(items []item.Item, more ...item.Item) []item.Item {
	for _, it := range more {
		if !slices.ContainsFunc(items, func(p item.Item) bool { return p.ID == it.ID }) {
			items = append(items, it)
		}
	}
	return items
}

// named returns the items that a word may mean. That is the one of an id; else
// those of that name or title; else those with it as a part of one.
func (v *Visit) named(word string) []item.Item {
	if it, ok := v.Lookup(word); ok {
		return []item.Item{it}
	}
	want := strings.ToLower(word)
	if want == "" {
		return nil
	}
	for _, fits := range []func(name string) bool{
		func(name string) bool { return name == want },
		func(name string) bool { return strings.Contains(name, want) },
	} {
		var all []item.Item
		for _, it := range v.Items {
			if slices.ContainsFunc(namesOf(it), fits) {
				all = append(all, it)
			}
		}
		if len(all) > 0 {
			return all
		}
	}
	return nil
}

// Names reports whether a word means an item, and no other.
func (v *Visit) Names(word string, it item.Item) bool {
	found := v.named(word)
	return len(found) == 1 && found[0].ID == it.ID
}

// namesOf are what somebody may call an item, in small letters.
func namesOf(it item.Item) []string {
	bare := strings.TrimSuffix(it.Native, path.Ext(it.Native))
	names := []string{it.ID, it.Native, bare, it.Title}
	if it.Owner != "" {
		names = append(names, bare+"@"+it.Owner, it.Native+"@"+it.Owner)
	}
	for i, name := range names {
		names[i] = strings.ToLower(name)
	}
	return names
}

// nearest names the ids that a mistyped one may have meant.
func (v *Visit) nearest(word string) string {
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
	for _, it := range v.Items {
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
	if len(all) == 0 || want == "" {
		return "\ncalmdawn list --all shows every item with its id"
	}
	s := "; did you mean"
	for _, c := range all[:min(3, len(all))] {
		s += "\n" + c.id
	}
	return s
}

// Dispensable are the items that may go or wait by advice, and are protected by
// nothing.
func (v *Visit) Dispensable() []item.Item {
	var all []item.Item
	for _, it := range v.Items {
		if undecided(it) && (it.Advice == item.CanGo || it.Advice == item.CanWait) &&
			it.Protected == "" && v.SetOf(it) != nil {
			all = append(all, it)
		}
	}
	return all
}

// undecided reports whether advice on an item is still to be followed: who
// delayed it has decided.
func undecided(it item.Item) bool { return it.State.Launched() && it.State != item.Delayed }

// Simulated reports whether any boot behind the forecasts is a simulator's.
func (v *Visit) Simulated() bool {
	return slices.ContainsFunc(v.Replays, func(r *forecast.Replay) bool { return r.Boot.Simulated })
}

// name is what people call the machine.
func (v *Visit) name() string { return cmp.Or(v.Host, "this machine") }

// CameBack are the items that are launched again although the change in force
// that decided on them last switched them off, or delayed them.
func (v *Visit) CameBack() (back []item.Item) {
	for _, it := range v.Items {
		if _, again := v.OnAgain(it); again {
			back = append(back, it)
		}
	}
	return back
}

// cameBack reports whether every item that a change decided on is on again all
// the same.
func (v *Visit) cameBack(c change.Change) bool {
	stays := func(t change.Target) bool {
		it, ok := v.Lookup(t.ID)
		if !ok {
			return true
		}
		last, again := v.OnAgain(it)
		return !again || last.ID != c.ID
	}
	return len(c.Targets) > 0 && !slices.ContainsFunc(c.Targets, stays)
}

// NotedSlow returns in how many (n) of the last boots (of) the machine itself
// noted a slow start of the item. by is the median of the delays.
func (v *Visit) NotedSlow(it item.Item) (n, of int, by time.Duration) {
	last := v.Boots[max(0, len(v.Boots)-RatedBoots):]
	var all []time.Duration
	for _, b := range last {
		for _, s := range b.Slow {
			own := s.Kind == "service" && it.Kind == item.Service &&
				strings.EqualFold(s.Name, it.Native)
			file := s.Kind == "program" && it.Kind == item.Program && it.Program != "" &&
				s.Path == it.Program
			if own || file {
				all = append(all, s.By)
				break
			}
		}
	}
	if len(all) == 0 {
		return 0, len(last), 0
	}
	return len(all), len(last), boot.Median(all)
}

// PastSettled returns the delayed items that had not begun, in any of the
// boots, by the time when the boot had settled. No figure of those boots has
// their work.
func (v *Visit) PastSettled(boots []boot.Boot) (late []item.Item) {
	for _, it := range v.Items {
		key, ok := v.Key(it)
		c, changed := v.LastChange(it.ID)
		seen := !ok || it.State != item.Delayed || !changed ||
			!slices.ContainsFunc(c.Targets, func(t change.Target) bool {
				return t.ID == it.ID && t.After == item.Delayed
			})
		settled := false
		for _, b := range boots {
			quiet := b.Quietens()
			settled = settled || quiet.Known
			for _, s := range b.Spans {
				seen = seen || s.Key() == key && s.Begin.Known && s.Begin.Value < quiet.Value
			}
			use := b.LineUse(v.lineOf(it), it.Owner)
			seen = seen || it.Kind == item.Program && use.Ran && use.Began < quiet.Value
		}
		if settled && !seen {
			late = append(late, it)
		}
	}
	return late
}

// OnAgain tells by which change an item was switched off or delayed that is on
// again all the same. It is false where it is as it was decided.
func (v *Visit) OnAgain(it item.Item) (change.Change, bool) {
	c, ok := v.LastChange(it.ID)
	if !ok || it.State != item.On && it.State != item.Broken {
		return c, false
	}
	return c, slices.ContainsFunc(c.Targets, func(t change.Target) bool {
		return t.ID == it.ID && t.After != item.On
	})
}
