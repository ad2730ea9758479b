package hive

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
)

// A replayed state is what the logs of a hive made of it.
type replayed struct {
	base          // the first page of the newest state
	known  bool   // it is whole
	taken  int    // newer changes that were found
	lost   int    // those that are damaged, or do not follow
	sector bool   // an old log held them, as sectors
	next   uint32 // the number after the last one that was taken
}

// notes says what came of replaying, as clauses.
func (r replayed) notes() (notes []string) {
	switch {
	case r.sector:
		return []string{"its log holds newer changes, which are shown"}
	case r.taken == 0 && r.lost == 0:
		return []string{"it was not written to its end, and no log holds the rest"}
	}
	if r.taken > 0 {
		notes = append(notes, fmt.Sprintf("its logs hold newer changes (%d), which are shown",
			r.taken))
	}
	if r.lost > 0 {
		notes = append(notes, fmt.Sprintf("newer changes in its logs (%d) are damaged, and "+
			"not read", r.lost))
	}
	return notes
}

// replay lays over the bins what the logs hold beyond the file, whose first
// page is b. known says that this is whole.
func (h *Hive) replay(b base, known bool, logs [][]byte) replayed {
	entries := map[uint32]entry{}
	torn, first, whole := 0, uint32(0), known
	for _, log := range logs {
		if len(log) < 512 {
			continue
		}
		own, err := parseBase(log)
		if err != nil {
			continue
		}
		if own.kind == 1 || own.kind == 2 {
			fits := !known || own.first == b.second || own.first == b.first
			if own.first == own.second && fits && h.takeSectors(log, own) {
				return replayed{
					base: own, known: true, taken: 1, sector: true,
					next: max(own.first, b.first) + 1,
				}
			}
			continue
		}
		found, broken := entriesOf(log)
		torn += broken
		for i, e := range found {
			entries[e.sequence] = e
			if !known && (i == 0 && (first == 0 || e.sequence < first)) {
				first = e.sequence
			}
		}
		if !known { // any whole page says as much of the bins' form
			b, whole = own, true
		}
	}
	r := replayed{next: b.second}
	if !known {
		r.next = first
	}
	for {
		e, ok := entries[r.next]
		if !ok {
			break
		}
		for _, p := range e.pages {
			h.patch(p)
		}
		b.bins = e.bins
		delete(entries, r.next)
		r.next, r.taken = r.next+1, r.taken+1
	}
	for sequence := range entries { // of an earlier round
		if int32(sequence-r.next) < 0 {
			delete(entries, sequence)
		}
	}
	r.base, r.known, r.lost = b, whole, torn+len(entries)
	return r
}

// patch lays bytes over the bins.
func (h *Hive) patch(p patch) {
	for n := p.at / blockSize; n*blockSize < p.at+int64(len(p.data)); n++ {
		h.patches[n] = append(h.patches[n], p)
	}
}

// takeSectors takes the sectors of an old log: a map of bits, and each one that
// is set.
func (h *Hive) takeSectors(log []byte, own base) bool {
	const sector = 512
	if len(log) < sector+4 || string(log[sector:sector+4]) != "DIRT" {
		return false
	}
	many := int(own.bins) / sector
	at := sector + 4 + (many+7)/8
	if at > len(log) {
		return false
	}
	marks := log[sector+4 : at]
	at = (at + sector - 1) / sector * sector
	var all []patch
	for i := range many {
		if marks[i/8]>>(i%8)&1 == 0 {
			continue
		}
		if at+sector > len(log) {
			return false
		}
		all = append(all, patch{int64(i) * sector, log[at : at+sector]})
		at += sector
	}
	for _, p := range all {
		h.patch(p)
	}
	return true
}

// An entry is one write to a hive, as a log has it.
type entry struct {
	sequence, bins uint32
	pages          []patch
}

// entriesOf are the whole entries of a log in their order, up to the first that
// does not follow; broken counts what is damaged there.
func entriesOf(log []byte) (all []entry, broken int) {
	const head, unit = 40, 512
	for at := 512; at+head <= len(log); {
		u := func(i int) uint32 { return binary.LittleEndian.Uint32(log[at+i:]) }
		if string(log[at:at+4]) != "HvLE" {
			return all, 0
		}
		size := int64(u(4))
		if size < head || size%unit != 0 || int64(at)+size > int64(len(log)) {
			return all, 1
		}
		whole := log[at : int64(at)+size]
		long := func(i int) uint64 { return binary.LittleEndian.Uint64(whole[i:]) }
		if long(24) != marvin(whole[head:]) || long(32) != marvin(whole[:32]) {
			return all, 1
		}
		e := entry{sequence: u(12), bins: u(16)}
		if len(all) > 0 && e.sequence != all[len(all)-1].sequence+1 {
			return all, 0 // left from an earlier round
		}
		n := int64(u(20))
		data := head + 8*n
		if data > size {
			return all, 1
		}
		for i := range n {
			to, length := int64(u(int(head+8*i))), int64(u(int(head+8*i+4)))
			if data+length > size || to+length > int64(e.bins) {
				return all, 1
			}
			e.pages = append(e.pages, patch{to, whole[data : data+length]})
			data += length
		}
		all, at = append(all, e), at+int(size)
	}
	return all, 0
}

// marvin is the check of log entries: the 64 bits of Marvin32 with the seed
// that Windows uses for them.
func marvin(data []byte) uint64 {
	low, high := uint32(0x7A4E55C5), uint32(0x82EF4D88)
	mix := func(word uint32) {
		low += word
		high ^= low
		low = bits.RotateLeft32(low, 20) + high
		high = bits.RotateLeft32(high, 9) ^ low
		low = bits.RotateLeft32(low, 27) + high
		high = bits.RotateLeft32(high, 19)
	}
	for ; len(data) >= 4; data = data[4:] {
		mix(binary.LittleEndian.Uint32(data))
	}
	last := uint32(0x80) << (8 * len(data))
	for i, c := range data {
		last |= uint32(c) << (8 * i)
	}
	mix(last)
	mix(0)
	return uint64(high)<<32 | uint64(low)
}

// spent reports whether the logs of a hive hold nothing newer than the hive,
// whose first page is b. Then no transaction is open in it. It is false without
// a log that can be read.
func spent(b base, logs [][]byte) bool {
	read := false
	for _, log := range logs {
		if len(log) < 512 {
			continue
		}
		own, err := parseBase(log)
		if err != nil {
			continue
		}
		read = true
		entries, broken := entriesOf(log)
		newer := func(n uint32) bool { return int32(n-b.second) >= 0 }
		if broken > 0 || own.kind != 6 && newer(own.first) ||
			slices.ContainsFunc(entries, func(e entry) bool { return newer(e.sequence) }) {
			return false
		}
	}
	return read && b.first == b.second
}
