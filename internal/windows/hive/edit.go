package hive

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"time"
)

// MaxEdited is the size in bytes of the largest hive that is edited. Of one
// some 32 MiB are in memory at once, and a bit for each four bytes of the rest.
const MaxEdited = 1 << 30

// A File is the file of a hive while it is edited.
type File interface {
	io.ReaderAt
	io.WriterAt
	// Sync returns when all that was written is on the disk.
	Sync() error
	// Reserve makes the file at least so many bytes long and sees to it that
	// there is room for them. Where there is none, the file stays as it was.
	Reserve(size int64) error
}

// An Editor changes a hive in its file, a value or a key at a time. It is for
// one goroutine; keys and values that were taken from it before a change are of
// no use after it.
//
// Each change is made by copying. First what is new is written where nothing
// is, then its cells are marked as used. Then one write within one sector leads
// to the new instead of the old, then the old is freed. Between these steps all
// is synced, so that the file is a whole and clean hive at every moment. It
// holds what it held before or what it shall hold, whatever of a step's sectors
// has reached the disk. A stop leaves at most cells to which nothing leads. The
// logs beside the hive are never touched: those of a clean hive mean nothing.
//
// After a method that failed while it wrote, the file is in one of these
// states, and the editor of no use.
type Editor struct {
	*Hive
	file File
	head []byte   // the first page, as it is on the disk
	sums []uint64 // of all blocks, as they are on the disk
	bins []uint32
	free []span // by their places
	// see [Editor.Spare]
	floor uint32
	// a change is under way, or failed
	busy bool
}

// A span is a free cell.
type span struct{ at, size uint32 }

func (s span) end() uint32 { return s.at + s.size }

// Edit opens the hive in a file of a size for changes. It refuses a hive that
// was not written to its end, in which a transaction is open, or that has
// faults. The error says so as a clause. The file stays the caller's, who keeps
// it open while a method of the editor runs.
//
// A mark of an open transaction may stay behind in a hive that was written to
// its end. The hive's logs tell: where nothing in them is newer, it means
// nothing. Without logs it means what it says.
func Edit(f File, size int64, logs ...[]byte) (*Editor, error) {
	e := &Editor{file: f, head: make([]byte, headSize)}
	if size < headSize {
		return nil, errNoHive
	}
	if _, err := f.ReadAt(e.head, 0); err != nil {
		return nil, err
	}
	if string(e.head[:4]) != "regf" {
		return nil, errNoHive
	}
	base, err := parseBase(e.head[:512])
	switch {
	case err != nil:
		return nil, fmt.Errorf("its first page is damaged: %w", err)
	case base.first != base.second:
		return nil, ErrBehind
	case base.open && !spent(base, logs):
		return nil, errors.New("a transaction is open in it: Windows has to be started once and " +
			"shut down in full")
	case base.major != 1 || base.minor < 2 || base.minor > 6 || base.format != 1 || base.kind != 0:
		return nil, fmt.Errorf("its version %d.%d is not known", base.major, base.minor)
	case base.bins%4096 != 0 || int64(base.bins) > size-headSize:
		return nil, fmt.Errorf("it is cut short: %d of %d bytes are there", size-headSize,
			base.bins)
	}
	e.Hive = &Hive{
		f: f, size: int64(base.bins), root: base.root, minor: base.minor,
		blocks: map[int64][]byte{},
	}
	data := make([]byte, blockSize)
	for from := int64(0); from < e.size; from += blockSize {
		part := data[:min(blockSize, e.size-from)]
		if _, err := f.ReadAt(part, headSize+from); err != nil {
			return nil, err
		}
		e.sums = append(e.sums, maphash.Bytes(seed, part))
	}
	if _, err := e.key(e.root); err != nil {
		return nil, fmt.Errorf("its root key cannot be read: %w", err)
	}
	if faults := e.Check(); e.failed != nil {
		return nil, e.failed
	} else if len(faults) > 0 {
		return nil, fmt.Errorf("it is damaged (%w), and is not written to", &faults[0])
	}
	if e.findFree(); e.failed != nil {
		return nil, e.failed
	}
	return e, nil
}

var (
	errNoHive = errors.New("it is not a hive: its signature is missing")
	seed      = maphash.MakeSeed()
)

