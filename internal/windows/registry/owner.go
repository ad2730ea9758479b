package registry

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
)

// Descriptor is the attribute by which the driver of NTFS hands over a file's
// descriptor ([MS-DTYP], "SECURITY_DESCRIPTOR").
const Descriptor = "system.ntfs_acl"

// Private is a descriptor that gives administrators and the system everything,
// and nobody else anything. Of a folder it is passed on to what is made in it.
func Private(folder bool) []byte {
	const (
		protected = 0x9004 // with a list of rights, which is not added to from above
		all       = 0x1F01FF
		inherited = 3
	)
	administrators := []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 32, 2, 0, 0}
	system := []byte{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}
	var rights []byte
	for _, who := range [][]byte{administrators, system} {
		flags := byte(0)
		if folder {
			flags = inherited
		}
		rights = append(rights, 0, flags, byte(8+len(who)), 0)
		rights = append(binary.LittleEndian.AppendUint32(rights, all), who...)
	}
	list := append([]byte{2, 0, byte(8 + len(rights)), 0, 2, 0, 0, 0}, rights...)
	const head = 20
	raw := []byte{1, 0, protected & 0xFF, protected >> 8}
	for _, at := range []int{head, head + len(administrators), 0, head + 2*len(administrators)} {
		raw = binary.LittleEndian.AppendUint32(raw, uint32(at))
	}
	return slices.Concat(raw, administrators, administrators, list)
}

// OwnerOf is the owner of a file inside the machine, as a number of Windows
// (S-1-5-…); empty where the file system does not tell.
func (d *Disk) OwnerOf(p string) string {
	raw, err := d.Root.Xattr(p, Descriptor)
	if err != nil || len(raw) < 20 {
		return ""
	}
	at := int64(binary.LittleEndian.Uint32(raw[4:]))
	if at < 20 || at+8 > int64(len(raw)) {
		return ""
	}
	sid := raw[at:]
	parts, authority := int(sid[1]), uint64(0)
	for _, b := range sid[2:8] {
		authority = authority<<8 | uint64(b)
	}
	if 8+4*parts > len(sid) {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "S-%d-%d", sid[0], authority)
	for i := range parts {
		fmt.Fprintf(&b, "-%d", binary.LittleEndian.Uint32(sid[8+4*i:]))
	}
	return b.String()
}
