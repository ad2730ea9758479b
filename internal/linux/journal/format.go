// Package journal reads the files in which a Linux machine keeps its log, in
// their native form (the public document "Journal File Format"). It reads boots
// out of them.
//
// A [File] finds entries by the hash tables in the file and reads little else;
// it trusts nothing that stands there. [Read] puts the boots of a machine
// together from all its files.
package journal

import (
	"encoding/binary"
	"encoding/hex"
)

// An ID is a 128-bit id: of a boot, a machine, a file, a kind of message.
type ID [16]byte

func (id ID) String() string { return hex.EncodeToString(id[:]) }

var le = binary.LittleEndian
