package journal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"runtime"
	"slices"
	"sync"
	"syscall"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"calmdawn/internal/linux/journal/layout"
)

// Bounds on what is believed of a file.
const (
	pageSize   = 16 << 10
	allPages   = 2 << 10   // held of all files that are read at once: 32 MiB
	oldPages   = 1 << 7    // let go of lately, which somebody may still look at
	maxChain   = 1 << 20   // steps along a chain of objects
	maxItems   = 1 << 10   // fields of an entry
	maxField   = 1 << 20   // bytes of a field, decompressed
	maxEntries = 100 << 20 // entries of a file
	maxReaders = 8         // files that are read at once
	leastSteps = 10 << 20  // objects that are looked at, of a file of any size
	largeFile  = 4 << 30   // from there on, a file's size allows no more of them
)

// A Damage says where a file is not as the format demands.
type Damage struct {
	Offset int64
	What   string
}

func (d *Damage) Error() string { return fmt.Sprintf("damaged at byte %d: %s", d.Offset, d.What) }

// A File is one log file, open for reading. It is not safe for use by several
// goroutines.
type File struct {
	pages   pages
	header  []byte
	keyed   bool
	compact bool
	decoder *zstd.Decoder
	picked  []picked
	texts   []text
	message message
	// objects that were looked at, and how many may be: a hostile file leads to
	// the same ones again and again
	steps   int64
	allowed int64
	list    []byte   // of an entry's items
	order   []uint64 // the same, sorted
}

// NewFile reads the header of a log file of the given size in bytes. A file in
// a form that this reader does not know is an error.
func NewFile(r io.ReaderAt, size int64) (*File, error) {
	f := &File{
		allowed: leastSteps + min(size, largeFile)/4,
		pages: pages{
			r:    r,
			size: size,
			held: map[int64][]byte{},
			most: allPages / min(maxReaders, runtime.GOMAXPROCS(0)),
		},
	}
	head, err := f.pages.bytes(0, layout.LeastHeader)
	if err != nil {
		return nil, errors.New("it is too short for a log file")
	}
	if string(head[:8]) != layout.Signature {
		return nil, errors.New("it is not a log file")
	}
	if unknown := le.Uint32(head[layout.AtIncompatible:]) &^ layout.FlagsKnown; unknown != 0 {
		return nil, fmt.Errorf("it is written in a newer form (flags %#x) that this calmdawn "+
			"does not know", unknown)
	}
	headerSize := le.Uint64(head[layout.AtHeaderSize:])
	if headerSize < layout.LeastHeader || headerSize > 1<<16 || int64(headerSize) > size {
		return nil, &Damage{layout.AtHeaderSize, "the header's size cannot be"}
	}
	head, err = f.pages.bytes(0, int64(headerSize))
	if err != nil {
		return nil, err
	}
	f.header = append([]byte{}, head...)
	flags := le.Uint32(f.header[layout.AtIncompatible:])
	f.keyed, f.compact = flags&layout.FlagKeyed != 0, flags&layout.FlagCompact != 0
	return f, nil
}

// BytesRead is the number of bytes that were read from the file so far.
func (f *File) BytesRead() int64 { return f.pages.read }

// Forget lets go of what is held of the file in memory; what its methods
// returned that is not a copy is void then.
func (f *File) Forget() {
	f.pages.forget()
	f.picked, f.texts = nil, nil
}

// SequenceID names the sequence that the numbers of the entries belong to;
// files of the same one count on from each other.
func (f *File) SequenceID() ID { return ID(f.header[layout.AtSeqnumID:]) }

// MachineID is the id of the machine that wrote the file.
func (f *File) MachineID() ID { return ID(f.header[layout.AtMachineID:]) }

func (f *File) fileID() ID { return ID(f.header[layout.AtFileID:]) }

// An Entry is one log entry without its fields.
type Entry struct {
	Offset    int64
	Seqnum    uint64
	Realtime  uint64 // microseconds since 1970 UTC
	Monotonic uint64 // microseconds since the boot began, by the clock of Boot
	Boot      ID
	items     int
}

