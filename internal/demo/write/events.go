package write

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"maps"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
)

// An Event is one record of a log that is to be written.
type Event struct {
	Time     time.Time
	Provider string // who wrote it
	ID       uint16
	Level    uint8
	Channel  string
	Computer string
	User     string // a SID; empty where the event names none
	Data     []Field
	// UserData, where it is not empty, names the element in which the data
	// stand as elements of their own.
	UserData string
}

// A Field is one datum of an event; its name may be empty.
type Field struct {
	Name  string
	Value Value
}

// A Value is a datum: its type ([MS-EVEN6] 2.2.12), and its bytes.
type Value struct {
	Type byte
	Data []byte
}

// The types of values that are written.
const (
	typeText     = 0x01
	typeUint8    = 0x04
	typeUint16   = 0x06
	typeUint32   = 0x08
	typeUint64   = 0x0A
	typeBool     = 0x0D
	typeBinary   = 0x0E
	typeFiletime = 0x11
	typeSID      = 0x13
	typeHex32    = 0x14
)

// What the parts of an event begin with ([MS-EVEN6] 2.2.12).
const (
	tokenEnd       = 0x00
	tokenOpen      = 0x01
	tokenClose     = 0x02
	tokenEmpty     = 0x03
	tokenEndOf     = 0x04
	tokenValue     = 0x05
	tokenAttribute = 0x06
	tokenTemplate  = 0x0C
	tokenOptional  = 0x0E
	tokenFragment  = 0x0F
	tokenMore      = 0x40
)

// Sizes in a log, in bytes.
const (
	logHead   = 4096
	chunkSize = 64 << 10
	chunkHead = 512
)

// Text is a datum of a text.
func Text(text string) Value { return Value{Type: typeText, Data: wide(text)} }

// Uint32 is a number of four bytes.
func Uint32(n uint32) Value {
	return Value{Type: typeUint32, Data: binary.LittleEndian.AppendUint32(nil, n)}
}

// Uint64 is a number of eight bytes.
func Uint64(n uint64) Value {
	return Value{Type: typeUint64, Data: binary.LittleEndian.AppendUint64(nil, n)}
}

// Hex32 is a number of four bytes that is written in digits of sixteen.
func Hex32(n uint32) Value {
	return Value{Type: typeHex32, Data: binary.LittleEndian.AppendUint32(nil, n)}
}

// Bool is true or false.
func Bool(is bool) Value {
	n := uint32(0)
	if is {
		n = 1
	}
	return Value{Type: typeBool, Data: binary.LittleEndian.AppendUint32(nil, n)}
}

// Instant is a moment.
func Instant(t time.Time) Value {
	return Value{Type: typeFiletime, Data: binary.LittleEndian.AppendUint64(nil, filetime(t))}
}

// Binary is bytes. The one field of that name stands in an element of its own.
func Binary(data []byte) Value { return Value{Type: typeBinary, Data: data} }

// SID is an account by its number, "S-1-5-…"; of what is none, no value.
func SID(text string) Value {
	parts := strings.Split(text, "-")
	if len(parts) < 3 || parts[0] != "S" {
		return Value{}
	}
	raw := []byte{1, byte(len(parts) - 3)}
	for i, part := range parts[2:] {
		n, err := strconv.ParseUint(part, 10, 48)
		if err != nil {
			return Value{}
		}
		if i == 0 {
			for shift := 40; shift >= 0; shift -= 8 {
				raw = append(raw, byte(n>>shift))
			}
			continue
		}
		raw = binary.LittleEndian.AppendUint32(raw, uint32(n))
	}
	return Value{Type: typeSID, Data: raw}
}

// A chunk is one part of a log, as it grows.
type chunk struct {
	data      []byte
	names     map[string]int
	templates map[string]int
	first     uint64
	count     int
	last      int // where the last record begins
}

func newChunk(first uint64) *chunk {
	return &chunk{
		data: make([]byte, chunkHead), names: map[string]int{}, templates: map[string]int{},
		first: first,
	}
}

