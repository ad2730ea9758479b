// Package layout says where what stands in a file of Linux's log, and how such
// a file hashes: the public document "Journal File Format".
package layout

import (
	"encoding/binary"

	"github.com/dchest/siphash"
)

// Signature is what a file begins with.
const Signature = "LPKSHHRH"

// Flags of a file without which it cannot be read.
const (
	FlagXZ      = 1 << 0
	FlagLZ4     = 1 << 1
	FlagKeyed   = 1 << 2 // hashes are keyed with the file's id
	FlagZstd    = 1 << 3
	FlagCompact = 1 << 4 // offsets take 32 bits
	FlagsKnown  = FlagXZ | FlagLZ4 | FlagKeyed | FlagZstd | FlagCompact
)

// States of a file.
const (
	StateOffline  = 0
	StateOnline   = 1
	StateArchived = 2
)

// Types of objects.
const (
	TypeData       = 1
	TypeField      = 2
	TypeEntry      = 3
	TypeDataTable  = 4
	TypeFieldTable = 5
	TypeEntryArray = 6
	TypeTag        = 7
)

// Flags of an object: how its payload is compressed.
const (
	ObjectXZ   = 1 << 0
	ObjectLZ4  = 1 << 1
	ObjectZstd = 1 << 2
)

// Where the fields of the file's header stand.
const (
	AtCompatible     = 8
	AtIncompatible   = 12
	AtState          = 16
	AtFileID         = 24
	AtMachineID      = 40
	AtTailBoot       = 56
	AtSeqnumID       = 72
	AtHeaderSize     = 88
	AtArenaSize      = 96
	AtDataTable      = 104
	AtDataTableSize  = 112
	AtFieldTable     = 120
	AtFieldTableSize = 128
	AtTailObject     = 136
	AtObjects        = 144
	AtEntries        = 152
	AtTailSeqnum     = 160
	AtHeadSeqnum     = 168
	AtEntryArray     = 176
	AtHeadRealtime   = 184
	AtTailRealtime   = 192
	AtTailMonotonic  = 200
	AtDatas          = 208
	AtFields         = 216
	AtTags           = 224
	AtEntryArrays    = 232
	AtDataDepth      = 240
	AtFieldDepth     = 248

	LeastHeader = 208
	OurHeader   = 256
)

// Where the fields of objects stand, from the object's begin.
const (
	ObjectHeader = 16 // type, flags, size

	DataHash       = 16
	DataNextHash   = 24
	DataNextField  = 32
	DataEntry      = 40 // the first entry that has this field
	DataEntryArray = 48 // the further ones
	DataEntries    = 56
	DataPayload    = 64
	CompactPayload = 72

	FieldHash    = 16
	FieldNext    = 24
	FieldHead    = 32
	FieldPayload = 40

	EntrySeqnum    = 16
	EntryRealtime  = 24
	EntryMonotonic = 32
	EntryBoot      = 40
	EntryXor       = 56
	EntryItems     = 64

	ArrayNext  = 16
	ArrayItems = 24
)

var le = binary.LittleEndian

// Hash returns the hash of a payload in the tables of a file. It is keyed with
// the file's id, or without a key as older files have it.
func Hash(payload []byte, keyed bool, key [16]byte) uint64 {
	if keyed {
		return siphash.Hash(le.Uint64(key[:8]), le.Uint64(key[8:]), payload)
	}
	return Jenkins(payload)
}

// Jenkins returns the two-word form of Jenkins' public-domain hash "lookup3",
// its first word high.
func Jenkins(k []byte) uint64 {
	rot := func(x uint32, n uint) uint32 { return x<<n | x>>(32-n) }
	a := 0xdeadbeef + uint32(len(k))
	b, c := a, a
	for len(k) > 12 {
		a += le.Uint32(k)
		b += le.Uint32(k[4:])
		c += le.Uint32(k[8:])
		k = k[12:]
		a, c = (a-c)^rot(c, 4), c+b
		b, a = (b-a)^rot(a, 6), a+c
		c, b = (c-b)^rot(b, 8), b+a
		a, c = (a-c)^rot(c, 16), c+b
		b, a = (b-a)^rot(a, 19), a+c
		c, b = (c-b)^rot(b, 4), b+a
	}
	if len(k) == 0 {
		return uint64(c)<<32 | uint64(b)
	}
	var last [12]byte
	copy(last[:], k)
	a += le.Uint32(last[:])
	b += le.Uint32(last[4:])
	c += le.Uint32(last[8:])
	c = (c ^ b) - rot(b, 14)
	a = (a ^ c) - rot(c, 11)
	b = (b ^ a) - rot(a, 25)
	c = (c ^ b) - rot(b, 16)
	a = (a ^ c) - rot(c, 4)
	b = (b ^ a) - rot(a, 14)
	c = (c ^ b) - rot(b, 24)
	return uint64(c)<<32 | uint64(b)
}
