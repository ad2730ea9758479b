// Package journal reads and writes the files in which a Linux machine keeps its
// log, in their native form (the public document "Journal File Format"), and
// reads boots out of them.
//
// A [File] finds entries by the hash tables in the file and reads little else;
// it trusts nothing that stands there. A [Writer] makes small finished files.
// [Read] puts the boots of a machine together from all its files.
package journal

import (
	"encoding/binary"
	"encoding/hex"

	"github.com/dchest/siphash"
)

// An ID is a 128-bit id: of a boot, a machine, a file, a kind of message.
type ID [16]byte

func (id ID) String() string { return hex.EncodeToString(id[:]) }

const signature = "LPKSHHRH"

// Flags of a file without which it cannot be read.
const (
	flagXZ      = 1 << 0
	flagLZ4     = 1 << 1
	flagKeyed   = 1 << 2 // hashes are keyed with the file's id
	flagZstd    = 1 << 3
	flagCompact = 1 << 4 // offsets take 32 bits
	flagsKnown  = flagXZ | flagLZ4 | flagKeyed | flagZstd | flagCompact
)

// States of a file.
const (
	stateOffline  = 0
	stateOnline   = 1
	stateArchived = 2
)

// Types of objects.
const (
	typeData       = 1
	typeField      = 2
	typeEntry      = 3
	typeDataTable  = 4
	typeFieldTable = 5
	typeEntryArray = 6
	typeTag        = 7
)

// Flags of an object: how its payload is compressed.
const (
	objectXZ   = 1 << 0
	objectLZ4  = 1 << 1
	objectZstd = 1 << 2
)

// Where the fields of the file's header stand.
const (
	atCompatible     = 8
	atIncompatible   = 12
	atState          = 16
	atFileID         = 24
	atMachineID      = 40
	atTailBoot       = 56
	atSeqnumID       = 72
	atHeaderSize     = 88
	atArenaSize      = 96
	atDataTable      = 104
	atDataTableSize  = 112
	atFieldTable     = 120
	atFieldTableSize = 128
	atTailObject     = 136
	atObjects        = 144
	atEntries        = 152
	atTailSeqnum     = 160
	atHeadSeqnum     = 168
	atEntryArray     = 176
	atHeadRealtime   = 184
	atTailRealtime   = 192
	atTailMonotonic  = 200
	atDatas          = 208
	atFields         = 216
	atTags           = 224
	atEntryArrays    = 232
	atDataDepth      = 240
	atFieldDepth     = 248

	leastHeader = 208
	ourHeader   = 256
)

// Where the fields of objects stand, from the object's begin.
const (
	objectHeader = 16 // type, flags, size

	dataHash       = 16
	dataNextHash   = 24
	dataNextField  = 32
	dataEntry      = 40 // the first entry that has this field
	dataEntryArray = 48 // the further ones
	dataEntries    = 56
	dataPayload    = 64
	compactPayload = 72

	fieldHash    = 16
	fieldNext    = 24
	fieldHead    = 32
	fieldPayload = 40

	entrySeqnum    = 16
	entryRealtime  = 24
	entryMonotonic = 32
	entryBoot      = 40
	entryXor       = 56
	entryItems     = 64

	arrayNext  = 16
	arrayItems = 24
)

var le = binary.LittleEndian

// hash is the hash of a payload in the tables of a file; key is the file's id
// where its hashes are keyed.
func hash(payload []byte, keyed bool, key ID) uint64 {
	if keyed {
		return siphash.Hash(le.Uint64(key[:8]), le.Uint64(key[8:]), payload)
	}
	return jenkins(payload)
}

// jenkins is the two-word form of Jenkins' public-domain hash "lookup3", its
// first word high.
func jenkins(k []byte) uint64 {
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
