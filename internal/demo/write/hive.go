package write

import (
	"bytes"
	"encoding/binary"
	"math"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"
)

// A Key is one of a hive that is to be written, with all below it.
type Key struct {
	Name    string
	Class   string
	Written time.Time // the zero time is that of the whole hive
	Values  []Datum
	Keys    []*Key
	// List is the kind of its list of keys: lf, lh, li or ri; empty for the
	// usual one.
	List string
}

// A Datum is a value of a key.
type Datum struct {
	Name string
	Type uint32
	Data []byte
}

// Types of values that have a function of their own.
const (
	typeDWord = 4
	typeMulti = 7
)

// Places and signs in a hive.
const (
	hiveHead   = 4096
	binHead    = 32
	keyHead    = 76
	valueHead  = 20
	noCell     = math.MaxUint32 // where an offset would stand
	segment    = 16344          // bytes in each but the last part of long data
	latinKey   = 0x20           // the name of a key is in Latin-1
	latinValue = 0x1
)

// Raw is a datum of a type and its bytes.
func Raw[T ~uint32](name string, kind T, data []byte) Datum {
	return Datum{name, uint32(kind), data}
}

// Texted is a datum of one text, with its NUL.
func Texted[T ~uint32](name string, kind T, text string) Datum {
	return Raw(name, kind, append(wide(text), 0, 0))
}

// Listed is a datum of several texts.
func Listed(name string, texts ...string) Datum {
	var data []byte
	for _, t := range texts {
		data = append(append(data, wide(t)...), 0, 0)
	}
	return Datum{name, typeMulti, append(data, 0, 0)}
}

// Counted is a datum of a number.
func Counted(name string, n uint32) Datum {
	return Datum{name, typeDWord, binary.LittleEndian.AppendUint32(nil, n)}
}

