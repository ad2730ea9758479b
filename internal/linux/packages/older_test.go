package packages

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"calmdawn/internal/machine"
)

// oneHeader returns the one header of a database of rpm.
func oneHeader(t testing.TB, rpmdb []byte) (header []byte) {
	t.Helper()
	dir := t.TempDir()
	err := os.WriteFile(filepath.Join(dir, "rpmdb.sqlite"), rpmdb, 0o644)
	r, openErr := machine.Open(dir)
	if err != nil || openErr != nil {
		t.Fatal(err, openErr)
	}
	defer r.Close()
	if err := sqliteHeaders(r, "/", "rpmdb.sqlite", func(blob []byte) error {
		header = bytes.Clone(blob)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return header
}

type byteOrder interface {
	binary.ByteOrder
	binary.AppendByteOrder
}

// hashed makes a file of hashed pairs. It has the count of packages, a value
// that is short enough for its page where it is. Another one takes pages of its
// own.
func hashed(order byteOrder, headers ...[]byte) []byte {
	const length = 512
	page := func(number int, kind byte) []byte {
		p := make([]byte, length)
		order.PutUint32(p[8:], uint32(number))
		p[25] = kind
		return p
	}
	meta := page(0, 8)
	order.PutUint32(meta[12:], hashMagic)
	order.PutUint32(meta[20:], length)
	pairs := page(1, 13)
	pages := [][]byte{meta, pairs}
	end, count := length, 0
	put := func(entry []byte) {
		end -= len(entry)
		copy(pairs[end:], entry)
		order.PutUint16(pairs[pageHead+2*count:], uint16(end))
		count++
		order.PutUint16(pairs[20:], uint16(count))
	}
	number := func(n int) []byte {
		return order.AppendUint32([]byte{shortValue}, uint32(n))
	}
	put(number(0))
	put(number(len(headers)))
	for i, h := range headers {
		put(number(i + 1))
		if len(h) < 100 {
			put(append([]byte{shortValue}, h...))
			continue
		}
		long := order.AppendUint32([]byte{longValue, 0, 0, 0}, uint32(len(pages)))
		put(order.AppendUint32(long, uint32(len(h))))
		for len(h) > 0 {
			p := page(len(pages), longPage)
			n := copy(p[pageHead:], h)
			order.PutUint16(p[22:], uint16(n))
			if h = h[n:]; len(h) > 0 {
				order.PutUint32(p[16:], uint32(len(pages)+1))
			}
			pages = append(pages, p)
		}
	}
	return bytes.Join(pages, nil)
}

// slotted makes a file of slots, of which the first is free.
func slotted(headers ...[]byte) []byte {
	order := binary.LittleEndian
	file := make([]byte, slotsPage)
	copy(file, slotsMagic)
	order.PutUint32(file[12:], 1)
	for at := 2 * slotSize; at < slotsPage; at += slotSize {
		copy(file[at:], slotMagic)
	}
	for i, h := range headers {
		slot := file[(3+i)*slotSize:]
		order.PutUint32(slot[4:], uint32(i+1))
		order.PutUint32(slot[8:], uint32(len(file)/blockSize))
		blob := append([]byte(blobMagic), make([]byte, 12)...)
		order.PutUint32(blob[12:], uint32(len(h)))
		blob = append(blob, h...)
		file = append(file, append(blob, make([]byte, blockSize-len(blob)%blockSize)...)...)
	}
	return file
}

// TestOlderForms reads values of both kinds back, and any damage at random.
// Each ends in an error or in what is there, and takes no more than the file's
// size.
func TestOlderForms(t *testing.T) {
	short, long := []byte("a short one"), bytes.Repeat([]byte("long "), 500)
	type read func(f io.ReaderAt, size int64, each func([]byte) error) error
	rng := rand.New(rand.NewPCG(5, 6))
	for name, c := range map[string]struct {
		file []byte
		read read
	}{
		"pairs":                  {hashed(binary.LittleEndian, short, long), hashValues},
		"pairs, the other order": {hashed(binary.BigEndian, short, long), hashValues},
		"slots":                  {slotted(short, long), slotBlobs},
	} {
		var got [][]byte
		err := c.read(bytes.NewReader(c.file), int64(len(c.file)), func(b []byte) error {
			got = append(got, bytes.Clone(b))
			return nil
		})
		if err != nil || len(got) != 2 || !bytes.Equal(got[0], short) ||
			!bytes.Equal(got[1], long) {
			t.Errorf("%s: %v %q", name, err, got)
		}
		for range 2000 {
			file := bytes.Clone(c.file)
			for range 1 + rng.IntN(4) {
				file[rng.IntN(len(file))] = byte(rng.IntN(256))
			}
			file = file[:rng.IntN(len(file)+1)]
			total := 0
			_ = c.read(bytes.NewReader(file), int64(len(file)), func(b []byte) error {
				total += len(b)
				return nil
			})
			if total > len(file) {
				t.Fatalf("%s: %d bytes were read of %d", name, total, len(file))
			}
		}
	}
}
