// Package hive reads registry hives, the files in which Windows keeps its
// registry, and builds new ones.
//
// The format is not documented by its maker; what is said here of it was tried
// on hives of several writers (docs/windows.md). Offsets of cells are relative
// to the first bin, 4096 bytes into the file. A hive may come from a hostile
// disk. Each record is checked before it is used. Lists lead one level down. A
// key counts only below the parent that it names, and what is wrong is told in
// an error beside what is right.
package hive

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf16"
)

const (
	headSize   = 4096
	binHead    = 32
	none       = math.MaxUint32 // where an offset would stand
	segment    = 16344          // bytes in each but the last part of long data
	blockSize  = 64 << 10
	mostBlocks = 512     // 32 MiB of a hive are in memory at once
	mostListed = 1 << 21 // keys or values below one key
)

// A Hive is an open one. Its methods may be called by several goroutines.
type Hive struct {
	f     io.ReaderAt
	size  int64 // of all bins
	root  uint32
	minor uint32

	// Behind says that the file is not the newest state: what the logs held was
	// taken from them as far as they reach.
	Behind bool
	// Notes say what is to be known of the reading, as clauses.
	Notes []string

	patches map[int64][]patch // by block
	failed  error             // the first block that could not be read

	mu     sync.Mutex
	blocks map[int64][]byte
	order  []int64 // of blocks, the oldest first
}

// A patch is what a log holds of the bins.
type patch struct {
	at   int64
	data []byte
}

func (p patch) end() int64 { return p.at + int64(len(p.data)) }

// A Fault is a place at which a hive is not as it has to be.
type Fault struct {
	At   uint32 // an offset in the bins
	What string
}

func (f *Fault) Error() string { return fmt.Sprintf("at %#x: %s", f.At, f.What) }

// ErrNone tells that there is no such key or value.
var ErrNone = errors.New("there is no such key or value")

// Open opens the hive in a file of a size, with its logs. An error says that it
// is none, or that nothing of it can be read. The file stays the caller's, and
// has to stay open.
func Open(f io.ReaderAt, size int64, logs ...[]byte) (*Hive, error) {
	h := &Hive{f: f, blocks: map[int64][]byte{}, patches: map[int64][]patch{}}
	head := make([]byte, 512)
	if _, err := f.ReadAt(head, 0); err != nil {
		return nil, errors.New("it is too short for a hive")
	}
	if string(head[:4]) != "regf" {
		return nil, errors.New("it is not a hive: its signature is missing")
	}
	base, err := parseBase(head)
	known := err == nil
	if !known || base.first != base.second {
		h.Behind = true
		newest := h.replay(base, known, logs)
		base, known = newest.base, newest.known
		h.Notes = append(h.Notes, newest.notes()...)
	}
	switch {
	case !known:
		return nil, fmt.Errorf("its first page is damaged (%w), and no log has another", err)
	case base.major != 1 || base.minor < 2 || base.minor > 6 || base.format != 1:
		return nil, fmt.Errorf("its version %d.%d is not known", base.major, base.minor)
	case base.open && !spent(base, logs):
		h.Notes = append(h.Notes, "a transaction is open in it")
	}
	h.size, h.root, h.minor = int64(base.bins), base.root, base.minor
	if there := max(size-headSize, h.reach()); h.size > there {
		h.Notes = append(h.Notes, fmt.Sprintf("it is cut short: %d of %d bytes are there", there,
			h.size))
		h.size = there
	}
	if _, err := h.key(h.root); err != nil {
		return nil, fmt.Errorf("its root key cannot be read: %w", err)
	}
	return h, nil
}

// A base is the first page of a hive or of a log.
type base struct {
	first, second              uint32
	major, minor, kind, format uint32
	root, bins                 uint32
	open                       bool
}

func parseBase(head []byte) (base, error) {
	u := func(at int) uint32 { return binary.LittleEndian.Uint32(head[at:]) }
	b := base{
		first: u(4), second: u(8),
		major: u(20), minor: u(24), kind: u(28), format: u(32),
		root: u(36), bins: u(40),
		open: u(144)&1 != 0,
	}
	switch {
	case string(head[:4]) != "regf":
		return b, errors.New("its signature is missing")
	case u(508) != checksum(head):
		return b, errors.New("its checksum is wrong")
	}
	return b, nil
}

