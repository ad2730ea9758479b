package manager

import (
	"math"

	"github.com/godbus/dbus/v5"
)

// What is asked of a unit, of a service, of a session and of the boot.
var (
	unitProperties = []string{
		"After", "Requires", "Wants", "BindsTo", "Upholds", "Triggers",
		"InactiveExitTimestampMonotonic",
		"ActiveEnterTimestampMonotonic", "InactiveEnterTimestampMonotonic", "ConditionResult",
		"ConditionTimestampMonotonic",
	}
	serviceProperties = []string{
		"Type",
		"RemainAfterExit",
		"ExecMainExitTimestampMonotonic",
		"CPUUsageNSec",
		"NRestarts",
	}
	useProperties   = []string{"MemoryPeak", "MemoryCurrent", "IOReadBytes"}
	loginProperties = []string{"Class", "Remote", "TimestampMonotonic"}
	bootProperties  = []string{"Firmware", "Loader", "Kernel", "InitRD", "Userspace", "Finish"}
)

// wanted are the properties that anything here asks for, each by itself.
var wanted = func() map[string]string {
	all := map[string]string{}
	for _, of := range [][]string{
		unitProperties,
		serviceProperties,
		useProperties,
		loginProperties,
	} {
		for _, p := range of {
			all[p] = p
		}
	}
	for _, of := range bootProperties {
		for _, p := range []string{of + "Timestamp", of + "TimestampMonotonic"} {
			all[p] = p
		}
	}
	return all
}()

// A value is what a property has, of the kinds that are asked for. Those are a
// number or a truth (0 or 1), a text, several texts.
type value struct {
	kind   byte // of its signature the first letter
	number uint64
	texts  []string
}

// properties are those that are wanted, of the kinds that are asked for. Under
// the empty name stands the one that was asked for alone.
type properties []property

type property struct {
	name string
	value
}

func (p properties) of(name string) value {
	for _, one := range p {
		if one.name == name {
			return one.value
		}
	}
	return value{}
}

func (p properties) text(name string) string {
	if v := p.of(name); v.kind == 's' {
		return v.texts[0]
	}
	return ""
}

func (p properties) texts(name string) []string {
	if v := p.of(name); v.kind == 'a' {
		return v.texts
	}
	return nil
}

func (p properties) number(name string) uint64 { return p.of(name).number }

// truth is what a property holds; told is false where it is none of that kind.
func (p properties) truth(name string) (holds, told bool) {
	v := p.of(name)
	return v.number == 1, v.kind == 'b'
}

// amount is a number that may be missing, or the greatest one, by which a
// manager says that it has none.
func (p properties) amount(name string) (n int64, told bool) {
	v := p.of(name)
	return int64(v.number), v.kind == 't' && v.number < math.MaxInt64
}

// A listed unit is one as ListUnits gives it.
type listed struct {
	name, load, active string
	path               dbus.ObjectPath
}

// properties reads a dictionary of them.
func (w *walk) properties() properties {
	w.wholeList()
	have := make(properties, 0, len(unitProperties)+len(serviceProperties)+len(useProperties))
	for w.at < len(w.b) && !w.bad {
		w.align(8)
		key, asked := wanted[string(w.text())]
		if !asked {
			w.value()
		} else if v, ok := w.wanted(); ok {
			have = append(have, property{key, v})
		}
	}
	return have
}

// wanted reads a value that tells its own signature; ok is false where it is of
// a kind that nothing here asks for.
func (w *walk) wanted() (v value, ok bool) {
	kind := w.signature()
	switch string(kind) {
	case "b", "u":
		v = value{kind: kind[0], number: uint64(w.number())}
	case "t":
		v = value{kind: 't', number: w.long()}
	case "s":
		v = value{kind: 's', texts: []string{w.word()}}
	case "as":
		v = value{kind: 'a'}
		n := int(min(w.number(), math.MaxInt32))
		for end := w.at + n; w.at < end && !w.bad; {
			v.texts = append(v.texts, w.word())
		}
	default:
		w.passAll(kind, 1)
		return v, false
	}
	return v, !w.bad
}

// units reads what ListUnits answers: of each unit its name, description, load,
// active and sub state, what it follows, path, job, job's kind and path.
func (w *walk) units() (all []listed) {
	w.wholeList()
	for w.at < len(w.b) && !w.bad {
		w.align(8)
		u := listed{name: string(w.text())}
		w.text()
		u.load, u.active = w.word(), w.word()
		w.text()
		w.text()
		u.path = dbus.ObjectPath(w.text())
		w.number()
		w.text()
		w.text()
		all = append(all, u)
	}
	return all
}

// wholeList passes the length of a list that is to be all that follows.
func (w *walk) wholeList() {
	size := w.number()
	w.align(8)
	w.bad = w.bad || uint64(w.at)+uint64(size) != uint64(len(w.b))
}

func (w *walk) long() uint64 {
	w.align(8)
	begin := w.at
	if w.skip(8); w.bad {
		return 0
	}
	return w.order.Uint64(w.b[begin:])
}

// word reads a text; one that came before is not made again, as units name the
// same others.
func (w *walk) word() string {
	b := w.text()
	if s, ok := w.words[string(b)]; ok || w.words == nil {
		return s
	}
	s := string(b)
	w.words[s] = s
	return s
}
