package prefetch

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"math/bits"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
)

// TestTheSpecificationsExamples unpacks what [MS-XCA] prints in section 3.2.
func TestTheSpecificationsExamples(t *testing.T) {
	table := func(nonzero map[int]byte) string {
		b := make([]byte, tableSize)
		for at, v := range nonzero {
			b[at] = v
		}
		return hex.EncodeToString(b)
	}
	letters := map[int]byte{0x30: 0x50, 0x3B: 0x45, 0x3C: 0x44, 0x3D: 0x04, 0x80: 0x04}
	for at := 0x31; at < 0x3B; at++ {
		letters[at] = 0x55
	}
	for _, test := range []struct{ packed, want string }{
		{table(letters) + "d8523ed794115be9195ff9d67cdf8d0400000000",
			"abcdefghijklmnopqrstuvwxyz"},
		{table(map[int]byte{0x30: 0x30, 0x31: 0x23, 0x80: 0x02, 0x8F: 0x20}) + "a8dc0000ff2601",
			strings.Repeat("abc", 100)},
	} {
		packed, err := hex.DecodeString(test.packed)
		if err != nil {
			t.Fatal(err)
		}
		got, err := unpack(packed, len(test.want))
		if err != nil || string(got) != test.want {
			t.Errorf("%q %v, want %q", got, err, test.want)
		}
	}
}

// A packer is a second implementation, from the writer's side.
type packer struct {
	out   []byte
	slots []int // where each word of bits stands
	count int   // bits written
	code  [symbols]uint32
	size  [symbols]uint8
}

// newPacker begins a block, with codes of 9 bits for all, or with short ones
// for a few symbols and the longest for the others.
func newPacker(out []byte, short []int) *packer {
	p := &packer{out: out}
	for i := range p.size {
		p.size[i] = 9
		if short != nil {
			p.size[i] = longest
		}
	}
	for i, symbol := range short {
		p.size[symbol] = uint8(i + 1)
	}
	code, last := uint32(0), uint8(1)
	for size := uint8(1); size <= longest; size++ {
		for symbol, s := range p.size {
			if s == size {
				code <<= size - last
				p.code[symbol], code, last = code, code+1, size
			}
		}
	}
	for i := 0; i < symbols; i += 2 {
		p.out = append(p.out, p.size[i]|p.size[i+1]<<4)
	}
	p.reserve()
	p.reserve()
	return p
}

func (p *packer) reserve() {
	p.slots = append(p.slots, len(p.out))
	p.out = append(p.out, 0, 0)
}

func (p *packer) bits(v uint32, n int) {
	for n--; n >= 0; n-- {
		if p.count > 0 && p.count%16 == 0 {
			p.reserve()
		}
		at := 15 - p.count%16
		p.out[p.slots[p.count/16]+at/8] |= byte(v>>n&1) << (at % 8)
		p.count++
	}
}

func (p *packer) symbol(s int) { p.bits(p.code[s], int(p.size[s])) }

func (p *packer) match(n, back int) {
	n -= 3
	far := bits.Len(uint(back)) - 1
	p.symbol(256 + far<<4 + min(n, 15))
	switch {
	case n < 15:
	case n < 15+255:
		p.out = append(p.out, byte(n-15))
	case n < 1<<16:
		p.out = binary.LittleEndian.AppendUint16(append(p.out, 255), uint16(n))
	default:
		p.out = append(p.out, 255, 0, 0)
		p.out = binary.LittleEndian.AppendUint32(p.out, uint32(n))
	}
	p.bits(uint32(back-1<<far), far)
}

// pack packs a text, with random matches where the text has them.
func pack(r *rand.Rand, text []byte) (out []byte) {
	for from := 0; from < len(text); from += 64 << 10 {
		var short []int
		if r.IntN(2) == 0 {
			short = r.Perm(symbols)[:6]
		}
		p := newPacker(out, short)
		for at, end := from, min(len(text), from+64<<10); at < end; {
			back := 1 + r.IntN(min(max(at, 1), 1<<16-1))
			n := 0
			for back <= at && at+n < end && text[at+n] == text[at+n-back] {
				n++
			}
			if n < 3 {
				p.symbol(int(text[at]))
				at++
				continue
			}
			n = 3 + r.IntN(n-2)
			p.match(n, back)
			at += n
		}
		out = p.out
	}
	return out
}

