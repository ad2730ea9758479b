package compare

import (
	"time"

	"calmdawn/internal/core/boot"
)

// A Measure is a figure that boots are compared by.
type Measure struct {
	Name  string
	Bytes bool // it counts bytes; nanoseconds otherwise
	// Of is the figure of a boot; false where it was not measured.
	Of func(boot.Boot) (int64, bool)
}

// Measures are ready, settled, each phase, and how much work was done until
// ready. The verdict is on ready or on settled; the others describe.
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
	for _, name := range boot.PhaseNames {
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
			return int64(boot.UsedBy(b.Course, b.Ready.Value)), b.Ready.Known && len(b.Course) > 1
		}},
		Measure{Name: "disk reading", Bytes: true, Of: func(b boot.Boot) (int64, bool) {
			read := boot.ReadBy(b.Course, b.Ready.Value)
			return read, b.Ready.Known && len(b.Course) > 1 && read > 0
		}})
}()

// MeasureOf finds a measure by its name.
func MeasureOf(name string) (Measure, bool) {
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