// EventLog returns a log of events, whose numbers count from first on. A dirty
// one was not closed: its head is that of the empty log that it once was.
func EventLog(all []Event, first uint64, dirty bool) []byte {
	var chunks [][]byte
	b := newChunk(first)
	next := first
	for _, e := range all {
		before := *b
		names, templates := maps.Clone(b.names), maps.Clone(b.templates)
		if !b.add(e, next) {
			before.names, before.templates = names, templates
			chunks = append(chunks, before.close())
			b = newChunk(next)
			b.add(e, next)
		}
		next++
	}
	chunks = append(chunks, b.close())
	head := make([]byte, logHead)
	copy(head, "ElfFile\x00")
	put := func(at int, n uint64) { binary.LittleEndian.PutUint64(head[at:], n) }
	binary.LittleEndian.PutUint32(head[32:], 128)
	for i, n := range []uint16{1, 3, logHead} {
		binary.LittleEndian.PutUint16(head[36+2*i:], n)
	}
	if dirty {
		put(24, first)
		binary.LittleEndian.PutUint16(head[42:], 1)
		binary.LittleEndian.PutUint32(head[120:], 1)
	} else {
		put(16, uint64(len(chunks)-1))
		put(24, next)
		binary.LittleEndian.PutUint16(head[42:], uint16(len(chunks)))
	}
	binary.LittleEndian.PutUint32(head[124:], crc32.ChecksumIEEE(head[:120]))
	for _, c := range chunks {
		head = append(head, c...)
	}
	return head
}

func (b *chunk) u8(n byte)       { b.data = append(b.data, n) }
func (b *chunk) u16(n uint16)    { b.data = binary.LittleEndian.AppendUint16(b.data, n) }
func (b *chunk) u32(n uint32)    { b.data = binary.LittleEndian.AppendUint32(b.data, n) }
func (b *chunk) u64(n uint64)    { b.data = binary.LittleEndian.AppendUint64(b.data, n) }
func (b *chunk) put(at, n int)   { binary.LittleEndian.PutUint32(b.data[at:], uint32(n)) }
func (b *chunk) bytes(p ...byte) { b.data = append(b.data, p...) }

func (b *chunk) wide(text string) {
	b.bytes(wide(text)...)
}

// name writes where a name stands, and the name where it is new.
func (b *chunk) name(text string) {
	if at, known := b.names[text]; known {
		b.u32(uint32(at))
		return
	}
	at := len(b.data) + 4
	b.names[text] = at
	b.u32(uint32(at))
	units := utf16.Encode([]rune(text))
	hash := uint32(0)
	for _, u := range units {
		hash = hash*65599 + uint32(u)
	}
	b.u32(0)
	b.u16(uint16(hash))
	b.u16(uint16(len(units)))
	b.wide(text)
	b.u16(0)
}

// place is what an event puts into its template: of a number and a type.
type place struct {
	n    int
	kind byte
}

func (b *chunk) content(c any) {
	switch c := c.(type) {
	case string:
		b.bytes(tokenValue, typeText)
		b.u16(uint16(len(utf16.Encode([]rune(c)))))
		b.wide(c)
	case place:
		b.u8(tokenOptional)
		b.u16(uint16(c.n))
		b.u8(c.kind)
	case func():
		c()
	}
}

// element writes one with attributes, as names and what they hold, and what
// stands in it.
func (b *chunk) element(name string, attrs []any, inside ...any) {
	token := byte(tokenOpen)
	if len(attrs) > 0 {
		token |= tokenMore
	}
	b.u8(token)
	b.u16(0xFFFF)
	size := len(b.data)
	b.u32(0)
	b.name(name)
	if len(attrs) > 0 {
		list := len(b.data)
		b.u32(0)
		for i := 0; i < len(attrs); i += 2 {
			token := byte(tokenAttribute)
			if i+2 < len(attrs) {
				token |= tokenMore
			}
			b.u8(token)
			b.name(attrs[i].(string))
			b.content(attrs[i+1])
		}
		b.put(list, len(b.data)-list-4)
	}
	if len(inside) == 0 {
		b.u8(tokenEmpty)
	} else {
		b.u8(tokenClose)
		for _, one := range inside {
			b.content(one)
		}
		b.u8(tokenEndOf)
	}
	b.put(size, len(b.data)-size-4)
}

const places = 7 // of the head of an event; data follow

// form writes the template of events like one.
func (b *chunk) form(e Event) {
	element := func(name string, attrs []any, inside ...any) func() {
		return func() { b.element(name, attrs, inside...) }
	}
	b.bytes(tokenFragment, 1, 1, 0)
	system := element("System", nil,
		element("Provider", []any{"Name", e.Provider}),
		element("EventID", nil, place{0, typeUint16}),
		element("Level", nil, place{1, typeUint8}),
		element("TimeCreated", []any{"SystemTime", place{2, typeFiletime}}),
		element("EventRecordID", nil, place{3, typeUint64}),
		element("Channel", nil, place{4, typeText}),
		element("Computer", nil, place{5, typeText}),
		element("Security", []any{"UserID", place{6, typeSID}}))
	var data []any
	for i, f := range e.Data {
		if e.UserData != "" {
			data = append(data, element(f.Name, nil, place{places + i, f.Value.Type}))
			continue
		}
		if f.Name == "Binary" {
			data = append(data, element("Binary", nil, place{places + i, f.Value.Type}))
			continue
		}
		data = append(data, element("Data", []any{"Name", f.Name},
			place{places + i, f.Value.Type}))
	}
	b.element("Event", []any{"xmlns", "http://schemas.microsoft.com/win/2004/08/events/event"},
		system, func() {
			if e.UserData != "" {
				b.element("UserData", nil, element(e.UserData, nil, data...))
			} else {
				b.element("EventData", nil, data...)
			}
		})
	b.u8(tokenEnd)
}

