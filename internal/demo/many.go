package demo

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/machine"
)

// The machines of all houses of the made-up observatory: desks and tills.
const (
	desks = 24
	tills = 16
)

// The days of the demo: two surveys, and between them two updates that take
// long.
var (
	firstSurvey = time.Date(2026, 4, 27, 7, 0, 0, 0, time.UTC)
	badWatch    = time.Date(2026, 5, 4, 7, 0, 0, 0, time.UTC)
	decided     = time.Date(2026, 5, 18, 10, 0, 0, 0, time.UTC)
	lastSurvey  = time.Date(2026, 6, 1, 7, 0, 0, 0, time.UTC)
)

// The updates came to the first desks and tills alone.
const (
	watched = 9 // desks with the slow virus protection
	inked   = 5 // tills with the slow ink monitor
	watchBy = 14 * time.Second
	inkBy   = 9 * time.Second
)

// A sold is an item that several of the machines launch.
type sold struct {
	title, maker, desk, till string // native names; empty where it is not launched
	role                     string
	advice                   item.Advice
	every                    int // on each machine whose number this divides
	wait                     time.Duration
	version                  string
}

var soldEverywhere = []sold{
	{"Palisade virus protection", "Palisade Watch", "palisade.service", "PalisadeWatch",
		"virus protection", item.Keep, 1, 3 * time.Second, "4.1"},
	{"Inkerholm ink level monitor", "Inkerholm", "inkerholm-status.service", "InkerholmStatus",
		"printer helper", item.CanWait, 1, 1200 * time.Millisecond, "7.0"},
	{"Inkerholm ink offers", "Inkerholm", "inkerholm-offers.service", "InkerholmOffers",
		"vendor helper", item.CanGo, 2, 700 * time.Millisecond, "7.0"},
	{"Cue updater", "Pellin Ticketworks", "cue-update.service", "CueUpdate", "updater",
		item.CanGo, 1, 2900 * time.Millisecond, "11.2"},
	{"Cue ticket desk", "Pellin Ticketworks", "cue-desk.service", "", "business", item.Keep, 1,
		2500 * time.Millisecond, "11.2"},
	{"Ticket till ledger", "Pellin Ticketworks", "", "CueTill", "business", item.Keep, 1,
		1700 * time.Millisecond, "11.2"},
	{"Lanternfile folder crawl", "Lanternfile Cooperative", "lanternfile-crawl.service",
		"LanternfileCrawl", "indexer", item.CanWait, 3, 4900 * time.Millisecond, "12.2"},
	{"Handrail remote help", "Handrail Assist", "handrail.service", "Handrail", "remote help",
		item.LookUp, 4, 600 * time.Millisecond, "2.8"},
	{"Star-catalogue indexer", "Orrery Stacks", "star-index.service", "", "indexer",
		item.CanGo, 5, 9 * time.Second, "3.0"},
}

// MakeMany makes forty machines of one owner in a new or empty folder. They are
// documents of two surveys, and casebooks of most. Nothing in them is left to
// chance, so that answers can be worked out by hand.
//
// docs/workshop.md tells what is to be found.
func MakeMany(dir string) error {
	if there, err := os.ReadDir(dir); err == nil && len(there) > 0 {
		return fmt.Errorf("%s is not empty; give a folder that is, or a new one", dir)
	}
	for _, folder := range []string{"lists", "casebooks"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return err
		}
	}
	for i := range desks + tills {
		if err := oneOfMany(i).write(dir); err != nil {
			return err
		}
	}
	return nil
}

// one is one of the forty machines.
type one struct {
	number int // from 1, among its kind
	till   bool
	name   string
	id     string
}

func oneOfMany(i int) one {
	o := one{number: i + 1, name: fmt.Sprintf("desk-%02d", i+1)}
	if i >= desks {
		o = one{number: i - desks + 1, till: true, name: fmt.Sprintf("till-%02d", i-desks+1)}
	}
	o.id = fmt.Sprintf("%x", sha256.Sum256([]byte(o.name)))[:32]
	return o
}

// hasBook reports whether the machine's casebook is among those made.
func (o one) hasBook() bool { return !o.till && o.number <= 18 || o.till && o.number <= 10 }

// updated is by how much an update that was there by a day made starts longer;
// 0 where none came.
func (o one) updated(at time.Time) (by time.Duration) {
	switch {
	case at.Before(badWatch):
	case !o.till && o.number <= watched:
		return watchBy
	case o.till && o.number <= inked:
		return inkBy
	}
	return 0
}

// list is what the machine launches on a day.
func (o one) list(at time.Time) document.List {
	d := document.List{
		Format: "calmdawn.list/1", Machine: o.name, MachineID: o.id, Family: "linux",
		OS: "Larkfield Linux 5", Model: "Tindle Bench 3", Taken: at.Format(time.RFC3339),
		Items: []document.Item{}, Unread: []item.Unread{},
	}
	if o.till {
		d.Family, d.OS, d.Model = "windows", "Windows, build 19045", "Tindle Till 2"
	}
	for _, s := range soldEverywhere {
		native := s.desk
		if o.till {
			native = s.till
		}
		if native == "" || o.number%s.every != 0 {
			continue
		}
		wait, version := s.wait+time.Duration(o.number)*10*time.Millisecond, s.version
		bad := s.desk == "palisade.service" && !o.till || s.till == "InkerholmStatus" && o.till
		if by := o.updated(at); bad && by > 0 {
			wait, version = wait+by, version[:2]+"2"
		}
		it := document.Item{
			ID: "service:" + native, Kind: item.Service, Native: native, Title: s.title,
			When: item.AtBoot, State: o.state(s, at), Maker: s.maker, Role: s.role,
			Advice: string(s.advice), Version: version, Because: []string{}, NeededBy: []string{},
			Starters: []string{}, Conditions: []string{},
		}
		if it.State == item.On {
			it.Cost = &document.Cost{Simulated: true, Wait: &document.WaitCost{
				Seconds: wait.Seconds(), Low: wait.Seconds(), High: wait.Seconds(),
				Known: "forecast",
			}}
		}
		d.Items = append(d.Items, it)
	}
	return d
}

