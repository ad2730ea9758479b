package journal

import (
	"bytes"
	"slices"
	"strings"
)

// keyed says that hashes are made with the id of the file as their key.
const keyed = true

// A Writer collects entries and writes them as one finished file: keyed hashes,
// offsets of 64 bits.
type Writer struct {
	// Pack, where it is set, compresses a field as the file's format asks and
	// says how: 1 is XZ, 2 LZ4 behind the field's length, 4 zstd, and 0 leaves
	// the field as it is.
	Pack func(field []byte) (packed []byte, how byte)

	machine, file, seqnums ID

	out     bytes.Buffer
	datas   []*written
	index   map[string]*written // datas by payload, fields by name
	entries []uint64            // offsets

	objects, named     uint64 // objects in all, field objects
	first, last        Entry
	nextSeqnum         uint64
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

// NewWriter begins a file of a machine; the file's own id is its hashes' key.
// Its tables are made for some thousand entries.
func NewWriter(machineID, fileID ID) *Writer { return newWriter(machineID, fileID, 2047) }

func newWriter(machineID, fileID ID, dataBuckets int) *Writer {
	w := &Writer{
		machine:    machineID,
		file:       fileID,
		seqnums:    fileID,
		index:      map[string]*written{},
		nextSeqnum: 1,
		dataTable:  make([]bucket, dataBuckets),
		fieldTable: make([]bucket, fieldBuckets),
	}
	w.out.Write(make([]byte, ourHeader))
	w.object(typeFieldTable, make([]byte, fieldBuckets*16))
	w.object(typeDataTable, make([]byte, dataBuckets*16))
	return w
}

// object appends an object with the given body behind its header, and returns
// its offset.
func (w *Writer) object(kind byte, body []byte) uint64 {
	at := uint64(w.out.Len())
	head := make([]byte, objectHeader)
	head[0] = kind
	le.PutUint64(head[8:], uint64(objectHeader+len(body)))
	w.out.Write(head)
	w.out.Write(body)
	w.out.Write(make([]byte, (8-w.out.Len()%8)%8))
	w.objects++
	w.tail = at
	return at
}

func (w *Writer) put(at uint64, value uint64) { le.PutUint64(w.out.Bytes()[at:], value) }

// chain hangs an object into a hash table.
func (w *Writer) chain(table []bucket, o *written, next int, deepest *uint64) {
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
func (w *Writer) data(field string) *written {
	if o, ok := w.index[field]; ok {
		return o
	}
	o := &written{sum: hash([]byte(field), keyed, w.file)}
	payload, how := []byte(field), byte(0)
	if w.Pack != nil {
		payload, how = w.Pack(payload)
		w.packed |= how
	}
	body := make([]byte, dataPayload-objectHeader+len(payload))
	le.PutUint64(body[dataHash-objectHeader:], o.sum)
	copy(body[dataPayload-objectHeader:], payload)
	o.at = w.object(typeData, body)
	w.out.Bytes()[o.at+1] = how
	w.chain(w.dataTable, o, dataNextHash, &w.dataDeep)
	w.index[field] = o
	w.datas = append(w.datas, o)

	name, _, _ := strings.Cut(field, "=")
	f, ok := w.index[name]
	if !ok {
		f = &written{sum: hash([]byte(name), keyed, w.file)}
		body := make([]byte, fieldPayload-objectHeader+len(name))
		le.PutUint64(body[fieldHash-objectHeader:], f.sum)
		copy(body[fieldPayload-objectHeader:], name)
		f.at = w.object(typeField, body)
		w.chain(w.fieldTable, f, fieldNext, &w.fieldDep)
		w.index[name] = f
		w.named++
	}
	head := f.at + fieldHead
	w.put(o.at+dataNextField, le.Uint64(w.out.Bytes()[head:]))
	w.put(head, o.at)
	return o
}

// Add appends an entry; its offset and number are given to it. Times must not
// go back. fields are NAME=VALUE, without a NUL or a name twice.
func (w *Writer) Add(e Entry, fields []string) {
	e.Seqnum = w.nextSeqnum
	w.nextSeqnum++
	var items []*written
	xor := uint64(0)
	for _, f := range slices.Sorted(slices.Values(fields)) {
		items = append(items, w.data(f))
		xor ^= jenkins([]byte(f))
	}
	slices.SortFunc(items, func(a, b *written) int { return int(int64(a.at) - int64(b.at)) })
	body := make([]byte, entryItems-objectHeader+16*len(items))
	le.PutUint64(body[entrySeqnum-objectHeader:], e.Seqnum)
	le.PutUint64(body[entryRealtime-objectHeader:], e.Realtime)
	le.PutUint64(body[entryMonotonic-objectHeader:], e.Monotonic)
	copy(body[entryBoot-objectHeader:], e.Boot[:])
	le.PutUint64(body[entryXor-objectHeader:], xor)
	for i, o := range items {
		at := entryItems - objectHeader + 16*i
		le.PutUint64(body[at:], o.at)
		le.PutUint64(body[at+8:], o.sum)
	}
	at := w.object(typeEntry, body)
	for _, o := range items {
		o.entries = append(o.entries, at)
	}
	w.entries = append(w.entries, at)
	if w.first.Seqnum == 0 {
		w.first = e
	}
	w.last = e
}

// array appends an array of entries and returns its offset; 0 for none.
func (w *Writer) array(entries []uint64) uint64 {
	if len(entries) == 0 {
		return 0
	}
	body := make([]byte, arrayItems-objectHeader+8*len(entries))
	for i, e := range entries {
		le.PutUint64(body[arrayItems-objectHeader+8*i:], e)
	}
	return w.object(typeEntryArray, body)
}

// Bytes finishes the file and returns it. The writer is used up.
func (w *Writer) Bytes() []byte {
	arrays := uint64(0)
	all := w.array(w.entries)
	if all != 0 {
		arrays++
	}
	for _, o := range w.datas {
		w.put(o.at+dataEntry, o.entries[0])
		w.put(o.at+dataEntries, uint64(len(o.entries)))
		if at := w.array(o.entries[1:]); at != 0 {
			w.put(o.at+dataEntryArray, at)
			arrays++
		}
	}
	fieldTable := uint64(ourHeader)
	dataTable := fieldTable + objectHeader + fieldBuckets*16
	for _, t := range []struct {
		at      uint64
		buckets []bucket
	}{{fieldTable, w.fieldTable}, {dataTable, w.dataTable}} {
		for i, b := range t.buckets {
			w.put(t.at+objectHeader+uint64(i)*16, b.head)
			w.put(t.at+objectHeader+uint64(i)*16+8, b.tail)
		}
	}
	h := w.out.Bytes()
	copy(h, signature)
	le.PutUint32(h[atIncompatible:],
		flagKeyed|uint32(w.packed&(objectXZ|objectLZ4))|uint32(w.packed&objectZstd)<<1)
	h[atState] = stateArchived
	for at, id := range map[int]ID{
		atFileID:    w.file,
		atMachineID: w.machine,
		atTailBoot:  w.last.Boot,
		atSeqnumID:  w.seqnums,
	} {
		copy(h[at:], id[:])
	}
	for at, value := range map[uint64]uint64{
		atHeaderSize:     ourHeader,
		atArenaSize:      uint64(len(h)) - ourHeader,
		atDataTable:      dataTable + objectHeader,
		atDataTableSize:  uint64(len(w.dataTable)) * 16,
		atFieldTable:     fieldTable + objectHeader,
		atFieldTableSize: fieldBuckets * 16,
		atTailObject:     w.tail,
		atObjects:        w.objects,
		atEntries:        uint64(len(w.entries)),
		atHeadSeqnum:     w.first.Seqnum,
		atTailSeqnum:     w.last.Seqnum,
		atEntryArray:     all,
		atHeadRealtime:   w.first.Realtime,
		atTailRealtime:   w.last.Realtime,
		atTailMonotonic:  w.last.Monotonic,
		atDatas:          uint64(len(w.datas)),
		atFields:         w.named,
		atEntryArrays:    arrays,
		atDataDepth:      w.dataDeep,
		atFieldDepth:     w.fieldDep,
	} {
		w.put(at, value)
	}
	return h
}
