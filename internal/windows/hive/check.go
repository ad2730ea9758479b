package hive

import (
	"encoding/binary"
	"fmt"
)

// mostFaults is how many faults one look at a hive, or a key, tells of.
const mostFaults = 20

// Check walks all bins, cells and keys of a hive, and tells what is not as it
// has to be. What healthy hives have too is none. Those are cells that nothing
// leads to, longest names and counts of users that are too large. So are counts
// of volatile keys, and keys of predefined handles.
func (e *Editor) Check() []Fault {
	c := &checker{
		h:       e.Hive,
		starts:  newSet(e.size),
		reached: newSet(e.size),
		users:   map[uint32]uint32{},
	}
	if c.cells() {
		c.keys()
		c.security()
	}
	return c.faults
}

// A set holds offsets of cells, which are multiples of 8.
type set []uint64

func newSet(size int64) set { return make(set, size/8/64+1) }

func (s set) has(at uint32) bool {
	n := int(at / 8 / 64)
	return at%8 == 0 && n < len(s) && s[n]>>(at/8%64)&1 != 0
}

func (s set) add(at uint32) { s[at/8/64] |= 1 << (at / 8 % 64) }

// A checker is one walk over a hive.
type checker struct {
	h       *Hive
	starts  set // where cells begin
	reached set
	users   map[uint32]uint32 // of descriptors, by their cells
	faults  []Fault
}

func (c *checker) fault(at uint32, format string, values ...any) {
	if len(c.faults) < mostFaults {
		c.faults = append(c.faults, Fault{at, fmt.Sprintf(format, values...)})
	}
}

// cells walks the bins and the cells in them; false where they end amid the
// hive.
func (c *checker) cells() bool {
	for bin := int64(0); bin < c.h.size; {
		head, err := c.h.bytes(bin, binHead)
		if err != nil || string(head[:4]) != "hbin" {
			c.fault(uint32(bin), "no bin begins there")
			return false
		}
		at := binary.LittleEndian.Uint32(head[4:])
		size := binary.LittleEndian.Uint32(head[8:])
		if int64(at) != bin || size == 0 || size%4096 != 0 || bin+int64(size) > c.h.size {
			c.fault(uint32(bin), "the bin says to be at %#x and to have %d bytes", at, size)
			return false
		}
		end := bin + int64(size)
		for cell := bin + binHead; cell < end; {
			head, err := c.h.bytes(cell, 4)
			if err != nil {
				c.fault(uint32(cell), "the cell cannot be read")
				return false
			}
			n := int64(int32(binary.LittleEndian.Uint32(head)))
			if n < 0 {
				n = -n
			}
			if n == 0 || n%8 != 0 || cell+n > end {
				c.fault(uint32(cell), "the cell has %d bytes", n)
				return false
			}
			c.starts.add(uint32(cell))
			cell += n
		}
		bin = end
	}
	return true
}

// take marks a cell as reached, once, and returns what it holds; nil where it
// cannot hold so many bytes.
func (c *checker) take(at uint32, need int, what string) []byte {
	if !c.starts.has(at) {
		c.fault(at, "no cell begins there, which is to be %s", what)
		return nil
	}
	data, err := c.h.cell(at)
	switch {
	case err != nil:
		c.fault(at, "the cell is free, and used as %s", what)
		return nil
	case c.reached.has(at):
		c.fault(at, "the cell is used twice, now as %s", what)
		return nil
	case len(data) < need:
		c.fault(at, "the cell is too small for %s", what)
		return nil
	}
	c.reached.add(at)
	return data
}

func (c *checker) keys() {
	type found struct{ at, parent uint32 }
	todo := []found{{c.h.root, none}}
	for len(todo) > 0 {
		next := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		data := c.take(next.at, keyHead, "a key")
		if data == nil {
			continue
		}
		k, err := c.h.key(next.at)
		if err != nil {
			c.fault(next.at, "it is not a key")
			continue
		}
		if next.parent != none && k.parent != next.parent {
			c.fault(next.at, "the key belongs to another one")
		}
		c.users[binary.LittleEndian.Uint32(data[44:])]++
		if k.classBytes > 0 {
			c.take(k.class, k.classBytes, "a class")
		}
		c.values(k)
		subs := c.listed(k)
		if len(subs) != int(k.subs) {
			c.fault(next.at, "the key says to have %d keys, and lists %d", k.subs, len(subs))
		}
		for _, at := range subs {
			todo = append(todo, found{at, next.at})
		}
	}
}