// add writes an event; false where the chunk has no room for it, and is not to
// be used any more.
func (b *chunk) add(e Event, number uint64) bool {
	at := len(b.data)
	b.u32(0x2A2A)
	b.u32(0)
	b.u64(number)
	b.u64(filetime(e.Time))
	b.bytes(tokenFragment, 1, 1, 0, tokenTemplate, 1)
	shape := e.Provider + " " + e.UserData
	for _, f := range e.Data {
		shape += fmt.Sprintf("\x00%s %d", f.Name, f.Value.Type)
	}
	known, ok := b.templates[shape]
	id := len(b.templates) + 1
	b.u32(uint32(0x1000 + id))
	if ok {
		b.u32(uint32(known))
	} else {
		known = len(b.data) + 4
		b.templates[shape] = known
		b.u32(uint32(known))
		b.u32(0)
		b.u32(uint32(0x1000 + id))
		b.bytes(make([]byte, 12)...)
		size := len(b.data)
		b.u32(0)
		b.form(e)
		b.put(size, len(b.data)-size-4)
	}
	user := SID(e.User)
	values := []Value{
		{Type: typeUint16, Data: binary.LittleEndian.AppendUint16(nil, e.ID)},
		{Type: typeUint8, Data: []byte{e.Level}}, Instant(e.Time), Uint64(number),
		Text(e.Channel), Text(e.Computer), user,
	}
	for _, f := range e.Data {
		values = append(values, f.Value)
	}
	b.u32(uint32(len(values)))
	for _, v := range values {
		b.u16(uint16(len(v.Data)))
		b.bytes(v.Type, 0)
	}
	for _, v := range values {
		b.bytes(v.Data...)
	}
	b.u8(tokenEnd)
	for (len(b.data)-at+4)%8 != 0 {
		b.u8(0)
	}
	size := len(b.data) - at + 4
	b.put(at+4, size)
	b.u32(uint32(size))
	if len(b.data) > chunkSize {
		return false
	}
	b.count, b.last = b.count+1, at
	return true
}

// close finishes the chunk.
func (b *chunk) close() []byte {
	free := len(b.data)
	whole := append(b.data[:free:free], make([]byte, chunkSize-free)...)
	copy(whole, "ElfChnk\x00")
	last := b.first + uint64(max(1, b.count)) - 1
	for i, n := range []uint64{b.first, last, b.first, last} {
		binary.LittleEndian.PutUint64(whole[8+8*i:], n)
	}
	for i, n := range []uint32{128, uint32(b.last), uint32(free)} {
		binary.LittleEndian.PutUint32(whole[40+4*i:], n)
	}
	binary.LittleEndian.PutUint32(whole[52:], crc32.ChecksumIEEE(whole[chunkHead:free]))
	sum := crc32.ChecksumIEEE(whole[:120])
	sum = crc32.Update(sum, crc32.IEEETable, whole[128:chunkHead])
	binary.LittleEndian.PutUint32(whole[124:], sum)
	return whole
}

// AppendEvents returns a log with further events. The log has to be closed; one
// of no bytes begins anew.
func AppendEvents(log []byte, all []Event) []byte {
	if len(log) < logHead {
		return EventLog(all, 1, false)
	}
	first := binary.LittleEndian.Uint64(log[24:])
	more := EventLog(all, first, false)
	chunks := uint16((len(log)-logHead)/chunkSize) + binary.LittleEndian.Uint16(more[42:])
	whole := append(log[:len(log):len(log)], more[logHead:]...)
	head := whole[:logHead]
	binary.LittleEndian.PutUint64(head[16:], uint64(chunks)-1)
	binary.LittleEndian.PutUint64(head[24:], first+uint64(len(all)))
	binary.LittleEndian.PutUint16(head[42:], chunks)
	binary.LittleEndian.PutUint32(head[124:], crc32.ChecksumIEEE(head[:120]))
	return whole
}