// checksum is that of a first page.
func checksum(head []byte) uint32 {
	sum := uint32(0)
	for at := 0; at < 508; at += 4 {
		sum ^= binary.LittleEndian.Uint32(head[at:])
	}
	switch sum {
	case 0:
		return 1
	case math.MaxUint32:
		return math.MaxUint32 - 1
	}
	return sum
}

// reach is up to where patches reach.
func (h *Hive) reach() (end int64) {
	for _, all := range h.patches {
		for _, p := range all {
			end = max(end, p.end())
		}
	}
	return end
}

// block returns a block of the bins as the newest state has it.
func (h *Hive) block(n int64) ([]byte, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if b, ok := h.blocks[n]; ok {
		return b, nil
	}
	from := n * blockSize
	b := make([]byte, min(blockSize, max(0, h.size-from)))
	if _, err := h.f.ReadAt(b, headSize+from); err != nil && !errors.Is(err, io.EOF) {
		h.failed = cmp.Or(h.failed, err)
		return nil, err
	}
	for _, p := range h.patches[n] {
		if p.at >= from {
			copy(b[min(p.at-from, int64(len(b))):], p.data)
		} else if skip := from - p.at; skip < int64(len(p.data)) {
			copy(b, p.data[skip:])
		}
	}
	if len(h.order) >= mostBlocks {
		delete(h.blocks, h.order[0])
		h.order = h.order[1:]
	}
	h.blocks[n], h.order = b, append(h.order, n)
	return b, nil
}

// drop has a block be read anew.
func (h *Hive) drop(n int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.blocks, n)
	h.order = slices.DeleteFunc(h.order, func(other int64) bool { return other == n })
}

// bytes returns n bytes of the bins from an offset on. They are not to be
// written to.
func (h *Hive) bytes(at int64, n int) ([]byte, error) {
	if at < 0 || n < 0 || at+int64(n) > h.size {
		return nil, &Fault{uint32(at), "it leads out of the hive"}
	}
	var all []byte
	for n > 0 {
		b, err := h.block(at / blockSize)
		if err != nil {
			return nil, err
		}
		from := int(at % blockSize)
		part := b[from:min(len(b), from+n)]
		if len(part) == n && all == nil {
			return part, nil
		}
		all, at, n = append(all, part...), at+int64(len(part)), n-len(part)
	}
	return all, nil
}

// cell returns what a cell in use holds.
func (h *Hive) cell(at uint32) ([]byte, error) {
	size, err := h.cellSize(at)
	if err != nil {
		return nil, err
	}
	return h.bytes(int64(at)+4, size)
}

// cellSize is how much a cell in use holds.
func (h *Hive) cellSize(at uint32) (int, error) {
	if at%8 != 0 || at < binHead {
		return 0, &Fault{at, "no cell begins there"}
	}
	head, err := h.bytes(int64(at), 4)
	if err != nil {
		return 0, err
	}
	size := int64(int32(binary.LittleEndian.Uint32(head)))
	switch {
	case size > 0:
		return 0, &Fault{at, "the cell is free"}
	case size == 0 || size%8 != 0 || int64(at)-size > h.size:
		return 0, &Fault{at, fmt.Sprintf("the cell's size is %d", -size)}
	}
	return int(-size) - 4, nil
}

// A Key is a key of a hive.
type Key struct {
	h       *Hive
	at      uint32
	Name    string
	Written time.Time
	Stamp   uint64 // Written as it stands there, see [Time]

	parent     uint32
	subs       uint32 // how many keys it says to have
	list       uint32
	values     uint32
	valueList  uint32
	class      uint32
	classBytes int
}

// Root is the topmost key, whose name means nothing.
func (h *Hive) Root() Key {
	k, _ := h.key(h.root) // Open has read it
	return k
}

const (
	keyHead   = 76
	valueHead = 20

	latinKey   = 0x20 // the name is in Latin-1
	predefined = 0x40 // the count of values is none
	latinValue = 0x1
)