// Forget lets go of what is in memory of the bins.
func (e *Editor) Forget() { e.blocks, e.order = map[int64][]byte{}, nil }

// Holds reports whether a file of a size holds what the editor says that its
// own does. That is what it read at first, with what it wrote.
func (e *Editor) Holds(f io.ReaderAt, size int64) (bool, error) {
	if size < headSize+e.size {
		return false, nil
	}
	data := make([]byte, blockSize)
	if _, err := f.ReadAt(data[:headSize], 0); err != nil {
		return false, err
	}
	if !bytes.Equal(data[:headSize], e.head) {
		return false, nil
	}
	for n, sum := range e.sums {
		from := int64(n) * blockSize
		part := data[:min(blockSize, e.size-from)]
		if _, err := f.ReadAt(part, headSize+from); err != nil {
			return false, err
		}
		if maphash.Bytes(seed, part) != sum {
			return false, nil
		}
	}
	return true, nil
}

// Spare has the editor leave alone, in bins before an offset, what is free and
// what its changes make free. Then what led to something else before a change
// can be led back to it by writing single sectors: it is still there.
func (e *Editor) Spare(before int64) {
	e.floor = uint32(min(before, MaxEdited))
	e.free = slices.DeleteFunc(e.free, func(s span) bool { return s.at < e.floor })
}

// findFree lists the bins and the free cells.
func (e *Editor) findFree() {
	for bin := uint32(0); int64(bin) < e.size; {
		end := bin + e.u32(bin+8)
		e.bins = append(e.bins, bin)
		for at := bin + binHead; at < end; {
			n := int32(e.u32(at))
			if n > 0 {
				e.free = append(e.free, span{at, uint32(n)})
			}
			at += uint32(max(n, -n))
		}
		bin = end
	}
}

// look is some bytes of the bins. What cannot be read is zero, and no change is
// made any more.
func (e *Editor) look(at int64, n int) []byte {
	data, err := e.bytes(at, n)
	if err != nil {
		e.failed = cmp.Or(e.failed, err)
		return make([]byte, n)
	}
	return data
}

func (e *Editor) u32(at uint32) uint32 { return binary.LittleEndian.Uint32(e.look(int64(at), 4)) }

// binOf is where the bin of a cell begins.
func (e *Editor) binOf(at uint32) uint32 {
	i, found := slices.BinarySearch(e.bins, at)
	if !found {
		i--
	}
	return e.bins[i]
}

// ErrSpoilt tells that an editor is of no use any more.
var ErrSpoilt = errors.New("an earlier change of the hive failed")

// A work is one change under way: its writes by the step in which they are
// made.
type work struct {
	e      *Editor
	bodies []patch // inside cells that are free
	marks  []patch // the sizes of cells, counts, maxima
	leads  [][]patch
	freed  []uint32
	times  []patch
	err    error
}

// begin begins a change. Until it is made the free cells are not those of the
// file.
func (e *Editor) begin() *work {
	w := &work{e: e}
	if e.busy {
		w.err = ErrSpoilt
	}
	e.busy = true
	return w
}

func le32(values ...uint32) (raw []byte) {
	for _, v := range values {
		raw = binary.LittleEndian.AppendUint32(raw, v)
	}
	return raw
}

// put writes a new cell, and returns where.
func (w *work) put(data []byte) uint32 {
	if w.err != nil {
		return none
	}
	at, err := w.cell(len(data))
	if err != nil {
		w.err = err
		return none
	}
	w.bodies = append(w.bodies, patch{int64(at) + 4, data})
	return at
}

// cell takes a free cell for n bytes: the first that is large enough. What is
// left of it becomes a free one; where there is none, the hive grows by a bin.
func (w *work) cell(n int) (uint32, error) {
	e, size := w.e, uint32(n+4+7)&^7
	i := slices.IndexFunc(e.free, func(s span) bool { return s.size >= size })
	if i < 0 {
		if err := e.grow(size); err != nil {
			return 0, err
		}
		i = len(e.free) - 1
	}
	s := e.free[i]
	if s.size == size {
		e.free = slices.Delete(e.free, i, i+1)
	} else {
		e.free[i] = span{s.at + size, s.size - size}
		w.bodies = append(w.bodies, patch{int64(s.at + size), le32(s.size - size)})
	}
	w.marks = append(w.marks, patch{int64(s.at), le32(-size)})
	return s.at, nil
}

