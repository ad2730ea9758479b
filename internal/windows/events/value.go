package events

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"calmdawn/internal/windows/hive"
)

// The types of values ([MS-EVEN6] 2.2.12).
const (
	TypeNone     = 0x00
	TypeText     = 0x01
	TypeAnsi     = 0x02
	TypeInt8     = 0x03
	TypeUint8    = 0x04
	TypeInt16    = 0x05
	TypeUint16   = 0x06
	TypeInt32    = 0x07
	TypeUint32   = 0x08
	TypeInt64    = 0x09
	TypeUint64   = 0x0A
	TypeFloat32  = 0x0B
	TypeFloat64  = 0x0C
	TypeBool     = 0x0D
	TypeBinary   = 0x0E
	TypeGUID     = 0x0F
	TypeSize     = 0x10
	TypeFiletime = 0x11
	TypeSystem   = 0x12 // a time by its parts
	TypeSID      = 0x13
	TypeHex32    = 0x14
	TypeHex64    = 0x15
	typeXML      = 0x21
	typeArray    = 0x80
)

// A Value is one datum as a log holds it: a type and its bytes.
type Value struct {
	Type byte
	Data []byte

	at int // where it stands in the chunk
}

// kept is a value that outlives its chunk.
func (v Value) kept() Value { return Value{Type: v.Type, Data: slices.Clone(v.Data)} }

func textValue(text string) Value {
	var raw []byte
	for _, u := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	return Value{Type: TypeText, Data: raw}
}

// bits is a value of at most eight bytes as they stand.
func (v Value) bits() uint64 {
	var raw [8]byte
	copy(raw[:], v.Data)
	return binary.LittleEndian.Uint64(raw[:])
}

// Number is a value as a number; a text is one that reads as one, decimal or
// with 0x before it.
func (v Value) Number() (int64, bool) {
	switch v.Type {
	case TypeText, TypeAnsi:
		n, err := strconv.ParseInt(strings.TrimSpace(v.Text()), 0, 64)
		return n, err == nil
	case TypeInt8:
		return int64(int8(v.bits())), len(v.Data) >= 1
	case TypeInt16:
		return int64(int16(v.bits())), len(v.Data) >= 2
	case TypeInt32:
		return int64(int32(v.bits())), len(v.Data) >= 4
	case TypeUint8, TypeUint16, TypeUint32, TypeInt64, TypeUint64, TypeBool, TypeSize, TypeHex32,
		TypeHex64:
		return int64(v.bits()), len(v.Data) > 0 && len(v.Data) <= 8
	}
	return 0, false
}

// Time is a value as an instant; a text is one in the form of RFC 3339.
func (v Value) Time() (time.Time, bool) {
	switch v.Type {
	case TypeFiletime:
		t := hive.Time(v.bits())
		return t, len(v.Data) == 8 && !t.IsZero()
	case TypeText:
		t, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(v.Text()))
		return t.UTC(), err == nil
	case TypeSystem:
		if len(v.Data) != 16 {
			return time.Time{}, false
		}
		u := func(i int) int { return int(binary.LittleEndian.Uint16(v.Data[2*i:])) }
		return time.Date(u(0), time.Month(u(1)), u(3), u(4), u(5), u(6), u(7)*1e6, time.UTC), true
	}
	return time.Time{}, false
}

// Text is a value for people, as events are usually written.
func (v Value) Text() string {
	if v.Type&typeArray != 0 && v.Type != typeXML {
		return v.array()
	}
	switch v.Type {
	case TypeText:
		text, _, _ := strings.Cut(decode(v.Data), "\x00")
		return text
	case TypeAnsi:
		text, _, _ := strings.Cut(string(v.Data), "\x00")
		return strings.ToValidUTF8(text, "\uFFFD")
	case TypeUint64, TypeSize:
		return strconv.FormatUint(v.bits(), 10)
	case TypeBool:
		return strconv.FormatBool(v.bits() != 0)
	case TypeHex32, TypeHex64:
		return fmt.Sprintf("%#x", v.bits())
	case TypeFloat32:
		return strconv.FormatFloat(float64(math.Float32frombits(uint32(v.bits()))), 'g', -1, 32)
	case TypeFloat64:
		return strconv.FormatFloat(math.Float64frombits(v.bits()), 'g', -1, 64)
	case TypeBinary:
		return strings.ToUpper(hex.EncodeToString(v.Data))
	case TypeGUID:
		if len(v.Data) == 16 {
			return fmt.Sprintf("{%08x-%04x-%04x-%x-%x}", binary.LittleEndian.Uint32(v.Data),
				binary.LittleEndian.Uint16(v.Data[4:]), binary.LittleEndian.Uint16(v.Data[6:]),
				v.Data[8:10], v.Data[10:])
		}
	case TypeSID:
		return sid(v.Data)
	case TypeFiletime, TypeSystem:
		if t, ok := v.Time(); ok {
			return t.Format("2006-01-02T15:04:05.0000000Z")
		}
	}
	if n, ok := v.Number(); ok {
		return strconv.FormatInt(n, 10)
	}
	return ""
}

// array is a list of values, of texts with a NUL behind each.
func (v Value) array() string {
	one := v.Type &^ typeArray
	if one == TypeText {
		return strings.ReplaceAll(strings.TrimRight(decode(v.Data), "\x00"), "\x00", ", ")
	}
	size := map[byte]int{
		TypeInt8: 1, TypeUint8: 1, TypeInt16: 2, TypeUint16: 2, TypeInt32: 4, TypeUint32: 4,
		TypeHex32: 4, TypeInt64: 8, TypeUint64: 8, TypeHex64: 8, TypeFiletime: 8, TypeGUID: 16,
	}[one]
	if size == 0 {
		return strings.ToUpper(hex.EncodeToString(v.Data))
	}
	var all []string
	for raw := range slices.Chunk(v.Data, size) {
		all = append(all, Value{Type: one, Data: raw}.Text())
	}
	return strings.Join(all, ", ")
}

// sid is a number of an account ([MS-DTYP] 2.4.2).
func sid(raw []byte) string {
	if len(raw) < 8 || len(raw) < 8+4*int(raw[1]) {
		return ""
	}
	authority := uint64(0)
	for _, b := range raw[2:8] {
		authority = authority<<8 | uint64(b)
	}
	text := fmt.Sprintf("S-%d-%d", raw[0], authority)
	for i := range int(raw[1]) {
		text += fmt.Sprintf("-%d", binary.LittleEndian.Uint32(raw[8+4*i:]))
	}
	return text
}