func (h *Hive) key(at uint32) (Key, error) {
	c, err := h.cell(at)
	if err != nil {
		return Key{}, err
	}
	if len(c) < keyHead || string(c[:2]) != "nk" {
		return Key{}, &Fault{at, "it is not a key"}
	}
	u := func(at int) uint32 { return binary.LittleEndian.Uint32(c[at:]) }
	short := func(at int) int { return int(binary.LittleEndian.Uint16(c[at:])) }
	if keyHead+short(72) > len(c) {
		return Key{}, &Fault{at, "the key's name is longer than its cell"}
	}
	flags := short(2)
	k := Key{
		h:          h,
		at:         at,
		Name:       text(c[keyHead:keyHead+short(72)], flags&latinKey != 0),
		Written:    Time(binary.LittleEndian.Uint64(c[4:])),
		Stamp:      binary.LittleEndian.Uint64(c[4:]),
		parent:     u(16),
		subs:       u(20),
		list:       u(28),
		values:     u(36),
		valueList:  u(40),
		class:      u(48),
		classBytes: short(74),
	}
	if flags&predefined != 0 {
		k.values = 0
	}
	return k, nil
}

// Time is an instant as Windows counts: in 100 nanoseconds since 1601 UTC. The
// zero time is 0, and what no calendar of ours reaches.
func Time(filetime uint64) time.Time {
	const to1970 = 116444736000000000
	if filetime == 0 || filetime > 1<<62 {
		return time.Time{}
	}
	since := int64(filetime) - to1970
	return time.Unix(since/1e7, since%1e7*100).UTC()
}

// text is a name, or a text: in Latin-1 or in UTF-16, of which half characters
// become U+FFFD.
func text(raw []byte, latin bool) string {
	if latin {
		runes := make([]rune, len(raw))
		for i, c := range raw {
			runes[i] = rune(c)
		}
		return string(runes)
	}
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}

// Upper is a name as the registry compares names: each UTF-16 unit in upper
// case, where that maps back.
func Upper(name string) string {
	return strings.Map(func(r rune) rune {
		if u := unicode.ToUpper(r); r <= math.MaxUint16 && unicode.ToLower(u) == r {
			return u
		}
		return r
	}, name)
}

// Same reports whether the registry takes two names for one.
func Same(a, b string) bool { return a == b || Upper(a) == Upper(b) }

// hashOf is by what lists of the kind lh find a name.
func hashOf(name string) uint32 {
	hash := uint32(0)
	for _, unit := range utf16.Encode([]rune(Upper(name))) {
		hash = hash*37 + uint32(unit)
	}
	return hash
}

// A listed key is one as its parent's list has it.
type listedKey struct {
	at     uint32
	sign   [4]byte // by which it is found: a hash, or the begin of its name
	hashed bool
}

func (l listedKey) hash() uint32 { return binary.LittleEndian.Uint32(l.sign[:]) }

// listed returns the keys that a list names.
func (k Key) listed() ([]listedKey, error) {
	if k.list == none || k.subs == 0 {
		return nil, nil
	}
	return k.h.listAt(k.list, true)
}

// listAt reads a list of keys. A list of lists names each once: else a small
// hive could name very many keys.
func (h *Hive) listAt(at uint32, deeper bool) (all []listedKey, err error) {
	c, err := h.cell(at)
	if err != nil {
		return nil, err
	}
	if len(c) < 4 {
		return nil, &Fault{at, "the list of keys is too short"}
	}
	var faults Faults
	kind, n := string(c[:2]), int(binary.LittleEndian.Uint16(c[2:]))
	step := map[string]int{"lf": 8, "lh": 8, "li": 4, "ri": 4}[kind]
	switch {
	case step == 0 || kind == "ri" && !deeper:
		return nil, &Fault{at, "it is not a list of keys"}
	case 4+n*step > len(c):
		faults.add(&Fault{at, "the list of keys is longer than its cell"})
		n = (len(c) - 4) / step
	}
	seen := map[uint32]bool{}
	for i := range n {
		one := listedKey{at: binary.LittleEndian.Uint32(c[4+i*step:])}
		if kind == "ri" {
			if seen[one.at] {
				faults.add(&Fault{one.at, "the list of keys is named twice"})
				continue
			}
			seen[one.at] = true
			part, wrong := h.listAt(one.at, false)
			faults.add(wrong)
			const least = 80 // bytes of a key
			if all = append(all, part...); int64(len(all)) > min(mostListed, h.size/least) {
				faults.add(&Fault{at, "it names too many keys"})
				return all, faults.err()
			}
			continue
		}
		if one.hashed = kind == "lh"; step == 8 {
			copy(one.sign[:], c[8+i*step:])
		}
		all = append(all, one)
	}
	return all, faults.err()
}

