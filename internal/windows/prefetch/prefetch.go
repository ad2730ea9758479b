// Package prefetch reads what Windows notes of a program to launch it faster
// the next time: where it is, and when it ran last. No document of its maker
// describes the form. docs/windows.md says which fields are read.
package prefetch

import (
	"encoding/binary"
	"errors"
	"strings"
	"time"
	"unicode/utf16"

	"calmdawn/internal/windows/hive"
)

// A Run is a program and when it was launched last.
type Run struct {
	// Program is as \VOLUME{…}\Apps\a.exe, or behind the name of a device. It
	// is empty where the file does not tell.
	Program string
	Last    time.Time
}

// Most is how many bytes of a file are read at most, packed or not.
const Most = 16 << 20

var errForm = errors.New("is no note of launches in a form that is known")

// Read reads one file of C:\Windows\Prefetch, packed or not.
func Read(file []byte) (Run, error) {
	file, err := unpacked(file)
	if err != nil {
		return Run{}, err
	}
	const headEnd = 84 + 136
	if len(file) < headEnd || string(file[4:8]) != "SCCA" {
		return Run{}, errForm
	}
	number := func(at int) int { return int(binary.LittleEndian.Uint32(file[at:])) }
	last := 128
	switch number(0) {
	case 17: // Windows XP and its kin
		last = 120
	case 23, 26, 30, 31: // Windows 7, 8, 10 and 11: the newest of up to eight
	default:
		return Run{}, errForm
	}
	from, size := number(100), number(104)
	if from > len(file) || size > len(file)-from {
		return Run{}, errForm
	}
	name := text(file[16:76])
	run := Run{Last: hive.Time(binary.LittleEndian.Uint64(file[last:]))}
	for _, p := range strings.Split(text16(file[from:from+size]), "\x00") {
		if base := p[strings.LastIndex(p, `\`)+1:]; name != "" && Name(base) == Name(name) {
			run.Program = p
			return run, nil
		}
	}
	return run, nil
}

// Name is how a program's file is called in these notes: in capitals, the first
// 29 units of UTF-16.
func Name(base string) string {
	const room = 29
	units := utf16.Encode([]rune(strings.ToUpper(base)))
	return string(utf16.Decode(units[:min(room, len(units))]))
}

// text is what stands in front of the first zero.
func text(raw []byte) string {
	s, _, _ := strings.Cut(text16(raw), "\x00")
	return s
}

func text16(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}
