package workshop

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/elsewhere"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
)

// A Delivery is what is told of one machine at one moment: what is kept of it,
// and nothing else. Its texts come from machines and may hold anything.
type Delivery struct {
	MachineID  string // as its operating system has it; never empty
	HardwareID string // empty where not known
	Host       string
	Family     string
	OS         string
	Model      string
	Taken      time.Time // of its survey; zero where it has none
	Items      []Launched
	Boots      []Boot
	Decisions  []Decision
	// Partly says that some places could not be read: what the survey does not
	// have may be there all the same.
	Partly bool
	// Simulated says that a simulator made figures of it.
	Simulated bool
	Nameless  bool // it names nobody
	// Unknown is how many decisions were on items that no survey tells of; they
	// are left out.
	Unknown int
}

// A Launched is one item as one machine launches it. Figures are nil where they
// are not known.
type Launched struct {
	elsewhere.Likeness
	Title, Role, Owner string
	MadeBy             string // the maker as people read it
	State              item.State
	When               item.When
	Advice             item.Advice
	Version            string
	Installed          time.Time
	Wait, CPU          *time.Duration
	DiskRead, Memory   *int64 // bytes
}

// A Boot is the summary of one start.
type Boot struct {
	ID            string
	Began         time.Time
	Ready, Usable *time.Duration
	Kind          string // of usable
	Odd           bool
}

// A Decision is what was decided on one item.
type Decision struct {
	elsewhere.Likeness
	Change int64
	Verb   change.Verb
	Made   time.Time
	Undone time.Time // zero while it stands
	Others int       // that the same change turned
	Of     string    // the figure that was compared; empty where none was
	Saved  *time.Duration
}

// Bounds on what a delivery may hold: it may be a stranger's.
const (
	maxDocument = 64 << 20
	maxItems    = 20_000
	maxText     = 1000 // bytes of a name
	maxBoots    = 400  // the last ones
)

// FromList reads a document of calmdawn list --all --json.
func FromList(text []byte) (Delivery, error) {
	var d document.List
	if len(text) > maxDocument {
		return Delivery{}, fmt.Errorf("it has over %d MB", maxDocument>>20)
	}
	if err := json.Unmarshal(text, &d); err != nil {
		return Delivery{}, fmt.Errorf("it is no JSON document of calmdawn: %w", err)
	}
	if d.Format != "calmdawn.list/1" {
		return Delivery{}, fmt.Errorf("it is no document of calmdawn list --all --json")
	}
	if d.Folded > 0 {
		return Delivery{}, errors.New("it leaves parts of the operating system out; write it " +
			"with calmdawn list --all --json")
	}
	return FromDocument(d)
}

// FromDocument is the delivery of a list of all items.
func FromDocument(d document.List) (Delivery, error) {
	taken, err := time.Parse(time.RFC3339, d.Taken)
	if d.MachineID == "" || err != nil {
		return Delivery{}, errors.New("it does not tell of which machine it is and when it was " +
			"taken; have this calmdawn write it anew")
	}
	if len(d.Items) > maxItems {
		return Delivery{}, fmt.Errorf("it lists over %d items", maxItems)
	}
	all := Delivery{
		MachineID: short(d.MachineID), HardwareID: short(d.HardwareID), Host: short(d.Machine),
		Family: short(d.Family), OS: short(d.OS), Model: short(d.Model), Taken: taken.UTC(),
		Partly: len(d.Unread) > 0,
	}
	for _, it := range d.Items {
		all.Items = append(all.Items, launched(d.Family, it))
		all.Simulated = all.Simulated || it.Cost != nil && it.Cost.Simulated
	}
	return all, nil
}

func launched(family string, d document.Item) Launched {
	l := Launched{
		Likeness: likeness(family, d), Title: short(d.Title), Role: short(d.Role),
		Owner: short(d.Owner), State: item.State(short(string(d.State))),
		When: item.When(short(string(d.When))), Advice: item.Advice(short(d.Advice)),
		Version: short(d.Version),
	}
	if l.MadeBy = l.Maker; l.Maker != elsewhere.Distributed {
		l.MadeBy = short(d.Maker)
	}
	l.Installed, _ = time.Parse(time.RFC3339, d.Installed)
	if c := d.Cost; c != nil {
		if c.Wait != nil {
			l.Wait = seconds(c.Wait.Seconds)
		}
		if c.CPU != nil {
			l.CPU = seconds(c.CPU.Seconds)
		}
		if c.DiskRead != nil {
			l.DiskRead = &c.DiskRead.Bytes
		}
		if c.Memory != nil {
			l.Memory = &c.Memory.Bytes
		}
	}
	return l
}

func likeness(family string, d document.Item) elsewhere.Likeness {
	return elsewhere.LikenessOf(short(family), item.Item{
		Kind: item.Kind(short(string(d.Kind))), Native: short(d.Native), Owner: short(d.Owner),
		Maker: short(d.Maker), Archive: d.Archive,
	})
}

// seconds is a time of a document; nil where none of a machine can be so long.
func seconds(s float64) *time.Duration {
	const most = 1e6
	if !(s > -most && s < most) {
		return nil
	}
	d := time.Duration(math.Round(s * float64(time.Second)))
	return &d
}

// short bounds a text, and makes it one that every store takes.
func short(s string) string {
	s = strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "�")
	if len(s) <= maxText {
		return s
	}
	return strings.ToValidUTF8(s[:maxText], "")
}