// grow adds a bin with one free cell, of at least so many bytes.
func (e *Editor) grow(size uint32) error {
	from := uint32(e.size)
	length := (size + binHead + 4095) &^ 4095
	if e.size+int64(length) > MaxEdited {
		return fmt.Errorf("it would have more than %d bytes", MaxEdited)
	}
	if err := e.file.Reserve(headSize + e.size + int64(length)); err != nil {
		return err
	}
	bin := make([]byte, length)
	copy(bin, "hbin")
	copy(bin[4:], le32(from, length))
	copy(bin[binHead:], le32(length-binHead))
	if _, err := e.file.WriteAt(bin, headSize+e.size); err != nil {
		return err
	}
	if err := e.file.Sync(); err != nil {
		return err
	}
	last := e.size / blockSize
	e.drop(last) // it was shorter
	e.sums = e.sums[:min(len(e.sums), int(last))]
	e.size += int64(length)
	for n := last; n*blockSize < e.size; n++ {
		b, err := e.block(n)
		if err != nil {
			return err
		}
		e.sums = append(e.sums, maphash.Bytes(seed, b))
	}
	copy(e.head[40:], le32(uint32(e.size)))
	if err := e.writeBase(); err != nil {
		return err
	}
	e.bins = append(e.bins, from)
	e.free = append(e.free, span{from + binHead, length - binHead})
	return e.file.Sync()
}

// writeBase writes the first sector, with its sum.
func (e *Editor) writeBase() error {
	copy(e.head[508:], le32(checksum(e.head[:512])))
	_, err := e.file.WriteAt(e.head[:512], 0)
	return err
}

// set writes a patch of the bins, here and in the file.
func (e *Editor) set(p patch) error {
	for n := p.at / blockSize; n*blockSize < p.at+int64(len(p.data)); n++ {
		b, err := e.block(n)
		if err != nil {
			return err
		}
		if skip := n*blockSize - p.at; skip > 0 {
			copy(b, p.data[skip:])
		} else {
			copy(b[-skip:], p.data)
		}
		e.sums[n] = maphash.Bytes(seed, b)
	}
	_, err := e.file.WriteAt(p.data, headSize+p.at)
	return err
}

// write writes patches of the bins, and syncs them.
func (e *Editor) write(patches []patch) error {
	if len(patches) == 0 {
		return nil
	}
	for _, p := range patches {
		if err := e.set(p); err != nil {
			return err
		}
	}
	return e.file.Sync()
}

// end makes the change, at an instant.
func (w *work) end(at time.Time) error {
	if w.err != nil {
		return w.err
	}
	e := w.e
	if e.failed != nil {
		return e.failed
	}
	for _, step := range append([][]patch{w.bodies, w.marks}, w.leads...) {
		if err := e.write(step); err != nil {
			return err
		}
	}
	for _, p := range append(e.freeAll(w.freed), w.times...) {
		if err := e.set(p); err != nil {
			return err
		}
	}
	next := binary.LittleEndian.Uint32(e.head[4:]) + 1
	copy(e.head[4:], le32(next, next))
	binary.LittleEndian.PutUint64(e.head[12:], Filetime(at))
	if err := e.writeBase(); err != nil {
		return err
	}
	if err := e.file.Sync(); err != nil {
		return err
	}
	e.busy = false
	return nil
}

// freeAll frees cells, and returns the writes that do it. Of cells that are
// free beside each other only the first has a size that counts.
func (e *Editor) freeAll(cells []uint32) (patches []patch) {
	var begins []uint32
	for _, at := range cells {
		if at < e.floor {
			continue
		}
		s := span{at, -e.u32(at)}
		bin := e.binOf(at)
		i, _ := slices.BinarySearchFunc(e.free, at, func(f span, at uint32) int {
			return int(int64(f.at) - int64(at))
		})
		if i < len(e.free) && e.free[i].at == s.end() && e.binOf(s.end()) == bin {
			s.size += e.free[i].size
			e.free = slices.Delete(e.free, i, i+1)
		}
		if i > 0 && e.free[i-1].end() == at && e.binOf(e.free[i-1].at) == bin {
			i--
			s = span{e.free[i].at, e.free[i].size + s.size}
			e.free[i] = s
		} else {
			e.free = slices.Insert(e.free, i, s)
		}
		begins = append(begins, s.at)
	}
	for _, s := range e.free {
		if slices.Contains(begins, s.at) {
			patches = append(patches, patch{int64(s.at), le32(s.size)})
		}
	}
	return patches
}

