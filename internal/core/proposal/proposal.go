// Package proposal holds decisions on the items of a machine as a text. That is
// what a person edits, keeps, and applies to the next machine of the same kind.
package proposal

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// Format names the form of the file.
const Format = "calmdawn.proposal/1"

// MaxSize bounds a file.
const MaxSize = 4 << 20

// What is decided on an item.
const (
	Disable = "disable"
	Delay   = "delay"
	Enable  = "enable"
	Keep    = "keep"
)

// A Proposal is decisions in the order in which they are to be carried out.
type Proposal struct {
	Format  string     `toml:"format"`
	Machine string     `toml:"machine"` // whose items they are
	Made    time.Time  `toml:"made"`
	Decide  []Decision `toml:"decide"`

	Left []Left `toml:"-"` // stands in the file as a remark
}

// A Left is items that a proposal has no decision on.
type Left struct {
	Why string // what they are: "off already"
	IDs []string
}

// A Decision is one line of a proposal, with what is known for it.
type Decision struct {
	ID   string `toml:"id"`
	Do   string `toml:"do"`
	By   string `toml:"by,omitempty"` // for delay: how long, as 90s or 5m
	Note string `toml:"note,omitempty"`

	Title    string `toml:"-"` // these stand in the file as remarks
	Why      string `toml:"-"`
	Forecast string `toml:"-"`
}

const preface = `# A proposal for what this machine launches by itself, one decision an item.
#
#   do = "disable"   switch it off
#   do = "delay"     start it later; by = "5m" says how much, one minute if it is missing
#   do = "enable"    switch it on; what calmdawn switched off is taken back exactly
#   do = "keep"      leave it as it is
#
# Change what you like, take entries out, add others; note = "..." is yours. Then:
# calmdawn apply FILE
# Each decision becomes a change of its own, in this order, and can be taken back alone.

`

// Write makes the file of a proposal.
func Write(p Proposal) ([]byte, error) {
	head, err := toml.Marshal(struct {
		Format  string    `toml:"format"`
		Machine string    `toml:"machine"`
		Made    time.Time `toml:"made"`
	}{Format, p.Machine, p.Made.UTC().Truncate(time.Second)})
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	b.WriteString(preface)
	b.Write(head)
	for _, d := range p.Decide {
		text, err := toml.Marshal(struct {
			Decide []Decision `toml:"decide"`
		}{[]Decision{d}})
		if err != nil {
			return nil, err
		}
		b.WriteString("\n")
		for _, remark := range []string{d.Title, d.Why, d.Forecast} {
			if remark != "" {
				b.WriteString("# " + remark + "\n")
			}
		}
		b.Write(text)
	}
	for _, l := range p.Left {
		fmt.Fprintf(&b, "\n# Left out, since %s (%d):\n", l.Why, len(l.IDs))
		for _, id := range l.IDs {
			b.WriteString("#   " + id + "\n")
		}
	}
	return []byte(b.String()), nil
}

// Parse reads the file of a proposal. An error says in which line what is
// wrong.
func Parse(text []byte) (Proposal, error) {
	var p Proposal
	if len(text) > MaxSize {
		return p, fmt.Errorf("it is larger than %d MB, which no proposal is", MaxSize>>20)
	}
	var form struct {
		Format string `toml:"format"`
	}
	if err := toml.Unmarshal(text, &form); err != nil {
		return p, inLine(err)
	}
	switch name, _, _ := strings.Cut(form.Format, "/"); {
	case form.Format == "":
		return p, fmt.Errorf("it is not a proposal: the line format = %q is missing", Format)
	case name != "calmdawn.proposal":
		return p, fmt.Errorf("it is not a proposal: its format is %q", form.Format)
	case form.Format != Format:
		return p, fmt.Errorf("its format is %q, and this calmdawn knows %q; use the one that "+
			"wrote it", form.Format, Format)
	}
	dec := toml.NewDecoder(strings.NewReader(string(text)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&p); err != nil {
		return p, inLine(err)
	}
	return p, p.check()
}

// check looks at every decision.
func (p Proposal) check() error {
	seen := map[string]int{}
	for i, d := range p.Decide {
		where := fmt.Sprintf("entry %d", i+1)
		if d.ID == "" {
			return fmt.Errorf("%s names no item: id is missing", where)
		}
		where += ", " + d.ID
		if !slices.Contains([]string{Disable, Delay, Enable, Keep}, d.Do) {
			return fmt.Errorf("%s: do is %q; it is disable, delay, enable or keep", where, d.Do)
		}
		if other, twice := seen[d.ID]; twice {
			return fmt.Errorf("%s is decided twice, in entry %d too", where, other)
		}
		seen[d.ID] = i + 1
		if _, err := d.Later(); err != nil {
			return fmt.Errorf("%s: %w", where, err)
		}
	}
	return nil
}

// Later is by how much a decision delays.
func (d Decision) Later() (time.Duration, error) {
	if d.By == "" {
		return time.Minute, nil
	}
	by, err := time.ParseDuration(d.By)
	if d.Do != Delay || err != nil || by < time.Second || by > 24*time.Hour {
		return 0, fmt.Errorf("by is %q; it says how much later an item starts that is delayed, "+
			"from 1s to 24h", d.By)
	}
	return by, nil
}

// inLine makes a sentence of what the reader of TOML found.
func inLine(err error) error {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		row, _ := strict.Errors[0].Position()
		return fmt.Errorf("line %d: there is nothing called %q in a proposal", row,
			strings.Join(strict.Errors[0].Key(), "."))
	}
	var wrong *toml.DecodeError
	if errors.As(err, &wrong) {
		row, column := wrong.Position()
		return fmt.Errorf("line %d, column %d: %s", row, column,
			strings.TrimPrefix(wrong.Error(), "toml: "))
	}
	return err
}