// object returns an object's type, flags and size after checking them.
func (f *File) object(off uint64, want byte, least int64) (flags byte, size int64, err error) {
	if off < uint64(len(f.header)) || off%8 != 0 || off > uint64(f.pages.size) {
		return 0, 0, &Damage{int64(off), "no object can stand there"}
	}
	if f.steps++; f.steps > f.allowed {
		return 0, 0, &Damage{int64(off), "it leads to the same places again and again"}
	}
	head, err := f.pages.bytes(int64(off), layout.ObjectHeader)
	if err != nil {
		return 0, 0, err
	}
	size = int64(le.Uint64(head[8:]))
	if head[0] != want || size < least || size > f.pages.size-int64(off) {
		return 0, 0, &Damage{int64(off), fmt.Sprintf("an object of type %d and %d bytes where "+
			"one of type %d is expected", head[0], size, want)}
	}
	return head[1], size, nil
}

func (f *File) word(off uint64, field int) (uint64, error) {
	b, err := f.pages.bytes(int64(off)+int64(field), 8)
	if err != nil {
		return 0, err
	}
	return le.Uint64(b), nil
}

// Find returns the offset of the data object that holds a field, given as
// NAME=VALUE; false if no entry has it.
func (f *File) Find(field string) (uint64, bool, error) {
	match := func(off, sum uint64) (bool, uint64, error) {
		if _, _, err := f.object(off, layout.TypeData, f.payloadAt()); err != nil {
			return false, 0, err
		}
		if have, err := f.word(off, layout.DataHash); err != nil || have != sum {
			next, nextErr := f.word(off, layout.DataNextHash)
			return false, next, errors.Join(err, nextErr)
		}
		payload, err := f.payload(off)
		if err != nil {
			return false, 0, err
		}
		next, err := f.word(off, layout.DataNextHash)
		return string(payload) == field, next, err
	}
	return f.lookup(layout.AtDataTable, []byte(field), match)
}

// lookup walks the chain of a hash table's bucket.
func (f *File) lookup(
	table int,
	key []byte,
	match func(off, sum uint64) (bool, uint64, error),
) (uint64, bool, error) {
	at, size := le.Uint64(f.header[table:]), le.Uint64(f.header[table+8:])
	if at == 0 || size < 16 {
		return 0, false, nil
	}
	sum := layout.Hash(key, f.keyed, f.fileID())
	off, err := f.word(at+sum%(size/16)*16, 0)
	for step := 0; err == nil && off != 0; step++ {
		if step > maxChain {
			return 0, false, &Damage{int64(off), "a chain of the hash table does not end"}
		}
		found, next, matchErr := match(off, sum)
		switch {
		case matchErr != nil:
			return 0, false, matchErr
		case found:
			return off, true, nil
		case next != 0 && next <= off:
			return 0, false, &Damage{int64(off), "a chain of the hash table turns back"}
		}
		off = next
	}
	return 0, false, err
}

// Values returns the data objects of all values that a field has in the file,
// newest first.
func (f *File) Values(name string) iter.Seq2[uint64, error] {
	return func(yield func(uint64, error) bool) {
		match := func(off, _ uint64) (bool, uint64, error) {
			_, size, err := f.object(off, layout.TypeField, layout.FieldPayload)
			if err == nil && size-layout.FieldPayload > maxField {
				err = &Damage{int64(off), "a field's name is too long"}
			}
			if err != nil {
				return false, 0, err
			}
			payload, err := f.pages.bytes(int64(off)+layout.FieldPayload, size-layout.FieldPayload)
			if err != nil {
				return false, 0, err
			}
			same := string(payload) == name
			next, err := f.word(off, layout.FieldNext)
			return same, next, err
		}
		field, ok, err := f.lookup(layout.AtFieldTable, []byte(name), match)
		if err != nil || !ok {
			if err != nil {
				yield(0, err)
			}
			return
		}
		off, err := f.word(field, layout.FieldHead)
		for step := 0; err == nil && off != 0 && step < maxChain; step++ {
			if _, _, err = f.object(off, layout.TypeData, f.payloadAt()); err != nil {
				break
			}
			if !yield(off, nil) {
				return
			}
			off, err = f.word(off, layout.DataNextField)
		}
		if err != nil {
			yield(0, err)
		}
	}
}