// raise has a number of a key's record be at least n.
func (w *work) raise(k Key, field int, n uint32) {
	at := k.at + 4 + uint32(field)
	if old := w.e.u32(at); old < n {
		w.marks = append(w.marks, patch{int64(at), le32(n)})
	}
}

// stamp gives a key the time of the change.
func (w *work) stamp(k Key, at time.Time) {
	w.times = append(w.times, patch{int64(k.at) + 8,
		binary.LittleEndian.AppendUint64(nil, Filetime(at))})
}

// hold writes the data of a value, and returns what its record has of it: its
// size and its place.
func (w *work) hold(data []byte) (size, at uint32) {
	size = uint32(len(data))
	switch {
	case len(data) <= 4:
		var inline [4]byte
		copy(inline[:], data)
		return size | 1<<31, binary.LittleEndian.Uint32(inline[:])
	case len(data) > segment && w.e.minor >= 4:
		var list []byte
		n := 0
		for part := range slices.Chunk(data, segment) {
			list = append(list, le32(w.put(part))...)
			n++
		}
		long := binary.LittleEndian.AppendUint16([]byte("db"), uint16(n))
		long = append(long, le32(w.put(list), 0)...)
		return size, w.put(long)
	}
	return size, w.put(data)
}

// drop frees the data of a value.
func (w *work) drop(v Value) {
	for _, c := range w.e.dataCells(v) {
		w.freed = append(w.freed, c.at)
	}
}

// entries are the places of a key's values.
func (e *Editor) entries(k Key) (cells []uint32) {
	for i := range k.values {
		cells = append(cells, e.u32(k.valueList+4+4*i))
	}
	return cells
}

// find returns which of a key's values has a name, and where; -1 for none.
func (e *Editor) find(k Key, name string) (int, uint32, Value) {
	for i, at := range e.entries(k) {
		if v, err := e.value(at); err == nil && Same(v.Name, name) {
			return i, at, v
		}
	}
	return -1, none, Value{}
}

// Index is which of a key's values has a name, counted from 0; -1 for none.
func (e *Editor) Index(k Key, name string) int {
	i, _, _ := e.find(k, name)
	return i
}

var errPredefined = errors.New("the key only stands for another one")

func (e *Editor) flags(k Key) uint16 {
	return binary.LittleEndian.Uint16(e.look(int64(k.at)+6, 2))
}

// Set gives a value of a key a type and data. A new one stands behind the
// others, or before the one that is in a place, where that is not negative.
func (e *Editor) Set(k Key, name string, t Type, data []byte, place int, at time.Time) error {
	if e.flags(k)&predefined != 0 {
		return errPredefined
	}
	if len(data) > MaxData {
		return fmt.Errorf("a value of %d bytes is not written; at most %d are", len(data), MaxData)
	}
	w := e.begin()
	i, cell, old := e.find(k, name)
	if i >= 0 && old.Type == t {
		size, to := w.hold(data)
		w.leads = [][]patch{{{int64(cell) + 8, le32(size, to)}}}
		w.drop(old)
	} else {
		w.replace(k, i, cell, old, w.value(name, t, data), place)
	}
	w.raise(k, 60, uint32(len(wide(name))))
	w.raise(k, 64, uint32(len(data)))
	w.stamp(k, at)
	return w.end(at)
}

// value writes a record of a value.
func (w *work) value(name string, t Type, data []byte) uint32 {
	size, to := w.hold(data)
	raw, latin := encoded(name)
	cell := binary.LittleEndian.AppendUint16([]byte("vk"), uint16(len(raw)))
	cell = append(cell, le32(size, to, uint32(t), 0)...)
	if latin {
		cell[16] = latinValue
	}
	return w.put(append(cell, raw...))
}