// cameBack is the desk on which the updater switched itself on again.
const cameBack = 12

// state is that of an item on a day.
func (o one) state(s sold, at time.Time) item.State {
	for _, c := range o.changes() {
		for _, t := range c.Targets {
			mine := t.ID == "service:"+s.desk && !o.till || t.ID == "service:"+s.till && o.till
			off := at.After(c.MadeAt) && c.UndoneBy == 0 && c.Verb == change.Disable
			if mine && off && (o.till || o.number != cameBack) {
				return item.Off
			}
		}
	}
	return item.On
}

// changes are what was decided on the machine.
func (o one) changes() []change.Change {
	c := change.Change{
		ID: 1, Verb: change.Disable, Status: change.Done, MadeAt: decided, MadeBy: "maria",
		Forecast: &change.Forecast{Saving: 3 * time.Second, Low: 2 * time.Second,
			High: 4 * time.Second, Boots: 5},
	}
	off := func(name, title string) {
		c.Targets = append(c.Targets, change.Target{ID: "service:" + name, Title: title,
			Before: item.On, After: item.Off, When: item.AtBoot})
	}
	switch {
	case !o.till && o.number >= 10 && o.number <= 17:
		off("cue-update.service", "Cue updater")
		saved := 2500*time.Millisecond + time.Duration(o.number-10)*100*time.Millisecond
		c.Outcome = &change.Outcome{Saved: saved, Before: 5, After: 5, Within: true}
	case o.till && o.number >= 6 && o.number <= 10:
		if o.number%2 == 0 { // the others have no offers
			off("InkerholmOffers", "Inkerholm ink offers")
		}
		off("CueUpdate", "Cue updater")
		c.Outcome = &change.Outcome{Saved: 4 * time.Second, Before: 5, After: 5, Within: true}
	default:
		return nil
	}
	if !o.till && o.number <= 11 {
		c.UndoneBy = 2
		undo := change.Change{ID: 2, Verb: change.Undo, Status: change.Done, Undoes: 1,
			MadeAt: decided.AddDate(0, 0, 7), MadeBy: "maria"}
		return []change.Change{c, undo}
	}
	return []change.Change{c}
}

// boots are twelve starts, on the Mondays from March on and on the days since
// May 11.
func (o one) boots() (all []boot.Boot) {
	began := []time.Time{}
	for week := range 6 {
		began = append(began, firstSurvey.AddDate(0, 0, 7*(week-6)))
	}
	for days := range 6 {
		began = append(began, badWatch.AddDate(0, 0, 7+days))
	}
	for i, at := range began {
		took := 30*time.Second + time.Duration(o.number)*300*time.Millisecond +
			time.Duration(i*7%5)*200*time.Millisecond + o.updated(at)
		sum := sha256.Sum256(fmt.Append(nil, o.id, i))
		all = append(all, boot.Boot{
			ID: fmt.Sprintf("%x", sum[:16]), Began: at, Ready: boot.Of(took, boot.Log),
			Simulated: true, Sources: []boot.Source{boot.Log}, Ending: boot.Clean,
		})
	}
	return all
}

// write writes what is told of the machine.
func (o one) write(dir string) error {
	days := []time.Time{firstSurvey, lastSurvey}
	if o.hasBook() {
		days = days[:1]
		if err := o.writeBook(filepath.Join(dir, "casebooks", o.name+".db")); err != nil {
			return err
		}
	}
	for _, at := range days {
		text, err := json.MarshalIndent(o.list(at), "", " ")
		if err != nil {
			return err
		}
		name := fmt.Sprintf("%s.%s.json", o.name, at.Format(time.DateOnly))
		if err := os.WriteFile(filepath.Join(dir, "lists", name), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// writeBook makes the machine's casebook as one that is kept outside of it.
func (o one) writeBook(file string) error {
	r, err := machine.Open(filepath.Dir(file))
	if err != nil {
		return err
	}
	defer r.Close()
	r.Home = machine.Home{ID: func(*machine.Root) string { return o.id }}
	book, err := casebook.Write(r, casebook.Choice{File: file})
	if err != nil {
		return err
	}
	defer book.Close()
	for _, b := range o.boots() {
		if err := book.AddBoot(b); err != nil {
			return err
		}
	}
	for _, c := range o.changes() {
		made, err := book.Begin(c, nil)
		if err != nil {
			return err
		}
		if err := book.End(made, change.Done, nil); err != nil {
			return err
		}
		if c.Outcome == nil {
			continue
		}
		if err := book.SetOutcome(made.ID, *c.Outcome); err != nil {
			return err
		}
	}
	text, err := json.Marshal(o.list(lastSurvey))
	if err == nil {
		_, err = book.AddSurvey(lastSurvey, text)
	}
	return err
}
