package write

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"

	"calmdawn/internal/linux/journal/layout"
)

var le = binary.LittleEndian

// keyed says that hashes are made with the id of the file as their key.
const keyed = true

// An Entry is one entry of a log.
type Entry struct {
	Realtime  uint64 // microseconds since 1970 UTC
	Monotonic uint64 // microseconds since the boot began
	Boot      [16]byte
}

// A Journal collects entries and writes them as one finished file of Linux's
// log: keyed hashes, offsets of 64 bits.
type Journal struct {
	// Pack, where it is set, compresses a field as the file's format asks and
	// says how. 1 is XZ, 2 LZ4 behind the field's length, 4 zstd, and 0 leaves
	// the field as it is.
	Pack func(field []byte) (packed []byte, how byte)

	machine, file, seqnums [16]byte

	out     bytes.Buffer
	datas   []*written
	index   map[string]*written // datas by payload, fields by name
	entries []uint64            // offsets

	objects, named     uint64 // objects in all, field objects
	first, last        Entry
	added              uint64
	dataTable          []bucket
	fieldTable         []bucket
	tail               uint64
	dataDeep, fieldDep uint64
	packed             byte // every way in which a field was compressed
}

// written is a data or field object that stands in the file.
type written struct {
	at      uint64
	sum     uint64
	entries []uint64 // of a data object
}

type bucket struct{ head, tail, depth uint64 }

const fieldBuckets = 333

// NewJournal begins a file of a machine; the file's own id is its hashes' key.
// Its tables are made for some thousand entries.
func NewJournal(machineID, fileID [16]byte) *Journal {
	return NewDeepJournal(machineID, fileID, 2047)
}

// NewDeepJournal is the same with so many places in the table of data.
func NewDeepJournal(machineID, fileID [16]byte, dataBuckets int) *Journal {
	w := &Journal{
		machine:    machineID,
		file:       fileID,
		seqnums:    fileID,
		index:      map[string]*written{},
		dataTable:  make([]bucket, dataBuckets),
		fieldTable: make([]bucket, fieldBuckets),
	}
	w.out.Write(make([]byte, layout.OurHeader))
	w.object(layout.TypeFieldTable, make([]byte, fieldBuckets*16))
	w.object(layout.TypeDataTable, make([]byte, dataBuckets*16))
	return w
}

// object appends an object with the given body behind its header, and returns
// its offset.
func (w *Journal) object(kind byte, body []byte) uint64 {
	at := uint64(w.out.Len())
	head := make([]byte, layout.ObjectHeader)
	head[0] = kind
	le.PutUint64(head[8:], uint64(layout.ObjectHeader+len(body)))
	w.out.Write(head)
	w.out.Write(body)
	w.out.Write(make([]byte, (8-w.out.Len()%8)%8))
	w.objects++
	w.tail = at
	return at
}

func (w *Journal) put(at uint64, value uint64) { le.PutUint64(w.out.Bytes()[at:], value) }

// chain hangs an object into a hash table.
func (w *Journal) chain(table []bucket, o *written, next int, deepest *uint64) {
	b := &table[o.sum%uint64(len(table))]
	if b.head == 0 {
		b.head = o.at
	} else {
		w.put(b.tail+uint64(next), o.at)
		b.depth++
		*deepest = max(*deepest, b.depth)
	}
	b.tail = o.at
}

// data returns the data object of a field NAME=VALUE, and makes it if it is
// new.
func (w *Journal) data(field string) *written {
	if o, ok := w.index[field]; ok {
		return o
	}
	o := &written{sum: layout.Hash([]byte(field), keyed, w.file)}
	payload, how := []byte(field), byte(0)
	if w.Pack != nil {
		payload, how = w.Pack(payload)
		w.packed |= how
	}
	body := make([]byte, layout.DataPayload-layout.ObjectHeader+len(payload))
	le.PutUint64(body[layout.DataHash-layout.ObjectHeader:], o.sum)
	copy(body[layout.DataPayload-layout.ObjectHeader:], payload)
	o.at = w.object(layout.TypeData, body)
	w.out.Bytes()[o.at+1] = how
	w.chain(w.dataTable, o, layout.DataNextHash, &w.dataDeep)
	w.index[field] = o
	w.datas = append(w.datas, o)

	name, _, _ := strings.Cut(field, "=")
	f, ok := w.index[name]
	if !ok {
		f = &written{sum: layout.Hash([]byte(name), keyed, w.file)}
		body := make([]byte, layout.FieldPayload-layout.ObjectHeader+len(name))
		le.PutUint64(body[layout.FieldHash-layout.ObjectHeader:], f.sum)
		copy(body[layout.FieldPayload-layout.ObjectHeader:], name)
		f.at = w.object(layout.TypeField, body)
		w.chain(w.fieldTable, f, layout.FieldNext, &w.fieldDep)
		w.index[name] = f
		w.named++
	}
	head := f.at + layout.FieldHead
	w.put(o.at+layout.DataNextField, le.Uint64(w.out.Bytes()[head:]))
	w.put(head, o.at)
	return o
}