func (c *checker) values(k Key) {
	if k.values == 0 {
		return
	}
	if int64(k.values) > c.h.size/4 {
		c.fault(k.at, "the key says to have %d values", k.values)
		return
	}
	list := c.take(k.valueList, 4*int(k.values), "a list of values")
	for i := range len(list) / 4 {
		if i == int(k.values) {
			break
		}
		at := binary.LittleEndian.Uint32(list[4*i:])
		if c.take(at, valueHead, "a value") == nil {
			continue
		}
		v, err := c.h.value(at)
		if err != nil {
			c.fault(at, "it is not a value")
			continue
		}
		for _, cell := range c.h.dataCells(v) {
			c.take(cell.at, cell.need, "data")
		}
	}
}

// listed are the keys that a key's lists name.
func (c *checker) listed(k Key) (subs []uint32) {
	if k.subs == 0 {
		return nil
	}
	lists := []uint32{k.list}
	if data, err := c.h.cell(k.list); err == nil && len(data) >= 4 && string(data[:2]) == "ri" {
		c.take(k.list, 4, "a list of lists")
		lists = nil
		n := int(binary.LittleEndian.Uint16(data[2:]))
		for i := range min(n, (len(data)-4)/4) {
			lists = append(lists, binary.LittleEndian.Uint32(data[4+4*i:]))
		}
	}
	for _, at := range lists {
		if c.take(at, 4, "a list of keys") == nil {
			continue
		}
		all, err := c.h.listAt(at, false)
		if err != nil {
			c.fault(at, "%s", err.(*Fault).What)
		}
		for _, l := range all {
			subs = append(subs, l.at)
		}
	}
	return subs
}

// security looks at the descriptors that keys have: they stand in a ring.
func (c *checker) security() {
	for at, users := range c.users {
		data := c.take(at, descriptorHead, "a descriptor")
		if data == nil {
			continue
		}
		u := func(i int) uint32 { return binary.LittleEndian.Uint32(data[i:]) }
		switch {
		case string(data[:2]) != "sk":
			c.fault(at, "it is not a descriptor")
			continue
		case u(descriptorUsers) < users:
			c.fault(at, "%d keys have the descriptor, and it counts %d", users, u(descriptorUsers))
		case int64(u(16)) > int64(len(data)-descriptorHead):
			c.fault(at, "the descriptor is longer than its cell")
		}
		for other, back := range map[uint32]int{u(4): 8, u(8): 4} {
			o, err := c.h.cell(other)
			if err != nil || len(o) < descriptorHead || string(o[:2]) != "sk" ||
				binary.LittleEndian.Uint32(o[back:]) != at {
				c.fault(at, "the ring of descriptors is broken")
			}
		}
	}
}

// A dataCell is one that holds data of a value, or leads to it.
type dataCell struct {
	at   uint32
	need int
}

// dataCells are those of a value: none where the data stands in the value
// itself.
func (h *Hive) dataCells(v Value) (all []dataCell) {
	if v.inline != nil || v.Size == 0 {
		return nil
	}
	c, err := h.cell(v.at)
	if err != nil || v.Size <= segment || h.minor < 4 || len(c) < 8 || string(c[:2]) != "db" {
		return []dataCell{{v.at, v.Size}}
	}
	n, list := int(binary.LittleEndian.Uint16(c[2:])), binary.LittleEndian.Uint32(c[4:])
	all = []dataCell{{v.at, 8}, {list, 4 * n}}
	parts, err := h.cell(list)
	for i := 0; err == nil && i < n && 4*i+4 <= len(parts); i++ {
		all = append(all, dataCell{
			binary.LittleEndian.Uint32(parts[4*i:]), min(segment, max(0, v.Size-i*segment)),
		})
	}
	return all
}
