package advice

import (
	"fmt"

	"calmdawn/internal/core/item"
)

// Vouch lends the role of others to judged items that no rule knows: that of
// their package or, where it tells none, of their maker. Only what an item is
// to the machine is lent, never what words say of it, nor what a rule says of
// the item alone. Nothing is lent where siblings differ. It is the weakest
// evidence: it protects nothing, and the advice stays to look the item up.
//
// What starts one program a second time is for the same work. There, what words
// say is lent too, and the advice to keep it or to let it wait.
func (rules Rules) Vouch(items []item.Item) {
	unknown := func(it *item.Item) bool {
		return it.Role == "" && !it.System && !it.Ours && it.Reason == Unknown
	}
	asked := map[string]bool{} // whose siblings are asked for: the rest costs nothing
	for i := range items {
		if it := &items[i]; unknown(it) {
			asked["package "+it.Package], asked["maker "+it.Maker] = true, true
		}
	}
	packages, makers, programs := siblings{}, siblings{}, siblings{}
	for i := range items {
		it := &items[i]
		if it.Role == "" || it.System || it.Ours ||
			!asked["package "+it.Package] && !asked["maker "+it.Maker] {
			continue
		}
		rule, _, kind := rules.find(it)
		if rule.Alone {
			continue
		}
		programs.add(programOf(it), it)
		if kind <= byTrait {
			packages.add(it.Package, it)
			if it.Archive == "" { // who made it is not who packed it
				makers.add(it.Maker, it)
			}
		}
	}
	for i := range items {
		it := &items[i]
		if !unknown(it) {
			continue
		}
		if same := programs[programOf(it)]; same.role != "" && !same.differ {
			it.Role = same.role
			it.Reason = fmt.Sprintf("it starts the same program as %s, which has the role %s",
				same.id, same.role)
			if same.advice == item.Keep || same.advice == item.CanWait {
				it.Advice = same.advice
			}
			continue
		}
		of, what := packages[it.Package], "package"
		if of.role == "" && !of.differ && it.Archive == "" {
			of, what = makers[it.Maker], "maker"
		}
		if of.role != "" && !of.differ {
			it.Role = of.role
			it.Reason = fmt.Sprintf("%s; of its %s, %s has the role %s", Unknown, what, of.id,
				of.role)
		}
	}
}

// programOf names an item's program of its package; empty where either is not
// known, for a shell is everybody's.
func programOf(it *item.Item) string {
	if it.Package == "" || it.Program == "" {
		return ""
	}
	return it.Package + "\x00" + it.Program
}

// siblings are what items of one name do, by that name.
type siblings map[string]sibling

type sibling struct {
	role, id string
	advice   item.Advice
	differ   bool
}

func (s siblings) add(name string, it *item.Item) {
	if name == "" {
		return
	}
	was, ok := s[name]
	if !ok {
		s[name] = sibling{role: it.Role, id: it.ID, advice: it.Advice}
	} else if was.role != it.Role ||
		was.advice != it.Advice && was.advice != "" && it.Advice != "" {
		was.differ = true
		s[name] = was
	}
}
