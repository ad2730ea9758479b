package write

import (
	"encoding/binary"
	"unicode/utf16"
)

// A Link is what a shortcut is to say; what is empty is left out of it.
type Link struct {
	// Target is the path of what it launches; one that begins with % stands in
	// the shortcut with its variables.
	Target     string
	Relative   string // to the shortcut's own folder
	Arguments  string
	Name       string // its description
	Folder     string // in which it is launched
	Advertised bool   // what it launches is known to the installer alone
}

// Bits of the head's flags, and what each head has ([MS-SHLLINK] 2.1).
const (
	linkInfo      = 1 << 1
	linkName      = 1 << 2
	linkRelative  = 1 << 3
	linkFolder    = 1 << 4
	linkArguments = 1 << 5
	linkUnicode   = 1 << 7

	linkClass = "\x01\x14\x02\x00\x00\x00\x00\x00\xC0\x00\x00\x00\x00\x00\x00\x46"
)

// Shortcut returns the file of a shortcut.
func Shortcut(l Link) []byte {
	flags := uint32(linkUnicode)
	var body []byte
	variable := ""
	switch {
	case l.Target == "":
	case l.Target[0] == '%':
		variable = l.Target
	default:
		flags |= linkInfo
		body = append(body, linkInfoOf(l.Target)...)
	}
	for _, s := range []struct {
		bit  uint32
		text string
	}{
		{linkName, l.Name}, {linkRelative, l.Relative}, {linkFolder, l.Folder},
		{linkArguments, l.Arguments},
	} {
		if s.text == "" {
			continue
		}
		flags |= s.bit
		units := utf16.Encode([]rune(s.text))
		body = binary.LittleEndian.AppendUint16(body, uint16(len(units)))
		body = append(body, wide(s.text)...)
	}
	if variable != "" {
		block := make([]byte, 8+260+520)
		binary.LittleEndian.PutUint32(block, uint32(len(block)))
		binary.LittleEndian.PutUint32(block[4:], 0xA0000001)
		copy(block[8:267], variable)
		copy(block[268:786], wide(variable))
		body = append(body, block...)
		flags |= 0x200
	}
	if l.Advertised {
		block := make([]byte, 8+260+520)
		binary.LittleEndian.PutUint32(block, uint32(len(block)))
		binary.LittleEndian.PutUint32(block[4:], 0xA0000006)
		body = append(body, block...)
		flags |= 0x1000
	}
	head := make([]byte, 76)
	binary.LittleEndian.PutUint32(head, 76)
	copy(head[4:], linkClass)
	binary.LittleEndian.PutUint32(head[20:], flags)
	binary.LittleEndian.PutUint32(head[60:], 1) // shown as a window
	return append(append(head, body...), 0, 0, 0, 0)
}

// linkInfoOf says that a file is on a fixed disk, and where.
func linkInfoOf(target string) []byte {
	const head, volume = 0x24, 17
	ansi := make([]byte, 0, len(target)+1)
	for _, r := range target {
		if r > 0xFF {
			r = '?'
		}
		ansi = append(ansi, byte(r))
	}
	ansi = append(ansi, 0)
	text := append(wide(target), 0, 0)
	at := head + volume
	info := make([]byte, at)
	u := func(place, v int) { binary.LittleEndian.PutUint32(info[place:], uint32(v)) }
	u(4, head)
	u(8, 1)
	u(12, head)
	u(16, at)
	u(24, at+len(ansi)-1)
	u(28, at+len(ansi))
	u(32, at+len(ansi)+len(text)-2)
	u(head, volume)
	u(head+4, 3) // fixed
	u(head+12, 16)
	info = append(append(info, ansi...), text...)
	binary.LittleEndian.PutUint32(info, uint32(len(info)))
	return info
}

// OldShortcut returns a shortcut as older programs made them: its only path
// stands in the code page of the machine.
func OldShortcut(target []byte) []byte {
	info := make([]byte, 28)
	for at, n := range map[int]int{
		0: len(info) + len(target) + 2, 4: len(info), 8: 1, 16: len(info),
		24: len(info) + len(target) + 1,
	} {
		binary.LittleEndian.PutUint32(info[at:], uint32(n))
	}
	raw := Shortcut(Link{})[:76]
	binary.LittleEndian.PutUint32(raw[20:], linkInfo)
	return append(append(append(raw, info...), target...), 0, 0)
}
