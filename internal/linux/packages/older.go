package packages

import (
	"encoding/binary"
	"errors"
	"io"
)

// The two forms of rpm's database before SQLite. Their layouts were seen on
// thirteen files, of six releases of distributions that have them.

// maxHeader is more than any package's header takes.
const maxHeader = 64 << 20

var errForm = errors.New("its form is damaged")

// Of a file of hashed pairs: a page of what it is, then pages of pairs and of
// long values.
const (
	hashMagic  = 0x061561
	pageHead   = 26
	longPage   = 7
	shortValue = 1
	longValue  = 3
)

// hashValues calls each with every value of a file of hashed pairs but that of
// the key 0, which counts. Its numbers are in the order of bytes of the
// computer that wrote it.
func hashValues(f io.ReaderAt, size int64, each func([]byte) error) error {
	head := make([]byte, 36)
	if _, err := f.ReadAt(head, 0); err != nil {
		return errForm
	}
	var order binary.ByteOrder = binary.LittleEndian
	if order.Uint32(head[12:]) != hashMagic {
		order = binary.BigEndian
	}
	length := int64(order.Uint32(head[20:]))
	if order.Uint32(head[12:]) != hashMagic || length < 512 || length > 64<<10 {
		return errForm
	}
	h := &hashFile{f, order, length, size / length, 0}
	page := make([]byte, length)
	for n := int64(1); n < h.pages; n++ {
		if _, err := f.ReadAt(page, n*length); err != nil {
			return err
		}
		if kind := page[25]; kind != 2 && kind != 13 {
			continue // no pairs
		}
		if err := h.pairs(page, each); err != nil {
			return err
		}
	}
	return nil
}

type hashFile struct {
	file          io.ReaderAt
	order         binary.ByteOrder
	length, pages int64
	read          int64 // pages of long values so far: each belongs to one
}

// pairs calls each with the values of one page. Its index tells where keys and
// values begin, in turn; they lie from the page's end downwards.
func (h *hashFile) pairs(page []byte, each func([]byte) error) error {
	count := int(h.order.Uint16(page[20:]))
	if pageHead+2*count > len(page) {
		return errForm
	}
	end := len(page)
	var key []byte
	for i := range count {
		at := int(h.order.Uint16(page[pageHead+2*i:]))
		if at < pageHead+2*count || at >= end {
			return errForm
		}
		entry := page[at:end]
		if end = at; i%2 == 0 {
			key = entry
			continue
		}
		if len(key) == 5 && key[0] == shortValue && h.order.Uint32(key[1:]) == 0 {
			continue
		}
		value, err := h.value(entry)
		if err == nil {
			err = each(value)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// value is what an entry holds, or the pages that it names.
func (h *hashFile) value(entry []byte) ([]byte, error) {
	switch {
	case entry[0] == shortValue:
		return entry[1:], nil
	case entry[0] != longValue || len(entry) < 12:
		return nil, errForm
	}
	length := int64(h.order.Uint32(entry[8:]))
	if length > maxHeader || length > h.pages*h.length {
		return nil, errForm
	}
	all := make([]byte, 0, length)
	page := make([]byte, h.length)
	for n := int64(h.order.Uint32(entry[4:])); int64(len(all)) < length; {
		if h.read++; n <= 0 || n >= h.pages || h.read > h.pages {
			return nil, errForm
		}
		if _, err := h.file.ReadAt(page, n*h.length); err != nil {
			return nil, err
		}
		used := int(h.order.Uint16(page[22:]))
		if page[25] != longPage || used == 0 || pageHead+used > len(page) {
			return nil, errForm
		}
		all = append(all, page[pageHead:pageHead+used]...)
		n = int64(h.order.Uint32(page[16:]))
	}
	return all[:length], nil
}

// Of a file of slots: pages of slots, each of which tells where a blob lies, in
// blocks.
const (
	slotsMagic = "RpmP"
	slotMagic  = "Slot"
	blobMagic  = "BlbS"
	slotSize   = 16
	slotsPage  = 4096
	blockSize  = 16
)

// slotBlobs calls each with every blob of a file of slots.
func slotBlobs(f io.ReaderAt, size int64, each func([]byte) error) error {
	order := binary.LittleEndian
	head := make([]byte, 2*slotSize)
	if _, err := f.ReadAt(head, 0); err != nil || string(head[:4]) != slotsMagic {
		return errForm
	}
	length := int64(order.Uint32(head[12:])) * slotsPage
	if length <= 0 || length > size || length > maxHeader {
		return errForm
	}
	slots := make([]byte, length)
	if _, err := f.ReadAt(slots, 0); err != nil {
		return err
	}
	left := size // of what blobs may take together
	for slots = slots[len(head):]; len(slots) > 0; slots = slots[slotSize:] {
		if string(slots[:4]) != slotMagic {
			return errForm
		}
		at := int64(order.Uint32(slots[8:])) * blockSize
		if at == 0 {
			continue // free
		}
		head := make([]byte, 16)
		if _, err := f.ReadAt(head, at); err != nil || string(head[:4]) != blobMagic {
			return errForm
		}
		length := int64(order.Uint32(head[12:]))
		if left -= length; left < 0 || length > maxHeader {
			return errForm
		}
		blob := make([]byte, length)
		if _, err := f.ReadAt(blob, at+int64(len(head))); err != nil {
			return err
		}
		if err := each(blob); err != nil {
			return err
		}
	}
	return nil
}