// EntriesWith returns the entries that have the field of a data object, oldest
// first. A damage ends it, as its last value.
func (f *File) EntriesWith(data uint64) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		count, err1 := f.word(data, layout.DataEntries)
		first, err2 := f.word(data, layout.DataEntry)
		array, err3 := f.word(data, layout.DataEntryArray)
		if err := errors.Join(err1, err2, err3); err != nil {
			yield(Entry{}, err)
			return
		}
		if count == 0 || first == 0 {
			return
		}
		e, err := f.entry(first)
		if !yield(e, err) || err != nil {
			return
		}
		f.array(array, count-1, yield)
	}
}

// Last returns the last entry that has the field of a data object; it reads no
// others. ok is false where there is none.
func (f *File) Last(data uint64) (e Entry, ok bool, err error) {
	count, err1 := f.word(data, layout.DataEntries)
	at, err2 := f.word(data, layout.DataEntry)
	array, err3 := f.word(data, layout.DataEntryArray)
	if err := errors.Join(err1, err2, err3); err != nil || count == 0 || at == 0 {
		return Entry{}, false, err
	}
	width := f.itemWidth()
	for left := count - 1; left > 0 && array != 0; {
		_, size, err := f.object(array, layout.TypeEntryArray, layout.ArrayItems)
		if err != nil {
			return Entry{}, false, err
		}
		holds := min(left, uint64((size-layout.ArrayItems)/width))
		if holds > 0 {
			last, err := f.pages.bytes(int64(array)+layout.ArrayItems+int64(holds-1)*width, width)
			if err != nil {
				return Entry{}, false, err
			}
			if n := f.offset(last); n != 0 {
				at = n
			}
		}
		left -= holds
		next, err := f.word(array, layout.ArrayNext)
		if err == nil && next != 0 && next <= array {
			err = &Damage{int64(array), "a chain of entry arrays turns back"}
		}
		if err != nil {
			return Entry{}, false, err
		}
		array = next
	}
	e, err = f.entry(at)
	return e, err == nil, err
}

// itemWidth is the size of an offset in an entry array.
func (f *File) itemWidth() int64 {
	if f.compact {
		return 4
	}
	return 8
}

func (f *File) offset(b []byte) uint64 {
	if f.compact {
		return uint64(le.Uint32(b))
	}
	return le.Uint64(b)
}

// Entries returns all entries of the file, oldest first.
func (f *File) Entries() iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		f.array(le.Uint64(f.header[layout.AtEntryArray:]), maxEntries, yield)
	}
}

// array yields the entries of a chain of arrays, at most n.
func (f *File) array(off, n uint64, yield func(Entry, error) bool) {
	width := f.itemWidth()
	for off != 0 && n > 0 {
		_, size, err := f.object(off, layout.TypeEntryArray, layout.ArrayItems)
		if err != nil {
			yield(Entry{}, err)
			return
		}
		for at := int64(layout.ArrayItems); at+width <= size && n > 0; at += width {
			b, err := f.pages.bytes(int64(off)+at, width)
			if err != nil {
				yield(Entry{}, err)
				return
			}
			entry := f.offset(b)
			if entry == 0 {
				return // the part that is not filled yet
			}
			e, err := f.entry(entry)
			if !yield(e, err) || err != nil {
				return
			}
			n--
		}
		next, err := f.word(off, layout.ArrayNext)
		if err == nil && next != 0 && next <= off {
			err = &Damage{int64(off), "a chain of entry arrays turns back"}
		}
		if err != nil {
			yield(Entry{}, err)
			return
		}
		off = next
	}
}

