// Package write makes files of foreign operating systems: registry hives, event
// logs, shortcuts, programs, and the logs of Linux. The demo machines and the
// tests consist of them.
//
// Nothing of it is shared with the packages that read these files, but for the
// layout of Linux's log. A mistake of one side cannot hide in the other.
package write

import (
	"encoding/binary"
	"time"
	"unicode/utf16"
)

// wide returns a text in UTF-16, little-endian, without a NUL.
func wide(text string) []byte {
	var raw []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, unit)
	}
	return raw
}

// filetime returns an instant in units of 100 ns since 1601, as Windows counts
// ([MS-DTYP] 2.3.3); 0 for the zero time.
func filetime(t time.Time) uint64 {
	const to1970 = 116444736000000000
	if t.IsZero() {
		return 0
	}
	return uint64(t.UnixNano()/100 + to1970)
}