// Tell adds what is on record of a machine's boots, which were judged, and of
// its changes. Their items are known by ids in the list.
func (d *Delivery) Tell(list document.List, boots []boot.Boot, changes []change.Change) {
	for _, b := range boots[max(0, len(boots)-maxBoots):] {
		d.Boots = append(d.Boots, summary(b))
		d.Simulated = d.Simulated || b.Simulated
	}
	known := map[string]elsewhere.Likeness{}
	for _, it := range list.Items {
		known[it.ID] = likeness(list.Family, it)
	}
	made := map[int64]time.Time{}
	for _, c := range changes {
		made[c.ID] = c.MadeAt
	}
	for _, c := range changes {
		if c.Status != change.Done || !c.Decides() {
			continue
		}
		for _, t := range c.Targets {
			like, ok := known[t.ID]
			if !ok {
				d.Unknown++
				continue
			}
			one := Decision{
				Likeness: like, Change: c.ID, Verb: verb(c.Verb, t), Made: c.MadeAt.UTC(),
				Undone: made[c.UndoneBy], Others: len(c.Targets) - 1,
			}
			if o := c.Outcome; o != nil {
				one.Of, one.Saved = "ready", &o.Saved
				if o.Kind != "" {
					one.Of = "usable"
				}
			}
			d.Decisions = append(d.Decisions, one)
		}
	}
}

// verb is what a change did to one of its targets.
func verb(v change.Verb, t change.Target) change.Verb {
	if v != change.Decide {
		return v
	}
	switch t.After {
	case item.Off:
		return change.Disable
	case item.Delayed:
		return change.Delay
	}
	return change.Enable
}

func summary(b boot.Boot) Boot {
	s := Boot{ID: b.ID, Began: b.Began.UTC(), Odd: !b.Fit()}
	if b.Ready.Known {
		s.Ready = &b.Ready.Value
	}
	if u := b.Usable(); u.Known {
		s.Usable, s.Kind = &u.Value, short(u.Kind)
	}
	return s
}

// FromCasebook reads what a casebook holds: its last kept survey, the recorded
// boots, its changes and what became of them. said tells in one clause what it
// lacks.
func FromCasebook(file string) (d Delivery, said string, err error) {
	book, err := casebook.ReadForeign(file)
	if err != nil {
		return d, "", err
	}
	defer book.Close()
	id, err := book.Machine()
	if err != nil {
		return d, "", err
	}
	if id == casebook.NoID {
		return d, "", errors.New("it was begun before its machine had an id")
	}
	kept, there, err := book.Survey(0)
	if err != nil {
		return d, "", err
	}
	var list document.List
	if there {
		if err := json.Unmarshal(kept.Document, &list); err != nil {
			return d, "", fmt.Errorf("its last survey cannot be read: %w", err)
		}
		// surveys that an earlier calmdawn kept tell neither
		list.MachineID, list.Taken = id, kept.TakenAt.UTC().Format(time.RFC3339)
		if list.Family == "" {
			list.Family = familyOf(list)
		}
		if d, err = FromDocument(list); err != nil {
			return d, "", err
		}
	} else {
		d.MachineID = short(id)
		said = "it holds no survey, so its items are not known; calmdawn list --save keeps one"
	}
	boots, wrong := book.Boots(0)
	changes, err := book.Changes()
	if err != nil {
		return d, "", err
	}
	d.Tell(list, boot.Judge(boots, nil), changes)
	if wrong != nil {
		said = strings.TrimPrefix(said+"; some of its boots cannot be read", "; ")
	}
	return d, said, nil
}

// familyOf tells the kind of a machine by the form of its items' native names,
// for surveys of before they said it.
func familyOf(list document.List) string {
	windows := slices.ContainsFunc(list.Items, func(it document.Item) bool {
		return strings.HasPrefix(it.File, `HKLM\`)
	})
	if windows {
		return "windows"
	}
	return "linux"
}

// Anonymous leaves out who uses the machine and what it is called. People are
// numbered, also where a name of theirs stands as a word in that of an item.
func (d Delivery) Anonymous() Delivery {
	people := map[string]string{}
	for _, it := range d.Items {
		if it.Owner != "" && people[it.Owner] == "" {
			people[it.Owner] = fmt.Sprintf("user %d", len(people)+1)
		}
	}
	d.Host, d.Nameless = "", true
	d.Items, d.Boots, d.Decisions = slices.Clone(d.Items), slices.Clone(d.Boots),
		slices.Clone(d.Decisions)
	for i := range d.Items {
		it := &d.Items[i]
		it.Name, it.Title = without(it.Name, people), without(it.Title, people)
		it.Owner = people[it.Owner]
	}
	for i := range d.Boots {
		d.Boots[i].Kind = without(d.Boots[i].Kind, people)
	}
	for i := range d.Decisions {
		d.Decisions[i].Name = without(d.Decisions[i].Name, people)
	}
	return d
}

func without(text string, people map[string]string) string {
	for name := range people {
		rest, out := text, strings.Builder{}
		for {
			at := strings.Index(rest, name)
			if at < 0 {
				break
			}
			end := at + len(name)
			out.WriteString(rest[:at])
			if apart(rest[:at], rest[end:]) {
				out.WriteString("~")
			} else {
				out.WriteString(name)
			}
			rest = rest[end:]
		}
		text = out.String() + rest
	}
	return text
}

// apart reports whether what stands between two texts is a word.
func apart(before, after string) bool {
	inWord := func(c byte) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
	}
	return (before == "" || !inWord(before[len(before)-1])) && (after == "" || !inWord(after[0]))
}

// IsCasebook reports whether a file is a database of SQLite, by its first bytes
// (https://sqlite.org/fileformat.html).
func IsCasebook(file string) (bool, error) {
	f, err := os.Open(file)
	if err != nil {
		return false, err
	}
	defer f.Close()
	const sign = "SQLite format 3\x00"
	head := make([]byte, len(sign))
	n, err := io.ReadFull(f, head)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	return string(head[:n]) == sign, err
}