// replace has a key list a value in the place of another one, or besides the
// others.
func (w *work) replace(k Key, i int, cell uint32, old Value, with uint32, place int) {
	if i >= 0 {
		entry := int64(k.valueList) + 4 + 4*int64(i)
		w.leads = [][]patch{{{entry, le32(with)}}}
		w.drop(old)
		w.freed = append(w.freed, cell)
		return
	}
	all := w.e.entries(k)
	if place < 0 || place > len(all) {
		place = len(all)
	}
	w.list(k, slices.Insert(all, place, with))
}

// list has a key list other values than before: none are led to by nothing.
func (w *work) list(k Key, all []uint32) {
	at := uint32(none)
	if len(all) > 0 {
		at = w.put(le32(all...))
	}
	w.leads = [][]patch{{{int64(k.at) + 4 + 36, le32(uint32(len(all)), at)}}}
	if k.values > 0 {
		w.freed = append(w.freed, k.valueList)
	}
}

// Unset takes a value of a key away. One that is not there is [ErrNone].
func (e *Editor) Unset(k Key, name string, at time.Time) error {
	if e.flags(k)&predefined != 0 {
		return errPredefined
	}
	i, cell, old := e.find(k, name)
	if i < 0 {
		return ErrNone
	}
	w := e.begin()
	w.list(k, slices.Delete(e.entries(k), i, i+1))
	w.drop(old)
	w.freed = append(w.freed, cell)
	w.stamp(k, at)
	return w.end(at)
}

// Stamp gives a key a time.
func (e *Editor) Stamp(k Key, at time.Time) error {
	w := e.begin()
	w.stamp(k, at)
	return w.end(at)
}

const (
	descriptorHead  = 20 // bytes before the descriptor
	descriptorUsers = 12 // where its record counts the keys that have it
	mostInList      = 1000
)

// security is where the descriptor of a key stands, and how many have it.
func (e *Editor) security(k Key) (at, users uint32) {
	at = e.u32(k.at + 4 + 44)
	return at, e.u32(at + 4 + descriptorUsers)
}

// MakeKey makes a key below another one, with that one's descriptor; one that
// is there is left alone.
func (e *Editor) MakeKey(above Key, name string, at time.Time) error {
	if _, err := above.Key(name); err == nil {
		return nil
	}
	if e.flags(above)&predefined != 0 {
		return errPredefined
	}
	w := e.begin()
	owner, users := e.security(above)
	raw, latin := encoded(name)
	cell := make([]byte, keyHead, keyHead+len(raw))
	copy(cell, "nk")
	if latin {
		cell[2] = latinKey
	}
	binary.LittleEndian.PutUint64(cell[4:], Filetime(at))
	for place, v := range map[int]uint32{
		16: above.at, 28: none, 32: none, 40: none, 44: owner, 48: none,
	} {
		binary.LittleEndian.PutUint32(cell[place:], v)
	}
	binary.LittleEndian.PutUint16(cell[72:], uint16(len(raw)))
	made := w.put(append(cell, raw...))
	if err := w.relist(above, func(all []namedCell) []namedCell {
		all = append(all, namedCell{name: name, at: made})
		slices.SortStableFunc(all, less)
		return all
	}); err != nil {
		return err
	}
	w.marks = append(w.marks, patch{int64(owner) + 4 + descriptorUsers, le32(users + 1)})
	longest := e.u32(above.at + 4 + 52)
	if n := uint32(len(wide(name))); n > longest&0xFFFF {
		w.raise(above, 52, longest&^0xFFFF|n)
	}
	w.stamp(above, at)
	return w.end(at)
}

// ErrHolds tells that a key is not taken away.
var ErrHolds = errors.New("the key holds something, or has a descriptor of its own")

// RemoveKey takes a key away from another one. It has to be empty.
func (e *Editor) RemoveKey(above Key, name string, at time.Time) error {
	k, err := above.Key(name)
	if err != nil {
		return err
	}
	owner, users := e.security(k)
	if k.values > 0 || k.subs > 0 || users < 2 || e.flags(k)&(predefined|0xC) != 0 {
		return ErrHolds
	}
	w := e.begin()
	if err := w.relist(above, func(all []namedCell) []namedCell {
		return slices.DeleteFunc(all, func(n namedCell) bool { return n.at == k.at })
	}); err != nil {
		return err
	}
	w.freed = append(w.freed, k.at)
	if k.classBytes > 0 {
		w.freed = append(w.freed, k.class)
	}
	w.times = append(w.times, patch{int64(owner) + 4 + descriptorUsers, le32(users - 1)})
	w.stamp(above, at)
	return w.end(at)
}

