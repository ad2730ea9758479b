package compare

import (
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// A Measure is a figure that boots are compared by.
type Measure struct {
	Name  string
	Kind  string // of usable, see [boot.Usable]: only boots of it count
	Bytes bool   // it counts bytes; nanoseconds otherwise
	// Each has the kinds of usable of which boots count, those of each in a
	// block of their own; nil for all boots in one.
	Each []string
	// Of is the figure of a boot; false where it was not measured.
	Of func(boot.Boot) (int64, bool)
}

// Measures are ready, settled, each phase, and how much work was done until
// ready, from the first look at it on. An account may hold what was before. The
// verdict is on ready or on settled; the others describe.
var Measures = func() []Measure {
	all := []Measure{
		{
			Name: "ready",
			Of:   func(b boot.Boot) (int64, bool) { return int64(b.Ready.Value), b.Ready.Known },
		},
		{Name: "settled", Of: func(b boot.Boot) (int64, bool) {
			return int64(b.Ready.Value +
				b.Settled.FromReady.Value), b.Ready.Known && b.Settled.FromReady.Known
		}},
		{
			Name: "settled after login",
			Of: func(b boot.Boot) (int64, bool) {
				return int64(b.Settled.FromLogin.Value), b.Settled.FromLogin.Known
			},
		},
	}
	for _, name := range slices.Concat(boot.PhaseNames, boot.WrittenPhases) {
		all = append(all, Measure{
			Name: name,
			Of: func(b boot.Boot) (int64, bool) {
				p := b.Phase(name)
				return int64(p.Value), p.Known
			},
		})
	}
	return append(all,
		Measure{Name: "processor work", Of: func(b boot.Boot) (int64, bool) {
			if !b.Ready.Known || len(b.Course) < 2 {
				return 0, false
			}
			return int64(boot.UsedBy(b.Course, b.Ready.Value) - b.Course[0].CPU), true
		}},
		Measure{Name: "disk reading", Bytes: true, Of: func(b boot.Boot) (int64, bool) {
			if !b.Ready.Known || len(b.Course) < 2 {
				return 0, false
			}
			read := boot.ReadBy(b.Course, b.Ready.Value) - b.Course[0].Read
			return read, read > 0
		}})
}()

// usable is what people wait for.
const usable = "usable"

// UsableOf is usable in boots of one kind.
func UsableOf(kind string) Measure {
	return Measure{Name: usable, Kind: kind, Of: func(b boot.Boot) (int64, bool) {
		u := b.Usable()
		return int64(u.Value), u.Known && u.Kind == kind
	}}
}

// UsableOfEach is usable in boots of some kinds, each compared with its own.
func UsableOfEach(kinds []string) Measure {
	return Measure{Name: usable, Each: kinds, Of: func(b boot.Boot) (int64, bool) {
		u := b.Usable()
		return int64(u.Value), u.Known && slices.Contains(kinds, u.Kind)
	}}
}

// Compare compares two sides of boots by the measure.
func (m Measure) Compare(before, after []boot.Boot) Times {
	return m.CompareAt(before, after, confidence)
}

// CompareAt does so with a confidence.
func (m Measure) CompareAt(before, after []boot.Boot, confidence float64) Times {
	if m.Each == nil {
		return InBlocks([]Block[time.Duration]{{m.Values(before), m.Values(after)}}, confidence)
	}
	var blocks []Block[time.Duration]
	for _, kind := range m.Each {
		one := UsableOf(kind)
		blocks = append(blocks, Block[time.Duration]{one.Values(before), one.Values(after)})
	}
	return InBlocks(blocks, confidence)
}

// Enough reports whether two sides have as many boots as a verdict takes.
func (m Measure) Enough(before, after []boot.Boot) bool { return m.Compare(before, after).Bounded }

// Worse are those of some measures by which the boots after are slower, beyond
// the bounds that so many measures together have to have.
func Worse(all []Measure, before, after []boot.Boot) (worse []Measure) {
	if len(all) == 0 {
		return nil
	}
	sure := 1 - (1-confidence)/float64(len(all)) // Bonferroni
	for _, m := range all {
		if r := m.CompareAt(before, after, sure); r.Bounded && r.Low > 0 {
			worse = append(worse, m)
		}
	}
	return worse
}

// Kinds are those of usable that are known in any of some boots, in order.
func Kinds(boots []boot.Boot) []string { return kinds(boots) }

// Title is what a measure is called among others: usable with its kind.
func (m Measure) Title() string {
	if m.Kind == "" {
		return m.Name
	}
	return m.Name + " (" + m.Kind + ")"
}

// kinds are those of usable that are known in any of some boots, in order.
func kinds(boots []boot.Boot) (all []string) {
	for _, b := range boots {
		if u := b.Usable(); u.Known && !slices.Contains(all, u.Kind) {
			all = append(all, u.Kind)
		}
	}
	slices.Sort(all)
	return all
}

// All are the measures of two sides: usable of each kind, then the others.
func All(before, after []boot.Boot) (all []Measure) {
	known := kinds(slices.Concat(before, after))
	for _, kind := range known {
		all = append(all, UsableOf(kind))
	}
	for _, m := range Measures {
		// of whoever logged in it mixes what usable keeps apart
		if len(known) == 0 || m.Name != "settled after login" {
			all = append(all, m)
		}
	}
	return all
}

// Leading is what a verdict on two sides is on. That is usable, of the kind of
// which both have as many boots as a verdict takes, else ready. Where usable is
// told to be it, it is that of the kind of which they have most. It goes by how
// many boots there are, never by their figures, so that it favours no verdict.
func Leading(before, after []boot.Boot, told bool) Measure {
	best, most := Measure{}, 0
	for _, kind := range kinds(slices.Concat(before, after)) {
		m := UsableOf(kind)
		n, of := len(m.Values(before)), len(m.Values(after))
		enough := m.Enough(before, after)
		if count := min(n, of)*1000 + max(n, of); (enough || told) && count > most {
			best, most = m, count
		}
	}
	if best.Name == "" && told {
		return UsableOf(boot.NoLogin)
	}
	if best.Name == "" {
		best, _ = MeasureOf("ready")
	}
	return best
}

// MeasureOf finds a measure by its name; usable is of a kind besides, which
// [Leading] chooses.
func MeasureOf(name string) (Measure, bool) {
	if name == usable {
		return Measure{Name: usable}, true
	}
	for _, m := range Measures {
		if m.Name == name {
			return m, true
		}
	}
	return Measure{}, false
}

// Values are the figures of those boots in which it was measured.
func (m Measure) Values(boots []boot.Boot) []time.Duration {
	var values []time.Duration
	for _, b := range boots {
		if n, ok := m.Of(b); ok {
			values = append(values, time.Duration(n))
		}
	}
	return values
}