// At returns the key below a node at a path in one text, its parts divided by
// backslashes, and makes it where it is missing.
func (n *Key) At(path string) *Key {
	for name := range strings.SplitSeq(path, `\`) {
		i := slices.IndexFunc(n.Keys, func(k *Key) bool { return same(k.Name, name) })
		if i < 0 {
			n.Keys = append(n.Keys, &Key{Name: name})
			i = len(n.Keys) - 1
		}
		n = n.Keys[i]
	}
	return n
}

// Set adds values to a node, or puts them in the place of those of their names.
func (n *Key) Set(values ...Datum) *Key {
	for _, v := range values {
		i := slices.IndexFunc(n.Values, func(d Datum) bool { return same(d.Name, v.Name) })
		if i < 0 {
			n.Values = append(n.Values, v)
		} else {
			n.Values[i] = v
		}
	}
	return n
}

// A hive is one that grows.
type hive struct {
	bins    []byte
	minor   uint32
	free    int // bytes at the end of the last bin
	written uint64
	keys    uint32
}

// Hive returns a hive of a version 1.3 to 1.6 with a key as its root. File is
// the tail of the path that its first page names.
func Hive(root *Key, minor uint32, file string, written time.Time) []byte {
	b := &hive{minor: minor, written: filetime(written)}
	owner := b.security()
	top := b.key(root, nil, noCell, owner)
	binary.LittleEndian.PutUint32(b.bins[owner+4+12:], b.keys)
	b.close()
	head := make([]byte, hiveHead)
	copy(head, "regf")
	put := func(at int, n uint32) { binary.LittleEndian.PutUint32(head[at:], n) }
	put(4, 1)
	put(8, 1)
	binary.LittleEndian.PutUint64(head[12:], b.written)
	put(20, 1)
	put(24, minor)
	put(32, 1)
	put(36, top)
	put(40, uint32(len(b.bins)))
	put(44, 1)
	name := wide(file)
	copy(head[48:], name[max(0, len(name)-62):])
	put(508, sumOf(head))
	return append(head, b.bins...)
}

// cell makes a cell for n bytes.
func (b *hive) cell(n int) uint32 {
	size := (n + 4 + 7) &^ 7
	if b.free < size {
		b.close()
		length := (size + binHead + 4095) &^ 4095
		bin := make([]byte, length)
		copy(bin, "hbin")
		binary.LittleEndian.PutUint32(bin[4:], uint32(len(b.bins)))
		binary.LittleEndian.PutUint32(bin[8:], uint32(length))
		if len(b.bins) == 0 {
			binary.LittleEndian.PutUint64(bin[20:], b.written)
		}
		b.bins, b.free = append(b.bins, bin...), length-binHead
	}
	at := len(b.bins) - b.free
	binary.LittleEndian.PutUint32(b.bins[at:], uint32(-int32(size)))
	b.free -= size
	return uint32(at)
}

// close makes what is left of the last bin a free cell.
func (b *hive) close() {
	if b.free > 0 {
		binary.LittleEndian.PutUint32(b.bins[len(b.bins)-b.free:], uint32(b.free))
		b.free = 0
	}
}

func (b *hive) put(data []byte) uint32 {
	at := b.cell(len(data))
	copy(b.bins[at+4:], data)
	return at
}

// security makes the descriptor of all keys: administrators own it, and nobody
// is kept out of anything.
func (b *hive) security() uint32 {
	administrators := []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 32, 2, 0, 0}
	var d bytes.Buffer
	for _, part := range []any{
		uint8(1), uint8(0), uint16(0x8000), uint32(20), uint32(36), uint32(0), uint32(0),
		administrators, administrators,
	} {
		_ = binary.Write(&d, binary.LittleEndian, part) // a buffer takes all
	}
	at := b.cell(20 + d.Len())
	cell := append([]byte("sk\x00\x00"), make([]byte, 16)...)
	for i, n := range []uint32{at, at, 1, uint32(d.Len())} {
		binary.LittleEndian.PutUint32(cell[4+4*i:], n)
	}
	copy(b.bins[at+4:], append(cell, d.Bytes()...))
	return at
}

// encoded is a name as a hive holds it, and whether it is in Latin-1.
func encoded(name string) ([]byte, bool) {
	var latin []byte
	for _, r := range name {
		if r > 0xFF {
			return wide(name), false
		}
		latin = append(latin, byte(r))
	}
	return latin, true
}

func (b *hive) value(d Datum) uint32 {
	size, at := uint32(len(d.Data)), uint32(0)
	switch {
	case len(d.Data) <= 4:
		var inline [4]byte
		copy(inline[:], d.Data)
		size, at = size|1<<31, binary.LittleEndian.Uint32(inline[:])
	case len(d.Data) > segment && b.minor >= 4:
		var list []byte
		n := 0
		for part := range slices.Chunk(d.Data, segment) {
			list = binary.LittleEndian.AppendUint32(list, b.put(part))
			n++
		}
		long := binary.LittleEndian.AppendUint16([]byte("db"), uint16(n))
		long = binary.LittleEndian.AppendUint32(long, b.put(list))
		at = b.put(append(long, 0, 0, 0, 0))
	default:
		at = b.put(d.Data)
	}
	name, latin := encoded(d.Name)
	cell := make([]byte, valueHead, valueHead+len(name))
	copy(cell, "vk")
	binary.LittleEndian.PutUint16(cell[2:], uint16(len(name)))
	binary.LittleEndian.PutUint32(cell[4:], size)
	binary.LittleEndian.PutUint32(cell[8:], at)
	binary.LittleEndian.PutUint32(cell[12:], d.Type)
	if latin {
		cell[16] = latinValue
	}
	return b.put(append(cell, name...))
}

// A listedKey is a key of a list.
type listedKey struct {
	name string
	at   uint32
}

// list makes a list of keys.
func (b *hive) list(kind string, keys []listedKey) uint32 {
	if kind == "ri" {
		cell := binary.LittleEndian.AppendUint16([]byte(kind), 0)
		n := uint16(0)
		for part := range slices.Chunk(keys, 500) {
			cell = binary.LittleEndian.AppendUint32(cell, b.put(listed("lh", part)))
			n++
		}
		binary.LittleEndian.PutUint16(cell[2:], n)
		return b.put(cell)
	}
	return b.put(listed(kind, keys))
}

// listed is a list of keys of the kind lf, lh or li.
func listed(kind string, keys []listedKey) []byte {
	cell := binary.LittleEndian.AppendUint16([]byte(kind), uint16(len(keys)))
	for _, k := range keys {
		cell = binary.LittleEndian.AppendUint32(cell, k.at)
		var sign [4]byte
		switch kind {
		case "li":
			continue
		case "lh":
			binary.LittleEndian.PutUint32(sign[:], signOf(k.name))
		default:
			name, _ := encoded(k.name)
			copy(sign[:], name)
		}
		cell = append(cell, sign[:]...)
	}
	return cell
}

// upper is a name as the registry compares names: letters in upper case, where
// that maps back.
func upper(name string) string {
	return strings.Map(func(r rune) rune {
		u := unicode.ToUpper(r)
		if r > math.MaxUint16 || unicode.ToLower(u) != r {
			return r
		}
		return u
	}, name)
}

func same(a, b string) bool { return upper(a) == upper(b) }

// signOf is how a list of the kind lh signs a name.
func signOf(name string) (sum uint32) {
	for _, unit := range utf16.Encode([]rune(upper(name))) {
		sum = 37*sum + uint32(unit)
	}
	return sum
}

// sumOf is the checksum of a first page: never 0, and never all ones.
func sumOf(head []byte) (sum uint32) {
	for word := range slices.Chunk(head[:508], 4) {
		sum ^= binary.LittleEndian.Uint32(word)
	}
	return min(max(sum, 1), math.MaxUint32-1)
}

// less orders names as the registry does: by units in upper case.
func less(a, b listedKey) int {
	return slices.Compare(utf16.Encode([]rune(upper(a.name))), utf16.Encode([]rune(upper(b.name))))
}

func (b *hive) key(n, parent *Key, above, owner uint32) uint32 {
	name, latin := encoded(n.Name)
	at := b.cell(keyHead + len(name))
	b.keys++
	values, list, class := uint32(noCell), uint32(noCell), uint32(noCell)
	var valueCells []byte
	longestName, longestData := 0, 0
	for _, d := range n.Values {
		valueCells = binary.LittleEndian.AppendUint32(valueCells, b.value(d))
		longestName = max(longestName, len(wide(d.Name)))
		longestData = max(longestData, len(d.Data))
	}
	if len(n.Values) > 0 {
		values = b.put(valueCells)
	}
	if n.Class != "" {
		class = b.put(wide(n.Class))
	}
	var subs []listedKey
	longestKey := 0
	for _, k := range n.Keys {
		subs = append(subs, listedKey{name: k.Name, at: b.key(k, n, at, owner)})
		longestKey = max(longestKey, len(wide(k.Name)))
	}
	slices.SortFunc(subs, less)
	kind := n.List
	switch {
	case kind != "":
	case b.minor < 5:
		kind = "lf"
	case len(subs) > 1000:
		kind = "ri"
	default:
		kind = "lh"
	}
	if len(subs) > 0 {
		list = b.list(kind, subs)
	}
	cell := make([]byte, keyHead)
	copy(cell, "nk")
	flags := uint16(0)
	if latin {
		flags |= latinKey
	}
	if parent == nil {
		flags |= 0xC // the root, which cannot be taken away
		above = 0
	}
	written := b.written
	if !n.Written.IsZero() {
		written = filetime(n.Written)
	}
	binary.LittleEndian.PutUint16(cell[2:], flags)
	binary.LittleEndian.PutUint64(cell[4:], written)
	for place, v := range map[int]uint32{
		16: above, 20: uint32(len(subs)), 28: list, 32: noCell, 36: uint32(len(n.Values)),
		40: values, 44: owner, 48: class, 52: uint32(longestKey), 60: uint32(longestName),
		64: uint32(longestData),
	} {
		binary.LittleEndian.PutUint32(cell[place:], v)
	}
	binary.LittleEndian.PutUint16(cell[72:], uint16(len(name)))
	binary.LittleEndian.PutUint16(cell[74:], uint16(len(wide(n.Class))))
	copy(b.bins[at+4:], append(cell, name...))
	return at
}