func (f *File) entry(off uint64) (Entry, error) {
	_, size, err := f.object(off, layout.TypeEntry, layout.EntryItems)
	if err != nil {
		return Entry{}, err
	}
	b, err := f.pages.bytes(int64(off), layout.EntryItems)
	if err != nil {
		return Entry{}, err
	}
	width := int64(16)
	if f.compact {
		width = 4
	}
	return Entry{
		Offset:    int64(off),
		Seqnum:    le.Uint64(b[layout.EntrySeqnum:]),
		Realtime:  le.Uint64(b[layout.EntryRealtime:]),
		Monotonic: le.Uint64(b[layout.EntryMonotonic:]),
		Boot:      ID(b[layout.EntryBoot:]),
		items:     int(min(maxItems, (size-layout.EntryItems)/width)),
	}, nil
}

// Salvage walks the objects of a damaged file one after the other and returns
// the entries that are whole, whatever leads to them.
func (f *File) Salvage() iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		for off := int64(len(f.header)+7) &^ 7; off+layout.ObjectHeader <= f.pages.size; {
			head, err := f.pages.bytes(off, layout.ObjectHeader)
			if err != nil {
				off += pageSize - off%pageSize
				continue
			}
			kind, size := head[0], int64(le.Uint64(head[8:]))
			if off%pageSize == 0 && size == 0 {
				if data := f.pages.data(off); data > off {
					off = data
					continue
				}
			}
			if kind == 0 || kind > layout.TypeTag || size < layout.ObjectHeader ||
				size > f.pages.size-off {
				off += 8
				continue
			}
			if kind == layout.TypeEntry {
				if e, err := f.entry(uint64(off)); err == nil && f.whole(e) && !yield(e) {
					return
				}
			}
			off += (size + 7) &^ 7
		}
	}
}

// whole reports whether all fields of an entry are there.
func (f *File) whole(e Entry) bool {
	for off, err := range f.items(e) {
		if err != nil {
			return false
		}
		if _, _, err := f.object(off, layout.TypeData, f.payloadAt()); err != nil {
			return false
		}
	}
	return e.items > 0
}

// items returns the offsets of the data objects of an entry.
func (f *File) items(e Entry) iter.Seq2[uint64, error] {
	return func(yield func(uint64, error) bool) {
		width := int64(16)
		if f.compact {
			width = 4
		}
		all, err := f.pages.bytes(e.Offset+layout.EntryItems, int64(e.items)*width)
		if err != nil {
			yield(0, err)
			return
		}
		all = append(f.list[:0], all...) // the page may be let go of before the end of the list
		f.list = all
		for ; len(all) > 0; all = all[width:] {
			if !yield(f.offset(all), nil) {
				return
			}
		}
	}
}

// Message returns the text of an entry. It looks at the newest data first,
// which a text mostly is.
func (f *File) Message(e Entry) []byte {
	all := f.order[:0]
	for off, err := range f.items(e) {
		if err != nil {
			break
		}
		all = append(all, off)
	}
	f.order = all
	slices.Sort(all)
	for _, off := range slices.Backward(all) {
		if text, err := f.payload(off); err == nil && bytes.HasPrefix(text, []byte("MESSAGE=")) {
			return text[len("MESSAGE="):]
		}
	}
	return nil
}

// Fields returns the fields of an entry as NAME=VALUE. One over a mebibyte, or
// in a damaged place, is left out and its error yielded instead.
func (f *File) Fields(e Entry) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		for data, err := range f.items(e) {
			if err != nil {
				yield(nil, err)
				return
			}
			payload, err := f.payload(data)
			if !yield(payload, err) {
				return
			}
		}
	}
}

// confirm reports an error where the hash table does not find a data object
// that is there.
func (f *File) confirm(data uint64) error {
	text, err := f.payload(data)
	if err != nil {
		return err
	}
	if at, ok, err := f.Find(string(text)); err != nil || !ok || at != data {
		return errors.Join(&Damage{int64(data), "the table of values does not find it"}, err)
	}
	return nil
}

