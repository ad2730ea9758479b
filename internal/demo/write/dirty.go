package write

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"
	"slices"
)

const (
	page       = 4096
	diskSector = 512
)

// A LogEntry is one write to a hive, as the log of one has it.
type LogEntry struct {
	Sequence uint32
	Bins     uint32           // the length of the bins after it
	Pages    map[int64][]byte // by their places in the bins, whole pages of 4,096 bytes
}

// Log is a log of entries for a hive with a first page.
func Log(head []byte, entries ...LogEntry) []byte {
	first := uint32(1)
	if len(entries) > 0 {
		first = entries[0].Sequence
	}
	log := sealed(head[:diskSector], 6, first, first)
	for _, e := range entries {
		log = append(log, e.bytes()...)
	}
	return log
}

// sealed is a first sector as that of another kind of file, with two numbers.
func sealed(head []byte, kind, first, second uint32) []byte {
	head = slices.Clone(head)
	for at, v := range map[int]uint32{4: first, 8: second, 28: kind} {
		binary.LittleEndian.PutUint32(head[at:], v)
	}
	binary.LittleEndian.PutUint32(head[508:], sumOf(head))
	return head
}

func (e LogEntry) bytes() []byte {
	raw := make([]byte, 40)
	copy(raw, "HvLE")
	var places []int64
	for at := range e.Pages {
		places = append(places, at)
	}
	slices.Sort(places)
	for _, at := range places {
		raw = binary.LittleEndian.AppendUint32(raw, uint32(at))
		raw = binary.LittleEndian.AppendUint32(raw, uint32(len(e.Pages[at])))
	}
	for _, at := range places {
		raw = append(raw, e.Pages[at]...)
	}
	raw = append(raw, make([]byte, -len(raw)&(diskSector-1))...)
	for at, v := range map[int]uint32{
		4: uint32(len(raw)), 12: e.Sequence, 16: e.Bins, 20: uint32(len(places)),
	} {
		binary.LittleEndian.PutUint32(raw[at:], v)
	}
	binary.LittleEndian.PutUint64(raw[24:], marvin(raw[40:]))
	binary.LittleEndian.PutUint64(raw[32:], marvin(raw[:32]))
	return raw
}

// marvin is the check of entries: Marvin32 with the seed of registry logs, both
// halves of its result.
func marvin(data []byte) uint64 {
	state := [2]uint32{0x7A4E55C5, 0x82EF4D88}
	block := func(v uint32) {
		state[0] += v
		state[1] ^= state[0]
		state[0] = bits.RotateLeft32(state[0], 20)
		state[0] += state[1]
		state[1] = bits.RotateLeft32(state[1], 9)
		state[1] ^= state[0]
		state[0] = bits.RotateLeft32(state[0], 27)
		state[0] += state[1]
		state[1] = bits.RotateLeft32(state[1], 19)
	}
	padded := append(slices.Clone(data), 0x80)
	for len(padded)%4 != 0 {
		padded = append(padded, 0)
	}
	for word := range slices.Chunk(padded, 4) {
		block(binary.LittleEndian.Uint32(word))
	}
	block(0)
	return uint64(state[0]) | uint64(state[1])<<32
}

// Behind is a hive as a power cut leaves it while it became another one. The
// file holds some pages of the new state, its two logs hold the rest. Both
// states are of [Hive], or of an editor of it.
//
// What Windows wrote first stands in the older log, in several entries. A page
// may be in more than one of them, and be another one in the earlier. Behind
// them the log may hold entries of an earlier round.
func Behind(rng *rand.Rand, before, after []byte) (file, log1, log2 []byte) {
	sequence := 2 + rng.Uint32N(1000)
	file = append(sealed(before[:diskSector], 0, sequence+1, sequence), before[diskSector:]...)
	bins := uint32(len(after) - hiveHead)
	many := 1 + rng.IntN(4)
	entries := make([]LogEntry, many)
	for i := range entries {
		entries[i] = LogEntry{sequence + uint32(i), bins, map[int64][]byte{}}
	}
	for at := hiveHead; at < len(after); at += page {
		fresh := after[at : at+page]
		if at+page <= len(before) && slices.Equal(before[at:at+page], fresh) {
			continue
		}
		last := rng.IntN(many)
		entries[last].Pages[int64(at-hiveHead)] = fresh
		if earlier := rng.IntN(many); earlier < last {
			passing := slices.Clone(fresh)
			passing[rng.IntN(page)] ^= 0xFF
			entries[earlier].Pages[int64(at-hiveHead)] = passing
		}
		if at+page <= len(file) && rng.IntN(3) == 0 {
			copy(file[at:], fresh[:diskSector*(1+rng.IntN(page/diskSector))])
		}
	}
	cut := rng.IntN(many + 1)
	log1 = Log(after, entries[:cut]...)
	log2 = Log(after, entries[cut:]...)
	if rng.IntN(2) == 0 {
		stale := LogEntry{sequence - 2, bins, map[int64][]byte{0: make([]byte, page)}}
		log1 = append(log1, stale.bytes()...)
	}
	return file, log1, log2
}

// BehindOld is the same as systems before Windows 8.1 leave it, whose one log
// holds the sectors that became others.
func BehindOld(rng *rand.Rand, before, after []byte) (file, log []byte) {
	sequence := 2 + rng.Uint32N(1000)
	file = append(sealed(before[:diskSector], 0, sequence+1, sequence), before[diskSector:]...)
	log = append(sealed(after[:diskSector], 1, sequence+1, sequence+1), "DIRT"...)
	marks := make([]byte, (len(after)-hiveHead)/diskSector/8)
	var sectors []byte
	for at := hiveHead; at < len(after); at += diskSector {
		fresh := after[at : at+diskSector]
		if at+diskSector <= len(before) && slices.Equal(before[at:at+diskSector], fresh) {
			continue
		}
		n := (at - hiveHead) / diskSector
		marks[n/8] |= 1 << (n % 8)
		sectors = append(sectors, fresh...)
		if at+diskSector <= len(file) && rng.IntN(3) == 0 {
			copy(file[at:], fresh)
		}
	}
	log = append(log, marks...)
	log = append(log, make([]byte, -len(log)&(diskSector-1))...)
	return file, append(log, sectors...)
}
