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
	packages, makers := siblings{}, siblings{}
	for i := range items {
		it := &items[i]
		if it.Role == "" || it.System || it.Ours ||
			!asked["package "+it.Package] && !asked["maker "+it.Maker] {
			continue
		}
		if rule, _, kind := rules.find(it); kind <= byTrait && !rule.Alone {
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

// siblings are what items of one name do, by that name.
type siblings map[string]sibling

type sibling struct {
	role, id string
	differ   bool
}

func (s siblings) add(name string, it *item.Item) {
	if name == "" {
		return
	}
	was, ok := s[name]
	if !ok {
		s[name] = sibling{role: it.Role, id: it.ID}
	} else if was.role != it.Role {
		was.differ = true
		s[name] = was
	}
}
