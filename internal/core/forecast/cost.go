package forecast

import (
	_ "embed"
	"fmt"
	"slices"
	"time"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/boot"
)

//go:embed grades.toml
var builtIn []byte

// A Grade says in a word what an item costs the boot.
type Grade string

// The grades.
const (
	Heavy    Grade = "heavy"
	Moderate Grade = "moderate"
	Light    Grade = "light"
	Unknown  Grade = "unknown"
)

// Grades are the bounds of the grades, as shares of the boot; grades.toml
// explains them.
type Grades struct {
	Heavy    Bounds `toml:"heavy"`
	Moderate Bounds `toml:"moderate"`
}

// Bounds are what a grade begins at; reaching one suffices.
type Bounds struct {
	Wait float64 `toml:"wait"`
	CPU  float64 `toml:"cpu"`
}

// LoadGrades reads the built-in bounds, and over them a technician's own, which
// may be empty.
func LoadGrades(own []byte) (Grades, error) {
	var g Grades
	for _, text := range [][]byte{builtIn, own} {
		if err := toml.Unmarshal(text, &g); err != nil {
			return g, fmt.Errorf("grades.toml: %w", err)
		}
	}
	if g.Heavy.Wait < g.Moderate.Wait || g.Heavy.CPU < g.Moderate.CPU || g.Moderate.Wait < 0 ||
		g.Moderate.CPU < 0 {
		return g, fmt.Errorf("grades.toml: heavy has to begin at more than moderate, and both at " +
			"0 or more")
	}
	return g, nil
}

// A Cost is what an item costs the boot, as far as is known.
type Cost struct {
	Grade    Grade
	Wait     Forecast    // how much sooner one could work, or it would be ready, without it
	Replayed bool        // whether Wait is known
	CPU      boot.Figure // the median of the boots in which it ran
	DiskRead boot.Amount
	Memory   boot.Amount
	Seen     int // in how many boots it ran
	Of       int // of how many
	// AfterLogin is how long after the login it was launched, the median; only
	// of programs of a login.
	AfterLogin boot.Figure
	Logins     int // of how many logins of its owner it was among the programs
	// Simulated says that a simulator's work is among those boots.
	Simulated bool
}

// Known reports whether anything at all is known of the cost.
func (c Cost) Known() bool {
	return c.Replayed || c.CPU.Known || c.DiskRead.Known ||
		c.Memory.Known
}

// A Rater knows what each item used in some boots.
type Rater struct {
	boots  []boot.Boot
	byName []map[string][]boot.Span // of each boot, those that took part
	grades Grades
}

// NewRater makes one of the boots that are to stand behind costs.
func NewRater(boots []boot.Boot, g Grades) *Rater {
	r := &Rater{boots: boots, grades: g}
	for _, b := range boots {
		names := make(map[string][]boot.Span, len(b.Spans))
		for _, s := range b.Spans {
			if (s.Begin.Known || s.End.Known) && !s.Skipped {
				names[s.Native] = append(names[s.Native], s)
			}
		}
		r.byName = append(r.byName, names)
	}
	return r
}

// Cost puts together what an item costs. set is how the boots know the item,
// wait the forecast without it; replayed is false where there was nothing to
// forecast from.
func (r *Rater) Cost(set Set, wait Forecast, replayed bool) Cost {
	c := Cost{Wait: wait, Of: len(r.boots)}
	var cpu, after []time.Duration
	var read, memory []int64
	var ready time.Duration
	processors := 0
	for i, b := range r.boots {
		seen := false
		sum := boot.Span{}
		for key := range set {
			line, isProgram := lineOf(key.Native)
			if isProgram && len(b.Programs) > 0 {
				owned := slices.ContainsFunc(b.Programs, func(p boot.Program) bool {
					return key.Owner == "" || key.Owner == p.Owner
				})
				if owned {
					c.Logins++
				}
				if use := b.LineUse(line, key.Owner); use.Ran {
					seen = true
					sum.CPU = boot.Of(sum.CPU.Value+use.CPU, boot.Recorder)
					sum.DiskRead = boot.Bytes(sum.DiskRead.Bytes+use.Read, boot.Recorder)
					if use.Memory > 0 {
						sum.Memory = boot.Bytes(sum.Memory.Bytes+use.Memory, boot.Recorder)
					}
					if all := b.Logged(); len(all) > 0 {
						after = append(after, use.Began-all[0].Began)
					}
				}
			}
			for _, s := range r.byName[i][key.Native] {
				if s.Owner != key.Owner && (key.Owner != AnyOwner || s.Owner == "") {
					continue
				}
				seen = true
				if s.CPU.Known {
					sum.CPU = boot.Of(sum.CPU.Value+s.CPU.Value, s.CPU.From)
				}
				if s.DiskRead.Known {
					sum.DiskRead = boot.Bytes(sum.DiskRead.Bytes+s.DiskRead.Bytes, s.DiskRead.From)
				}
				if s.Memory.Known {
					sum.Memory = boot.Bytes(sum.Memory.Bytes+s.Memory.Bytes, s.Memory.From)
				}
			}
		}
		if !seen {
			continue
		}
		c.Seen++
		c.Simulated = c.Simulated || b.Simulated
		ready, processors = b.Ready.Value, b.Processors
		if sum.CPU.Known {
			cpu = append(cpu, sum.CPU.Value)
			c.CPU = sum.CPU
		}
		if sum.DiskRead.Known {
			read = append(read, sum.DiskRead.Bytes)
			c.DiskRead = sum.DiskRead
		}
		if sum.Memory.Known {
			memory = append(memory, sum.Memory.Bytes)
			c.Memory = sum.Memory
		}
	}
	if len(after) > 0 {
		c.AfterLogin = boot.Of(boot.Median(after), boot.Recorder)
	}
	if len(cpu) > 0 {
		c.CPU.Value = boot.Median(cpu)
	}
	for amount, values := range map[*boot.Amount][]int64{&c.DiskRead: read, &c.Memory: memory} {
		if len(values) > 0 {
			slices.Sort(values)
			amount.Bytes = values[len(values)/2]
		}
	}
	c.Replayed = replayed && c.Seen > 0
	c.Grade = r.grades.of(c, ready, processors)
	return c
}

// of grades a cost against a boot that was ready after a time, or against when
// one can work.
func (g Grades) of(c Cost, ready time.Duration, processors int) Grade {
	if !c.Replayed && !c.CPU.Known || ready <= 0 {
		return Unknown
	}
	wait, cpu, whole := 0.0, 0.0, ready
	if lead := c.Wait.Lead(); c.Replayed {
		whole = max(whole, lead.Now)
		if lead.Shows {
			wait = float64(lead.Saving.Median) / float64(lead.Now)
		}
	}
	if c.CPU.Known && processors > 0 {
		cpu = float64(c.CPU.Value) / float64(whole*time.Duration(processors))
	}
	reaches := func(b Bounds) bool { return wait >= b.Wait || cpu >= b.CPU }
	switch {
	case reaches(g.Heavy):
		return Heavy
	case reaches(g.Moderate):
		return Moderate
	case !c.CPU.Known && (!c.Replayed || c.Wait.AtLeast):
		return Unknown // it may be more
	}
	return Light
}