// Add appends an entry. Times must not
// go back. fields are NAME=VALUE, without a NUL or a name twice.
func (w *Journal) Add(e Entry, fields []string) {
	w.added++
	var items []*written
	xor := uint64(0)
	for _, f := range slices.Sorted(slices.Values(fields)) {
		items = append(items, w.data(f))
		xor ^= layout.Jenkins([]byte(f))
	}
	slices.SortFunc(items, func(a, b *written) int { return int(int64(a.at) - int64(b.at)) })
	body := make([]byte, layout.EntryItems-layout.ObjectHeader+16*len(items))
	le.PutUint64(body[layout.EntrySeqnum-layout.ObjectHeader:], w.added)
	le.PutUint64(body[layout.EntryRealtime-layout.ObjectHeader:], e.Realtime)
	le.PutUint64(body[layout.EntryMonotonic-layout.ObjectHeader:], e.Monotonic)
	copy(body[layout.EntryBoot-layout.ObjectHeader:], e.Boot[:])
	le.PutUint64(body[layout.EntryXor-layout.ObjectHeader:], xor)
	for i, o := range items {
		at := layout.EntryItems - layout.ObjectHeader + 16*i
		le.PutUint64(body[at:], o.at)
		le.PutUint64(body[at+8:], o.sum)
	}
	at := w.object(layout.TypeEntry, body)
	for _, o := range items {
		o.entries = append(o.entries, at)
	}
	w.entries = append(w.entries, at)
	if w.added == 1 {
		w.first = e
	}
	w.last = e
}

// array appends an array of entries and returns its offset; 0 for none.
func (w *Journal) array(entries []uint64) uint64 {
	if len(entries) == 0 {
		return 0
	}
	body := make([]byte, layout.ArrayItems-layout.ObjectHeader+8*len(entries))
	for i, e := range entries {
		le.PutUint64(body[layout.ArrayItems-layout.ObjectHeader+8*i:], e)
	}
	return w.object(layout.TypeEntryArray, body)
}

// Bytes finishes the file and returns it. The writer is used up.
func (w *Journal) Bytes() []byte {
	arrays := uint64(0)
	all := w.array(w.entries)
	if all != 0 {
		arrays++
	}
	for _, o := range w.datas {
		w.put(o.at+layout.DataEntry, o.entries[0])
		w.put(o.at+layout.DataEntries, uint64(len(o.entries)))
		if at := w.array(o.entries[1:]); at != 0 {
			w.put(o.at+layout.DataEntryArray, at)
			arrays++
		}
	}
	fieldTable := uint64(layout.OurHeader)
	dataTable := fieldTable + layout.ObjectHeader + fieldBuckets*16
	for _, t := range []struct {
		at      uint64
		buckets []bucket
	}{{fieldTable, w.fieldTable}, {dataTable, w.dataTable}} {
		for i, b := range t.buckets {
			w.put(t.at+layout.ObjectHeader+uint64(i)*16, b.head)
			w.put(t.at+layout.ObjectHeader+uint64(i)*16+8, b.tail)
		}
	}
	h := w.out.Bytes()
	copy(h, layout.Signature)
	le.PutUint32(h[layout.AtIncompatible:],
		layout.FlagKeyed|uint32(w.packed&(layout.ObjectXZ|layout.ObjectLZ4))|uint32(w.packed&layout.ObjectZstd)<<1)
	h[layout.AtState] = layout.StateArchived
	for at, id := range map[int][16]byte{
		layout.AtFileID:    w.file,
		layout.AtMachineID: w.machine,
		layout.AtTailBoot:  w.last.Boot,
		layout.AtSeqnumID:  w.seqnums,
	} {
		copy(h[at:], id[:])
	}
	for at, value := range map[uint64]uint64{
		layout.AtHeaderSize:     layout.OurHeader,
		layout.AtArenaSize:      uint64(len(h)) - layout.OurHeader,
		layout.AtDataTable:      dataTable + layout.ObjectHeader,
		layout.AtDataTableSize:  uint64(len(w.dataTable)) * 16,
		layout.AtFieldTable:     fieldTable + layout.ObjectHeader,
		layout.AtFieldTableSize: fieldBuckets * 16,
		layout.AtTailObject:     w.tail,
		layout.AtObjects:        w.objects,
		layout.AtEntries:        uint64(len(w.entries)),
		layout.AtHeadSeqnum:     min(1, w.added),
		layout.AtTailSeqnum:     w.added,
		layout.AtEntryArray:     all,
		layout.AtHeadRealtime:   w.first.Realtime,
		layout.AtTailRealtime:   w.last.Realtime,
		layout.AtTailMonotonic:  w.last.Monotonic,
		layout.AtDatas:          uint64(len(w.datas)),
		layout.AtFields:         w.named,
		layout.AtEntryArrays:    arrays,
		layout.AtDataDepth:      w.dataDeep,
		layout.AtFieldDepth:     w.fieldDep,
	} {
		w.put(at, value)
	}
	return h
}