// entries is how many entries the header says there are.
func (f *File) entries() uint64 { return le.Uint64(f.header[layout.AtEntries:]) }

// A picked data object is one that was looked at before: many entries share
// their fields.
type picked struct {
	at    uint64 // its offset; 0 for none
	field int    // which of those that are wanted it is; -1 for none of them
}

// A text is the value of a data object that many entries share.
type text struct {
	at    uint64
	value string
}

const (
	maxPicked = 1 << 12 // data objects that are remembered, by the lower bits of their offsets
	maxTexts  = 1 << 10
	maxValue  = 4 << 10 // bytes of a value that is wanted
)

// A message is those fields of an entry that are wanted.
type message struct {
	file *File
	at   [lastField]uint64 // offsets of their data objects; 0 for those that are not there
}

// pick finds those fields of an entry that are wanted. What it returns is valid
// until the next call.
func (f *File) pick(e Entry) (*message, error) {
	if f.picked == nil {
		f.picked, f.texts = make([]picked, maxPicked), make([]text, maxTexts)
	}
	m := &f.message
	*m = message{file: f}
	for off, err := range f.items(e) {
		if err != nil {
			return nil, err
		}
		known := &f.picked[off>>3%maxPicked]
		if known.at != off {
			payload, err := f.payload(off)
			if err != nil {
				return nil, err
			}
			name, value, _ := bytes.Cut(payload, []byte("="))
			*known = picked{off, -1}
			if len(value) < maxValue {
				known.field = slices.Index(wanted, string(name))
			}
		}
		if known.field >= 0 {
			m.at[known.field] = off
		}
	}
	return m, nil
}

// value is the value of a field; empty where the entry does not have it. It
// must not be changed.
func (m *message) value(field int) []byte {
	if m.at[field] == 0 {
		return nil
	}
	payload, _ := m.file.payload(m.at[field]) // it was there when it was picked
	_, value, _ := bytes.Cut(payload, []byte("="))
	return value
}

// of is the value of a field as a string, which is made once for those that
// many entries share.
func (m *message) of(field int) string {
	at := m.at[field]
	if at == 0 || field > lastShared {
		return string(m.value(field))
	}
	known := &m.file.texts[at>>3%maxTexts]
	if known.at != at {
		*known = text{at, string(m.value(field))}
	}
	return known.value
}

// emptyYetTold reports whether a field is there without a value.
func (m *message) emptyYetTold(field int) bool {
	return m.at[field] != 0 && len(m.value(field)) == 0
}

func (f *File) payloadAt() int64 {
	if f.compact {
		return layout.CompactPayload
	}
	return layout.DataPayload
}

// payload returns the text of a data object, decompressed. It is valid until
// the next call.
func (f *File) payload(off uint64) ([]byte, error) {
	flags, size, err := f.object(off, layout.TypeData, f.payloadAt())
	if err != nil {
		return nil, err
	}
	if size -= f.payloadAt(); size > maxField {
		return nil, &Damage{int64(off), fmt.Sprintf("a field of %d bytes is passed over", size)}
	}
	raw, err := f.pages.bytes(int64(off)+f.payloadAt(), size)
	if err != nil {
		return nil, err
	}
	text, err := f.decompress(raw, flags)
	if err != nil {
		return nil, &Damage{int64(off), "a field cannot be decompressed: " + err.Error()}
	}
	return text, nil
}

func (f *File) decompress(raw []byte, flags byte) ([]byte, error) {
	switch {
	case flags&layout.ObjectZstd != 0:
		if f.decoder == nil {
			var err error
			f.decoder, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1),
				zstd.WithDecoderMaxMemory(maxField))
			if err != nil {
				return nil, err
			}
		}
		return f.decoder.DecodeAll(raw, nil)
	case flags&layout.ObjectLZ4 != 0:
		if len(raw) < 8 || le.Uint64(raw) > maxField {
			return nil, errors.New("its size cannot be")
		}
		text := make([]byte, le.Uint64(raw))
		n, err := lz4.UncompressBlock(raw[8:], text)
		return text[:max(0, n)], err
	case flags&layout.ObjectXZ != 0:
		r, err := xz.ReaderConfig{DictCap: 8 << 20}.NewReader(bytes.NewReader(raw))
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(io.LimitReader(r, maxField+1))
		if err == nil && len(text) > maxField {
			err = errors.New("it is too long")
		}
		return text, err
	}
	return raw, nil
}

