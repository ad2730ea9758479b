package windows

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/registry"
)

// makers are those whose services belong to what protects the machine or joins
// it to a network. Their drivers stand in folders of the system, far from their
// services. By maker, with what is said of them.
type makers struct {
	system string // whose name tells nothing: others' drivers carry it too
	said   map[string]string
}

// anybody stands for a maker that cannot be told.
const anybody = "*"

// makersOf looks at the drivers: of groups that protect, and of adapters that
// no hardware stands behind, as private networks have them. A driver that is
// only near to these, as a monitor of activity is, speaks for itself alone.
func makersOf(reg *registry.Registry, items []item.Item) *makers {
	id := &identifier{reg: reg}
	m := &makers{said: map[string]string{}}
	for _, name := range systemPrograms {
		m.system = cmp.Or(m.system, id.makerOf(path.Join(reg.Windows, "System32", name)))
	}
	virtual := map[string]bool{}
	for _, k := range reg.Keys(reg.Machine(`SYSTEM\CurrentControlSet\Enum\ROOT\NET`)) {
		if driver, ok := reg.Text(k, "Service"); ok {
			virtual[strings.ToUpper(driver)] = true
		}
	}
	for _, it := range items {
		if !it.Aside || it.System && it.Opaque == "" {
			continue
		}
		if virtual[strings.ToUpper(it.Native)] {
			m.add("network", it.Program, id.makerOf(it.Program))
		}
		for _, trait := range it.Traits {
			group, ok := strings.CutPrefix(trait, "group ")
			if ok && ofDrivers[strings.ToUpper(group)] == "security" {
				m.add("security", it.Program, id.makerOf(it.Program))
			}
		}
	}
	return m
}

// makerOf is who made a program; [anybody] where it cannot be read.
func (id *identifier) makerOf(p string) string {
	info, _, why := id.info(p)
	if why != "" && p != "" {
		return anybody
	}
	return strings.TrimSpace(info.Maker)
}

func (m *makers) add(what, program, maker string) {
	if maker = plainMaker(maker); maker != "" && maker != plainMaker(m.system) {
		m.said[maker] = what + ": " + path.Base(program)
	}
}

// of says what a service belongs to; empty for nothing, and for what is no
// service.
func (m *makers) of(it *item.Item) string {
	if it.Kind != item.Service || it.System {
		return ""
	}
	return cmp.Or(m.said[plainMaker(it.Maker)], m.said[anybody])
}

// legalForms end the names of companies, and are written or not.
var legalForms = []string{
	"inc", "incorporated", "ltd", "limited", "llc", "corp", "corporation", "company", "co", "gmbh",
	"ag", "sa", "srl", "spa", "bv", "ab", "as", "oy", "sro", "kk", "plc",
}

// plainMaker is a maker's name to be compared: small letters, no signs, and no
// legal form behind it.
func plainMaker(name string) string {
	if name == anybody {
		return name
	}
	words := strings.Fields(strings.Map(func(r rune) rune {
		if strings.ContainsRune(".,()®™©\"'", r) {
			return -1
		}
		return r
	}, strings.ToLower(name)))
	for len(words) > 1 && slices.Contains(legalForms, words[len(words)-1]) {
		words = words[:len(words)-1]
	}
	return strings.Join(words, " ")
}

// promotes reports whether an item is plainly for its maker's sake by its own
// title: standing near what protects does not make it that.
func promotes(it *item.Item) bool {
	words := strings.FieldsFunc(strings.ToLower(it.Title+" "+path.Base(it.Program)),
		func(r rune) bool { return r < 'a' || r > 'z' })
	return slices.ContainsFunc(words, func(w string) bool {
		return slices.Contains(belonging().Promotes, w)
	})
}