// relist has a key list other keys below it. The list in which one changes is
// written anew, and the list of lists where there is one.
func (w *work) relist(k Key, edit func([]namedCell) []namedCell) error {
	e := w.e
	var lists []uint32
	kind := ""
	if k.subs > 0 {
		data, err := e.cell(k.list)
		if err != nil {
			return err
		}
		kind, lists = string(data[:2]), []uint32{k.list}
		if kind == "ri" {
			lists = nil
			for i := range int(binary.LittleEndian.Uint16(data[2:])) {
				lists = append(lists, binary.LittleEndian.Uint32(data[4+4*i:]))
			}
		}
	}
	var parts [][]namedCell
	var kinds []string
	for _, at := range lists {
		part, err := e.names(at)
		if err != nil {
			return err
		}
		data, _ := e.cell(at)
		parts, kinds = append(parts, part), append(kinds, string(data[:2]))
	}
	if len(parts) == 0 {
		kind = "lh"
		if e.minor < 5 {
			kind = "lf"
		}
		parts, kinds, lists = [][]namedCell{nil}, []string{kind}, []uint32{none}
	}
	// Which list a name belongs to is known by the first name of the next one.
	all := edit(slices.Concat(parts...))
	var fresh []uint32
	total := len(all)
	for i := range parts {
		mine := all
		if i+1 < len(parts) {
			first := parts[i+1][0]
			n := slices.IndexFunc(all, func(c namedCell) bool { return less(c, first) >= 0 })
			if n < 0 {
				n = len(all)
			}
			mine = all[:n]
		}
		all = all[len(mine):]
		if slices.Equal(mine, parts[i]) {
			fresh = append(fresh, lists[i])
			continue
		}
		if lists[i] != none {
			w.freed = append(w.freed, lists[i])
		}
		for len(mine) > 0 {
			n := len(mine)
			if n > mostInList {
				n /= 2
			}
			fresh = append(fresh, w.put(listed(kinds[i], mine[:n])))
			mine = mine[n:]
		}
	}
	at := uint32(none)
	switch {
	case len(fresh) == 1 && kind != "ri":
		at = fresh[0]
	case len(fresh) > 0:
		raw := binary.LittleEndian.AppendUint16([]byte("ri"), uint16(len(fresh)))
		at = w.put(append(raw, le32(fresh...)...))
	}
	if kind == "ri" {
		w.freed = append(w.freed, k.list)
	}
	return w.leadTo(k, uint32(total), at)
}

// names are the keys of a list, with their names. An error tells that they are
// not in their order, so that none has a place among them.
func (e *Editor) names(list uint32) (all []namedCell, err error) {
	cells, err := e.listAt(list, false)
	if err != nil {
		return nil, err
	}
	for _, c := range cells {
		k, err := e.key(c.at)
		if err != nil {
			return nil, err
		}
		all = append(all, namedCell{k.Name, c.at, c.sign, true})
	}
	if !slices.IsSortedFunc(all, less) || len(all) == 0 {
		return nil, &Fault{list, "the list of keys is not in its order"}
	}
	return all, nil
}

// leadTo has a key lead to another list of so many keys. Count and place stand
// beside each other, in one sector but for one key of 64.
func (w *work) leadTo(k Key, n, list uint32) error {
	count, place := int64(k.at)+4+20, int64(k.at)+4+28
	volatile := slices.Clone(w.e.look(count+4, 4))
	switch {
	case count/512 == (place+3)/512:
		w.leads = [][]patch{{{count, slices.Concat(le32(n), volatile, le32(list))}}}
	case k.subs == 0: // a list that nothing counts means nothing
		w.leads = [][]patch{{{place, le32(list)}}, {{count, le32(n)}}}
	case n == 0:
		w.leads = [][]patch{{{count, le32(n)}}, {{place, le32(list)}}}
	default:
		return &Fault{k.at, "the key's record lies across two sectors, so that no key can be " +
			"made below it safely; Windows makes it when something of the kind is switched there"}
	}
	return nil
}