// TestUnpackRandom unpacks what a second implementation packed, and finds what
// is cut.
func TestUnpackRandom(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 7))
		text := make([]byte, r.IntN(200_000))
		for i, kinds := 0, 1+r.IntN(4); i < len(text); i++ {
			text[i] = byte(r.IntN(kinds) * 60)
		}
		packed := pack(r, text)
		got, err := unpack(packed, len(text))
		if err != nil || !bytes.Equal(got, text) {
			t.Fatalf("seed %d: %d bytes, %v, want %d", seed, len(got), err, len(text))
		}
		if cut := len(packed) / 2; len(text) > 0 {
			if _, err := unpack(packed[:cut], len(text)); err == nil {
				t.Errorf("seed %d: half of it was enough", seed)
			}
		}
		for range 20 { // whatever stands there, it ends
			damaged := slices.Clone(packed)
			for range 1 + r.IntN(5) {
				if len(damaged) > 0 {
					damaged[r.IntN(len(damaged))] = byte(r.Uint32())
				}
			}
			if got, err := unpack(damaged, len(text)); err == nil && len(got) != len(text) {
				t.Fatalf("seed %d: %d bytes for %d", seed, len(got), len(text))
			}
		}
	}
}

// TestRead reads notes of every version, packed and not, and refuses others.
func TestRead(t *testing.T) {
	at := time.Date(2026, 3, 3, 7, 31, 0, 0, time.UTC)
	const library = `\VOLUME{01-02}\WINDOWS\SYSTEM32\NTDLL.DLL`
	const long = "ANAMEOFMORECHARACTERSTHANFIT.EXECUTABLE"
	for _, version := range []uint32{17, 23, 26, 30, 31} {
		raw := write.Prefetch(version, "PUMP.EXE", at, library, `\VOLUME{01-02}\APPS\PUMP.EXE`)
		packed := binary.LittleEndian.AppendUint32([]byte("MAM\x04"), uint32(len(raw)))
		packed = append(packed, pack(rand.New(rand.NewPCG(1, 2)), raw)...)
		summed := slices.Concat([]byte("MAM\x84"), packed[4:8], []byte("sum!"), packed[8:])
		for _, file := range [][]byte{raw, packed, summed} {
			run, err := Read(file)
			if err != nil || run.Program != `\VOLUME{01-02}\APPS\PUMP.EXE` || !run.Last.Equal(at) {
				t.Errorf("%d: %+v %v", version, run, err)
			}
		}
		for n := range len(packed) { // a cut one is told, and nothing breaks
			if run, err := Read(packed[:n]); err == nil && n < len(packed)-8 {
				t.Errorf("%d bytes of %d: %+v", n, len(packed), run)
			}
		}
	}
	if run, err := Read(write.Prefetch(30, long[:29], at, `\V\A\`+long)); err != nil ||
		run.Program != `\V\A\`+long {
		t.Errorf("%+v %v", run, err)
	}
	for _, name := range []string{"PUMP.EXE", ""} {
		run, err := Read(write.Prefetch(30, name, at, library))
		if err != nil || run.Program != "" {
			t.Errorf("%q: %+v %v", name, run, err)
		}
	}
	for name, file := range map[string][]byte{
		"another form":       write.Prefetch(99, "PUMP.EXE", at, `\V\PUMP.EXE`),
		"nothing":            nil,
		"too much":           []byte("MAM\x04\xff\xff\xff\xff"),
		"packed another way": []byte("MAM\x03\x10\x00\x00\x00"),
	} {
		if run, err := Read(file); err == nil {
			t.Errorf("%s: %+v", name, run)
		}
	}
}

// BenchmarkUnpack unpacks as much as a large program's note has.
func BenchmarkUnpack(b *testing.B) {
	text := []byte(strings.Repeat("\\VOLUME{01-02}\\APPS\\PUMP.EXE and what it reads", 8000))
	packed := pack(rand.New(rand.NewPCG(1, 2)), text)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := unpack(packed, len(text)); err != nil {
			b.Fatal(err)
		}
	}
}