// Keys returns the keys below. With an error they are those that can be read;
// of many faults, [Faults] keeps some.
func (k Key) Keys() (keys []Key, err error) {
	var faults Faults
	listed, err := k.listed()
	faults.add(err)
	seen := map[uint32]bool{}
	for _, l := range listed {
		sub, wrong := k.h.key(l.at)
		switch {
		case wrong != nil:
		case sub.parent != k.at || l.at == k.h.root:
			wrong = &Fault{l.at, "the key belongs to another one"}
		case seen[l.at]:
			wrong = &Fault{l.at, "the key is named twice"}
		}
		if wrong != nil {
			faults.add(wrong)
			continue
		}
		seen[l.at] = true
		keys = append(keys, sub)
	}
	return keys, faults.err()
}

// Key returns a key below, by names in any case, one a level.
func (k Key) Key(names ...string) (Key, error) {
	for _, name := range names {
		sub, err := k.sub(name)
		if err != nil {
			return Key{}, err
		}
		k = sub
	}
	return k, nil
}

func (k Key) sub(name string) (Key, error) {
	var faults Faults
	listed, err := k.listed()
	faults.add(err)
	want := hashOf(name)
	for _, trust := range []bool{true, false} { // some writers' hashes are wrong
		for _, l := range listed {
			if (l.hashed && l.hash() == want) != trust {
				continue
			}
			sub, wrong := k.h.key(l.at)
			if wrong == nil && sub.parent == k.at && Same(sub.Name, name) {
				return sub, nil
			}
			faults.add(wrong)
		}
	}
	if err := faults.err(); err != nil {
		return Key{}, err
	}
	return Key{}, ErrNone
}

// Class is the key's class; empty where it has none.
func (k Key) Class() string {
	if k.class == none || k.classBytes == 0 {
		return ""
	}
	c, err := k.h.cell(k.class)
	if err != nil || len(c) < k.classBytes {
		return ""
	}
	return text(c[:k.classBytes], false)
}

// A Type is that of a value.
type Type uint32

// The types that have a meaning here; any other number may stand in a hive.
const (
	None     Type = 0
	String   Type = 1
	Expand   Type = 2 // a text in which %names% stand for others
	Binary   Type = 3
	DWord    Type = 4
	DWordBig Type = 5
	Multi    Type = 7
	QWord    Type = 11
)

// A Value is a value of a key.
type Value struct {
	h    *Hive
	Name string // empty for the unnamed one
	Type Type
	Size int // of its data, in bytes
	at   uint32
	// the data of up to four bytes
	inline []byte
}

func (h *Hive) value(at uint32) (Value, error) {
	c, err := h.cell(at)
	if err != nil {
		return Value{}, err
	}
	if len(c) < valueHead || string(c[:2]) != "vk" {
		return Value{}, &Fault{at, "it is not a value"}
	}
	u := func(at int) uint32 { return binary.LittleEndian.Uint32(c[at:]) }
	name := int(binary.LittleEndian.Uint16(c[2:]))
	if valueHead+name > len(c) {
		return Value{}, &Fault{at, "the value's name is longer than its cell"}
	}
	v := Value{
		h:    h,
		Name: text(c[valueHead:valueHead+name], c[16]&latinValue != 0),
		Type: Type(u(12)),
		Size: int(u(4) &^ (1 << 31)),
		at:   u(8),
	}
	if u(4)&(1<<31) != 0 {
		if v.Size > 4 {
			return Value{}, &Fault{at, "the value is marked as small, and is not"}
		}
		v.inline = append([]byte{}, c[8:8+v.Size]...)
	}
	return v, nil
}

// Values returns the values of a key. With an error they are those that can be
// read.
func (k Key) Values() (values []Value, err error) {
	err = k.each(func(v Value) bool {
		values = append(values, v)
		return true
	})
	return values, err
}

