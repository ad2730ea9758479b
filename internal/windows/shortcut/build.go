package shortcut

import (
	"encoding/binary"
	"unicode/utf16"
)

// Build makes the file of a shortcut: its first target stands in it as a path,
// or with variables where it begins with %.
func Build(l Link) []byte {
	flags := uint32(isUnicode)
	var body []byte
	variable := ""
	if len(l.Targets) > 0 && l.Targets[0] != "" {
		if l.Targets[0][0] == '%' {
			variable = l.Targets[0]
		} else {
			flags |= hasInfo
			body = append(body, infoOf(l.Targets[0])...)
		}
	}
	for _, s := range []struct {
		bit  uint32
		text string
	}{
		{hasName, l.Name}, {hasRelative, l.Relative}, {hasFolder, l.Folder},
		{hasArguments, l.Arguments},
	} {
		if s.text == "" {
			continue
		}
		flags |= s.bit
		units := utf16.Encode([]rune(s.text))
		body = binary.LittleEndian.AppendUint16(body, uint16(len(units)))
		body = append(body, wideOf(s.text)...)
	}
	if variable != "" {
		block := make([]byte, 8+260+520)
		binary.LittleEndian.PutUint32(block, uint32(len(block)))
		binary.LittleEndian.PutUint32(block[4:], 0xA0000001)
		copy(block[8:267], variable)
		copy(block[268:786], wideOf(variable))
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
	copy(head[4:], class)
	binary.LittleEndian.PutUint32(head[20:], flags)
	binary.LittleEndian.PutUint32(head[60:], 1) // shown as a window
	return append(append(head, body...), 0, 0, 0, 0)
}

// infoOf is where a file on a fixed disk is.
func infoOf(target string) []byte {
	const head, volume = 0x24, 17
	ansi := make([]byte, 0, len(target)+1)
	for _, r := range target {
		if r > 0xFF {
			r = '?'
		}
		ansi = append(ansi, byte(r))
	}
	ansi = append(ansi, 0)
	text := append(wideOf(target), 0, 0)
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

func wideOf(text string) (raw []byte) {
	for _, u := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	return raw
}

// BuildOld makes a shortcut as older programs did, whose only path stands in
// the code page of the machine.
func BuildOld(target []byte) []byte {
	info := make([]byte, 28)
	for at, n := range map[int]int{
		0: len(info) + len(target) + 2, 4: len(info), 8: 1, 16: len(info),
		24: len(info) + len(target) + 1,
	} {
		binary.LittleEndian.PutUint32(info[at:], uint32(n))
	}
	raw := Build(Link{})[:76]
	binary.LittleEndian.PutUint32(raw[20:], hasInfo)
	return append(append(append(raw, info...), target...), 0, 0)
}
