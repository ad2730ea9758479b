package unit

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
)

// The service manager starts its goal with all that this pulls in as one
// transaction, systemd(1). Where two of them conflict, or their order is a
// circle, it leaves some out that the goal does not require. What those pulled
// in is started all the same. Real boots taught the rest (internal/boottest).
type orders struct {
	kept    map[string]string   // what a conflict keeps out, with the reason
	rivals  map[string]string   // what keeps another one out, or is kept out by it: which
	circles map[string][]string // what is in a circle, with that
}

// orders are worked out once. Before several goroutines ask for them, one has
// to.
func (t *Tree) orders() *orders {
	if t.order == nil {
		t.order = &orders{map[string]string{}, map[string]string{}, nil}
		t.conflicts(t.order)
		t.order.circles = t.inCircles(t.order.kept)
	}
	return t.order
}

// conflicts settles who stays (Conflicts=, systemd.unit(5)). That is who
// declares it, unless the goal requires the other. Which it is, is not known
// where both declare it, or others require the one that would go.
func (t *Tree) conflicts(o *orders) {
	got, required := t.reach(), t.required()
	starts := func(u *unit) bool {
		_, pulled := got[u.name]
		return pulled && u.file != nil && u.hidden == "" && o.kept[u.name] == ""
	}
	wanted := map[string]bool{} // by Requires= of what is started
	for name := range got {
		if u := t.load(name); starts(u) {
			for _, other := range u.unitNames("Unit", "Requires", "BindsTo") {
				wanted[t.load(other).name] = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(got)) {
		u := t.load(name)
		for _, other := range u.unitNames("Unit", "Conflicts") {
			v := t.load(other)
			if u == v || !starts(u) || !starts(v) {
				continue
			}
			_, uMust := required[u.name]
			_, vMust := required[v.name]
			switch {
			case uMust && vMust: // no start at all: that is another matter
			case vMust:
				o.kept[u.name] = "it conflicts with " + v.name + ", which the goal requires"
			case !uMust && (wanted[v.name] || t.declares(v, u)):
				o.rivals[u.name], o.rivals[v.name] = v.name, u.name
			default:
				o.kept[v.name] = "kept out by " + u.name + ", which conflicts with it"
			}
		}
	}
}

// declares reports whether a unit declares a conflict with another.
func (t *Tree) declares(u, with *unit) bool {
	return slices.ContainsFunc(u.unitNames("Unit", "Conflicts"), func(name string) bool {
		return t.load(name).name == with.name
	})
}

// inCircles maps units of the goal's start to the shortest circle of orders
// that leads back to them. That is "a", "b" where a is after b, and b after a.
// At each start one of those is left out that the goal does not require.
func (t *Tree) inCircles(kept map[string]string) map[string][]string {
	after := map[string][]string{}
	got := t.reach()
	for _, s := range t.Graph(nil) {
		if _, pulled := got[s.Native]; pulled && kept[s.Native] == "" {
			after[s.Native] = slices.DeleteFunc(s.After, func(n string) bool {
				return n == s.Native
			})
		}
	}
	// What nothing is after, or is after nothing, is in no circle.
	for gone := true; gone; {
		gone = false
		follows := map[string]bool{}
		for name, earlier := range after {
			earlier = slices.DeleteFunc(slices.Clone(earlier), func(n string) bool {
				_, there := after[n]
				return !there
			})
			after[name] = earlier
			for _, n := range earlier {
				follows[n] = true
			}
		}
		for name, earlier := range after {
			if len(earlier) == 0 || !follows[name] {
				delete(after, name)
				gone = true
			}
		}
	}
	circles := map[string][]string{}
	for name := range after {
		if circle := shortest(after, name); circle != nil {
			circles[name] = circle
		}
	}
	return circles
}

// shortest is the shortest way from a name back to it; nil where none is.
func shortest(next map[string][]string, name string) (way []string) {
	from := map[string]string{}
	for queue := []string{name}; len(queue) > 0; queue = queue[1:] {
		for _, n := range slices.Sorted(slices.Values(next[queue[0]])) {
			if n == name {
				for at := queue[0]; at != name; at = from[at] {
					way = append([]string{at}, way...)
				}
				return append([]string{name}, way...)
			}
			if _, seen := from[n]; !seen {
				from[n] = queue[0]
				queue = append(queue, n)
			}
		}
	}
	return nil
}

// doubt says why a unit may be left out of the start of the goal; empty where
// nothing makes that doubtful. above are those that require it.
func (t *Tree) doubt(u *unit, above []string) string {
	o := t.orders()
	if rival := o.rivals[u.name]; rival != "" {
		return rival + " and it keep each other out: one of both is started"
	}
	if circle := o.circles[u.name]; circle != nil && t.insisted(u.name) == nil {
		return fmt.Sprintf("left out at some starts, for its order is a circle: %s; have it "+
			"repaired", strings.Join(append(slices.Clone(circle), circle[0]), " → "))
	}
	if slices.Contains(above, u.name) || len(above) > 50 || len(o.rivals)+len(o.circles) == 0 {
		return ""
	}
	for _, name := range u.unitNames("Unit", "Requires", "BindsTo") {
		if d := t.load(name); t.doubt(d, append(above, u.name)) != "" {
			return d.name + ", which it requires, is left out at some starts"
		}
	}
	return ""
}

// Circles are the orders of the system's services that lead back to themselves,
// each once.
func Circles(r *machine.Root) (circles [][]string) {
	t := Read(r, launch.On(r), time.Now()).System()
	seen := map[string]bool{}
	all := t.orders().circles
	for _, name := range slices.Sorted(maps.Keys(all)) {
		key := strings.Join(slices.Sorted(slices.Values(all[name])), " ")
		if !seen[key] {
			seen[key] = true
			circles = append(circles, all[name])
		}
	}
	return circles
}