// each hands on values until do has seen enough.
func (k Key) each(do func(Value) bool) error {
	var faults Faults
	if k.values == 0 || k.valueList == none {
		return nil
	}
	size, err := k.h.cellSize(k.valueList)
	if err != nil {
		return err
	}
	n := int64(k.values)
	if n > int64(size/4) {
		n = int64(size / 4)
		faults.add(&Fault{k.at, "the key says to have more values than it lists"})
	}
	const at = 4 // bytes an entry
	for i := range min(n, mostListed) {
		entry, wrong := k.h.bytes(int64(k.valueList)+4+i*at, at)
		if wrong != nil {
			faults.add(wrong)
			return faults.err()
		}
		v, wrong := k.h.value(binary.LittleEndian.Uint32(entry))
		if wrong != nil {
			faults.add(wrong)
			continue
		}
		if !do(v) {
			return faults.err()
		}
	}
	return faults.err()
}

// Value returns the value of a name in any case; empty for the unnamed one.
func (k Key) Value(name string) (found Value, err error) {
	ok := false
	err = k.each(func(v Value) bool {
		if ok = Same(v.Name, name); ok {
			found = v
		}
		return !ok
	})
	switch {
	case ok:
		return found, nil
	case err != nil:
		return Value{}, err
	}
	return Value{}, ErrNone
}

// MaxData bounds what is read of one value, in bytes.
const MaxData = 1 << 20

// Data returns the bytes of a value; more than [MaxData] are an error.
func (v Value) Data() ([]byte, error) {
	switch {
	case v.h == nil || v.inline != nil || v.Size == 0:
		return v.inline, nil
	case v.Size > MaxData:
		return nil, &Fault{v.at, fmt.Sprintf("the value has %d bytes, and at most %d are read",
			v.Size, MaxData)}
	}
	c, err := v.h.cell(v.at)
	if err != nil {
		return nil, err
	}
	if v.Size <= len(c) && !(v.Size > segment && v.h.minor >= 4 && string(c[:2]) == "db") {
		return append([]byte{}, c[:v.Size]...), nil
	}
	if v.h.minor < 4 || len(c) < 8 || string(c[:2]) != "db" {
		return nil, &Fault{v.at, "the value has more bytes than its cell"}
	}
	n := int(binary.LittleEndian.Uint16(c[2:]))
	list, err := v.h.cell(binary.LittleEndian.Uint32(c[4:]))
	if err != nil {
		return nil, err
	}
	var all []byte
	for i := 0; i < n && len(all) < v.Size && 4*i+4 <= len(list); i++ {
		part, err := v.h.cell(binary.LittleEndian.Uint32(list[4*i:]))
		if err != nil {
			return nil, err
		}
		all = append(all, part[:min(len(part), segment, v.Size-len(all))]...)
	}
	if len(all) < v.Size {
		return nil, &Fault{v.at, "the parts of the value are fewer than its bytes"}
	}
	return all, nil
}

// Text is a value as a text: up to its first NUL, which may be missing. A
// number is none.
func (v Value) Text() (string, bool) {
	if v.Type != String && v.Type != Expand {
		return "", false
	}
	data, err := v.Data()
	if err != nil {
		return "", false
	}
	all, _, _ := strings.Cut(text(data, false), "\x00")
	return all, true
}

// Texts are those of a list of texts; a single text is a list of one.
func (v Value) Texts() ([]string, bool) {
	if one, ok := v.Text(); ok {
		return []string{one}, true
	}
	data, err := v.Data()
	if v.Type != Multi || err != nil {
		return nil, false
	}
	var all []string
	for one := range strings.SplitSeq(text(data, false), "\x00") {
		if one != "" {
			all = append(all, one)
		}
	}
	return all, true
}

// Number is a value as a number; one with fewer bytes than its type asks for is
// none.
func (v Value) Number() (uint64, bool) {
	data, err := v.Data()
	switch {
	case err != nil:
	case v.Type == DWord && len(data) >= 4:
		return uint64(binary.LittleEndian.Uint32(data)), true
	case v.Type == DWordBig && len(data) >= 4:
		return uint64(binary.BigEndian.Uint32(data)), true
	case v.Type == QWord && len(data) >= 8:
		return binary.LittleEndian.Uint64(data), true
	}
	return 0, false
}
