package write

import (
	"encoding/binary"
	"strings"
	"time"
)

// Prefetch is what the system notes of a program that it launches. That is its
// name, when it ran last, and the paths of what was read then, its own among
// them. It has the form of a version, and is not packed.
func Prefetch(version uint32, name string, last time.Time, paths ...string) []byte {
	const (
		head     = 84
		fileInfo = 220
		names    = head + 16
	)
	out := make([]byte, head+fileInfo)
	binary.LittleEndian.PutUint32(out, version)
	copy(out[4:], "SCCA")
	copy(out[16:74], wide(name)) // 29 units and a zero
	text := wide(strings.Join(paths, "\x00") + "\x00")
	binary.LittleEndian.PutUint32(out[names:], uint32(len(out)))
	binary.LittleEndian.PutUint32(out[names+4:], uint32(len(text)))
	ran := head + 44
	if version == 17 {
		ran = head + 36
	}
	binary.LittleEndian.PutUint64(out[ran:], filetime(last))
	return append(out, text...)
}
