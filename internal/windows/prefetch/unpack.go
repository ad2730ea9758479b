package prefetch

import (
	"encoding/binary"
	"errors"
)

var errPacked = errors.New("is damaged where it is packed")

// unpacked is a file as it was before the system packed it; the same where it
// is not packed. A packed one begins with MAM, the way in which it is packed,
// and its size before.
func unpacked(file []byte) ([]byte, error) {
	const huffman, summed = 4, 0x80
	if len(file) < 8 || string(file[:3]) != "MAM" {
		return file, nil
	}
	size, rest := int(binary.LittleEndian.Uint32(file[4:])), file[8:]
	if file[3]&^summed != huffman || size > Most {
		return nil, errForm
	}
	if file[3]&summed != 0 {
		if len(rest) < 4 {
			return nil, errPacked
		}
		rest = rest[4:]
	}
	return unpack(rest, size)
}

// unpack undoes LZ77 with Huffman codes, by the open specification [MS-XCA],
// section 2.2. Each 64 KiB of output have a table of codes in front of them.
// The result has just the size, or an error says that it is damaged.
func unpack(in []byte, size int) ([]byte, error) {
	const block = 64 << 10
	out := make([]byte, 0, size)
	for len(out) < size {
		codes, err := newCodes(in)
		if err != nil {
			return nil, err
		}
		bits := newReader(in[tableSize:])
		for end := min(len(out)+block, size); len(out) < end; {
			symbol := codes.next(bits)
			if symbol < 0 || bits.damaged() {
				return nil, errPacked
			}
			if symbol < 256 {
				out = append(out, byte(symbol))
				continue
			}
			n, back := bits.match(symbol - 256)
			if bits.damaged() || back > len(out) || n > size-len(out) {
				return nil, errPacked
			}
			for range n { // a match may overlap what it makes
				out = append(out, out[len(out)-back])
			}
		}
		in = bits.in
	}
	return out, nil
}

const (
	tableSize = 256 // bytes, four bits for the length of each symbol's code
	symbols   = 512
	longest   = 15 // bits of a code
)

// codes tell which symbol's code 15 bits begin with, and how long each is.
type codes struct {
	symbol [1 << longest]int16 // -1 where no code begins so
	length [symbols]uint8
}

func newCodes(in []byte) (*codes, error) {
	if len(in) < tableSize {
		return nil, errPacked
	}
	c := &codes{}
	for i, b := range in[:tableSize] {
		c.length[2*i], c.length[2*i+1] = b&15, b>>4
	}
	at := 0
	for length := uint8(1); length <= longest; length++ {
		for symbol, l := range c.length {
			if l != length {
				continue
			}
			end := at + 1<<(longest-length)
			if end > len(c.symbol) {
				return nil, errPacked
			}
			for ; at < end; at++ {
				c.symbol[at] = int16(symbol)
			}
		}
	}
	for ; at < len(c.symbol); at++ {
		c.symbol[at] = -1
	}
	return c, nil
}

// next takes the next symbol; -1 for a code that is none.
func (c *codes) next(r *reader) int {
	symbol := int(c.symbol[r.bits>>(32-longest)])
	if symbol >= 0 {
		r.skip(int(c.length[symbol]))
	}
	return symbol
}

// A reader takes bits from words of 16, the highest first. Bytes among them
// stand where the next word would.
type reader struct {
	in    []byte
	bits  uint32 // those that come next, from the top
	extra int    // how many of them there are beyond 16
	over  int    // bits that were made up behind the end, to read ahead
	wrong bool   // a byte was missing, or a length is none
}

func newReader(in []byte) *reader {
	r := &reader{in: in, extra: 16}
	r.bits = r.word() << 16
	r.bits |= r.word()
	return r
}

func (r *reader) word() uint32 {
	if len(r.in) < 2 {
		r.in, r.over = nil, r.over+16
		return 0
	}
	w := binary.LittleEndian.Uint16(r.in)
	r.in = r.in[2:]
	return uint32(w)
}

// skip leaves n bits behind, 15 at most.
func (r *reader) skip(n int) {
	r.bits <<= n
	r.extra -= n
	if r.extra < 0 {
		r.bits |= r.word() << -r.extra
		r.extra += 16
	}
}

// damaged is whether more was taken than there is.
func (r *reader) damaged() bool { return r.wrong || r.over > 16+r.extra }

// number takes a number of some bytes.
func (r *reader) number(bytes int) (n int) {
	if len(r.in) < bytes {
		r.wrong = true
		return 0
	}
	for i := range bytes {
		n |= int(r.in[i]) << (8 * i)
	}
	r.in = r.in[bytes:]
	return n
}

// match takes the rest of what a symbol says: how many bytes are copied, and
// from how far back.
func (r *reader) match(symbol int) (n, back int) {
	const more = 15 // the length stands in bytes of its own
	n, far := symbol&more, symbol>>4
	if n == more {
		if n = r.number(1); n == 255 {
			if n = r.number(2); n == 0 {
				n = r.number(4)
			}
			if n -= more; n < 0 {
				r.wrong = true
			}
		}
		n += more
	}
	back = int(r.bits>>(32-far)) + 1<<far
	r.skip(far)
	return n + 3, back
}
