// Package program reads what a Windows program says of itself: its version
// resource, texts that it keeps for others, and whether a signature is inside.
package program

import (
	"debug/pe"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"unicode/utf16"
)

// An Info is what a program says of itself; empty where it does not.
type Info struct {
	Maker       string // CompanyName
	Description string
	Product     string
	Version     string // of the file, as its maker writes it
	Signed      bool   // a signature is inside; whether it is good is not looked at
	Signer      string // whom that names as its maker
}

const (
	textType    = 6
	versionType = 16

	mostEntries  = 4096 // of one level of the tree
	mostResource = 1 << 20
)

// A File is an open program.
type File struct {
	f         io.ReaderAt
	sections  []pe.SectionHeader
	resources uint32 // their address; 0 for none
	signed    uint32 // where in the file the signature is; 0 for none
}

// ErrNone tells that a file is no program. Another error is of reading it.
var ErrNone = errors.New("it is not a program")

// failed reports whether reading failed otherwise than at the end of the file.
func failed(err error) bool { return err != nil && !errors.Is(err, io.EOF) }

// Open reads the heads of a program. The file stays the caller's, and has to
// stay open.
func Open(f io.ReaderAt) (*File, error) {
	head := make([]byte, 64)
	if _, err := f.ReadAt(head, 0); failed(err) {
		return nil, err
	} else if err != nil || head[0] != 'M' || head[1] != 'Z' {
		return nil, ErrNone
	}
	at := int64(binary.LittleEndian.Uint32(head[60:]))
	head = make([]byte, 24)
	if _, err := f.ReadAt(head, at); failed(err) {
		return nil, err
	} else if err != nil || string(head[:4]) != "PE\x00\x00" {
		return nil, ErrNone
	}
	sections := int(binary.LittleEndian.Uint16(head[6:]))
	optional := make([]byte, binary.LittleEndian.Uint16(head[20:]))
	if _, err := f.ReadAt(optional, at+24); failed(err) {
		return nil, err
	} else if err != nil || len(optional) < 2 {
		return nil, ErrNone
	}
	directories := map[uint16]int{0x10b: 96, 0x20b: 112}[binary.LittleEndian.Uint16(optional)]
	p := &File{f: f}
	address := func(n int) uint32 {
		if i := directories + 8*n; directories > 0 && i+8 <= len(optional) {
			return binary.LittleEndian.Uint32(optional[i:])
		}
		return 0
	}
	p.resources = address(pe.IMAGE_DIRECTORY_ENTRY_RESOURCE)
	p.signed = address(pe.IMAGE_DIRECTORY_ENTRY_SECURITY)
	const most, size = 96, 40
	table := make([]byte, size*min(sections, most))
	if _, err := f.ReadAt(table, at+24+int64(len(optional))); err != nil {
		return nil, ErrNone
	}
	for ; len(table) >= size; table = table[size:] {
		u := func(i int) uint32 { return binary.LittleEndian.Uint32(table[i:]) }
		p.sections = append(p.sections, pe.SectionHeader{
			VirtualSize: u(8), VirtualAddress: u(12), Size: u(16), Offset: u(20),
		})
	}
	return p, nil
}

// bytes returns n bytes at an address of the loaded program.
func (p *File) bytes(address uint32, n int) ([]byte, error) {
	for _, s := range p.sections {
		inside := address - s.VirtualAddress
		if address < s.VirtualAddress || inside >= max(s.VirtualSize, s.Size) {
			continue
		}
		if int64(inside)+int64(n) > int64(s.Size) {
			return nil, ErrNone
		}
		raw := make([]byte, n)
		_, err := p.f.ReadAt(raw, int64(s.Offset)+int64(inside))
		return raw, err
	}
	return nil, ErrNone
}

// An entry is one of a level of the tree of resources.
type entry struct {
	id    uint32 // bit 31: it is named
	at    uint32 // in the tree
	inner bool   // it leads to a further level
}

func (p *File) level(at uint32) ([]entry, error) {
	head, err := p.bytes(p.resources+at, 16)
	if err != nil {
		return nil, err
	}
	n := int(binary.LittleEndian.Uint16(head[12:])) + int(binary.LittleEndian.Uint16(head[14:]))
	raw, err := p.bytes(p.resources+at+16, 8*min(n, mostEntries))
	if err != nil {
		return nil, err
	}
	var all []entry
	for ; len(raw) >= 8; raw = raw[8:] {
		to := binary.LittleEndian.Uint32(raw[4:])
		all = append(all, entry{binary.LittleEndian.Uint32(raw), to &^ (1 << 31), to>>31 != 0})
	}
	return all, nil
}

