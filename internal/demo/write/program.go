package write

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"slices"
)

// A ProgramInfo is what a program is to say of itself; what is empty is left
// out.
type ProgramInfo struct {
	Maker, Description, Product, Version string
	Signed                               bool // room for a signature is in it
}

// The types of resources.
const (
	resourceText    = 6
	resourceVersion = 16
)

// Program returns the file of a program that does nothing: with a version
// resource, and texts by their numbers.
func Program(info ProgramInfo, texts map[uint32]string) []byte {
	const align, base = 0x200, 0x1000
	resources := resources(Version(info), texts, base)
	var b bytes.Buffer
	head := make([]byte, 0x40)
	copy(head, "MZ")
	binary.LittleEndian.PutUint32(head[60:], 0x40)
	b.Write(head)
	b.WriteString("PE\x00\x00")
	put := func(values ...any) {
		for _, v := range values {
			_ = binary.Write(&b, binary.LittleEndian, v) // a buffer takes all
		}
	}
	const optional = 240
	put(uint16(0x8664), uint16(1), uint32(0), uint32(0), uint32(0), uint16(optional), uint16(0x22))
	size := (len(resources) + align - 1) / align * align
	signature := uint32(0)
	if info.Signed {
		signature = uint32(align + size)
	}
	o := make([]byte, optional)
	binary.LittleEndian.PutUint16(o, 0x20b)
	binary.LittleEndian.PutUint32(o[108:], 16)
	binary.LittleEndian.PutUint32(o[112+16:], base)
	binary.LittleEndian.PutUint32(o[112+20:], uint32(len(resources)))
	binary.LittleEndian.PutUint32(o[112+32:], signature)
	binary.LittleEndian.PutUint32(o[112+36:], 8)
	b.Write(o)
	b.WriteString(".rsrc\x00\x00\x00")
	put(uint32(len(resources)), uint32(base), uint32(size), uint32(align), uint32(0), uint32(0),
		uint32(0), uint32(0x40000040))
	b.Write(make([]byte, align-b.Len()))
	b.Write(resources)
	b.Write(make([]byte, size-len(resources)))
	if info.Signed {
		b.Write(make([]byte, 8))
	}
	return b.Bytes()
}

// resources lays them out: the version, and texts in blocks of sixteen.
func resources(version []byte, texts map[uint32]string, base uint32) []byte {
	type leaf struct {
		kind, id uint32
		data     []byte
	}
	var leaves []leaf
	blocks := map[uint32][16]string{}
	for id, text := range texts {
		all := blocks[id/16+1]
		all[id%16] = text
		blocks[id/16+1] = all
	}
	for id, all := range blocks {
		var data []byte
		for _, text := range all {
			raw := wide(text)
			data = binary.LittleEndian.AppendUint16(data, uint16(len(raw)/2))
			data = append(data, raw...)
		}
		leaves = append(leaves, leaf{resourceText, id, data})
	}
	leaves = append(leaves, leaf{resourceVersion, 1, version})
	slices.SortFunc(leaves, func(a, b leaf) int {
		return cmp.Or(cmp.Compare(a.kind, b.kind), cmp.Compare(a.id, b.id))
	})
	kinds := map[uint32][]leaf{}
	var order []uint32
	for _, l := range leaves {
		if kinds[l.kind] == nil {
			order = append(order, l.kind)
		}
		kinds[l.kind] = append(kinds[l.kind], l)
	}
	const inner = 1 << 31
	head := func(n int) []byte {
		h := make([]byte, 16)
		binary.LittleEndian.PutUint16(h[14:], uint16(n))
		return h
	}
	level := func(h []byte, id, to uint32) []byte {
		return binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(h, id), to)
	}
	at := uint32(16 + 8*len(order)) // where the next level begins
	out := head(len(order))
	for _, kind := range order {
		out = level(out, kind, inner|at)
		at += uint32(16 + 8*len(kinds[kind]))
	}
	names := at
	for _, kind := range order {
		out = append(out, head(len(kinds[kind]))...)
		for _, l := range kinds[kind] {
			out = level(out, l.id, inner|names)
			names += 24
		}
	}
	ends := names
	for range leaves {
		out = append(out, head(1)...)
		out = level(out, 0x409, ends)
		ends += 16
	}
	data := ends
	var all []byte
	for _, kind := range order {
		for _, l := range kinds[kind] {
			out = level(out, base+data, uint32(len(l.data)))
			out = append(out, make([]byte, 8)...)
			padded := append(l.data, make([]byte, -len(l.data)&3)...)
			all, data = append(all, padded...), data+uint32(len(padded))
		}
	}
	return append(out, all...)
}

// Version returns the version resource of a program.
func Version(info ProgramInfo) []byte {
	var strings []byte
	for _, s := range [][2]string{
		{"CompanyName", info.Maker}, {"FileDescription", info.Description},
		{"FileVersion", info.Version}, {"ProductName", info.Product},
	} {
		if s[1] != "" {
			strings = append(strings, blockBytes(s[0], s[1], nil)...)
		}
	}
	table := blockBytes("040904b0", "", strings)
	file := blockBytes("StringFileInfo", "", table)
	return blockBytes("VS_VERSION_INFO", "", file)
}

func blockBytes(key, text string, children []byte) []byte {
	pad := func(b []byte) []byte { return append(b, make([]byte, -len(b)&3)...) }
	b := pad(append(make([]byte, 6), wide(key+"\x00")...))
	if text != "" {
		raw := wide(text + "\x00")
		binary.LittleEndian.PutUint16(b[2:], uint16(len(raw)/2))
		b = pad(append(b, raw...))
	}
	binary.LittleEndian.PutUint16(b[4:], 1)
	b = append(b, children...)
	binary.LittleEndian.PutUint16(b, uint16(len(b)))
	return b
}
