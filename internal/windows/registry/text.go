package registry

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
)

// Text is what a text file of Windows holds. It is UTF-16 where it begins with
// its mark, or every second byte of its begin is none; else as it is.
func Text(raw []byte) string {
	switch {
	case bytes.HasPrefix(raw, []byte{0xFF, 0xFE}):
		return wide(raw[2:], binary.LittleEndian)
	case bytes.HasPrefix(raw, []byte{0xFE, 0xFF}):
		return wide(raw[2:], binary.BigEndian)
	case len(raw) >= 4 && raw[1] == 0 && raw[3] == 0:
		return wide(raw, binary.LittleEndian)
	}
	return string(bytes.TrimPrefix(raw, []byte{0xEF, 0xBB, 0xBF}))
}

func wide(raw []byte, order binary.ByteOrder) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = order.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}