// resource returns the bytes of a resource, in the first of the languages that
// it has: those that are wished come first.
func (p *File) resource(kind, id uint32, languages ...uint32) ([]byte, error) {
	if p.resources == 0 {
		return nil, ErrNone
	}
	at := uint32(0)
	for depth, want := range []uint32{kind, id, 0} {
		entries, err := p.level(at)
		if err != nil {
			return nil, err
		}
		found := -1
		for i, e := range entries {
			if depth < 2 && e.id == want || depth == 2 && found < 0 {
				found = i
			}
		}
		for _, language := range languages {
			for i, e := range entries {
				if depth == 2 && e.id == language {
					found = i
				}
			}
		}
		if found < 0 || entries[found].inner != (depth < 2) {
			return nil, ErrNone
		}
		at = entries[found].at
	}
	leaf, err := p.bytes(p.resources+at, 16)
	if err != nil {
		return nil, err
	}
	size := binary.LittleEndian.Uint32(leaf[4:])
	if size > mostResource {
		return nil, ErrNone
	}
	return p.bytes(binary.LittleEndian.Uint32(leaf), int(size))
}

// Info reads the version resource.
func (p *File) Info() Info {
	info := Info{Signed: p.signed != 0, Signer: signer(p.signature())}
	raw, err := p.resource(versionType, 1)
	if err != nil {
		return info
	}
	root, _ := blockOf(raw)
	for _, strings := range root.children {
		if strings.key != "StringFileInfo" || len(strings.children) == 0 {
			continue
		}
		for _, s := range strings.children[0].children { // the first language
			switch s.key {
			case "CompanyName":
				info.Maker = s.text
			case "FileDescription":
				info.Description = s.text
			case "ProductName":
				info.Product = s.text
			case "FileVersion":
				info.Version = s.text
			}
		}
	}
	return info
}

// Text is a text that the program keeps under a number; false where it has
// none.
func (p *File) Text(id uint32) (string, bool) {
	raw, err := p.resource(textType, id/16+1)
	if err != nil {
		return "", false
	}
	for n := uint32(0); len(raw) >= 2; n++ {
		size := 2 * int(binary.LittleEndian.Uint16(raw))
		raw = raw[2:]
		if size > len(raw) {
			return "", false
		}
		if n == id%16 {
			return wide(raw[:size]), size > 0
		}
		raw = raw[size:]
	}
	return "", false
}

// A block is one of a version resource.
type block struct {
	key      string
	text     string
	children []block
}

// blockOf reads a block, and returns what stands behind it.
func blockOf(raw []byte) (b block, rest []byte) { return nested(raw, 0) }

func nested(raw []byte, depth int) (b block, rest []byte) {
	const head, deepest, most = 6, 4, 200
	if len(raw) < head {
		return b, nil
	}
	size := int(binary.LittleEndian.Uint16(raw))
	value := int(binary.LittleEndian.Uint16(raw[2:]))
	isText := binary.LittleEndian.Uint16(raw[4:]) == 1
	if size < head || size > len(raw) {
		size = len(raw)
	}
	own := raw[:size]
	at := head
	for at+2 <= len(own) && (own[at] != 0 || own[at+1] != 0) {
		at += 2
	}
	b.key = wide(own[head:at])
	at = (at + 2 + 3) &^ 3
	if isText {
		value *= 2
	}
	end := min(len(own), at+value)
	if at <= end && isText {
		b.text = strings.TrimSpace(strings.TrimRight(wide(own[at:end]), "\x00"))
	}
	for inner := (end + 3) &^ 3; inner < len(own) && depth < deepest && len(b.children) < most; {
		child, after := nested(own[inner:], depth+1)
		b.children = append(b.children, child)
		next := len(own) - len(after)
		if len(after) == 0 || next <= inner {
			break
		}
		inner = next
	}
	if next := (size + 3) &^ 3; next < len(raw) {
		rest = raw[next:]
	}
	return b, rest
}

func wide(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}