// spare are pages that nobody holds any more.
var spare sync.Pool

// pages reads a file in pages and holds some of them.
type pages struct {
	r     io.ReaderAt
	size  int64
	held  map[int64][]byte
	most  int
	queue []int64  // of the held, oldest first
	old   [][]byte // let go of, the longest ago first
	read  int64

	lately [recentPages]recent // pages asked for not long ago, by the lower bits of their number
}

const recentPages = 64

type recent struct {
	page   []byte
	number int64
}

// bytes returns n bytes at off; they are valid until oldPages other pages are
// read, and must not be changed.
func (p *pages) bytes(off, n int64) ([]byte, error) {
	if off < 0 || n < 0 || off > p.size-n {
		return nil, &Damage{off, "the file ends before"}
	}
	number := off / pageSize
	lately := &p.lately[number%recentPages]
	page, err := lately.page, error(nil)
	if page == nil || lately.number != number {
		if page, err = p.page(number); err != nil {
			return nil, err
		}
		*lately = recent{page, number}
	}
	if from := off % pageSize; from+n <= int64(len(page)) {
		return page[from : from+n], nil
	}
	all := make([]byte, 0, n)
	for int64(len(all)) < n {
		at := off + int64(len(all))
		if page, err = p.page(at / pageSize); err != nil {
			return nil, err
		}
		rest := page[at%pageSize:]
		all = append(all, rest[:min(int64(len(rest)), n-int64(len(all)))]...)
	}
	return all, nil
}

func (p *pages) page(n int64) ([]byte, error) {
	if page, ok := p.held[n]; ok {
		return page, nil
	}
	page := p.room()[:min(pageSize, p.size-n*pageSize)]
	got, err := p.r.ReadAt(page, n*pageSize)
	p.read += int64(got)
	if got < len(page) {
		return nil, errors.Join(&Damage{n * pageSize, "it cannot be read"}, err)
	}
	if len(p.queue) >= p.most {
		p.old = append(p.old, p.held[p.queue[0]])
		delete(p.held, p.queue[0])
		if lately := &p.lately[p.queue[0]%recentPages]; lately.number == p.queue[0] {
			*lately = recent{}
		}
		p.queue = p.queue[1:]
	}
	p.held[n] = page
	p.queue = append(p.queue, n)
	return page, nil
}

// data is where something stands in the file from an offset on, in whole pages.
// A file may be far larger than what was ever written of it.
func (p *pages) data(off int64) int64 {
	file, ok := p.r.(io.Seeker)
	if !ok || runtime.GOOS != "linux" {
		return off
	}
	const seekData, nothing = 3, syscall.ENXIO // lseek(2)
	at, err := file.Seek(off, seekData)
	switch {
	case errors.Is(err, nothing):
		return p.size
	case err != nil:
		return off
	}
	return max(off, at-at%pageSize)
}

// room is a page to read into.
func (p *pages) room() []byte {
	if len(p.old) > oldPages {
		page := p.old[0]
		p.old = p.old[1:]
		return page[:pageSize]
	}
	if page, ok := spare.Get().(*[pageSize]byte); ok {
		return page[:]
	}
	return make([]byte, pageSize)
}

// forget lets go of all pages.
func (p *pages) forget() {
	for _, page := range p.held {
		spare.Put((*[pageSize]byte)(page[:pageSize]))
	}
	for _, page := range p.old {
		spare.Put((*[pageSize]byte)(page[:pageSize]))
	}
	p.held, p.queue, p.old, p.lately = map[int64][]byte{}, nil, nil, [recentPages]recent{}
}
