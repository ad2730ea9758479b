package hive

import (
	"encoding/binary"
	"slices"
	"time"
	"unicode/utf16"
)

// Filetime returns an instant in units of 100 ns since 1601, as Windows counts
// ([MS-DTYP] 2.3.3); 0 for the zero time.
func Filetime(t time.Time) uint64 {
	const to1970 = 116444736000000000
	if t.IsZero() {
		return 0
	}
	return uint64(t.UnixNano()/100 + to1970)
}

// wide is a text in UTF-16.
func wide(text string) []byte {
	var raw []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, unit)
	}
	return raw
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

// A namedCell is a key of a list, with the sign that a list has of it already.
type namedCell struct {
	name   string
	at     uint32
	sign   [4]byte
	signed bool
}

// listed is a list of keys of the kind lf, lh or li.
func listed(kind string, keys []namedCell) []byte {
	cell := binary.LittleEndian.AppendUint16([]byte(kind), uint16(len(keys)))
	for _, k := range keys {
		cell = binary.LittleEndian.AppendUint32(cell, k.at)
		sign := k.sign
		switch {
		case kind == "li":
			continue
		case k.signed: // as it was found, right or wrong
		case kind == "lh":
			binary.LittleEndian.PutUint32(sign[:], hashOf(k.name))
		default:
			name, _ := encoded(k.name)
			copy(sign[:], name)
		}
		cell = append(cell, sign[:]...)
	}
	return cell
}

// less orders names as the registry does: by units in upper case.
func less(a, b namedCell) int {
	return slices.Compare(utf16.Encode([]rune(Upper(a.name))), utf16.Encode([]rune(Upper(b.name))))
}
