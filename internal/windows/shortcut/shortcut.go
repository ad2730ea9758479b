// Package shortcut reads shortcut files (.lnk): what they launch.
//
// The format is described in [MS-SHLLINK], "Shell Link Binary File Format".
package shortcut

import (
	"encoding/binary"
	"errors"
	"strings"
	"unicode/utf16"

	"calmdawn/internal/windows/codepage"
)

// A Link is what a shortcut says.
type Link struct {
	// variables in them, absolute, or made= variables in them, are absolute, or
	// are made
	Targets   []string
	Relative  string // to the shortcut's own folder
	Arguments string
	Name      string // its description
	Folder    string // in which it is launched
	// Advertised: what it launches is known to the installer alone.
	Advertised bool
}

// MaxSize bounds a shortcut, in bytes.
const MaxSize = 1 << 20

// Bits of the head's flags.
const (
	hasList      = 1 << 0
	hasInfo      = 1 << 1
	hasName      = 1 << 2
	hasRelative  = 1 << 3
	hasFolder    = 1 << 4
	hasArguments = 1 << 5
	hasIcon      = 1 << 6
	isUnicode    = 1 << 7
)

var class = []byte{0x01, 0x14, 0x02, 0, 0, 0, 0, 0, 0xC0, 0, 0, 0, 0, 0, 0, 0x46}

var errNone = errors.New("it is not a shortcut")

// Parse reads a shortcut of a machine with a code page, which texts are in that
// are not Unicode. What is damaged in it is left out.
func Parse(raw []byte, page codepage.Page) (Link, error) {
	const head = 76
	if len(raw) < head || binary.LittleEndian.Uint32(raw) != head ||
		string(raw[4:20]) != string(class) {
		return Link{}, errNone
	}
	flags := binary.LittleEndian.Uint32(raw[20:])
	var l Link
	var listed, info string
	rest := raw[head:]
	if flags&hasList != 0 {
		list, after, ok := counted(rest, 1)
		if !ok {
			return l, nil
		}
		listed, rest = names(list, page), after
	}
	if flags&hasInfo != 0 {
		if len(rest) < 4 {
			return l, nil
		}
		size := binary.LittleEndian.Uint32(rest)
		if size < 4 || int64(size) > int64(len(rest)) {
			return l, nil
		}
		info, rest = local(rest[:size], page), rest[size:]
	}
	for _, s := range []struct {
		bit uint32
		to  *string
	}{
		{hasName, &l.Name}, {hasRelative, &l.Relative}, {hasFolder, &l.Folder},
		{hasArguments, &l.Arguments}, {hasIcon, new(string)},
	} {
		if flags&s.bit == 0 {
			continue
		}
		unit := 1
		if flags&isUnicode != 0 {
			unit = 2
		}
		text, after, ok := counted(rest, unit)
		if !ok {
			break
		}
		if *s.to, rest = page.Text(text), after; unit == 2 {
			*s.to = wide(text)
		}
	}
	variable := l.blocks(rest, page)
	for _, target := range []string{variable, info, listed} {
		if target != "" {
			l.Targets = append(l.Targets, target)
		}
	}
	return l, nil
}

// counted returns what stands behind a count of units, and what is behind that.
func counted(raw []byte, unit int) (text, rest []byte, ok bool) {
	if len(raw) < 2 {
		return nil, nil, false
	}
	n := int(binary.LittleEndian.Uint16(raw)) * unit
	if 2+n > len(raw) {
		return nil, nil, false
	}
	return raw[2 : 2+n], raw[2+n:], true
}

// blocks reads what stands behind everything else, and returns a target with
// variables in it; empty where there is none.
func (l *Link) blocks(raw []byte, page codepage.Page) (target string) {
	const variables, installer = 0xA0000001, 0xA0000006
	for len(raw) >= 8 {
		size := binary.LittleEndian.Uint32(raw)
		if size < 8 || int64(size) > int64(len(raw)) {
			return target
		}
		switch binary.LittleEndian.Uint32(raw[4:]) {
		case variables:
			const ansi, all = 8 + 260, 8 + 260 + 520
			if size >= all {
				target = until0(wide(raw[ansi:all]))
			}
			if target == "" && size >= ansi {
				target = until0(page.Text(raw[8:ansi]))
			}
		case installer:
			l.Advertised = true
		}
		raw = raw[size:]
	}
	return target
}

// local is the path of a file on this computer, or of a share, out of what a
// shortcut knows of where it is.
func local(raw []byte, page codepage.Page) string {
	const head = 28
	if len(raw) < head {
		return ""
	}
	u := func(at int) int { return int(binary.LittleEndian.Uint32(raw[at:])) }
	text := func(at int, isWide bool) string {
		if at <= 0 || at >= len(raw) {
			return ""
		}
		if isWide {
			return until0(wide(raw[at:]))
		}
		return until0(page.Text(raw[at:]))
	}
	const isLocal, isShare = 1, 2
	suffix := text(u(24), false)
	if u(4) >= 0x24 && len(raw) >= 0x24 {
		if s := text(u(32), true); s != "" {
			suffix = s
		}
		if base := text(u(28), true); base != "" && u(8)&isLocal != 0 {
			return join(base, suffix)
		}
	}
	switch {
	case u(8)&isLocal != 0:
		return join(text(u(16), false), suffix)
	case u(8)&isShare != 0:
		share := u(20)
		if share <= 0 || share+20 > len(raw) {
			return ""
		}
		name := share + int(binary.LittleEndian.Uint32(raw[share+8:]))
		return join(text(name, false), suffix)
	}
	return ""
}

func join(base, rest string) string {
	if base == "" || rest == "" || strings.HasSuffix(base, `\`) {
		return base + rest
	}
	return base + `\` + rest
}

// names makes a path of a list of items: a drive, folders, a file. Where one of
// them has no name, there is none.
func names(list []byte, page codepage.Page) string {
	var parts []string
	for {
		if len(list) < 2 {
			break
		}
		size := int(binary.LittleEndian.Uint16(list))
		if size < 3 || size > len(list) {
			break
		}
		it := list[:size]
		list = list[size:]
		switch kind := it[2]; {
		case kind == 0x1F: // the desktop's own root
		case kind&0x70 == 0x20 && size > 4:
			parts = append(parts, strings.TrimRight(until0(page.Text(it[3:])), `\`))
		case kind&0x70 == 0x30:
			name := long(it)
			if name == "" && size > 14 {
				name = until0(page.Text(it[14:]))
			}
			if name == "" {
				return ""
			}
			parts = append(parts, name)
		default:
			return ""
		}
	}
	if len(parts) < 2 || !strings.HasSuffix(parts[0], ":") {
		return ""
	}
	return strings.Join(parts, `\`)
}

// long is the long name of an item, in a block at its end that the last bytes
// of the item point to.
func long(it []byte) string {
	const signature = 0xBEEF0004
	at := int(binary.LittleEndian.Uint16(it[len(it)-2:]))
	if at < 14 || at+20 > len(it) {
		return ""
	}
	b := it[at:]
	if binary.LittleEndian.Uint32(b[4:]) != signature {
		return ""
	}
	// how much stands before the name grew with each version of the block
	before := map[uint16]int{3: 20, 7: 38, 8: 42, 9: 46}[binary.LittleEndian.Uint16(b[2:])]
	if before == 0 || before >= len(b) {
		return ""
	}
	return until0(wide(b[before:]))
}

func until0(text string) string {
	text, _, _ = strings.Cut(text, "\x00")
	return text
}

func wide(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}
