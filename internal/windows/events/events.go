// Package events reads event logs of Windows machines in their native form, and
// writes new ones.
//
// The form is known from [MS-EVEN6], "BinXml", and from logs of other writers
// (docs/windows.md). A log may come from a hostile disk, and may have been cut
// off while it was written. It is walked chunk by chunk, a record counts by its
// own marks. What is wrong is counted and passed over. A chunk is in memory at
// once, and text is made only of events that somebody wants.
package events

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"runtime"
	"syscall"
	"time"

	"calmdawn/internal/windows/hive"
)

const (
	fileHead  = 4096
	chunkSize = 64 << 10
	chunkHead = 512
	deepest   = 12  // elements and templates in each other
	mostNodes = 512 // elements of one event
	mostText  = 64 << 10
)

// An Event is one record of a log.
type Event struct {
	Record   uint64 // its number
	Time     time.Time
	Provider string // who wrote it
	ID       uint16
	Level    uint8
	Channel  string
	Computer string
	User     string // a SID; empty where the event names none
	// Data is what it tells, in its order: names are empty where the log has
	// none.
	Data []Field
}

// A Field is one datum of an event.
type Field struct {
	Name  string
	Value Value
}

// Field returns a datum by its name; false where the event has none.
func (e Event) Field(name string) (Value, bool) {
	for _, f := range e.Data {
		if f.Name == name {
			return f.Value, true
		}
	}
	return Value{}, false
}

// Text is a datum as a text; empty where the event has none.
func (e Event) Text(name string) string {
	v, _ := e.Field(name)
	return v.Text()
}

// Number is a datum as a number, also where it is written as a text.
func (e Event) Number(name string) (int64, bool) {
	v, ok := e.Field(name)
	if !ok {
		return 0, false
	}
	return v.Number()
}

// A Wanted says which events are read: it is asked with who wrote one and its
// id, before anything else of it is looked at.
type Wanted func(provider string, id uint16) bool

// A Report is what was found wrong in a log.
type Report struct {
	Chunks  int // that were looked at
	Damaged int // of those, ones whose sums are wrong
	Lost    int // records that cannot be read
	Dirty   bool
}

// Read hands on the wanted events of a log in a file of a size. They come in
// the order in which they stand there, which need not be that of their numbers.
// An error says that it is none.
func Read(f io.ReaderAt, size int64, want Wanted, each func(Event)) (Report, error) {
	var report Report
	head := make([]byte, 128)
	if _, err := f.ReadAt(head, 0); err != nil || string(head[:8]) != "ElfFile\x00" {
		return report, errors.New("it is not an event log: its signature is missing")
	}
	report.Dirty = binary.LittleEndian.Uint32(head[120:])&1 != 0
	c := &chunk{data: make([]byte, chunkSize)}
	for at := int64(fileHead); at+chunkHead <= size; at += chunkSize {
		if _, err := f.ReadAt(c.data[:chunkHead], at); err != nil {
			return report, err
		}
		if string(c.data[:8]) != "ElfChnk\x00" {
			if !allZero(c.data[:chunkHead]) {
				report.Chunks++
				report.Damaged++
			} else if empty := (nextData(f, at) - at) / chunkSize; empty > 1 {
				at += (empty - 1) * chunkSize
			}
			continue
		}
		n, err := f.ReadAt(c.data[chunkHead:], at+chunkHead)
		if err != nil && !errors.Is(err, io.EOF) {
			return report, err
		}
		clear(c.data[chunkHead+n:])
		report.Chunks++
		c.read(&report, want, each)
	}
	return report, nil
}

// nextData is where a file holds anything from a place on: lseek(2) knows the
// holes of a file that was only ever given a size. It is the place itself where
// that is not known.
func nextData(f io.ReaderAt, at int64) int64 {
	const seekData = 3 // Linux
	s, ok := f.(io.Seeker)
	if !ok || runtime.GOOS != "linux" {
		return at
	}
	next, err := s.Seek(at, seekData)
	switch {
	case errors.Is(err, syscall.ENXIO):
		return math.MaxInt64 // nothing more
	case err != nil:
		return at
	}
	return next
}

func allZero(data []byte) bool { return len(bytes.Trim(data, "\x00")) == 0 }

// A chunk is one part of a log, whose names and templates stand in itself.
type chunk struct {
	data      []byte
	templates map[uint32]*template // by their places; nil for what is none
	names     map[uint32]string
}

func (c *chunk) u16(at int) uint16 { return binary.LittleEndian.Uint16(c.data[at:]) }
func (c *chunk) u32(at int) uint32 { return binary.LittleEndian.Uint32(c.data[at:]) }
func (c *chunk) u64(at int) uint64 { return binary.LittleEndian.Uint64(c.data[at:]) }

// read walks the records. Where the sums are right, up to where the chunk says
// that it is free; behind that stands what was there before. Else as long as
// numbers follow each other.
func (c *chunk) read(report *Report, want Wanted, each func(Event)) {
	c.templates, c.names = map[uint32]*template{}, map[uint32]string{}
	free := int(c.u32(48))
	sum := crc32.ChecksumIEEE(c.data[:120])
	sum = crc32.Update(sum, crc32.IEEETable, c.data[128:chunkHead])
	whole := sum == c.u32(124) && free >= chunkHead && free <= chunkSize
	if whole && crc32.ChecksumIEEE(c.data[chunkHead:free]) != c.u32(52) {
		report.Damaged++
	}
	if !whole {
		report.Damaged++
		free = chunkSize
	}
	const recordHead = 24
	last := uint64(0)
	for at := chunkHead; at+recordHead+4 <= free; {
		size := int(c.u32(at + 4))
		good := c.u32(at) == 0x2A2A && size >= recordHead+4 && at+size <= free && size%4 == 0 &&
			int(c.u32(at+size-4)) == size
		number := c.u64(at + 8)
		if !good || !whole && last != 0 && number != last+1 {
			next := bytes.Index(c.data[at+4:free], []byte("\x2a\x2a\x00\x00"))
			if !whole && c.u32(at) == 0 || next < 0 || good {
				return // nothing more, or what was there before
			}
			report.Lost++
			at += 4 + next
			last = 0
			continue
		}
		last = number
		c.record(at, size, report, want, each)
		at += size
	}
}

// record reads one.
func (c *chunk) record(at, size int, report *Report, want Wanted, each func(Event)) {
	const recordHead = 24
	p := &parser{c: c, at: at + recordHead, end: at + size - 4}
	i, err := p.instance(0)
	if err != nil {
		report.Lost++
		return
	}
	provider, id, ok := i.head()
	if !ok {
		report.Lost++
		return
	}
	if !want(provider, id) {
		return
	}
	e := Event{
		Record: c.u64(at + 8), Time: hive.Time(c.u64(at + 16)), Provider: provider, ID: id,
	}
	if err := i.fill(&e); err != nil {
		report.Lost++
		return
	}
	each(e)
}

// A fault is a place of a chunk that is not as it has to be.
type fault struct {
	at   int
	what string
}

func (f *fault) Error() string { return fmt.Sprintf("at %#x: %s", f.at, f.what) }
